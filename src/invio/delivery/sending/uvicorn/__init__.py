"""Everything that knows uvicorn's internals, and nothing else does.

- `protocol`: a connection from its first moment to its last. `framing`: what comes by it. `closing`: how it ends.
- `exchange`: one response. `signals`: what they wait for. `socket_state`: a connection's socket.
- `expected`: what of the server is expected, and what is used where it is otherwise.
"""

"""Everything that knows uvicorn's internals, and nothing else does.

- `protocol`: a connection, and the framing of what comes by it. `exchange`: one response. `socket_state`: its socket.
- `expected`: what of the server is expected, and what is used where it is otherwise.
"""

"""From a reply to the socket, counting what arrives.

- `senders`: one reply over one ASGI exchange. `pump`: long bodies that send themselves. `slices`: reading contents.
- `production`: contents that are made while they are sent. `header_blocks`: heads as bytes.
- `acknowledgement`: what the other side has got. `meter`: how much of a reply that is. `errors`: how replies end badly.
- `connection`: what a server's connection has to offer for that; `uvicorn` is the one that does.
- `eager`: requests that need no task until they wait.
"""

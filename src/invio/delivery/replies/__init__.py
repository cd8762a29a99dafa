"""Replies for one's own routes: responses of any FastAPI or Starlette application, in one line.

Each takes the last steps of the one way through (plan, send) with what the route gives it; who may have
what is the route's own business.

- `base`: what the responses have in common. `file`, `stream`, `bundle`: the responses.
- `making`: what a route makes, as bytes. `contents`: what was learnt of an archive's contents, kept for the next one.
- `account`: what a route is told of what has arrived.
"""

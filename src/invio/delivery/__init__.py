"""The way of every byte that leaves: identify, decide, locate, decide, plan, admit, send, settle.

- `endpoint`: the way, as an ASGI application. `planner`: from a request to its reply, without changing anything.
- `access`, `representation`, `archives`, `transfers`, `sending`: the stages, a package each.
- `offload`: a front server sends. `problem_details`: refusals as answers.
- `replies`: responses for one's own routes.
"""

"""What holds across requests and processes: quotas, uses of links, and the account of what has arrived.

- `transfers`: all of a process. `keys`: who asks for what. `admission`: what is reserved and written down before the
  first byte leaves. `settlement`: what is recorded and given back after the last.
- `live`: the transfers that are under way. `link_reuse`: requests that go on with a use of a link.
- `limits`: speeds, and how much at once. `exhausted`: what is said when nothing is left.
- `states`, `feed`: how transfers stand, in all processes, for those who watch. `summary`: the history in sums.
- `ending`: transfers that are ended by hand. `refusal_log`: who was refused what.
"""

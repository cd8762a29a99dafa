"""Workers: threads for work that may wait, a few for each kind, so that no kind keeps another from its own.

- `heap`: memory that is given back.
- `pool`: a bounded pool of threads, with a queue that ends and deadlines.
- `process`: a process of its own for work that may take too much, or that one process cannot do beside its own.
- `shared`: numbers that worker processes share: counts, and clocks of speed limits.
"""

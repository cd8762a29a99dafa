"""Workers: threads for work that may wait, a few for each kind, so that no kind keeps another from its own.

- `pool`: a bounded pool of threads, with a queue that ends and deadlines.
- `shared`: numbers that worker processes share: counts, and clocks of speed limits.
"""

"""Asks for small files one after the other, and prints how long each took: a process of its own, undisturbed."""

from __future__ import annotations

import sys

from bench.clients import latencies

if __name__ == "__main__":
    port, count, *targets = sys.argv[1:]
    print(*latencies(int(port), targets, int(count)), sep="\n")

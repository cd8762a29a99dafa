"""Caches by key, bounded in number and, where values expire, in time.

Some callers look up a value at every request, so a memory is a dictionary, and a lookup is the dictionary's own. A full
memory is cleared: that is rare, needs no bookkeeping on each use, and is atomic for other threads.
"""

from __future__ import annotations

from typing import TypeVar

K = TypeVar("K")
V = TypeVar("V")
D = TypeVar("D")


class Memory(dict[K, V]):
    """At most `most` values by their keys; `get` looks one up."""

    def __init__(self, most: int) -> None:
        super().__init__()
        self.most = most

    def keep(self, key: K, value: V) -> V:
        """Remembers a value and gives it back."""
        if len(self) >= self.most and key not in self:
            self.clear()
        self[key] = value
        return value


class ExpiringMemory(Memory[K, tuple[float, V]]):
    """A memory whose values expire after `seconds`. The caller supplies the time, from any monotonic clock."""

    def __init__(self, most: int, seconds: float) -> None:
        super().__init__(most)
        self.seconds = seconds

    def fresh(self, key: K, now: float, default: D) -> V | D:
        """The value, if it was kept less than `seconds` ago; else `default`."""
        kept = self.get(key)
        return default if kept is None or now - kept[0] >= self.seconds else kept[1]

    def keep_at(self, key: K, value: V, now: float) -> V:
        """Remembers a value that was found out at `now`, and gives it back."""
        self.keep(key, (now, value))
        return value

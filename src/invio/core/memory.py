"""Memories: what was found out before, by a key, bounded in number and, where it ages, in time.

The heaviest users look something up at every request, so a memory is a dictionary, and looking up is the
dictionary's own. When one is full it forgets everything: that is rare, needs no book-keeping at each use, and is one
step that no other thread sees half done.
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
    """A memory of values that are good for `seconds`. The clock is the caller's: any that does not go back."""

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

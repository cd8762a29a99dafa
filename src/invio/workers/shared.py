"""Numbers that worker processes share: how many of something there are in all of them, and clocks of speed limits.

A table in anonymous memory, made before the workers are forked and gone with the last of them. A row belongs to a
key, by a hash of it; it has a clock, and a count for each process, which that process alone writes. So no lock is
needed: a process adds to its own column, and the sum is over all of them. What a process that died had counted is
cleared by whoever starts the next one in its place (`SharedTable.clear`).

Orders of events that were considered:
- Two processes take the same free row for two keys at once: the later one wins, the other finds so when it looks at
  the row again, and takes another. What it has counted meanwhile is lost: a limit lets one more pass, once.
- Two processes move a clock at once: one of the two moves is lost. A step is a fiftieth of a second, so the limit is
  exceeded by less than the clock of a kernel would let it.
- The table is full: a key without a row is counted in its own process alone, as without workers.
"""

from __future__ import annotations

import mmap
from collections import Counter
from collections.abc import Hashable
from hashlib import blake2b
from time import monotonic
from typing import Protocol

from invio.core.throttle import Clock, OwnClock

_ROWS = 1 << 15
_PROBES = 64  # rows that are looked at for a key
_UNUSED_AFTER = 10.0  # seconds after which a clock that nobody moves is nobody's


class Counts(Protocol):
    """How many there are of what keys name, in all processes."""

    def add(self, key: Hashable, count: int) -> None:
        """Counts so many more, or fewer."""

    def total(self, key: Hashable) -> int:
        """How many there are."""


class OwnCounts:
    """Counts of one process."""

    def __init__(self) -> None:
        self._counts: Counter[Hashable] = Counter()

    def add(self, key: Hashable, count: int) -> None:
        """Adds to a count."""
        self._counts[key] += count
        if not self._counts[key]:
            del self._counts[key]

    def total(self, key: Hashable) -> int:
        """The count."""
        return self._counts[key]

    def clock(self, _: Hashable) -> Clock:
        """A clock; whoever asks keeps it for the others of this process."""
        return OwnClock()


class SharedTable:
    """The memory, with a column for each of `processes`."""

    def __init__(self, processes: int) -> None:
        self.processes = processes
        self._width = 2 + processes
        whole = memoryview(mmap.mmap(-1, _ROWS * self._width * 8))
        self._keys, self._clocks, self._counts = whole.cast("Q"), whole.cast("d"), whole.cast("q")

    def of(self, process: int) -> SharedCounts:
        """What one process counts, the first of them being 0."""
        return SharedCounts(self, process)

    def clear(self, process: int) -> None:
        """Takes back what a process had counted that is no more."""
        for row in range(_ROWS):
            self._counts[row * self._width + 2 + process] = 0

    def find(self, key: int, *, make: bool) -> int | None:
        """Where the row of a key begins; None where it has none."""
        free = None
        for probe in range(_PROBES):
            at = (key + probe) % _ROWS * self._width
            if self._keys[at] == key:
                return at
            if free is None and self._is_free(at):
                free = at
            if not self._keys[at]:
                break  # behind it there is none either
        if free is None or not make:
            return None
        self._clocks[free + 1] = 0.0
        self._keys[free] = key
        return free

    def _is_free(self, at: int) -> bool:
        if not self._keys[at]:
            return True
        return not any(self._counts[at + 2 : at + self._width]) and self._clocks[at + 1] < monotonic() - _UNUSED_AFTER

    def add(self, at: int, process: int, count: int) -> None:
        """Adds to what one process counts at a place."""
        self._counts[at + 2 + process] += count

    def total(self, at: int) -> int:
        """What all processes count at a place."""
        return sum(self._counts[at + 2 : at + self._width])

    def clock(self, at: int) -> float:
        """The moment that stands at a place."""
        return self._clocks[at + 1]

    def move(self, at: int, moment: float) -> None:
        """Puts a moment at a place."""
        self._clocks[at + 1] = moment

    def is_of(self, at: int, key: int) -> bool:
        """Whether a place is a key's."""
        return self._keys[at] == key


def _hashed(key: Hashable) -> int:
    return int.from_bytes(blake2b(repr(key).encode("utf-8", "surrogatepass"), digest_size=8).digest()) | 1


class SharedCounts:
    """Counts and clocks of one process among those that share a table."""

    def __init__(self, table: SharedTable, process: int) -> None:
        self._table, self._process = table, process
        self._own = OwnCounts()  # of keys for which there was no row

    def add(self, key: Hashable, count: int) -> None:
        """Adds to what this process counts of a key."""
        at = None if self._own.total(key) else self._table.find(_hashed(key), make=count > 0)
        if at is None:
            self._own.add(key, count)
        else:
            self._table.add(at, self._process, count)

    def total(self, key: Hashable) -> int:
        """What all processes count of a key."""
        at = self._table.find(_hashed(key), make=False)
        return self._own.total(key) + (0 if at is None else self._table.total(at))

    def clock(self, key: Hashable) -> Clock:
        """A clock that all processes move."""
        return _SharedClock(self._table, _hashed((key, "clock")))


class _SharedClock:
    """A clock in the table; where there is no room, its own."""

    __slots__ = ("_key", "_own", "_row", "_table")

    def __init__(self, table: SharedTable, key: int) -> None:
        self._table, self._key, self._own = table, key, 0.0
        self._row = table.find(key, make=True)

    @property
    def at(self) -> float:
        row = self._found()
        return self._own if row is None else self._table.clock(row)

    @at.setter
    def at(self, moment: float) -> None:
        row = self._found()
        if row is None:
            self._own = moment
        else:
            self._table.move(row, moment)

    def _found(self) -> int | None:
        """The row, found again where somebody else has taken it."""
        if self._row is None or not self._table.is_of(self._row, self._key):
            self._row = self._table.find(self._key, make=True)
        return self._row


Sharing = OwnCounts | SharedCounts

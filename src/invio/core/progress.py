"""Coverage: which bytes of a file have arrived. How fast they do is `invio.core.meter`'s."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterable

# Bounds work and memory per transfer when a client requests single bytes with holes between them.
MOST_RANGES = 256
_NONE: list[tuple[int, int]] = []  # what all that are empty share; nothing is added to it


class Coverage:
    """The union of byte ranges, of `MOST_RANGES` at most; `total` is its length in bytes."""

    __slots__ = ("_least", "_ranges", "total")

    def __init__(self, ranges: Iterable[tuple[int, int]] = ()) -> None:
        self._ranges = _NONE
        self._least = 0  # no range is shorter, as far as is known
        self.total = 0
        for start, stop in ranges:
            self.add(start, stop)

    def add(self, start: int, stop: int) -> None:
        """Adds the bytes from `start` to `stop` (not included); overlaps and neighbours are merged."""
        if start >= stop:
            return
        if not self._ranges:
            self._ranges, self.total = [(start, stop)], stop - start
            return
        ranges = self._ranges
        in_order = start > ranges[-1][1]
        low = len(ranges) if in_order else bisect_left(ranges, (start, 0))
        if low and ranges[low - 1][1] >= start:
            low -= 1
        high = low
        while high < len(ranges) and ranges[high][0] <= stop:
            below, above = ranges[high]
            self.total -= above - below
            start, stop = min(start, below), max(stop, above)
            high += 1
        ranges[low:high] = [(start, stop)]
        self.total += stop - start
        if len(ranges) > MOST_RANGES:
            self._drop_smallest(low)
        elif stop - start < self._least:
            self._least = stop - start

    def _drop_smallest(self, added: int) -> None:
        """Counts the smallest range as not arrived, so the coverage never claims more than has arrived.

        `added` is the place of the newest: where no other can be smaller, as with parts of one size, none is looked at.
        """
        ranges = self._ranges
        smallest, size = added, ranges[added][1] - ranges[added][0]
        if size > self._least:
            sizes = [above - below for below, above in ranges]
            size, self._least = sorted(sizes)[:2]
            smallest = sizes.index(size)
        self.total -= size
        del ranges[smallest]

    def copy(self) -> Coverage:
        """An independent copy."""
        other = Coverage()
        other._ranges, other.total = list(self._ranges), self.total
        return other

    def overlap(self, start: int, stop: int) -> int:
        """How many of the bytes from `start` to `stop` (not included) are in it."""
        return sum(max(0, min(stop, above) - max(start, below)) for below, above in self._ranges)

    @property
    def ranges(self) -> list[tuple[int, int]]:
        """The ranges in order, as (start, stop) with the stop not included; a copy."""
        return list(self._ranges)

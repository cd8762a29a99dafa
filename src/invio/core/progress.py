"""Progress: which bytes of a file have arrived, how fast, and how long the rest will take."""

from __future__ import annotations

from bisect import bisect_left
from collections import deque
from collections.abc import Iterable, Sequence

# Work and memory for a transfer do not grow with what a client makes of it: ranges of one byte, with holes between.
MOST_RANGES = 256


class Coverage:
    """The union of byte ranges, of `MOST_RANGES` at most; `total` is its length in bytes."""

    __slots__ = ("_ranges", "total")

    def __init__(self, ranges: Iterable[tuple[int, int]] = ()) -> None:
        self._ranges: Sequence[tuple[int, int]] = ()  # a list once something was added
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
        assert isinstance(ranges, list)
        low = bisect_left(ranges, start, key=lambda pair: pair[1])
        high = low
        while high < len(ranges) and ranges[high][0] <= stop:
            below, above = ranges[high]
            self.total -= above - below
            start, stop = min(start, below), max(stop, above)
            high += 1
        ranges[low:high] = [(start, stop)]
        self.total += stop - start
        if len(ranges) > MOST_RANGES:
            self._drop_smallest()

    def _drop_smallest(self) -> None:
        """Counts the smallest range as not arrived: what is said to have arrived has, and a bit more may have."""
        ranges = self._ranges
        assert isinstance(ranges, list)
        place = min(range(len(ranges)), key=lambda number: ranges[number][1] - ranges[number][0])
        self.total -= ranges[place][1] - ranges[place][0]
        del ranges[place]

    def copy(self) -> Coverage:
        """The same, which from now on goes its own way."""
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


class Pace:
    """The rate over the last few seconds, from samples of a growing count.

    Bytes a second over a window, not since the start: what a person sees must follow a line that
    slows down, and must not jump with every sample.
    """

    def __init__(self, window: float = 5.0) -> None:
        """`window` is in seconds."""
        self._window = window
        self._samples: deque[tuple[float, int]] = deque()

    def sample(self, at: float, count: int) -> None:
        """`at` in seconds of any steady clock, `count` in bytes."""
        self._samples.append((at, count))
        while len(self._samples) > 2 and self._samples[0][0] < at - self._window:
            self._samples.popleft()

    @property
    def rate(self) -> float | None:
        """Bytes a second; None before there are two samples."""
        if len(self._samples) < 2:
            return None
        (begin, first), (end, last) = self._samples[0], self._samples[-1]
        return (last - first) / (end - begin) if end > begin else None


def percent(covered: int, size: int | None) -> float | None:
    """0 to 100, never 100 before the last byte; None when the size is not known."""
    if size is None:
        return None
    if covered >= size:
        return 100.0
    return min(99.9, int(1000 * covered / size) / 10)


def seconds_left(covered: int, size: int | None, rate: float | None) -> float | None:
    """Time for the rest at this rate; None when it cannot be told."""
    if size is None:
        return None
    if covered >= size:
        return 0.0
    return (size - covered) / rate if rate else None

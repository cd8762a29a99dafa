"""The progress meter: how much of a content has arrived, how fast, and how long the rest takes.

It has no clock: whoever asks gives `now`, in seconds of any steady clock. Two windows, both sliding: the rate is of
the last few seconds, so that it follows a line that slows down; the time left is by a longer one, so that it does not
jump with the rate. What has stalled has a rate of nothing and no time left, rather than the ones it had.
"""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass

RATE_WINDOW = 5.0  # seconds
LEFT_WINDOW = 20.0  # seconds
STALLED_AFTER = 5.0  # seconds without a byte
_STEP = 0.25  # seconds: samples closer to each other than that are one, so that a window holds a hundred at most


@dataclass(frozen=True, slots=True)
class Progress:
    """How far a content is at one moment. Bytes, bytes a second, seconds; None for what cannot be told.

    `estimated`: the total is a guess, and so are the percentage and the time left.
    """

    bytes: int
    total: int | None
    rate: float | None
    seconds_left: float | None
    stalled: bool = False
    estimated: bool = False

    @property
    def fraction(self) -> float | None:
        """0 to 1; None when the total is not known."""
        if self.total is None:
            return None
        return 1.0 if self.bytes >= self.total else self.bytes / self.total

    @property
    def percent(self) -> int | None:
        """Whole per cent, rounded down: 100 means all."""
        return percent(self.bytes, self.total)


def percent(count: int, total: int | None) -> int | None:
    """Whole per cent, rounded down, so that 100 means every byte; None when the total is not known."""
    if total is None:
        return None
    return 100 if count >= total else 100 * count // total


class ProgressMeter:
    """Measures a growing count of bytes."""

    __slots__ = ("_grew", "_samples")

    def __init__(self) -> None:
        self._samples: deque[tuple[float, int]] = deque()
        self._grew = 0.0  # when the count last grew

    def sample(self, now: float, count: int) -> None:
        """Takes in that there were `count` bytes at `now`."""
        samples = self._samples
        if not samples or count > samples[-1][1]:
            self._grew = now
        if len(samples) > 1 and samples[-1][0] - samples[-2][0] < _STEP:
            samples.pop()
        samples.append((now, count))
        while len(samples) > 2 and samples[1][0] <= now - LEFT_WINDOW:
            samples.popleft()

    def stalled(self, now: float) -> bool:
        """Whether nothing has arrived for a while."""
        return bool(self._samples) and now - self._grew >= STALLED_AFTER

    def rate(self, now: float) -> float | None:
        """Bytes a second over the last seconds; 0 when it has stalled, None before there are two samples."""
        return 0.0 if len(self._samples) > 1 and self.stalled(now) else self._mean(now, RATE_WINDOW)

    def mean(self, now: float) -> float | None:
        """Bytes a second over a longer while, by which the time left is told; 0 when it has stalled."""
        return 0.0 if len(self._samples) > 1 and self.stalled(now) else self._mean(now, LEFT_WINDOW)

    def progress(self, now: float, total: int | None, *, estimated: bool = False) -> Progress:
        """How far it is; `total` in bytes, None where nobody knows, `estimated` where it is a guess."""
        count = self._samples[-1][1] if self._samples else 0
        if estimated and total is not None:
            total = max(total, count + 1)  # what still comes is not at its end
        return Progress(count, total, self.rate(now), self._left(now, count, total), self.stalled(now), estimated)

    def _left(self, now: float, count: int, total: int | None) -> float | None:
        if total is None:
            return None
        if count >= total:
            return 0.0
        mean = self.mean(now)
        return (total - count) / mean if mean else None

    def _mean(self, now: float, window: float) -> float | None:
        """Bytes a second from the newest sample that is as old as the window, or the oldest there is."""
        samples = self._samples
        if len(samples) < 2:
            return None
        begin, first = samples[0]
        for at, count in samples:
            if at > now - window and at > begin:
                break
            begin, first = at, count
        else:
            begin, first = samples[-2]
        return (samples[-1][1] - first) / (now - begin) if now > begin else None

"""A speed limit that several connections share, and which tells each when its next bytes may leave.

A virtual clock runs ahead of the real one by the bytes already granted. Each caller gets the moment at which the real
clock has caught up, and advances the virtual one; so callers wait in the order in which they asked. Connections that
ask for the same count each time share the rate fairly, however many there are, and no byte is held in memory for it.
"""

from __future__ import annotations

from typing import Protocol

# A late wake-up is made up for within this time; a connection idle for longer gets no credit. Seconds.
SLACK = 0.5
_TICK = 0.02  # seconds
# A step below this is more wake-ups than a slow line is worth.
_LEAST = 16 * 1024  # bytes
_LONGEST = 0.25  # seconds that one step may take


class Clock(Protocol):
    """A virtual clock that one or several throttles advance."""

    at: float


class OwnClock:
    """A clock that only one throttle advances."""

    __slots__ = ("at",)

    def __init__(self) -> None:
        self.at = 0.0


class Throttle:
    """At most `rate` bytes a second. `users` is how many connections share it now."""

    __slots__ = ("__weakref__", "_free", "rate", "users")

    def __init__(self, rate: int, clock: Clock | None = None) -> None:
        """`clock` is one that several processes share; without it, it is this throttle's own."""
        self.rate = rate
        self.users = 0
        # The moment from which on there is nothing left to wait for.
        self._free = clock if clock is not None else OwnClock()

    def reserve(self, now: float, count: int) -> float:
        """The moment at which `count` bytes may leave; `now` is of any steady clock, in seconds."""
        free = self._free.at
        begin = free if free >= now - SLACK else now
        self._free.at = begin + count / self.rate
        return begin

    @property
    def step(self) -> int:
        """How many bytes to let through at once: few enough to be smooth, enough to cost little."""
        whole = min(self.rate * _LONGEST, max(_LEAST, self.rate * _TICK))
        return max(1, int(whole / max(1, self.users)))

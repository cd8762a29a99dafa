"""Tide tables of the demo: harmonic constituents that nobody measured, summed for every ten minutes."""

from __future__ import annotations

import math
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta

# (height in metres, period in hours, phase in radians)
_CONSTITUENTS = (
    (1.42, 12.4206, 0.6),
    (0.47, 12.0, 1.9),
    (0.29, 12.6583, 4.1),
    (0.21, 23.9345, 2.7),
    (0.13, 25.8193, 5.2),
)
_MEAN = 2.15  # metres above chart datum
_STEP = timedelta(minutes=10)


def height(at: datetime) -> float:
    """Metres above chart datum at Brackwater Pier."""
    hours = at.timestamp() / 3600
    return _MEAN + sum(size * math.cos(2 * math.pi * hours / period - phase) for size, period, phase in _CONSTITUENTS)


def _year(year: int) -> Iterator[tuple[object, ...]]:
    yield ("time_utc", "height_m")
    at, end = datetime(year, 1, 1, tzinfo=UTC), datetime(year + 1, 1, 1, tzinfo=UTC)
    while at < end:
        yield (at.strftime("%Y-%m-%dT%H:%MZ"), f"{height(at):.2f}")
        at += _STEP


def table(year: int) -> Iterator[tuple[object, ...]]:
    """The tide table of a year."""
    return _year(year)


def this_year() -> Iterator[tuple[object, ...]]:
    """The tide table of 2026."""
    return _year(2026)

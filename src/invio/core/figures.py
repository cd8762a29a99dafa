"""Figures for people: sizes and lengths of time, in one form for the terminal, the console and the pages.

`browser/src/words.ts` has the same forms; `tests/core/figures.json` is what both are held to.
"""

from __future__ import annotations

import math

_UNITS = ("B", "KiB", "MiB", "GiB", "TiB")
_MINUTE, _HOUR, _DAY = 60, 3600, 86_400


def size_text(size: float | None) -> str:
    """Bytes for people: `283 MiB`; a dash for what is not known."""
    if size is None:
        return "–"
    power = 0 if size < 1024 else min(len(_UNITS) - 1, int(math.log(size, 1024)))
    number = size / 1024**power
    return f"{number:.0f} {_UNITS[power]}" if power == 0 or number >= 100 else f"{number:.1f} {_UNITS[power]}"


def duration_text(seconds: float | None) -> str:
    """Seconds as `8 s`, `1 min 30 s`, `25 min`, `2 h 5 min` or `3 d 4 h`, rounded up; a dash for None.

    The longer it is, the coarser it is told: nobody counts the seconds of an hour.
    """
    if seconds is None:
        return "–"
    if seconds <= _MINUTE - 1:
        return f"{max(0, math.ceil(seconds))} s"
    if seconds <= 10 * _MINUTE - 10:
        return _pair(10 * math.ceil(seconds / 10), _MINUTE, "min", 1, "s")
    if seconds <= _HOUR - _MINUTE:
        return f"{math.ceil(seconds / _MINUTE)} min"
    if seconds <= _DAY - _MINUTE:
        return _pair(_MINUTE * math.ceil(seconds / _MINUTE), _HOUR, "h", _MINUTE, "min")
    return _pair(_HOUR * math.ceil(seconds / _HOUR), _DAY, "d", _HOUR, "h")


def _pair(seconds: int, whole: int, unit: str, part: int, smaller: str) -> str:
    """Two units, the smaller one only where there is something of it."""
    rest = seconds % whole // part
    return f"{seconds // whole} {unit} {rest} {smaller}" if rest else f"{seconds // whole} {unit}"


def left_text(seconds: float | None) -> str:
    """`4 min 10 s left`; empty where nothing is left or nobody can tell."""
    return f"{duration_text(seconds)} left" if seconds else ""

"""Moments: Unix seconds as texts, and the last moment that there can be.

Clients, clocks and records may hold any number. What is taken in is bounded by `LAST_MOMENT`; what is shown is
bounded by it too, so that one odd number never keeps a list from being shown.
"""

from __future__ import annotations

from datetime import UTC, datetime

# 0001-01-01T00:00:00Z: years before have no date in HTTP (RFC 9110 §5.6.7: four digits).
FIRST_DATE = -62_135_596_800
# 9999-12-31T23:59:59Z: later years have no text in RFC 3339 (§1: four digits).
LAST_MOMENT = 253_402_300_799
LONGEST_SPAN = 100 * 366 * 86_400  # seconds


def timestamp(seconds: float) -> str:
    """Unix seconds as RFC 3339, UTC, to the millisecond; a moment that has no such text is the first or last one."""
    bounded = min(max(seconds, 0.0), float(LAST_MOMENT)) if seconds == seconds else 0.0
    return datetime.fromtimestamp(bounded, UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")

"""How often each of these tests tries: a few times among all tests, and as often as was promised by `make torture`."""

from __future__ import annotations

import os
from pathlib import Path

WHOLE = bool(os.environ.get("INVIO_TORTURE"))


def times(short: int, whole: int) -> int:
    """`whole` in `make torture`, `short` among all tests."""
    return whole if WHOLE else short


def report(what: str, tried: int, lost: int = 0) -> None:
    """Notes what was tried, for the summary that `make torture` prints at its end."""
    place = os.environ.get("INVIO_TORTURE_REPORT")
    if place:
        with Path(place).open("a", encoding="utf-8") as file:
            file.write(f"{tried:>9,}  {what}; lost or let through: {lost}\n")

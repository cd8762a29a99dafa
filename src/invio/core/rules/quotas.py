"""Quotas: how much one recipient may obtain under one rule in a rolling period. Pure; the records do the counting."""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime

_SPAN = re.compile(r"([1-9][0-9]{0,5})(m|h|d)\Z")
LONGEST = 366 * 86_400  # seconds of a period
_SECONDS = {"m": 60, "h": 3600, "d": 86_400}


@dataclass(frozen=True, slots=True)
class Quota:
    """A limit of one rule, by whose name it is counted. `files` and `bytes` at most, None for any number.

    `period` in seconds, rolling: older downloads do not count. `text` and `link` are the operator's own, for whoever
    has reached it.
    """

    name: str
    files: int | None
    bytes: int | None
    period: int
    text: str = ""
    link: str = ""


@dataclass(frozen=True, slots=True)
class Claim:
    """What a download takes of a quota when it begins: a number of files, and at most a number of bytes.

    `who` is whose quota it is: a recipient, or where nobody signed in a network address.
    """

    quota: Quota
    files: int
    bytes: int
    who: str = ""


@dataclass(frozen=True, slots=True)
class Use:
    """What an earlier download has taken, or holds, of a quota; `at` is when it began, Unix seconds."""

    at: float
    files: int
    bytes: int


def room_at(claim: Claim, uses: Sequence[Use], now: float) -> float | None:
    """When there is room for a claim: `now`, or the moment at which enough has rolled out; None for never.

    `uses` are those of the same quota and recipient, in any order; those before the period are passed over.
    """
    quota = claim.quota
    if (quota.files is not None and claim.files > quota.files) or (
        quota.bytes is not None and claim.bytes > quota.bytes
    ):
        return None
    held = sorted((use for use in uses if use.at > now - quota.period), key=lambda use: use.at)
    files, size = sum(use.files for use in held), sum(use.bytes for use in held)
    moment = now
    for use in [*held, None]:
        fits = quota.files is None or files + claim.files <= quota.files
        if fits and (quota.bytes is None or size + claim.bytes <= quota.bytes):
            return moment
        if use is None:
            break
        files, size, moment = files - use.files, size - use.bytes, use.at + quota.period
    return None


def read_period(text: str) -> int:
    """Seconds from a span such as `90m`, `12h` or `30d`. Raises ValueError."""
    span = _SPAN.match(text)
    if span is None:
        raise ValueError(f"{text!r} is no period; expected a number and m, h or d, as in '12h' or '30d'")
    seconds = int(span[1]) * _SECONDS[span[2]]
    if seconds > LONGEST:
        raise ValueError(f"{text!r} is too long a period; at most {LONGEST // 86_400}d are counted")
    return seconds


def amount_text(quota: Quota) -> str:
    """What a quota allows, for people: `1 file`, or `100 files, 5000 bytes`."""
    said = []
    for count, one in ((quota.files, "file"), (quota.bytes, "byte")):
        if count is not None:
            said.append(f"{count} {one}" + ("" if count == 1 else "s"))
    return ", ".join(said)


def period_text(seconds: int) -> str:
    """A period for people: `30 days`."""
    for unit, name in ((86_400, "day"), (3600, "hour"), (60, "minute")):
        if seconds % unit == 0:
            count = seconds // unit
            return f"{count} {name}" + ("s" if count > 1 else "")
    return f"{seconds} seconds"


def moment_text(seconds: float) -> str:
    """A moment for people, UTC, rounded up to the second."""
    return datetime.fromtimestamp(math.ceil(seconds), UTC).strftime("%Y-%m-%d %H:%M:%S UTC")

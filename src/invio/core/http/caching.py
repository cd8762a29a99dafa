"""The `Cache-Control` of a file: private and revalidated each time, unless a rule allows more.

RFC 9111 §5.2.2 has the directives, RFC 8246 `immutable`.
"""

from __future__ import annotations

import re
from collections.abc import Iterable

USUAL = "private, no-cache"
# Each recipient gets different content at the same address: no cache may store it, not even a shared browser's.
PERSONAL = "private, no-store"
# The address names one immutable content: it never needs revalidation.
PINNED = "private, max-age=31536000, immutable"

_PLAIN = frozenset(
    ("public", "private", "no-cache", "no-store", "no-transform", "must-revalidate", "proxy-revalidate", "immutable")
)
_SECONDS = re.compile(r"(max-age|s-maxage|stale-while-revalidate|stale-if-error)=([0-9]{1,9})\Z")


def read_cache_control(text: str) -> str:
    """The directives of a rule, in their usual spelling. Raises ValueError for one that is none."""
    directives = [item.strip().lower() for item in text.split(",")]
    for directive in directives:
        if directive not in _PLAIN and not _SECONDS.match(directive):
            raise ValueError(
                f"{directive!r} is no directive of Cache-Control; use {', '.join(sorted(_PLAIN))}, max-age=SECONDS"
            )
    if "public" in directives and "private" in directives:
        raise ValueError("an answer is public or private, not both")
    return ", ".join(directives)


def not_public(text: str) -> str:
    """The directives restricted to the reader's private cache."""
    return ", ".join("private" if item == "public" else item for item in text.split(", ") if not item.startswith("s-"))


def strictest(values: Iterable[str]) -> str | None:
    """The strictest of several rules' directives; None when there are none."""
    return min(values, key=_openness, default=None)


def _openness(value: str) -> tuple[int, int, int]:
    directives = value.split(", ")
    seconds = [int(found[2]) for item in directives if (found := _SECONDS.match(item)) and found[1] == "max-age"]
    return (
        0 if "no-store" in directives else 1 if "public" not in directives else 2,
        0 if "no-cache" in directives else 1,
        seconds[0] if seconds else 0,
    )

"""Content codings, RFC 9110 §8.4.1 and §12.5.3: chooses the one that a client gets."""

from __future__ import annotations

import re
from collections.abc import Sequence

IDENTITY = "identity"

# §12.5.3: ( codings [ weight ] ), with the weight of §12.4.2
_ITEM = re.compile(r"([!#$%&'*+.^_`|~0-9A-Za-z-]+)(?:[ \t]*;[ \t]*[qQ]=(0(?:\.[0-9]{0,3})?|1(?:\.0{0,3})?))?\Z")
_SAME = {"x-gzip": "gzip"}  # §8.4.1.3

# File name suffixes of precompressed contents that lie beside the plain file, by coding.
ENDINGS = {"zstd": ".zst", "gzip": ".gz"}


def choose_coding(field: str | None, offered: Sequence[str]) -> str | None:
    """The coding to answer with, of those offered (best first); None for the content as it is.

    An absent or malformed field requests nothing. Between equal weights our order decides; where the client prefers the
    plain content, it gets that.
    """
    if field is None:
        return None
    weights: dict[str, float] = {}
    for item in field.split(","):
        text = item.strip(" \t")
        if not text:
            continue
        match = _ITEM.match(text)
        if not match:
            return None
        name = match[1].lower()
        weights.setdefault(_SAME.get(name, name), float(match[2] or 1))
    rest = weights.get("*", 0.0)
    plain = weights.get(IDENTITY, 0.0)  # unless it is named, it is the fallback when nothing else is acceptable
    best, liked = None, 0.0
    for coding in offered:
        weight = weights.get(coding, rest)
        if weight > liked:
            best, liked = coding, weight
    return best if liked > 0 and liked >= plain else None


def encoded_tag(tag: str, coding: str) -> str:
    """The entity tag of a content in a coding: other bytes, another tag (§8.8.3.3)."""
    return f"{tag}-{coding}"

"""Integrity fields, RFC 9530: SHA-256 of a representation or of what one message carries of it."""

from __future__ import annotations

import base64
import re

# RFC 8941 §3.2: a dictionary member whose value is an integer; RFC 9530 §4: from 0 to 10
_WANTED = re.compile(r"([a-z*][a-z0-9_.*-]*)=([0-9]{1,2})\Z")
ALGORITHM = "sha-256"


def wants_sha256(field: str | None) -> bool:
    """Whether `Want-Repr-Digest` or `Want-Content-Digest` asks for SHA-256.

    A field that is not a dictionary of integers is ignored whole (RFC 8941 §4.2).
    """
    if field is None:
        return False
    wanted: dict[str, int] = {}
    for item in field.split(","):
        match = _WANTED.match(item.strip(" \t"))
        if not match or int(match[2]) > 10:
            return False
        wanted[match[1]] = int(match[2])
    return wanted.get(ALGORITHM, 0) > 0  # 0: "not acceptable"


def digest_field(sha256: bytes) -> bytes:
    """The value of `Repr-Digest` or `Content-Digest`."""
    return b"sha-256=:" + base64.b64encode(sha256) + b":"


def content_tag(sha256: bytes) -> str:
    """The opaque part of an entity tag that stands for the content itself."""
    return sha256.hex()[:40]

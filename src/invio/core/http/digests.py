"""Integrity fields, RFC 9530: SHA-256 of a representation or of what one message carries of it."""

from __future__ import annotations

import base64
import binascii
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


def said_sha256(field: str | None) -> bytes | None:
    """The SHA-256 that a `Content-Digest` or `Repr-Digest` gives; None when it gives none.

    Raises:
        ValueError: what it gives is no SHA-256.
    """
    for item in (field or "").split(","):
        name, _, value = item.strip(" \t").partition("=")
        if name == ALGORITHM:
            try:
                digest = base64.b64decode(value[1:-1], validate=True) if value[:1] == value[-1:] == ":" else b""
            except binascii.Error:
                digest = b""
            if len(digest) != 32:
                raise ValueError("expected sha-256=:…: with 32 bytes in base64")
            return digest
    return None


def digest_field(sha256: bytes) -> bytes:
    """The value of `Repr-Digest` or `Content-Digest`."""
    return b"sha-256=:" + base64.b64encode(sha256) + b":"


def content_tag(sha256: bytes) -> str:
    """The opaque part of an entity tag that stands for the content itself."""
    return sha256.hex()[:40]

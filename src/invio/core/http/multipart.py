"""Several ranges in one answer: `multipart/byteranges`, RFC 9110 §14.6 and §15.3.7.2.

Each range is a body part with its own Content-Range between boundary lines (RFC 2046 §5.1.1); the
boundary lines are literal parts of the reply, so that its length is known before its first byte.
"""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Sequence
from dataclasses import dataclass

# Whoever wrote a file must not be able to put the boundary of an answer into it.
_SECRET = secrets.token_bytes(16)

# Where a run of a reply's body lies in the representation: body offset, offset there, length.
Span = tuple[int, int, int]


@dataclass(frozen=True, slots=True)
class Multipart:
    """The body: `runs` are literal bytes, or (start, stop) of the representation. `length` in bytes."""

    boundary: str
    runs: tuple[bytes | tuple[int, int], ...]
    length: int
    spans: tuple[Span, ...]


def multipart(ranges: Sequence[tuple[int, int]], size: int, content_type: str, tag: str | None) -> Multipart:
    """Lays out an answer of several ranges of a representation of `size` bytes.

    `tag` is the representation's; the same ranges of the same content have the same boundary, as
    long as the process runs.
    """
    seed = f"{tag} {size} {ranges}".encode()
    boundary = "part-" + hashlib.blake2b(seed, key=_SECRET, digest_size=15).hexdigest()
    runs: list[bytes | tuple[int, int]] = []
    spans: list[Span] = []
    at = 0
    line = b"--" + boundary.encode() + b"\r\n"
    for start, stop in ranges:
        head = b"%sContent-Type: %s\r\nContent-Range: bytes %d-%d/%d\r\n\r\n" % (
            line, content_type.encode(), start, stop - 1, size,
        )  # fmt: skip
        runs += [head, (start, stop)]
        spans.append((at + len(head), start, stop - start))
        at += len(head) + stop - start
        line = b"\r\n--" + boundary.encode() + b"\r\n"
    end = b"\r\n--" + boundary.encode() + b"--\r\n"
    return Multipart(boundary, (*runs, end), at + len(end), tuple(spans))

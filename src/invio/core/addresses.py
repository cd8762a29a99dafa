"""Addresses: `store/path`, the name of one file; with a trailing `/`, a folder.

An address is checked once, where it enters; from then on it is a value that never climbs, holds no control character
and has one spelling. The sealed-link format ("Address") defines what an address may be. Stores trust it, and still
check where a path ends up on the disk.
"""

from __future__ import annotations

import re
import unicodedata
from functools import lru_cache
from typing import NamedTuple
from urllib.parse import quote, unquote_to_bytes

# Unicode Cc (C0, DEL, C1) and Cs (surrogates), and the backslash that some systems take for `/`.
_FORBIDDEN = re.compile("[\x00-\x1f\x7f-\x9f\ud800-\udfff\\\\]")
_BROKEN_PERCENT = re.compile(rb"%(?![0-9A-Fa-f]{2})")
# What RFC 3986 §3.3 lets stand in a path segment, less the marks that shells and people trip over.
_PATH_SAFE = "/-._~!$()*,:@"


# No file system holds longer paths (PATH_MAX), and nobody makes deeper ones by hand.
LONGEST = 4000  # bytes of UTF-8
DEEPEST = 100  # segments
# Addresses that are requested often are short; longer ones are not cached, so they cannot fill the memory.
_KEPT_UP_TO = 1000  # characters


class BadAddress(ValueError):
    """The text is no address. Its message says what is wrong with it and what would be right."""


class Address(NamedTuple):
    """One file, or one folder (`folder` true, `path` empty or ending in `/`).

    A tuple, because nearly every cache is keyed by addresses.
    """

    store: str
    path: str

    @property
    def folder(self) -> bool:
        """Whether it is the address of a folder: it ends with a slash."""
        return not self.path or self.path.endswith("/")

    @property
    def name(self) -> str:
        """The last segment: `north.pdf` of `charts/approach/north.pdf`."""
        return self.path.rstrip("/").rpartition("/")[2] or self.store

    def __str__(self) -> str:
        return "/".join(self)

    def within(self, scope: Address) -> bool:
        """Whether this address is `scope` itself or, when that is a folder, below it."""
        if scope.folder:
            return self.store == scope.store and self.path.startswith(scope.path)
        return self == scope


def percent_decoded(raw: str | bytes) -> str:
    """Percent-decodes to UTF-8; `+` stays a plus sign.

    Raises:
        BadAddress: a `%` without two hex digits, or bytes that are not UTF-8.
    """
    if isinstance(raw, str):
        if "%" not in raw and raw.isascii():
            return raw
        data = raw.encode("utf-8", "surrogatepass")
    else:
        data = raw
    if b"%" in data:
        if _BROKEN_PERCENT.search(data):
            raise BadAddress("a % must be followed by two hexadecimal digits")
        data = unquote_to_bytes(data)
    try:
        return data.decode("utf-8")
    except UnicodeDecodeError:
        raise BadAddress("the bytes are not UTF-8") from None


def parse_address(text: str) -> Address:
    """Reads an address that is already decoded.

    Raises:
        BadAddress: anything that the sealed-link format refuses under "Address".
    """
    if len(text) > LONGEST // 4 and len(text.encode("utf-8", "replace")) > LONGEST:
        raise BadAddress(f"an address has at most {LONGEST} bytes")
    if _FORBIDDEN.search(text):
        raise BadAddress("an address holds no control characters and no backslash")
    if not text.isascii() and not unicodedata.is_normalized("NFC", text):
        raise BadAddress("an address is written in Unicode normalization form NFC")
    store, slash, path = text.partition("/")
    if not slash:
        raise BadAddress(f"an address is written store/path, and a store alone store/; {text[:60]!r} has no slash")
    segments = text.split("/")
    if not segments[-1]:
        segments.pop()
    if len(segments) > DEEPEST:
        raise BadAddress(f"an address has at most {DEEPEST} segments")
    if not store:
        raise BadAddress(f"an address begins with the name of a store; leave out the first slash of {text[:60]!r}")
    if "" in segments or "." in segments or ".." in segments:
        raise BadAddress(f"an address has no empty, '.' or '..' segment, and {text[:60]!r} has one")
    return Address(store, path)


def is_proper(address: Address) -> bool:
    """Whether an address that was put together elsewhere is one, so that it can be told and asked for."""
    if address.path.isascii() and address.path.isprintable():
        return True  # as most are: what is odd in it, nobody can ask for
    try:
        return parse_address(str(address)) == address
    except BadAddress:
        return False


def parse_file_address(text: str) -> Address:
    """Like `parse_address`, and refuses a folder."""
    address = parse_address(text)
    if address.folder:
        raise BadAddress(f"{text[:60]!r} names a folder; a file's address does not end in /")
    return address


def requested_address(path: str | bytes) -> Address:
    """The file named by a percent-encoded path. Cached, because ranges of one file are requested one after the other.

    Raises:
        BadAddress.
    """
    if len(path) > 3 * LONGEST:
        raise BadAddress(f"an address has at most {LONGEST} bytes")
    return _requested(path) if len(path) <= _KEPT_UP_TO else parse_file_address(percent_decoded(path))


@lru_cache(maxsize=4096)
def _requested(path: str | bytes) -> Address:
    return parse_file_address(percent_decoded(path))


def is_url(text: str) -> bool:
    """Whether a text is a web URL rather than an address."""
    return text.startswith(("http://", "https://"))


def quoted(address: Address | str) -> str:
    """The address percent-encoded for use in a URL's path."""
    return quote(str(address), safe=_PATH_SAFE)

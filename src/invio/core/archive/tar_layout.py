"""The layout of a TAR archive, computed from file facts alone (POSIX.1-2008, pax; ustar headers).

An extended header stands only before an entry that does not fit the plain one: a name of more than
100 bytes or beyond ASCII, 8 GiB and more. The same entries give the same bytes.
"""

from __future__ import annotations

import hashlib

from invio.core.archive.zip_layout import Entry

_BLOCK = 512
_RECORD = 20 * _BLOCK  # what readers take at a time; the archive fills the last one
_MAX_SIZE = 8**11  # of eleven octal digits
_MODE = b"0000644"


class TarLayout:
    """Like ZipLayout: `add` gives what stands before each content, `end` what stands after all of them."""

    media_type = "application/x-tar"
    extension = ".tar"
    deflates = False

    def __init__(self, coder: str = "") -> None:
        self._digest = hashlib.sha256(coder.encode())
        self._padding = 0  # bytes that the last content lacks to whole blocks
        self.size = 0  # bytes so far

    def add(self, entry: Entry) -> bytes:
        """What fills the content before, and the header; the entry's content comes next."""
        head = bytes(self._padding) + _headers(entry)
        # The header says nothing of the content but its length.
        self._digest.update(head + entry.crc.to_bytes(4, "big"))
        self._padding = -entry.size % _BLOCK
        self.size += len(head) + entry.size
        return head

    def end(self) -> bytes:
        """Two empty blocks, and what fills the record."""
        tail = bytes(self._padding + 2 * _BLOCK)
        tail += bytes(-(self.size + len(tail)) % _RECORD)
        self._digest.update(tail)
        self.size += len(tail)
        return tail

    @property
    def tag(self) -> str:
        """The opaque part of a strong entity tag over every byte."""
        return self._digest.hexdigest()[:32]


def _headers(entry: Entry) -> bytes:
    name, size = entry.name.encode(), entry.size
    seconds = min(max(0, int(entry.modified or 0)), _MAX_SIZE - 1)
    records: dict[str, str] = {}
    if len(name) > 100 or not entry.name.isascii():
        records["path"] = entry.name
    if size >= _MAX_SIZE:
        records["size"] = str(size)
    plain = _header(_short(name), 0 if "size" in records else size, seconds, b"0")
    if not records:
        return plain
    body = b"".join(_record(key, value) for key, value in records.items())
    extended = _header(b"PaxHeaders/" + _short(name)[:80], len(body), seconds, b"x")
    return extended + body + bytes(-len(body) % _BLOCK) + plain


def _short(name: bytes) -> bytes:
    """What a reader sees that knows no extended headers."""
    return name[-100:].decode("ascii", "replace").replace("\ufffd", "_").encode().lstrip(b"/")


def _record(key: str, value: str) -> bytes:
    """`length key=value`, a line whose length counts itself."""
    rest = f" {key}={value}\n".encode()
    length = len(rest)
    while len(str(length)) + len(rest) != length:
        length = len(str(length)) + len(rest)
    return str(length).encode() + rest


def _header(name: bytes, size: int, seconds: int, kind: bytes) -> bytes:
    fields = b"".join(
        (
            name.ljust(100, b"\0"), _MODE + b"\0", b"0000000\0", b"0000000\0", b"%011o\0" % size,
            b"%011o\0" % seconds, b" " * 8, kind, bytes(100), b"ustar\00000", bytes(247),
        )
    )  # fmt: skip
    checksum = b"%06o\0 " % sum(fields)
    return fields[:148] + checksum + fields[156:]

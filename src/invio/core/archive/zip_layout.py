"""The layout of a ZIP archive, computed from file facts alone (APPNOTE 6.3.10, ISO/IEC 21320-1).

Sizes and CRCs are known before the first byte, so every header can be written at once: no data
descriptors, an exact length, and contents that are slices of the files themselves. Zip64 records
appear only where a number does not fit. The same entries give the same bytes.
"""

from __future__ import annotations

import hashlib
import struct
import time
from functools import lru_cache
from typing import NamedTuple

from invio.core.moments import LAST_MOMENT

_MAX32 = 0xFFFFFFFF
_MAX16 = 0xFFFF
_UTF8_FLAG = 1 << 11  # §4.4.4, bit 11: names are UTF-8
_STORED, _DEFLATED = 0, 8  # §4.4.5
_PLAIN, _ZIP64 = 20, 45  # §4.4.3: the version needed to extract
_MADE_BY = 3 << 8  # §4.4.2: attributes are Unix ones
_MADE_BY_PLAIN, _MADE_BY_ZIP64 = (struct.pack("<H", _MADE_BY | version) for version in (_PLAIN, _ZIP64))
_MODE = 0o100644 << 16  # a regular file, rw-r--r--

# What begins a local header and one of the directory, and the fields that both have then: from the version on to the
# length of the extra fields.
_LOCAL, _CENTRAL = b"PK\x03\x04", b"PK\x01\x02"
_SHARED = struct.Struct("<HHHHHIIIHH")
# What a header of the directory has after them: no comment, the first disk, attributes, and where the entry begins.
_REST = struct.Struct("<HHHII")
_END = struct.Struct("<IHHHHIIH")
_END64 = struct.Struct("<IQHHIIQQQQ")
_LOCATOR64 = struct.Struct("<IIQI")


class Entry(NamedTuple):
    """One file of an archive. `size` in bytes, `crc` the CRC-32, `modified` in Unix seconds.

    `packed` is the length in bytes of its deflated form, where that is what the archive holds; None: stored.
    """

    name: str
    size: int
    crc: int
    modified: float | None
    packed: int | None = None

    @property
    def held(self) -> int:
        """How many bytes of the archive are its content."""
        return self.size if self.packed is None else self.packed


class ZipLayout:
    """Lays out entries one after the other.

    `add` gives what stands before each content, `end` what stands after all of them.

    The directory holds every name, time, length and CRC, so its digest stands for the whole archive as
    surely as CRCs stand for contents; the sources' own identity is checked when they are read.
    """

    media_type = "application/zip"
    extension = ".zip"
    deflates = True

    def __init__(self, coder: str = "") -> None:
        """`coder` identifies the compressor: a different one produces different bytes from the same contents."""
        self._central = bytearray()
        self._count = 0
        self._digest = hashlib.sha256(coder.encode())
        self.size = 0  # bytes so far

    def add(self, entry: Entry) -> bytes:
        """The local header; the entry's content comes next."""
        local, central = _headers(entry, self.size)
        self._central += central
        self._count += 1
        self.size += len(local) + (entry.size if entry.packed is None else entry.packed)
        return local

    def end(self) -> bytes:
        """The central directory and the records of its end; nothing is added after it."""
        tail = bytes(self._central) + _end_records(self._count, len(self._central), self.size)
        self._central.clear()
        self._digest.update(tail)
        self.size += len(tail)
        return tail

    @property
    def tag(self) -> str:
        """The opaque part of a strong entity tag over every byte."""
        return self._digest.hexdigest()[:32]


@lru_cache(maxsize=256)
def _times(modified: int | None) -> tuple[int, int, bytes]:
    """A time as headers hold it: clock and date of §4.4.6, and the extended timestamp."""
    return *_dos_time(modified), _timestamp_extra(modified)


def _dos_time(modified: int | None) -> tuple[int, int]:
    """(time, date) of §4.4.6, in UTC; whole even seconds from 1980 to 2107."""
    when = time.gmtime(min(max(modified or 0, 0), LAST_MOMENT))
    if when.tm_year < 1980:
        return 0, (1 << 5) | 1
    if when.tm_year > 2107:
        return (23 << 11) | (59 << 5) | 29, (127 << 9) | (12 << 5) | 31
    clock = (when.tm_hour << 11) | (when.tm_min << 5) | when.tm_sec // 2
    return clock, ((when.tm_year - 1980) << 9) | (when.tm_mon << 5) | when.tm_mday


def _timestamp_extra(modified: int | None) -> bytes:
    """The extended timestamp (0x5455): modification time in Unix seconds, where 32 bits hold it."""
    if modified is None or not 0 <= modified < 2**31:
        return b""
    return struct.pack("<HHBi", 0x5455, 5, 1, modified)


def _zip64_extra(*numbers: int) -> bytes:
    return struct.pack(f"<HH{len(numbers)}Q", 0x0001, 8 * len(numbers), *numbers) if numbers else b""


def _headers(entry: Entry, offset: int) -> tuple[bytes, bytes]:
    """An entry's local header and its central directory header, which repeats most fields."""
    text, size, crc, modified, packed = entry
    name, held = text.encode(), size if packed is None else packed
    clock, date, times = _times(None if modified is None else int(modified))
    method = _STORED if packed is None else _DEFLATED
    version = in_directory = _PLAIN
    extra = more = times
    numbers: tuple[int, ...] = ()
    if size >= _MAX32 or held >= _MAX32:
        # §4.5.3: in a local header both sizes stand in the Zip64 field, or neither.
        numbers, version = (size, held), _ZIP64
        in_directory, extra = version, _zip64_extra(*numbers) + times
        more = extra
        size = held = _MAX32
    if offset >= _MAX32:
        in_directory, more, offset = _ZIP64, _zip64_extra(*numbers, offset) + times, _MAX32
    length, end = len(name), name + extra
    shared = _SHARED.pack(version, _UTF8_FLAG, method, clock, date, crc, held, size, length, len(extra))
    local = _LOCAL + shared + end
    if more is not extra:
        end = name + more
        shared = _SHARED.pack(in_directory, _UTF8_FLAG, method, clock, date, crc, held, size, length, len(more))
    made_by = _MADE_BY_PLAIN if in_directory == _PLAIN else _MADE_BY_ZIP64
    return local, _CENTRAL + made_by + shared + _REST.pack(0, 0, 0, _MODE, offset) + end


def _end_records(count: int, size: int, offset: int) -> bytes:
    end64 = b""
    if count >= _MAX16 or size >= _MAX32 or offset >= _MAX32:
        end64 = _END64.pack(0x06064B50, 44, _MADE_BY | _ZIP64, _ZIP64, 0, 0, count, count, size, offset)
        end64 += _LOCATOR64.pack(0x07064B50, 0, offset + size, 1)
    short = min(count, _MAX16)
    end = _END.pack(0x06054B50, 0, 0, short, short, min(size, _MAX32), min(offset, _MAX32), 0)
    return end64 + end

"""The layout of a ZIP archive, computed from file facts alone (APPNOTE 6.3.10, ISO/IEC 21320-1).

Sizes and CRCs are known before the first byte, so every header can be written at once: no data
descriptors, an exact length, and contents that are slices of the files themselves. Zip64 records
appear only where a number does not fit. The same entries give the same bytes.
"""

from __future__ import annotations

import hashlib
import struct
import time
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass

from invio.core.names import safe_name
from invio.core.replies import Content, Part, Slice

_MAX32 = 0xFFFFFFFF
_MAX16 = 0xFFFF
_UTF8_FLAG = 1 << 11  # §4.4.4, bit 11: names are UTF-8
_STORED = 0  # §4.4.5
_MADE_BY = 3 << 8  # §4.4.2: attributes are Unix ones
_MODE = 0o100644 << 16  # a regular file, rw-r--r--

_LOCAL = struct.Struct("<IHHHHHIIIHH")
_CENTRAL = struct.Struct("<IHHHHHHIIIHHHHHII")
_END = struct.Struct("<IHHHHIIH")
_END64 = struct.Struct("<IQHHIIQQQQ")
_LOCATOR64 = struct.Struct("<IIQI")


@dataclass(frozen=True, slots=True)
class ZipEntry:
    """One file of an archive. `size` in bytes, `modified` in Unix seconds, `crc` the CRC-32."""

    name: str
    size: int
    crc: int
    modified: float | None
    source: object


@dataclass(frozen=True, slots=True)
class ZipLayout:
    """`size` in bytes; `tag` is the opaque part of a strong entity tag over every byte."""

    content: Content
    size: int
    tag: str


def zip_layout(entries: Sequence[ZipEntry]) -> ZipLayout:
    """Lays out an archive of stored (uncompressed) entries, in their order."""
    parts: list[Part] = []
    central: list[bytes] = []
    # Headers hold every name, time, length and CRC, so their digest stands for the whole archive
    # as surely as CRCs stand for contents; the sources' own identity is checked when they are read.
    digest = hashlib.sha256()
    offset = 0
    for entry in entries:
        local = _local_header(entry)
        central.append(_central_header(entry, offset))
        digest.update(local)
        parts.append(local)
        if entry.size:
            parts.append(Slice(entry.source, 0, entry.size))
        offset += len(local) + entry.size
    directory = b"".join(central)
    tail = directory + _end_records(len(central), len(directory), offset)
    digest.update(tail)
    parts.append(tail)
    return ZipLayout(Content(parts), offset + len(tail), digest.hexdigest()[:32])


def _dos_time(modified: float | None) -> tuple[int, int]:
    """(time, date) of §4.4.6, in UTC; whole even seconds from 1980 to 2107."""
    when = time.gmtime(modified or 0)
    if when.tm_year < 1980:
        return 0, (1 << 5) | 1
    if when.tm_year > 2107:
        return (23 << 11) | (59 << 5) | 29, (127 << 9) | (12 << 5) | 31
    clock = (when.tm_hour << 11) | (when.tm_min << 5) | min(when.tm_sec, 59) // 2
    return clock, ((when.tm_year - 1980) << 9) | (when.tm_mon << 5) | when.tm_mday


def _timestamp_extra(modified: float | None) -> bytes:
    """The extended timestamp (0x5455): modification time in Unix seconds, where 32 bits hold it."""
    if modified is None or not 0 <= modified < 2**31:
        return b""
    return struct.pack("<HHBi", 0x5455, 5, 1, int(modified))


def _zip64_extra(*numbers: int) -> bytes:
    return struct.pack(f"<HH{len(numbers)}Q", 0x0001, 8 * len(numbers), *numbers) if numbers else b""


def _local_header(entry: ZipEntry) -> bytes:
    name = entry.name.encode()
    large = entry.size >= _MAX32
    # §4.5.3: in a local header both sizes stand in the Zip64 field, or neither.
    extra = (_zip64_extra(entry.size, entry.size) if large else b"") + _timestamp_extra(entry.modified)
    size = _MAX32 if large else entry.size
    clock, date = _dos_time(entry.modified)
    head = _LOCAL.pack(
        0x04034B50, 45 if large else 20, _UTF8_FLAG, _STORED, clock, date, entry.crc, size, size, len(name), len(extra)
    )
    return head + name + extra


def _central_header(entry: ZipEntry, offset: int) -> bytes:
    name = entry.name.encode()
    large, far = entry.size >= _MAX32, offset >= _MAX32
    numbers = ([entry.size, entry.size] if large else []) + ([offset] if far else [])
    extra = _zip64_extra(*numbers) + _timestamp_extra(entry.modified)
    size = _MAX32 if large else entry.size
    version = 45 if numbers else 20
    clock, date = _dos_time(entry.modified)
    head = _CENTRAL.pack(
        0x02014B50, _MADE_BY | version, version, _UTF8_FLAG, _STORED, clock, date, entry.crc, size, size,
        len(name), len(extra), 0, 0, 0, _MODE, _MAX32 if far else offset,
    )  # fmt: skip
    return head + name + extra


def _end_records(count: int, size: int, offset: int) -> bytes:
    end64 = b""
    if count >= _MAX16 or size >= _MAX32 or offset >= _MAX32:
        end64 = _END64.pack(0x06064B50, 44, _MADE_BY | 45, 45, 0, 0, count, count, size, offset)
        end64 += _LOCATOR64.pack(0x07064B50, 0, offset + size, 1)
    short = min(count, _MAX16)
    end = _END.pack(0x06054B50, 0, 0, short, short, min(size, _MAX32), min(offset, _MAX32), 0)
    return end64 + end


def entry_names(paths: Iterable[str]) -> list[str]:
    """Names for entries, one for each path and in its order: safe to unpack, and all different.

    Each segment is made safe by itself, so that no entry leaves the folder it is unpacked in.
    Names that clash (also when only case differs, as some systems see no difference, and when one
    has as a file what another has as a folder) get ` (2)`, ` (3)` … before the extension; the
    first keeps its own.
    """
    namer = _Namer()
    return [namer.name(path) for path in paths]


class _Namer:
    """The names given so far, folded to one case."""

    def __init__(self) -> None:
        self._files: set[str] = set()
        self._folders: set[str] = set()
        self._called: dict[str, str] = {}  # a folder as it was asked for → as it is called
        self._numbered: dict[str, int] = {}  # the last number that a name was given

    def name(self, path: str) -> str:
        *above, last = (safe_name(segment, "_") for segment in path.split("/"))
        folder = ""
        for segment in above:
            folder = self._folder(folder + segment) + "/"
        name = self._free(folder + last, lambda folded: folded in self._files or folded in self._folders)
        self._files.add(name.casefold())
        return name

    def _folder(self, path: str) -> str:
        called = self._called.get(path.casefold())
        if called is None:
            called = self._free(path, lambda folded: folded in self._files)
            self._called[path.casefold()] = called
            self._folders.add(called.casefold())
        return called

    def _free(self, name: str, is_taken: Callable[[str], bool]) -> str:
        if not is_taken(name.casefold()):
            return name
        number = self._numbered.get(name.casefold(), 1) + 1
        while is_taken(_numbered(name, number).casefold()):
            number += 1
        self._numbered[name.casefold()] = number
        return _numbered(name, number)


def _numbered(name: str, number: int) -> str:
    folder, slash, last = name.rpartition("/")
    stem, dot, extension = last.rpartition(".")
    if not stem:
        stem, dot, extension = last, "", ""
    return f"{folder}{slash}{stem} ({number}){dot}{extension}"

"""Plans of archives: the file of each entry, compact enough to be cached.

A plan is made once per bundle. Its files are checked again before it is sent from the beginning, and each file in its
turn; one that has changed breaks the archive off.
"""

from __future__ import annotations

import os
import struct
import time
from array import array
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from itertools import chain

from invio.core.addresses import Address
from invio.core.archive.plan import RUN, ArchiveContent, EntryPlaces, Layout
from invio.core.archive.zip_layout import Entry
from invio.core.files import FileFacts
from invio.core.http.replies import Slice
from invio.core.readable import ContentChanged, HeldInMemory, Readable
from invio.stores.arriving import crc32
from invio.stores.sources import DiskFile, on_disk

_LOOKS_FOR = 0.2  # seconds
# What is read of a file that has grown and is not sent, at most. In the event loop, where this takes some 20 ms.
_READ_TO_PROVE = 64 * 1024 * 1024  # bytes
# What is known of an entry's file: number of its root, device, inode, size, time (ns), CRC-32.
_TIMES = 2**63  # nanoseconds that a row can hold, before and after 1970
_ROW = struct.Struct("<HQQQqI")
_FLAGS = os.O_RDONLY | os.O_CLOEXEC | os.O_NONBLOCK


@dataclass(slots=True)
class Preparing:
    """How far a plan is: files that are in it, and bytes of contents that had to be read for it."""

    files: int = 0
    read: int = 0


class _Paths:
    """The paths of entries, one after the other in one block: by themselves they take twice as much memory.

    They are there once `end` was called.
    """

    __slots__ = ("_ends", "_growing", "_text")

    def __init__(self) -> None:
        self._growing, self._text = bytearray(), b""
        self._ends = array("Q", [0])

    def add(self, path: bytes) -> None:
        self._growing += path
        self._ends.append(len(self._growing))

    def end(self) -> None:
        self._text = bytes(self._growing)
        self._growing.clear()

    def __len__(self) -> int:
        return len(self._ends) - 1

    def __getitem__(self, number: int) -> bytes:
        ends = self._ends
        return self._text[ends[number] : ends[number + 1]]

    def some(self, first: int, last: int) -> Iterator[bytes]:
        """Those from `first` to `last` (not included)."""
        ends = self._ends[first : last + 1]
        return map(self._text.__getitem__, map(slice, ends, ends[1:]))

    def __iter__(self) -> Iterator[bytes]:
        return map(self.__getitem__, range(len(self)))


class Plan:
    """An archive's content, and what its entries are read from.

    Files of directories are kept as packed rows; other sources as objects.
    """

    def __init__(self, layout: Layout) -> None:
        self.places = EntryPlaces(layout)
        self.looked = time.monotonic()  # when it was last found to be true
        self.broken = False  # whether a file was found to have changed
        self._roots: dict[bytes, int] = {}
        self._paths = _Paths()
        self._stores: list[str] = []  # by root
        self._rows = bytearray()  # `_ROW` for each entry
        self._others: dict[int, tuple[FileFacts | None, Readable]] = {}
        self._packed: dict[int, Readable] = {}
        self._sent: set[object] = set()  # one for each time that it is being sent now
        self._ended = False
        self._needed: set[str] = set()  # what a cache calls the deflated contents; once it is made, only if asked for

    def __len__(self) -> int:
        return len(self.places)

    @property
    def content(self) -> ArchiveContent:
        """The archive. The plan does not keep it, so that the two form no reference cycle."""
        return ArchiveContent(self.places, self)

    def add(self, facts: FileFacts, source: Readable, entry: Entry, packed: Readable | None = None) -> None:
        """One more file, and the entry that it becomes; `packed` is the deflated form that the archive holds of it."""
        store, below = facts.address
        path, file = below.encode(), on_disk(source)
        if file is not None and file.path.endswith(path) and -_TIMES <= file.modified_ns < _TIMES:
            whole, device, inode, size, modified = file
            above = whole[: len(whole) - len(path)]
            root = self._roots.get(above)
            if root is None:
                root = self._new_root(above, store)
        else:
            self._others[len(self._paths)] = (facts if store else None, source)
            root, path, device, inode, size, modified = 0, b"", 0, 0, entry.size, 0
        if packed is not None:
            self._packed[len(self._paths)] = packed
            self._needed |= _kept_as(packed)
        self._paths.add(path)
        self._rows += _ROW.pack(root, device, inode, size, modified, entry.crc)
        self.places.add(entry, alone=(packed or source).may_block)

    @contextmanager
    def sent(self) -> Iterator[None]:
        """What is entered while the archive is being sent: until then its deflated contents are needed."""
        one = object()
        self._sent.add(one)
        try:
            yield
        finally:
            self._sent.discard(one)

    def needs(self, name: str) -> bool:
        """Whether a cache must keep a deflated content: while the plan is made, and while it is sent to somebody."""
        if self._ended and not self._sent:
            return False
        if not self._needed:
            self._needed = set().union(*map(_kept_as, self._packed.values()))
        return name in self._needed

    def _new_root(self, path: bytes, store: str) -> int:
        number = self._roots[path] = len(self._stores)
        self._stores.append(store)
        return number

    def end(self) -> Plan:
        """Closes the plan: nothing is added after it."""
        self.places.end()
        self._paths.end()
        self._needed = set()
        self._ended = True
        self._root_paths = list(self._roots)
        return self

    def address(self, number: int) -> Address | None:
        """The file of an entry; None for one that the archive itself adds."""
        if number in self._others:
            facts = self._others[number][0]
            return None if facts is None else facts.address
        return Address(self._stores[self._row(number)[0]], self._paths[number].decode())

    def addresses(self) -> Iterator[str | None]:
        """The files of all entries in their order, as `address` has them."""
        rows = _ROW.iter_unpack(self._rows)
        for number, ((root, *_), path) in enumerate(zip(rows, self._paths, strict=True)):
            if number not in self._others:
                yield f"{self._stores[root]}/{path.decode()}"
                continue
            facts = self._others[number][0]
            yield None if facts is None else str(facts.address)

    def _row(self, number: int) -> tuple[int, int, int, int, int, int]:
        return _ROW.unpack_from(self._rows, number * _ROW.size)

    def versions(self) -> dict[str, int]:
        """The version of each file, by address, for files that have versions."""
        known = (facts for facts, _ in self._others.values() if facts is not None)
        return {str(facts.address): facts.version for facts in known if facts.version is not None}

    def name_of(self, number: int) -> str:
        """The address of an entry's file; empty for what the archive itself adds."""
        address = self.address(number)
        return "" if address is None else str(address)

    def facts(self, number: int) -> FileFacts | None:
        """The facts of an entry's file that rules depend on."""
        root, _, _, size, modified, _ = self._row(number)
        if number in self._others:
            facts = self._others[number][0]
            return None if facts is None else facts._replace(size=size)
        address = Address(self._stores[root], self._paths[number].decode())
        return FileFacts(address, size, modified / 1e9 or None, None)

    def slices(self, number: int, start: int, count: int) -> Iterator[Slice]:
        """What gives `count` bytes of an entry's content, from `start` on."""
        source = self.source(number)
        file = None if number in self._packed else on_disk(source)
        grown = None if file is None else self._grown(number, file, (start, count))
        if grown is None and not isinstance(source, HeldInMemory):
            yield Slice(source, start, count)
            return
        # There is no descriptor to send from: of what is read, a reader has no more in memory than this at a time.
        for at in range(start, start + count, RUN):
            yield Slice(grown or source, at, min(RUN, start + count - at))

    def _grown(self, number: int, file: DiskFile, sent: tuple[int, int]) -> GrownFile | None:
        """A file that has grown since it was planned, when `sent` (a start and a count) is to be sent of it."""
        try:
            has_grown = file.has_grown(os.stat(file.path))
        except OSError:
            has_grown = False  # whoever opens it will say what it is
        return GrownFile(self, number, file, sent) if has_grown else None

    def source(self, number: int) -> Readable:
        """What an entry's content is read from."""
        packed = self._packed.get(number)
        if packed is not None:
            return packed
        if number in self._others:
            return self._others[number][1]
        return self._file(number)

    def crc(self, number: int) -> int:
        """The CRC-32 of an entry's content."""
        return self._row(number)[5]

    def _file(self, number: int) -> DiskFile:
        root, device, inode, size, modified, _ = self._row(number)
        return DiskFile(self._root_paths[root] + self._paths[number], device, inode, size, modified)

    def run(self, places: EntryPlaces, first: int, last: int) -> RunOfFiles:  # noqa: ARG002
        """The contents of small entries that follow each other, to be read together."""
        return RunOfFiles(self, first, last)

    def contents(self, first: int, last: int) -> Iterator[bytes]:
        """All of the content of each small entry from `first` to `last` (not included). Raises ContentChanged."""
        rows = _ROW.iter_unpack(self._rows[first * _ROW.size : last * _ROW.size])
        checksum, roots, packed, others = crc32(), self._root_paths, self._packed, self._others
        entries = enumerate(zip(rows, self._paths.some(first, last), strict=True), first)
        for number, ((root, device, inode, size, _, crc), path) in entries:
            if number in packed or number in others:
                yield self._read_other(number)
                continue
            if not size:
                yield b""
                continue
            try:
                descriptor = os.open(roots[root] + path, _FLAGS)
            except OSError as error:
                raise self.changed(number, f"it can no longer be opened: {error.strerror}") from None
            try:
                data = os.pread(descriptor, size, 0)
                # Checked after reading, so that the bytes read belong to this file.
                status = os.fstat(descriptor)
            finally:
                os.close(descriptor)
            # A file of another time, which has grown or is just growing, as logs do, still begins with the planned
            # content; the checksum proves it.
            same_file = status.st_ino == inode and status.st_dev == device and status.st_size >= size
            if not same_file or checksum(data, 0) != crc:
                raise self.changed(number, "it was replaced or altered")
            yield data

    def _read_other(self, number: int) -> bytes:
        try:
            return self.source(number).read(0, self.places.held(number))
        except ContentChanged as error:
            raise self.changed(number, str(error)) from None

    def changed(self, number: int, how: str) -> ContentChanged:
        """What to raise when an entry's file is not the one that was planned."""
        self.broken = True
        return ContentChanged(f"{self.address(number) or 'an entry'} changed after the archive was planned: {how}")

    def holds(self) -> bool:
        """Whether the files still match the plan; of very many, as many as can be checked in a short time."""
        others, packed, roots = self._others, self._packed, self._root_paths
        end = time.monotonic() + _LOOKS_FOR
        rows = enumerate(zip(_ROW.iter_unpack(self._rows), self._paths, strict=True))
        for number, ((root, _, inode, size, modified, _), path) in rows:
            if number in others:
                continue
            if not number % 1000 and time.monotonic() > end:
                break  # each is checked again in its turn
            try:
                status = os.stat(roots[root] + path)
            except OSError:
                return False
            if status.st_mtime_ns != modified or status.st_ino != inode or status.st_size != size:
                return False
        for number, (_, source) in others.items():
            file = on_disk(source)
            if file is not None and number not in packed and not _is_there(file):
                return False
        self.looked = time.monotonic()
        return all(map(_is_there, filter(None, map(on_disk, packed.values()))))


def _kept_as(packed: Readable) -> set[str]:
    """What a cache calls a deflated content; nothing, for one that is in no cache."""
    file = on_disk(packed)
    return set() if file is None else {os.path.basename(file.path).decode()}


def _is_there(source: DiskFile) -> bool:
    try:
        return source.fits(os.stat(source.path))
    except OSError:
        return False


@dataclass(frozen=True, slots=True)
class Literal(HeldInMemory):
    """A content that is nowhere but in the plan."""

    data: bytes

    @property
    def size(self) -> int:
        """Bytes of all of it."""
        return len(self.data)

    def read(self, offset: int, count: int) -> bytes:
        """`count` bytes from `offset` on."""
        return self.data[offset : offset + count]


class GrownFile(HeldInMemory):
    """A large entry whose file has grown since it was planned, as logs do; it is read from its beginning to its end.

    That it still begins with what was planned, and was not written anew, is proved by its CRC before its last bytes are
    given. What is not to be sent of it is read for that, too, so it may not be much.
    """

    __slots__ = ("_at", "_crc", "_file", "_number", "_plan", "_stop", "size")

    def __init__(self, plan: Plan, number: int, file: DiskFile, sent: tuple[int, int]) -> None:
        """`sent` is the start and the count of what is to be sent of it."""
        start, count = sent
        self._plan, self._number, self._file = plan, number, file
        self._stop = start + count
        self._at = self._crc = 0
        self.size = file.size

    def read(self, offset: int, count: int) -> bytes:
        """`count` bytes from `offset` on, which is mostly where the last ones ended. Raises ContentChanged."""
        if offset < self._at:
            self._at = self._crc = 0
        if not self._at and self.size - (self._stop - offset) > _READ_TO_PROVE:
            raise self._plan.changed(self._number, "it has grown, and too little of it is sent to prove the rest")
        self._pass_over(offset)
        data = self._next(count)
        if self._at == self._stop:
            self._pass_over(self.size)
            if self._crc != self._plan.crc(self._number):
                raise self._plan.changed(self._number, "it was written anew")
        return data

    def _pass_over(self, stop: int) -> None:
        while self._at < stop:
            self._next(min(RUN, stop - self._at))

    def _next(self, count: int) -> bytes:
        try:
            data = self._file.read(self._at, count)
        except ContentChanged as error:
            raise self._plan.changed(self._number, str(error)) from None
        self._crc = crc32()(data, self._crc)
        self._at += count
        return data


@dataclass(frozen=True, slots=True)
class RunOfFiles(HeldInMemory):
    """Entries of a plan from `first` to `last` (not included), all of them small."""

    plan: Plan
    first: int
    last: int

    @property
    def size(self) -> int:
        """Bytes of all of it, headers included."""
        places = self.plan.places
        return places.at(self.last) - places.at(self.first)

    def read(self, offset: int, count: int) -> bytes:
        """`count` bytes from `offset` of the run on. Raises ContentChanged."""
        heads = map(self.plan.places.head, range(self.first, self.last))
        contents = self.plan.contents(self.first, self.last)
        data = b"".join(chain.from_iterable(zip(heads, contents, strict=True)))
        return data if not offset and count == len(data) else data[offset : offset + count]

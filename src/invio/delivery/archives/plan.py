"""Plans of archives: the file of each entry, compact enough to be cached.

A plan is made once per bundle. Its files are checked again before it is sent from the beginning, and each file in its
turn; one that has changed breaks the archive off.
"""

from __future__ import annotations

import os
import time
from array import array
from dataclasses import dataclass

from invio.core.addresses import Address
from invio.core.archive.plan import ArchiveContent, Layout
from invio.core.archive.zip_layout import Entry
from invio.core.files import FileFacts
from invio.core.readable import ContentChanged, HeldInMemory, Readable
from invio.stores.arriving import crc32
from invio.stores.sources import DiskFile, on_disk

_LOOKS_FOR = 0.2  # seconds
_FLAGS = os.O_RDONLY | os.O_CLOEXEC | os.O_NONBLOCK


@dataclass(slots=True)
class Preparing:
    """How far a plan is: files that are in it, and bytes of contents that had to be read for it."""

    files: int = 0
    read: int = 0


class Plan:
    """An archive's content, and what its entries are read from.

    Files of directories are kept as rows of arrays; other sources as objects.
    """

    def __init__(self, layout: Layout) -> None:
        self.content = ArchiveContent(layout, self)
        self.looked = time.monotonic()  # when it was last found to be true
        self.broken = False  # whether a file was found to have changed
        self._roots: dict[bytes, int] = {}
        self._root_of = array("H")
        self._paths: list[bytes] = []
        self._stores: list[str] = []  # by root
        self._device, self._inode = array("Q"), array("Q")
        self._modified, self._size = array("q"), array("Q")
        self._crc = array("I")
        self._others: dict[int, tuple[FileFacts | None, Readable]] = {}
        self._packed: dict[int, Readable] = {}

    def __len__(self) -> int:
        return len(self.content)

    def add(self, facts: FileFacts, source: Readable, entry: Entry, packed: Readable | None = None) -> None:
        """One more file, and the entry that it becomes; `packed` is the deflated form that the archive holds of it."""
        address = facts.address
        path = address.path.encode()
        file = on_disk(source)
        if file is not None and file.path.endswith(path):
            _, device, inode, size, modified = file
            root = self._root(file.path[: len(file.path) - len(path)], address.store)
        else:
            self._others[len(self._paths)] = (facts if address.store else None, source)
            root, path, device, inode, size, modified = 0, b"", 0, 0, entry.size, 0
        if packed is not None:
            self._packed[len(self._paths)] = packed
        self._root_of.append(root)
        self._paths.append(path)
        self._device.append(device)
        self._inode.append(inode)
        self._modified.append(modified)
        self._size.append(size)
        self._crc.append(entry.crc)
        self.content.add(entry, alone=(packed or source).may_block)

    def _root(self, path: bytes, store: str) -> int:
        number = self._roots.get(path)
        if number is None:
            number = self._roots[path] = len(self._stores)
            self._stores.append(store)
        return number

    def end(self) -> Plan:
        """Closes the plan: nothing is added after it."""
        self.content.end()
        self._root_paths = list(self._roots)
        return self

    def address(self, number: int) -> Address | None:
        """The file of an entry; None for one that the archive itself adds."""
        if number in self._others:
            facts = self._others[number][0]
            return None if facts is None else facts.address
        return Address(self._stores[self._root_of[number]], self._paths[number].decode())

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
        if number in self._others:
            facts = self._others[number][0]
            return None if facts is None else facts._replace(size=self._size[number])
        address = Address(self._stores[self._root_of[number]], self._paths[number].decode())
        return FileFacts(address, self._size[number], self._modified[number] / 1e9 or None, None)

    def source(self, number: int) -> Readable:
        """What a slice of an entry's content is of."""
        packed = self._packed.get(number)
        if packed is not None:
            return packed
        if number in self._others:
            return self._others[number][1]
        return self._file(number)

    def _file(self, number: int) -> DiskFile:
        return DiskFile(
            self._root_paths[self._root_of[number]] + self._paths[number],
            self._device[number],
            self._inode[number],
            self._size[number],
            self._modified[number],
        )

    def run(self, archive: ArchiveContent, first: int, last: int) -> RunOfFiles:  # noqa: ARG002
        """The contents of small entries that follow each other, to be read together."""
        return RunOfFiles(self, first, last)

    def read(self, number: int) -> bytes:
        """All of a small entry's content. Raises ContentChanged."""
        if number in self._packed or number in self._others:
            return self._read_other(number)
        size = self._size[number]
        if not size:
            return b""
        try:
            descriptor = os.open(self._root_paths[self._root_of[number]] + self._paths[number], _FLAGS)
        except OSError as error:
            raise self.changed(number, f"it can no longer be opened: {error.strerror}") from None
        try:
            data = os.pread(descriptor, size, 0)
            # Checked after reading, so that the bytes read belong to this file.
            status = os.fstat(descriptor)
        finally:
            os.close(descriptor)
        # A file that has grown, as logs do, still begins with the planned content; the checksum proves it.
        grown = status.st_size > size
        if (
            status.st_ino != self._inode[number]
            or (status.st_mtime_ns != self._modified[number] and not grown)
            or status.st_size < size
            or status.st_dev != self._device[number]
            or crc32()(data, 0) != self._crc[number]
        ):
            raise self.changed(number, "it was replaced or altered")
        return data

    def _read_other(self, number: int) -> bytes:
        try:
            return self.source(number).read(0, self.content.held(number))
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
        for number, path in enumerate(self._paths):
            if number in others:
                continue
            if not number % 1000 and time.monotonic() > end:
                break  # each is checked again in its turn
            try:
                status = os.stat(roots[self._root_of[number]] + path)
            except OSError:
                return False
            if (
                status.st_mtime_ns != self._modified[number]
                or status.st_ino != self._inode[number]
                or status.st_size != self._size[number]
            ):
                return False
        for number, (_, source) in others.items():
            file = on_disk(source)
            if file is not None and number not in packed and not _is_there(file):
                return False
        self.looked = time.monotonic()
        files = (on_disk(source) for source in packed.values())
        return all(file is None or _is_there(file) for file in files)


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


@dataclass(frozen=True, slots=True)
class RunOfFiles(HeldInMemory):
    """Entries of a plan from `first` to `last` (not included), all of them small."""

    plan: Plan
    first: int
    last: int

    @property
    def size(self) -> int:
        """Bytes of all of it, headers included."""
        content = self.plan.content
        return content.content_at(self.last, 0) - content.content_at(self.first, 0)

    def read(self, offset: int, count: int) -> bytes:
        """`count` bytes from `offset` of the run on. Raises ContentChanged."""
        plan, pieces = self.plan, []
        head, read = plan.content.head, plan.read
        for number in range(self.first, self.last):
            pieces += [head(number), read(number)]
        data = b"".join(pieces)
        return data if not offset and count == len(data) else data[offset : offset + count]

"""A managed store: every file in versions, each an immutable content in a file of its own.

What there is of which file is told by an index (the records); the contents lie in the store's folder,
under names that say nothing. What the index said is remembered until the store changes: each change
gives the file `changed` in the folder a new time, which other processes see, too.
"""

from __future__ import annotations

import logging
import os
import secrets
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import Protocol

from invio.core.addresses import Address
from invio.core.versions import Arrived, Putting, Version
from invio.stores.arriving import Arriving, opened
from invio.stores.sources import DiskFile
from invio.stores.store import Found, Missing, StoreFault

log = logging.getLogger("invio.stores")

_CHANGED = "changed"
_KEPT = 8192
_STRAY = 24 * 3600  # seconds after which a content that no version has is one that was broken off


class Index(Protocol):
    """What is known of a store's files. See `invio.records.versions`."""

    def current(self, path: str) -> Version | None: ...

    def numbered(self, path: str, number: int) -> Version | None: ...

    def all_of(self, path: str, before: int | None, limit: int) -> list[Version]: ...

    def inside(self, folder: str) -> list[str]: ...

    def below(self, folder: str) -> Iterator[Version]: ...

    def add(self, path: str, content: Arrived, by: str | None, check: Callable[[Version | None], None]) -> Version: ...

    def remove(
        self, path: str, number: int | None, by: str | None, check: Callable[[Version | None], None]
    ) -> list[Version]: ...

    def names(self) -> set[str]: ...


class ManagedStore:
    """Files in versions; `index` knows which, and their contents lie below `root`."""

    kind = "managed"
    waits = False

    def __init__(self, name: str, root: str | Path, index: Index) -> None:
        """`root` is made when it is not there.

        Raises:
            StoreFault: it cannot be used.
        """
        self.name = name
        self._index = index
        self._root = Path(root)
        try:
            self._root.mkdir(parents=True, exist_ok=True)
            self._changed = os.fsencode(self._root / _CHANGED)
            os.close(os.open(self._changed, os.O_WRONLY | os.O_CREAT | os.O_CLOEXEC, 0o644))
        except OSError as error:
            raise StoreFault(
                f"store {name!r}: its root {root} cannot be written to: {error.strerror}; correct 'root' or its rights"
            ) from None
        self._seen: dict[tuple[str, int | None], Found] = {}
        self._seen_at = -1
        self._lock = threading.Lock()

    def locate(self, address: Address) -> Found:
        return self.locate_version(address, None)

    def locate_version(self, address: Address, number: int | None) -> Found:
        """Finds one version of a file; None: the newest. Raises Missing."""
        key = (address.path, number)
        # Looked at before the index is asked: what changes in between makes the memory void.
        try:
            changed = os.stat(self._changed).st_mtime_ns
        except OSError as error:
            raise StoreFault(f"store {self.name!r}: its root cannot be looked at: {error.strerror}") from None
        if changed != self._seen_at:
            self._seen, self._seen_at = {}, changed
        found = self._seen.get(key)
        if found is None:
            version = self._version(address, number)
            found = self._found(version)
            with self._lock:
                if len(self._seen) >= _KEPT:
                    self._seen.clear()
                if changed == self._seen_at:
                    self._seen[key] = found
        return found

    def versions(self, address: Address, before: int | None = None, limit: int = 100) -> Sequence[Version]:
        """Versions of a file, the newest first; `before` is the number to go on after. Raises Missing."""
        listed = [] if address.folder else self._index.all_of(address.path, before, limit)
        if not listed and before is None:
            raise Missing(str(address))
        return listed

    def list(self, folder: Address) -> list[Address]:
        names = self._index.inside(folder.path)
        if folder.path and not names:
            raise Missing(str(folder))
        listed = [Address(self.name, folder.path + name) for name in names]
        return sorted(listed, key=lambda address: (not address.folder, address.path))

    def walk(self, folder: Address) -> Iterator[Found]:
        """The newest version of every file below a folder. Raises Missing."""
        some = False
        for version in sorted(self._index.below(folder.path), key=_place):
            some = True
            try:
                yield self._found(version)
            except Missing:
                continue
        if folder.path and not some:
            raise Missing(str(folder))

    def begin(self) -> Arriving:
        """A content that is to become a version. Raises OSError."""
        return Arriving(os.fsencode(self._root))

    def put(self, address: Address, arriving: Arriving, putting: Putting) -> tuple[Found, bool]:
        """Makes what has arrived the newest version; gives it, and whether there was none before it.

        What is the same as the newest stays that: putting it twice leaves one version.

        Raises:
            Refusal: `precondition`.
            OSError, InTheWay: it cannot be put there.
        """
        name = secrets.token_hex(16)
        path = self._path(name)
        content = Arrived(name, arriving.size, arriving.sha256, arriving.crc, putting.media_type)
        before: list[Version] = []

        def check(current: Version | None) -> None:
            before.extend([] if current is None else [current])
            putting.check(address, None if current is None else current.facts(self.name))

        with opened(self._shelf(name)) as folder:
            arriving.land(folder, name.encode(), False)
        try:
            version = self._index.add(address.path, content, putting.by, check)
        except BaseException:
            os.unlink(path)
            raise
        if version.content.name != name:
            os.unlink(path)
        self._changes()
        return self._found(version), not before

    def remove(self, address: Address, number: int | None, putting: Putting) -> int:
        """Removes a version, or the file with all of them (None); gives how many. Downloads under way go on.

        Raises:
            Missing; Refusal: `precondition`.
        """
        gone = self._index.remove(
            address.path, number, putting.by, lambda now: putting.check(address, now.facts(self.name) if now else None)
        )
        if not gone:
            raise Missing(str(address))
        self._changes()
        for version in gone:
            self._drop(self._path(version.content.name))
        return len(gone)

    def sweep(self) -> None:
        """Drops contents that no version has: of what was broken off between the disk and the index."""
        known, long_ago = self._index.names(), time.time() - _STRAY
        for folder in self._root.iterdir():
            for file in folder.iterdir() if folder.is_dir() else ():
                if file.name not in known and file.stat().st_mtime < long_ago:
                    self._drop(os.fsencode(file))

    def _version(self, address: Address, number: int | None) -> Version:
        path = address.path
        version = self._index.current(path) if number is None else self._index.numbered(path, number)
        if version is None or address.folder:
            raise Missing(str(address))
        return version

    def _found(self, version: Version) -> Found:
        path = self._path(version.content.name)
        try:
            status = os.stat(path)
        except FileNotFoundError:
            said = {"store": self.name, "path": version.path, "version": version.number}
            log.error("store.content-gone", extra={"fields": said})
            raise Missing(version.path) from None
        return Found(version.facts(self.name), DiskFile.of(path, status))

    def _path(self, name: str) -> bytes:
        return os.fsencode(self._root / name[:2] / name)

    def _shelf(self, name: str) -> bytes:
        """The folder for a content of this name, which is there and on the disk."""
        folder = os.path.dirname(self._path(name))
        if not os.path.isdir(folder):
            os.makedirs(folder, exist_ok=True)
            with opened(os.fsencode(self._root)) as root:
                os.fsync(root)
        return folder

    def _drop(self, path: bytes) -> None:
        try:
            os.unlink(path)
        except FileNotFoundError:
            pass

    def _changes(self) -> None:
        """Tells everybody that what the index said may be so no more."""
        now = time.time_ns()
        os.utime(self._changed, ns=(now, now))


def _place(version: Version) -> list[tuple[bool, str]]:
    """Folders before files, each by name."""
    *folders, name = version.path.split("/")
    return [*((False, folder) for folder in folders), (True, name)]

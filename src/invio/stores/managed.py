"""A managed store: every file in versions, each an immutable content in a file of its own.

What there is of which file is told by an index (the records); the contents lie in the store's folder,
under names that say nothing. What the index said is remembered until the store changes: each change
gives the file `changed` in the folder a new time, which other processes see, too.

What is stored is never deleted as a side effect:
- The folder says whose it is, in the file `store.json`: of which records, and which of their stores. A folder that
  holds anything else, or the contents of other records, is refused and not touched.
- A content is removed when the index knows that its version was removed. One that the index does not know (of a put
  that was broken off, or that came after a copy of the records which was put back) is set aside, in `aside/`.
- Each version is written down in `versions.jsonl`, too, before it counts. When records are put back that are older
  than that file, what came after them is taken from it: no acknowledged version is lost, and no number given twice.
"""

from __future__ import annotations

import json
import logging
import os
import re
import secrets
import stat
import threading
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from types import MappingProxyType
from typing import Protocol

from invio.core.addresses import Address
from invio.core.memory import Memory
from invio.core.reasons import Refusal
from invio.core.versions import Arrived, Putting, Version
from invio.stores.arriving import Arriving, opened, write_all
from invio.stores.sources import DiskFile
from invio.stores.store import Found, Missing, StoreFault

log = logging.getLogger("invio.stores")

_CHANGED, _MARKER, _LOG, _ASIDE = "changed", "store.json", "versions.jsonl", "aside"
_SEEN = 8192
_FOUND = 10_000  # files that a search finds, at most
_SHELF, _CONTENT = re.compile(r"[0-9a-f]{2}"), re.compile(r"[0-9a-f]{32}")


class Index(Protocol):
    """What is known of a store's files. See `invio.records.versions`."""

    def current(self, path: str) -> Version | None:
        """The newest version of a file; None where there is none."""
        ...

    def numbered(self, path: str, number: int) -> Version | None:
        """One version of a file by its number; None where there is none."""
        ...

    def all_of(self, path: str, before: int | None, limit: int) -> list[Version]:
        """Versions of a file, the newest first: `limit` of those with numbers below `before`."""
        ...

    def inside(self, folder: str) -> list[str]:
        """The names in a folder, those of folders with a slash at their end."""
        ...

    def below(self, folder: str) -> Iterator[Version]:
        """The newest version of each file below a folder, in any order."""
        ...

    def add(
        self,
        path: str,
        content: Arrived,
        by: str | None,
        check: Callable[[Version | None], None],
        note: Callable[[Version], int],
    ) -> Version:
        """Adds a version of a file, if `check` does not raise; gives it."""
        ...

    def remove(
        self, path: str, number: int | None, by: str | None, check: Callable[[Version | None], None]
    ) -> list[Version]:
        """Removes a version of a file, or all of them, if `check` does not raise; gives what was removed."""
        ...

    def about(self, folder: str, text: str, limit: int) -> list[str]:
        """The files below a folder whose descriptions have a text."""
        ...

    def held(self, folder: str) -> int:
        """How many bytes all versions below a folder have."""
        ...

    def names(self) -> dict[str, bool]:
        """The names of all contents, and whether their version was removed."""
        ...

    def identity(self) -> tuple[str, str | None]:
        """The id of the records, and what they call this store; None: they have not met it."""
        ...

    def claim(self, called: str) -> None:
        """Saves the store's id."""
        ...

    def noted(self) -> int:
        """How many bytes of the store's own log the records know."""
        ...

    def take_back(self, versions: Sequence[Version], noted: int) -> None:
        """Adds versions that the store's log holds and the records lack; they know `noted` bytes of it then."""
        ...


class ManagedStore:
    """Files in versions; `index` knows which, and their contents lie below `root`."""

    kind = "managed"
    waits = False
    describes = True

    def __init__(
        self, name: str, root: str | Path, index: Index, folder_bytes: Mapping[str, int] = MappingProxyType({})
    ) -> None:
        """`root` is made when it is not there; `folder_bytes` says how many all versions below a folder may have.

        Raises:
            StoreFault: it cannot be used.
        """
        self.name = name
        self._index = index
        self._folder_bytes = dict(folder_bytes)
        self._root = Path(root)
        self._changed = os.fsencode(self._root / _CHANGED)
        try:
            self._root.mkdir(parents=True, exist_ok=True, mode=0o700)
            self._claim()
            for file in (_CHANGED, _LOG):
                os.close(os.open(self._root / file, os.O_WRONLY | os.O_CREAT | os.O_CLOEXEC, 0o600))
        except OSError as error:
            raise StoreFault(
                f"store {name!r}: its root {root} cannot be written to: {error.strerror}; correct 'root' or its rights"
            ) from None
        self._seen: Memory[tuple[str, int | None], Found] = Memory(_SEEN)
        self._seen_at = -1
        self._lock = threading.Lock()

    def _claim(self) -> None:
        """Checks that the root belongs to this store, or to none yet. Raises StoreFault, OSError."""
        records, called = self._index.identity()
        marker = self._root / _MARKER
        try:
            marked = json.loads(marker.read_text("utf-8"))
            owner, known = str(marked["records"]), str(marked["store"])
        except FileNotFoundError:
            self._require_own_contents()
        except (ValueError, KeyError, TypeError):
            raise StoreFault(f"store {self.name!r}: {marker} cannot be read; put back the one that was there") from None
        else:
            if owner != records:
                raise StoreFault(
                    f"store {self.name!r}: its root {self._root} holds what other records know (those of {owner}, not "
                    f"{records}); correct 'root', or 'data' to the folder of its records. Nothing was changed"
                )
            if called not in (None, known):
                raise StoreFault(
                    f"store {self.name!r}: its root {self._root} is another store's; correct 'root'. "
                    "Nothing was changed"
                )
            if called is None:
                self._index.claim(known)
            return
        called = called or secrets.token_hex(8)
        partial = self._root / f"{_MARKER}.new"
        with open(os.open(partial, os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_CLOEXEC, 0o600), "w") as file:
            json.dump({"records": records, "store": called, "name": self.name}, file)
            file.flush()
            os.fsync(file.fileno())
        self._index.claim(called)
        os.replace(partial, marker)

    def _require_own_contents(self) -> None:
        """Refuses a folder that nobody has marked, unless it is empty or all of it is what the index knows.

        Raises StoreFault.
        """
        known = self._index.names()
        found = False
        for entry in sorted(self._root.iterdir()):
            if entry.name in (_CHANGED, f"{_MARKER}.new", _LOG):
                continue
            inside = sorted(entry.iterdir()) if entry.is_dir() and _SHELF.fullmatch(entry.name) else [entry]
            for file in inside:
                found = True
                if file.name not in known:
                    raise StoreFault(
                        f"store {self.name!r}: its root {self._root} holds {file.relative_to(self._root)}, which these "
                        "records do not know: a managed store keeps nothing else there. Give it an empty folder, and "
                        f"take files in with 'invio put FOLDER {self.name}/'; or correct 'data'. Nothing was changed"
                    )
        if not found and any(not removed for removed in known.values()):
            raise StoreFault(
                f"store {self.name!r}: its root {self._root} is empty, and the records know contents there; is its "
                "disk mounted? Nothing was changed"
            )

    def locate(self, address: Address) -> Found:
        """The newest version of a file. Raises Missing."""
        return self.locate_version(address, None)

    def locate_version(self, address: Address, number: int | None) -> Found:
        """Finds one version of a file; None: the newest. Raises Missing."""
        key = (address.path, number)
        # Read before the index, so that a change in between invalidates the cache.
        try:
            changed = os.stat(self._changed).st_mtime_ns
        except OSError as error:
            raise StoreFault(f"store {self.name!r}: its root cannot be looked at: {error.strerror}") from None
        if changed != self._seen_at:
            self._seen, self._seen_at = Memory(_SEEN), changed
        found = self._seen.get(key)
        if found is None:
            version = self._version(address, number)
            found = self._found(version)
            with self._lock:
                if changed == self._seen_at:
                    self._seen.keep(key, found)
        return found

    def versions(self, address: Address, before: int | None = None, limit: int = 100) -> Sequence[Version]:
        """Versions of a file, the newest first; `before` is the number to go on after. Raises Missing."""
        listed = [] if address.folder else self._index.all_of(address.path, before, limit)
        if not listed and before is None:
            raise Missing(str(address))
        return listed

    def list(self, folder: Address) -> list[Address]:
        """What is in a folder, sorted. Raises Missing."""
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
        return Arriving(os.fsencode(self._root), 0o600)

    def put(self, address: Address, arriving: Arriving, putting: Putting) -> tuple[Found, bool]:
        """Makes what has arrived the newest version; gives it, and whether there was none before it.

        What is the same as the newest stays that: putting it twice leaves one version.

        Raises:
            Refusal: `precondition`.
            OSError, PathConflict: it cannot be put there.
        """
        name = secrets.token_hex(16)
        content = Arrived(name, arriving.size, arriving.sha256, arriving.crc, putting.media_type, putting.description)
        with opened(self._shelf(name)) as folder:
            arriving.land(folder, name.encode(), replaces=False)
        return self._added(address, content, putting)

    def renew(self, address: Address, number: int, putting: Putting) -> tuple[Found, bool]:
        """Makes an earlier version's content the newest version again, with its type and what it is about.

        Of the newest itself, what is said of it is all that changes: that makes no further version.

        Raises:
            Missing; Refusal: `precondition`; OSError.
        """
        earlier = self._version(address, number).content
        about = earlier.description if putting.description is None else putting.description
        content = replace(earlier, name=secrets.token_hex(16), description=about)
        self._shelf(content.name)
        try:
            os.link(self._path(earlier.name), self._path(content.name))
        except FileNotFoundError:
            raise Missing(str(address)) from None
        return self._added(address, content, putting)

    def search(self, folder: Address, text: str) -> Sequence[Address]:
        """See `invio.stores.store.SearchableStore`."""
        return [Address(self.name, path) for path in self._index.about(folder.path, text, _FOUND)]

    def _added(self, address: Address, content: Arrived, putting: Putting) -> tuple[Found, bool]:
        """Adds a content that is in its place already as the newest version; deletes it if that fails."""
        path = self._path(content.name)
        before: list[Version] = []

        def check(current: Version | None) -> None:
            before.extend([] if current is None else [current])
            putting.check(address, None if current is None else current.facts(self.name))
            if current is None or current.content.sha256 != content.sha256:
                self._require_room(address, content.size)

        try:
            version = self._index.add(address.path, content, putting.by, check, self._note)
        except BaseException:
            os.unlink(path)
            raise
        if version.content.name != content.name:
            os.unlink(path)
        self._changes()
        return self._found(version), not before

    def _require_room(self, address: Address, size: int) -> None:
        """Raises Refusal (`no-space`): a folder that the file lies in would have more than it may."""
        for folder, most in self._folder_bytes.items():
            if address.path.startswith(folder):
                held = self._index.held(folder)
                if held + size > most:
                    where = f"{self.name}/{folder}"
                    said = f"{where} may hold {most} bytes and holds {held}; {size} more are too many"
                    raise Refusal("no-space", f"{said}. Nothing was changed")

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

    def _note(self, version: Version) -> int:
        """Writes a version down beside the contents, for good; gives how long the file is then. Raises OSError."""
        content = version.content
        line = {
            "path": version.path, "number": version.number, "name": content.name, "size": content.size,
            "sha256": content.sha256.hex(), "crc": content.crc, "media_type": content.media_type,
            "at": version.at, "by": version.by, "description": content.description,
        }  # fmt: skip
        descriptor = os.open(self._root / _LOG, os.O_WRONLY | os.O_APPEND | os.O_CREAT | os.O_CLOEXEC, 0o600)
        try:
            write_all(descriptor, json.dumps(line).encode() + b"\n")
            os.fsync(descriptor)
            return os.lseek(descriptor, 0, os.SEEK_END)
        finally:
            os.close(descriptor)

    def sweep(self, *, alone: bool) -> None:
        """Takes from `versions.jsonl` what the records lack; sets aside contents that nobody knows.

        See `invio.stores.store.SweepableStore`.
        """
        self._take_back()
        if not alone:
            return
        known = self._index.names()
        aside = 0
        for shelf in self._root.iterdir():
            for file in shelf.iterdir() if _SHELF.fullmatch(shelf.name) and shelf.is_dir() else ():
                if known.get(file.name):
                    self._drop(os.fsencode(file))  # its version was removed
                elif file.name not in known and _CONTENT.fullmatch(file.name):
                    (self._root / _ASIDE).mkdir(mode=0o700, exist_ok=True)
                    os.replace(file, self._root / _ASIDE / file.name)
                    aside += 1
        if aside:
            log.warning("store.set-aside", extra={"fields": {"store": self.name, "contents": aside}})

    def _take_back(self) -> None:
        """Puts versions into the index that were acknowledged after the records were copied which are there now."""
        noted = self._index.noted()
        with open(self._root / _LOG, "rb") as file:
            size = os.fstat(file.fileno()).st_size
            if size <= noted:
                return
            file.seek(noted)
            lines = file.read().split(b"\n")
        versions = []
        for line in lines:
            try:
                known = json.loads(line)
                content = Arrived(
                    str(known["name"]), int(known["size"]), bytes.fromhex(known["sha256"]), int(known["crc"]),
                    known["media_type"], known.get("description"),
                )  # fmt: skip
                versions.append(
                    Version(str(known["path"]), int(known["number"]), content, float(known["at"]), known["by"])
                )
            except (ValueError, KeyError, TypeError):
                continue  # cut off by the death of the machine, before it counted
        held = [replace(one, current=self._holds(one)) for one in versions]
        self._index.take_back(held, size)
        if held:
            log.warning("store.versions-taken-back", extra={"fields": {"store": self.name, "versions": len(held)}})

    def _holds(self, version: Version) -> bool:
        """Whether a version's content is there, back from where it was set aside."""
        path, aside = Path(os.fsdecode(self._path(version.content.name))), self._root / _ASIDE / version.content.name
        if not path.exists() and aside.exists():
            self._shelf(version.content.name)
            os.replace(aside, path)
        return path.exists()

    def _version(self, address: Address, number: int | None) -> Version:
        path = address.path
        version = self._index.current(path) if number is None else self._index.numbered(path, number)
        if version is None or address.folder:
            raise Missing(str(address))
        return version

    def _found(self, version: Version) -> Found:
        path = self._path(version.content.name)
        try:
            status = os.lstat(path)
        except FileNotFoundError:
            status = None
        if status is None or not stat.S_ISREG(status.st_mode) or status.st_size != version.content.size:
            said = {"store": self.name, "path": version.path, "version": version.number}
            log.error("store.content-gone", extra={"fields": said})
            raise Missing(version.path)
        return Found(version.facts(self.name), DiskFile.of(path, status))

    def _path(self, name: str) -> bytes:
        return os.fsencode(self._root / name[:2] / name)

    def _shelf(self, name: str) -> bytes:
        """The folder for a content of this name, which is there and on the disk."""
        folder = os.path.dirname(self._path(name))
        if not os.path.isdir(folder):
            os.makedirs(folder, mode=0o700, exist_ok=True)
            with opened(os.fsencode(self._root)) as root:
                os.fsync(root)
        return folder

    def _drop(self, path: bytes) -> None:
        try:
            os.unlink(path)
        except FileNotFoundError:
            pass

    def _changes(self) -> None:
        """Invalidates what all processes cached from the index."""
        now = time.time_ns()
        os.utime(self._changed, ns=(now, now))


def _place(version: Version) -> list[tuple[bool, str]]:
    """Folders before files, each by name."""
    *folders, name = version.path.split("/")
    return [*((False, folder) for folder in folders), (True, name)]

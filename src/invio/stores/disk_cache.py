"""A bounded disk cache of contents that were made or fetched, and can be again.

Each content is a file, named by its `key` and its digest. A file appears under its name only when it is whole, and is
verified by the digest before its first use in a process. What a dying process leaves is removed at the next start. The
least recently used files go first. Several processes may share a folder: each looks again at what lies there whenever
it has added `SHARE` of the limit itself, so that together they keep little more than it.

A file that is being sent takes its place on the disk until it is closed, so it is not evicted: whoever opens one holds
a lock on it (`flock`), and who evicts looks for one. Where all others are being sent, the newest is not kept.
"""

from __future__ import annotations

import errno
import fcntl
import hashlib
import logging
import os
import re
import threading
import time
from collections import OrderedDict
from collections.abc import Callable, Iterator
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

from invio.stores.sources import DiskFile

log = logging.getLogger("invio.stores")

_NAME = re.compile(r"([0-9a-f]{32})-([0-9a-f]{32})-([a-z0-9]{0,8})\Z")
_PART = ".part"
_PIECE = 1024 * 1024  # bytes
SHARE = 1 / 16


_Index = OrderedDict[str, tuple[str, int]]  # names and lengths, by key


class CacheFull(OSError):
    """All that the cache might evict is being sent to somebody."""

    def __init__(self) -> None:
        super().__init__(errno.ENOSPC, "the cache is full of what is being sent")


class CacheFile(DiskFile):
    """A cached file, which is not evicted while somebody has it open."""

    __slots__ = ()

    def open(self) -> int:
        """A descriptor of the file, unaltered, for the caller to close. Raises ContentChanged."""
        descriptor = super().open()
        with suppress(OSError):  # it is being evicted at this moment, or the file system has no locks
            fcntl.flock(descriptor, fcntl.LOCK_SH | fcntl.LOCK_NB)
        return descriptor


@dataclass(frozen=True, slots=True)
class Cached:
    """A content that is kept; `said` is a word that was given with it."""

    file: CacheFile
    said: str


class DiskCache:
    """The contents of one folder, of `limit` bytes together."""

    def __init__(self, folder: Path, limit: int) -> None:
        self._folder, self.limit = folder, limit
        self._kept: _Index | None = None  # the least used first
        self._size = self._added = 0
        self._verified: set[str] = set()
        self._lock = threading.Lock()
        self._turns: dict[str, threading.Lock] = {}

    @staticmethod
    def key(*of: object) -> str:
        """A content's key, from everything that distinguishes it."""
        return hashlib.blake2b(repr(of).encode(), digest_size=16).hexdigest()

    def sweep(self) -> None:
        """Removes what processes that died have left. Call it while no other process runs."""
        for path in self._folder.glob("*" + _PART):
            path.unlink(missing_ok=True)

    def verify(self) -> Iterator[tuple[str, int, bool]]:
        """Each content's name and length, and whether it is what it was written as; one that is not is removed."""
        with self._lock:
            kept = list(self._index().items())
        for key, (name, size) in kept:
            try:
                good = os.stat(self._folder / name).st_size == size and _is_as_called(self._folder / name, name)
            except FileNotFoundError:
                continue  # it was evicted meanwhile
            except OSError:
                good = False
            if not good:
                self._remove(key, name, damaged=True)
            yield name, size, good

    def obtain(self, key: str, make: Callable[[BinaryIO], str]) -> Cached:
        """A content, which `make` writes if it is not cached; once for all concurrent callers.

        Raises:
            OSError: it cannot be written, or (CacheFull) there is no place for it. And what `make` raises.
        """
        found = self.find(key)
        if found is not None:
            return found
        with self._lock:
            turn = self._turns.setdefault(key, threading.Lock())
        try:
            with turn:
                return self.find(key) or self._made(key, make)
        finally:
            with self._lock:
                if not turn.locked():
                    self._turns.pop(key, None)

    def find(self, key: str) -> Cached | None:
        """A cached content that matches its digest."""
        with self._lock:
            kept = self._index().get(key)
        if kept is None:
            return None
        name, size = kept
        path = self._folder / name
        try:
            status = os.stat(path)
            good = status.st_size == size and (name in self._verified or _is_as_called(path, name))
        except FileNotFoundError:  # another process that shares the folder has evicted it
            self._forget(key, name)
            return None
        except OSError:
            good = False
        if not good:
            self._remove(key, name, damaged=True)
            return None
        self._verified.add(name)
        with self._lock:
            if key in self._index():
                self._index().move_to_end(key)
        note_use(path, status)
        return Cached(CacheFile.of(os.fsencode(path), status), name.rpartition("-")[2])

    def at_hand(self, key: str) -> Cached | None:
        """Like `find`, without reading: only a content that this process has verified or written."""
        with self._lock:
            kept = self._index().get(key)
        return self.find(key) if kept is not None and kept[0] in self._verified else None

    def _made(self, key: str, make: Callable[[BinaryIO], str]) -> Cached:
        self._folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        part = self._folder / f"{os.getpid()}-{threading.get_ident()}{_PART}"
        try:
            with open(os.open(part, os.O_RDWR | os.O_CREAT | os.O_TRUNC | os.O_CLOEXEC, 0o600), "w+b") as file:
                said = make(file)
                file.flush()
                os.fsync(file.fileno())
                file.seek(0)
                digest = _digest(file)
            name = f"{key}-{digest}-{said}"
            os.replace(part, self._folder / name)
        finally:
            part.unlink(missing_ok=True)
        status = os.stat(self._folder / name)
        self._verified.add(name)
        self._added += status.st_size
        if self._added > self.limit * SHARE:
            self._look_again()
        with self._lock:
            kept = self._index()
            self._size += status.st_size - kept.get(key, ("", 0))[1]
            kept[key] = (name, status.st_size)
            kept.move_to_end(key)
        self._evict(key)
        return Cached(CacheFile.of(os.fsencode(self._folder / name), status), said)

    def _evict(self, newest: str) -> None:
        """Removes the oldest contents that nobody is sent until the others fit. Raises CacheFull.

        Files are not looked at under the lock: large ones take their time, and the event loop looks in here.
        """
        spared: set[str] = set()
        while True:
            with self._lock:
                kept = self._index()
                if self._size <= self.limit or newest not in kept:
                    return
                key = next((key for key in kept if key not in spared and key != newest), newest)
                name = kept[key][0]
            if key == newest:  # it is alone, or among what is being sent
                if not spared:
                    return
                self._remove(key, name)
                raise CacheFull
            if _is_open(self._folder / name):
                spared.add(key)
                with self._lock:
                    if key in self._index():  # it is being used: the next look finds it behind those that are not
                        self._index().move_to_end(key)
            else:
                self._remove(key, name)

    def _remove(self, key: str, name: str, *, damaged: bool = False) -> None:
        if self._forget(key, name):
            if damaged:
                log.warning("cache.damaged", extra={"fields": {"file": name}})
            (self._folder / name).unlink(missing_ok=True)

    def _forget(self, key: str, name: str) -> bool:
        """Drops what was found under a key; False: another content has been kept there since."""
        with self._lock:
            kept = self._index()
            if kept.get(key, ("", 0))[0] != name:
                return False
            self._size -= kept.pop(key)[1]
            self._verified.discard(name)
        return True

    def _look_again(self) -> None:
        """Takes over what other processes have kept and evicted. Not under the lock: that may be waited for."""
        self._added = 0
        there = self._read()
        with self._lock:
            for key, (name, size) in self._index().items():
                if key not in there and (self._folder / name).exists():  # kept while it was read what is there
                    there[key] = name, size
            self._take(there)

    def _index(self) -> _Index:
        """The cache's index, read from the folder on first use."""
        return self._kept if self._kept is not None else self._take(self._read())

    def _take(self, index: _Index) -> _Index:
        self._kept, self._size = index, sum(size for _, size in index.values())
        return index

    def _read(self) -> _Index:
        found = []
        if self._folder.is_dir():
            for entry in os.scandir(self._folder):
                with suppress(FileNotFoundError):  # another process has evicted it
                    if _NAME.match(entry.name) and entry.is_file():
                        status = entry.stat()
                        found.append((status.st_atime_ns, entry.name, status.st_size))
        return OrderedDict((name[:32], (name, size)) for _, name, size in sorted(found))


def note_use(path: Path, status: os.stat_result) -> None:
    """Notes that a cached file is used now: by its access time evictions are ordered after a restart.

    Its modification time stays, by which those who found it know it.
    """
    with suppress(OSError):
        os.utime(path, ns=(time.time_ns(), status.st_mtime_ns))


def _is_open(path: Path) -> bool:
    """Whether somebody, of whatever process, has a cached file open to send it."""
    try:
        descriptor = os.open(path, os.O_RDONLY | os.O_CLOEXEC)
    except OSError:
        return False
    try:
        fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError as error:
        return error.errno == errno.EWOULDBLOCK  # else: the file system has no locks
    finally:
        os.close(descriptor)
    return False


def _is_as_called(path: Path, name: str) -> bool:
    with open(path, "rb") as file:
        return _digest(file) == name.split("-")[1]


def _digest(file: BinaryIO) -> str:
    digest = hashlib.blake2b(digest_size=16)
    while piece := file.read(_PIECE):
        digest.update(piece)
    return digest.hexdigest()

"""A disk cache of deflated contents, which archives send in place of compressible files.

A content is identified by its digest, whichever files have it (BLAKE2b: SHA-256 takes longer than deflating). It is
deflated in pieces, as many at a time as there are cores; each piece is deflated by itself, so the same content gives
the same bytes however it was divided among the workers. A cached file appears under its name only when it is whole;
what a dying process leaves is removed at the next start. The least recently used files go first.

A large one is written to the disk behind the archive, which is sent meanwhile (`syncing`).
"""

from __future__ import annotations

import errno
import hashlib
import logging
import os
import threading
import zlib
from collections import OrderedDict, deque
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Protocol
from weakref import WeakSet

from invio.core.readable import Readable
from invio.delivery.archives.syncing import Syncing
from invio.stores.arriving import crc32, write_all
from invio.stores.disk_cache import SHARE, note_use
from invio.stores.sources import PIECE, DiskFile, read_through

log = logging.getLogger("invio.delivery")

# Change it whenever the same content may be deflated to other bytes, as with another PIECE, what is deflated at a time.
CODER = "deflate-1"
_LEVEL = 2  # of the library's four: some hundredths more than a general one makes of logs, at fourteen times its speed
WORTH = 0.97  # of its length, at most, for a content to be kept deflated
_PART = ".part"
_SPARED = 64  # contents that are being sent, among which one is looked for that is not


class CacheFull(OSError):
    """All that the cache might evict is being sent to somebody."""

    def __init__(self) -> None:
        super().__init__(errno.ENOSPC, "the cache of deflated contents is full of what is being sent")


class User(Protocol):
    """What uses cached contents, such as the plan of an archive."""

    def needs(self, name: str) -> bool:
        """Whether a content must not be evicted now."""
        ...


@dataclass(frozen=True, slots=True)
class Packed:
    """What is learnt of a content when it is read whole; `file` is its deflated form, None where that is no gain."""

    name: str
    crc: int
    size: int
    file: DiskFile | None


class DeflateCache:
    """The deflated contents of one folder. Several processes may share it, as `DiskCache` says."""

    def __init__(self, folder: Path, limit: int, workers: int | None = None) -> None:
        """`limit` is how many bytes are kept, `workers` how many pieces are deflated at a time."""
        self._folder = folder
        self.limit = limit
        self._workers = workers or os.cpu_count() or 1
        self._pool: ThreadPoolExecutor | None = None
        self.syncing = Syncing("deflated", self._drop_unwritten)
        self._kept: OrderedDict[str, int] | None = None  # by name, with their lengths; the least used first
        self._size = 0  # of all that is kept
        self._added = 0  # bytes since it was last looked what lies there
        self._verified: set[str] = set()  # names this process has made or verified
        self._users: WeakSet[User] = WeakSet()
        self._lock = threading.Lock()

    def sweep(self) -> None:
        """Removes what processes that died have left. Call it while no other process runs."""
        for path in self._folder.glob("*" + _PART):
            path.unlink(missing_ok=True)

    def verify(self) -> Iterator[tuple[str, int, bool]]:
        """Each content's name and length, and whether it matches its name; one that does not is removed."""
        with self._lock:
            kept = list(self._index().items())
        for name, size in kept:
            path = self._folder / name
            if not path.exists():
                continue  # it was evicted meanwhile
            good = path.stat().st_size == size and _is_content(path, name)
            if not good:
                path.unlink(missing_ok=True)
            yield name, size, good

    def find(self, name: str, packed: int, on_wait: Callable[[], None] = lambda: None) -> DiskFile | None:
        """A content's deflated form, if it is kept and has the length that is known of it.

        `on_wait` is as in `Syncing.check`.
        """
        path = self._folder / name
        try:
            self.syncing.check(name, on_wait)
            status = os.stat(path)
        except OSError:
            return None
        if status.st_size != packed:
            path.unlink(missing_ok=True)  # cut short, as by a machine that lost its power
            return None  # its length is corrected when it is cached again
        if name not in self._verified:
            if not _is_content(path, name):
                log.error("bundle.deflated-damaged", extra={"fields": {"name": name}})
                path.unlink(missing_ok=True)
                return None
            self._verified.add(name)
        with self._lock:
            kept = self._index()
            self._size += packed - kept.get(path.name, 0)
            kept[path.name] = packed
            kept.move_to_end(path.name)
        note_use(path, status)
        return DiskFile.of(os.fsencode(path), status)

    def spare(self, user: User) -> None:
        """From now on nothing is evicted that this one needs, by this process."""
        with self._lock:
            self._users.add(user)

    def pack(self, source: Readable, on_read: Callable[[int], None] | None = None) -> Packed:
        """Reads a content whole and keeps its deflated form, where that is shorter.

        `on_read` is called with the bytes of it that were read, piece by piece.

        Raises:
            ContentChanged: it is not, or no longer, the file that was found.
            CacheFull, OSError: it cannot be kept.
        """
        if source.size <= PIECE:
            return self._pack_small(source, on_read)
        self._folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        part = self._part()
        digest, crc = hashlib.blake2b(digest_size=32), 0
        try:
            with open(_new(part), "wb", buffering=0) as kept:
                for piece, deflated, digested in self._pieces(source):
                    digest.update(digested)
                    crc = crc32()(piece, crc)
                    write_all(kept.fileno(), deflated)
                    if on_read is not None:
                        on_read(len(piece))
                length, name = kept.tell(), digest.hexdigest()
                if length > source.size * WORTH:
                    return Packed(name, crc, source.size, None)
                file = self._keep(part, name, length, kept.fileno())
        finally:
            part.unlink(missing_ok=True)
        return Packed(name, crc, source.size, file)

    def _drop_unwritten(self, name: str) -> None:
        with self._lock:
            if name in self._index():
                self._drop(name)

    def _pack_small(self, source: Readable, on_read: Callable[[int], None] | None) -> Packed:
        """Like `pack`, for a content of one piece: where deflating it is no gain, nothing is written."""
        piece = source.read(0, source.size)
        if on_read is not None:
            on_read(len(piece))
        deflated, file = _deflated_whole(piece), None
        name = hashlib.blake2b(_digest(piece), digest_size=32).hexdigest()
        if len(deflated) <= source.size * WORTH:
            self._folder.mkdir(parents=True, exist_ok=True, mode=0o700)
            part = self._part()
            try:
                with open(_new(part), "wb", buffering=0) as kept:
                    write_all(kept.fileno(), deflated)
                file = self._keep(part, name, len(deflated))
            finally:
                part.unlink(missing_ok=True)
        return Packed(name, crc32()(piece, 0), source.size, file)

    def _part(self) -> Path:
        """A file that is not whole yet, of this thread alone."""
        return self._folder / f"{os.getpid()}-{threading.get_ident()}{_PART}"

    def _keep(self, part: Path, name: str, length: int, descriptor: int | None = None) -> DiskFile:
        """Gives a complete file its name, and evicts others if the cache is full.

        `descriptor` is the file's, for one that is to be written to the disk now.

        Raises:
            CacheFull, OSError: it is not kept.
        """
        path = self._folder / name
        try:
            # An existing file holds the same bytes, and archives may be sending it.
            same = os.stat(path).st_size == length and (name in self._verified or _is_content(path, name))
        except OSError:
            same = False
        if same:
            part.unlink(missing_ok=True)
            self.syncing.forget_failure(name)
            return self._listed(path, name, length)
        if descriptor is None:
            os.replace(part, path)
            return self._listed(path, name, length)
        synced = self.syncing.expect(name)
        try:
            os.replace(part, path)
            file = self._listed(path, name, length)
            kept = os.dup(descriptor)
        except OSError as error:
            self.syncing.give_up(synced, error)
            raise
        self.syncing.begin(name, kept, synced)
        return file

    def _listed(self, path: Path, name: str, length: int) -> DiskFile:
        """A content that lies there now. Raises CacheFull, OSError: it does not any more."""
        file = DiskFile.of(os.fsencode(path), os.stat(path))
        self._verified.add(name)
        with self._lock:
            self._added += length
            if self._added > self.limit * SHARE:
                self._kept, self._added = None, 0
            kept = self._index()
            self._size += length - kept.get(name, 0)
            kept[name] = length
            kept.move_to_end(name)
            self._evict(name)
        return file

    def _evict(self, newest: str) -> None:
        """Makes room for the newest content, which is dropped itself where the oldest are being sent."""
        if self._size <= self.limit:
            return
        spared = 0
        for oldest in list(self._index()):
            if oldest == newest or spared == _SPARED:
                break
            if self._is_needed(oldest):
                spared += 1
                continue
            self._drop(oldest)
            if self._size <= self.limit:
                return
        if spared and not self._is_needed(newest):
            self._drop(newest)
            raise CacheFull

    def _is_needed(self, name: str) -> bool:
        return any(user.needs(name) for user in self._users)

    def _drop(self, name: str) -> None:
        self._verified.discard(name)
        self._size -= self._index().pop(name)
        (self._folder / name).unlink(missing_ok=True)

    def _pieces(self, source: Readable) -> Iterator[tuple[bytes, bytes, bytes]]:
        """Each piece of a content, what it is deflated to, and its digest, in their order."""
        waiting: deque[tuple[bytes, Future[tuple[bytes, bytes]]]] = deque()
        pool = self._threads()
        at = 0
        for piece in read_through(source):
            at += len(piece)
            waiting.append((piece, pool.submit(partial(_worked, piece, is_last=at >= source.size))))
            if len(waiting) > self._workers:
                before, future = waiting.popleft()
                yield before, *future.result()
        for before, future in waiting:
            yield before, *future.result()

    def _threads(self) -> ThreadPoolExecutor:
        with self._lock:
            if self._pool is None:
                self._pool = ThreadPoolExecutor(self._workers, thread_name_prefix="packing")
            return self._pool

    def _index(self) -> OrderedDict[str, int]:
        """The cache's index, read from the folder on first use."""
        if self._kept is None:
            found = []
            if self._folder.is_dir():
                for entry in os.scandir(self._folder):
                    with suppress(FileNotFoundError):  # another process has evicted it
                        if entry.is_file() and not entry.name.endswith(_PART):
                            status = entry.stat()
                            found.append((status.st_atime_ns, entry.name, status.st_size))
            self._kept = OrderedDict((name, size) for _, name, size in sorted(found))
            self._size = sum(self._kept.values())
        return self._kept

    def close(self) -> None:
        """Ends the threads that deflate."""
        if self._pool is not None:
            self._pool.shutdown(wait=True, cancel_futures=True)


def _new(part: Path) -> int:
    """A new file that only its owner reads: it holds what rules may keep from others."""
    return os.open(part, os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_CLOEXEC, 0o600)


def _is_content(path: Path, name: str) -> bool:
    """Whether a file holds the deflated form of the content that is called so: it is inflated, and called anew."""
    from isal import isal_zlib

    digest, coder, rest = hashlib.blake2b(digest_size=32), isal_zlib.decompressobj(-15), b""
    try:
        with open(path, "rb") as file:
            while piece := file.read(PIECE):
                rest += coder.decompress(piece)
                while len(rest) > PIECE:
                    digest.update(_digest(rest[:PIECE]))
                    rest = rest[PIECE:]
            rest += coder.flush()
    except (OSError, zlib.error):
        return False
    while len(rest) > PIECE:
        digest.update(_digest(rest[:PIECE]))
        rest = rest[PIECE:]
    digest.update(_digest(rest))
    return coder.eof and digest.hexdigest() == name


def _worked(piece: bytes, *, is_last: bool) -> tuple[bytes, bytes]:
    """Everything done with a piece; the libraries release the interpreter, so pieces run in parallel."""
    return deflated_piece(piece, is_last=is_last), _digest(piece)


def _digest(piece: bytes) -> bytes:
    """A content's name is the digest of its pieces' digests, so that those are computed in parallel."""
    return hashlib.blake2b(piece, digest_size=32).digest()


def _deflated_whole(content: bytes) -> bytes:
    """A content of one piece as raw deflate: in one call, which takes a third of the time for a small one."""
    from isal import isal_zlib

    return isal_zlib.compress(content, _LEVEL, -15)


def deflated_piece(piece: bytes, *, is_last: bool) -> bytes:
    """A piece as raw deflate (RFC 1951) that ends at a whole byte, so that the next one may follow."""
    from isal import isal_zlib

    coder = isal_zlib.compressobj(level=_LEVEL, wbits=-15)
    return coder.compress(piece) + coder.flush(isal_zlib.Z_FINISH if is_last else isal_zlib.Z_SYNC_FLUSH)

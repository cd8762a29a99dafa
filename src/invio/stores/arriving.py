"""Contents on their way in: written to a file that has no name until it is whole, on the disk, and checked.

A broken-off upload leaves nothing behind.
"""

from __future__ import annotations

import errno
import hashlib
import os
import re
import secrets
import threading
from collections.abc import Callable, Iterator
from concurrent.futures import Future
from contextlib import contextmanager
from functools import cache
from types import TracebackType
from typing import Self

from invio.workers.pool import Pool, PoolBusy

_BEGUN = 16 * 1024 * 1024  # bytes
_LONG = 1024 * 1024  # bytes written together from which on they are hashed in a second thread
_TOGETHER = 1000  # pieces that a system writes in one call, and some have it that they are few
# The threads that hash, of all uploads: as many as can run at once. What waits for them is held in memory.
_HASHERS = Pool("hashing", os.cpu_count() or 1, waiting=8)
_NAME = re.compile(r"\.[0-9a-f]{24}\.arriving")


@cache
def crc32() -> Callable[[bytes, int], int]:
    """The function for CRC-32s, whose library is loaded with the first content that needs one."""
    from isal import isal_zlib

    function: Callable[[bytes, int], int] = isal_zlib.crc32
    return function


class Arriving:
    """A content that is being uploaded. Use it in a `with`, from one thread at a time."""

    def __init__(self, folder: bytes, mode: int) -> None:
        """`folder` is on the disk where it will lie, and not seen by anybody; `mode` its rights, less the umask's.

        Raises OSError.
        """
        self._folder = folder
        self._mode = mode
        self._named: bytes | None = None
        self._descriptor = self._open()
        self._sha256 = hashlib.sha256()
        self._crc = 0
        self.size = self._begun = 0
        self._syncing: threading.Thread | None = None
        self._hashing: Future[None] | None = None  # of the last long piece

    def _open(self) -> int:
        nameless = getattr(os, "O_TMPFILE", None)
        if nameless is not None:
            try:
                return os.open(self._folder, nameless | os.O_RDWR | os.O_CLOEXEC, self._mode)
            except OSError:
                pass  # not every file system has it
        self._named = os.path.join(os.path.realpath(self._folder), _new_name())
        return os.open(self._named, os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, self._mode)

    def __enter__(self) -> Self:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, at: TracebackType | None) -> None:
        if self._hashing is not None:
            self._hashing.cancel()  # a content that was refused is hashed no more
        os.close(self._descriptor)
        if self._named is not None:
            os.unlink(self._named)

    @property
    def status(self) -> os.stat_result:
        """What the file is, by its descriptor."""
        return os.fstat(self._descriptor)

    @staticmethod
    def made(name: str) -> bool:
        """Whether a file name is one made here for an upload."""
        return _NAME.fullmatch(name) is not None

    def write(self, *pieces: bytes) -> None:
        """Adds some bytes, which stand in pieces as they came. Raises OSError, as when the disk is full.

        Hashing takes longer than writing. So that of much goes on in another thread, while more is written.
        """
        size = sum(map(len, pieces))
        self.size += size
        write_all(self._descriptor, *pieces)
        self._hashed()
        if size < _LONG:
            self._hash(pieces)
        else:
            try:
                self._hashing = _HASHERS.submit(self._hash, pieces)
            except PoolBusy:
                self._hash(pieces)
        if self.size - self._begun >= _BEGUN:
            self._begin_syncing()

    def _begin_syncing(self) -> None:
        """Starts writing to the disk early, so that the end need not wait for all of it."""
        if self._syncing is not None and self._syncing.is_alive():
            return
        self._begun = self.size
        descriptor = os.dup(self._descriptor)
        syncing = threading.Thread(target=_sync, args=(descriptor,), name="arriving", daemon=True)
        try:
            syncing.start()
        except RuntimeError:  # the system gives no thread: then all of it is written at the end
            os.close(descriptor)
        else:
            self._syncing = syncing

    def _hash(self, pieces: tuple[bytes, ...]) -> None:
        for piece in pieces:
            self._sha256.update(piece)
            self._crc = crc32()(piece, self._crc)

    def _hashed(self) -> None:
        """Waits until all that has arrived is hashed."""
        if self._hashing is not None:
            self._hashing.result()

    @property
    def sha256(self) -> bytes:
        """Of what has arrived so far."""
        self._hashed()
        return self._sha256.digest()

    @property
    def crc(self) -> int:
        """CRC-32 of what has arrived so far."""
        self._hashed()
        return self._crc

    def pieces(self, size: int) -> Iterator[bytes]:
        """All that has arrived, `size` bytes at a time. Raises OSError."""
        at = 0
        while at < self.size:
            piece = os.pread(self._descriptor, size, at)
            if not piece:
                raise OSError(errno.EIO, "what has arrived is no longer there")
            at += len(piece)
            yield piece

    def land(self, folder: int, name: bytes, *, replaces: bool) -> None:
        """Gives the content a name in an open folder, once it is safely on the disk.

        `replaces`: in the place of a file that has the name. All of it is on the disk when this returns.

        Raises:
            FileExistsError: there is one, and it is not to be replaced.
            OSError: it cannot be.
        """
        os.fsync(self._descriptor)
        self._link(folder, name) if not replaces else self._replace(folder, name)
        os.fsync(folder)

    def _link(self, folder: int, name: bytes) -> None:
        source = self._named or f"/proc/self/fd/{self._descriptor}".encode()
        # The descriptor of a folder has the kernel follow the link to what has no name.
        os.link(source, name, src_dir_fd=folder, dst_dir_fd=folder, follow_symlinks=True)

    def _replace(self, folder: int, name: bytes) -> None:
        """Links it under a hidden name, and renames it from there in one step."""
        waits = os.open(self._folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        try:
            beside = _new_name()
            self._link(waits, beside)
            try:
                os.rename(beside, name, src_dir_fd=waits, dst_dir_fd=folder)
            except OSError:
                os.unlink(beside, dir_fd=waits)
                raise
        finally:
            os.close(waits)


def write_all(descriptor: int, *pieces: bytes) -> None:
    """Writes all of some bytes: a disk that is nearly full takes a part of them first. Raises OSError."""
    rest = [memoryview(piece) for piece in pieces]
    while rest:
        written = os.writev(descriptor, rest[:_TOGETHER])
        done = 0
        while done < len(rest) and written >= len(rest[done]):
            written -= len(rest[done])
            done += 1
        del rest[:done]
        if written:
            rest[0] = rest[0][written:]


def _sync(descriptor: int) -> None:
    """Writes a file to the disk, as far as it is there. What fails is told when all of it is to be on the disk."""
    try:
        os.fdatasync(descriptor)
    except OSError:
        pass
    finally:
        os.close(descriptor)


def _new_name() -> bytes:
    return b"." + secrets.token_hex(12).encode() + b".arriving"


@contextmanager
def opened(folder: bytes) -> Iterator[int]:
    """A folder's descriptor, for as long as the `with` lasts. Raises OSError."""
    descriptor = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        yield descriptor
    finally:
        os.close(descriptor)

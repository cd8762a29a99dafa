"""Sources: what a slice of a reply is read from, and what a streamed part is made by.

A source is found with the facts and opened only by the sender. Opening compares what is opened
with what was found: a file that was replaced in between is not the file that was decided about.
"""

from __future__ import annotations

import os
import time
from collections.abc import AsyncIterator, Callable, Iterator
from dataclasses import dataclass
from typing import Protocol

from invio.workers.pool import Pool

# How old a file's time must be for a further change to show in it. Seconds.
_SETTLED = 2.0


def is_settled(modified: float | None) -> bool:
    """Whether a further change of a file would show in its time; Unix seconds. What has no time has other marks."""
    return modified is None or time.time() - modified > _SETTLED


class ContentChanged(Exception):
    """The file is not the one that was planned for. The message is meant for the records."""


class SliceSource(Protocol):
    """`size` bytes that can be read from any offset."""

    @property
    def size(self) -> int: ...

    def open(self) -> int:
        """A descriptor for reading, which the caller closes. Raises ContentChanged."""
        ...

    def is_at(self, descriptor: int) -> bool:
        """Whether the open file is, still, the one that was found."""
        ...


@dataclass(frozen=True, slots=True)
class DiskFile:
    """A regular file, by its path and by what it was when it was found (`size` bytes, time in ns)."""

    path: bytes
    device: int
    inode: int
    size: int
    modified_ns: int

    def __hash__(self) -> int:
        # A file is mostly there in one state alone; equality looks at all of it.
        return hash(self.path)

    @classmethod
    def of(cls, path: bytes, status: os.stat_result) -> DiskFile:
        return cls(path, status.st_dev, status.st_ino, status.st_size, status.st_mtime_ns)

    def open(self) -> int:
        try:
            # O_NONBLOCK: should a pipe have taken the file's place, opening it must not wait.
            descriptor = os.open(self.path, os.O_RDONLY | os.O_CLOEXEC | os.O_NONBLOCK)
        except OSError as error:
            raise ContentChanged(f"the file can no longer be opened: {error.strerror}") from None
        if self.is_at(descriptor):
            return descriptor
        os.close(descriptor)
        raise ContentChanged("the file was replaced or altered after it was found")

    def is_at(self, descriptor: int) -> bool:
        """Whether the open file is what was found, or has grown since, as logs do: what was found is its beginning."""
        status = os.fstat(descriptor)
        grown = status.st_size > self.size and status.st_ino == self.inode and status.st_dev == self.device
        return grown or self.fits(status)

    def fits(self, status: os.stat_result) -> bool:
        """Whether this is the status of the file that was found, unaltered."""
        return (
            status.st_ino == self.inode
            and status.st_mtime_ns == self.modified_ns
            and status.st_size == self.size
            and status.st_dev == self.device
        )


class SpooledFile:
    """A content that was made once and is kept open without a name, for as long as somebody holds this."""

    __slots__ = ("_descriptor", "size")

    def __init__(self, descriptor: int, size: int) -> None:
        """`descriptor` is from now on this one's to close."""
        self._descriptor = descriptor
        self.size = size

    def __del__(self) -> None:
        os.close(self._descriptor)

    def open(self) -> int:
        return os.dup(self._descriptor)

    def is_at(self, descriptor: int) -> bool:
        return os.fstat(descriptor).st_size == self.size


class Remote(Protocol):
    """What a remote file is read by: its store. Every call may take long; each raises StoreFault."""

    def read(self, source: RemoteFile, offset: int, count: int) -> bytes: ...

    async def read_async(self, source: RemoteFile, offset: int, count: int) -> bytes: ...

    def is_unaltered(self, source: RemoteFile) -> bool: ...

    async def is_unaltered_async(self, source: RemoteFile) -> bool: ...

    def address_of(self, source: RemoteFile) -> str | None: ...


@dataclass(frozen=True, slots=True)
class RemoteFile:
    """A file on another system, by its path there and by what it was when it was found (`size` bytes).

    There is no descriptor to hand over: it is read, in a worker thread, while it is sent.
    """

    store: Remote
    path: str
    size: int
    mark: str

    def read(self, offset: int, count: int) -> bytes:
        """`count` bytes from `offset` on. Raises ContentChanged, StoreFault."""
        return self.store.read(self, offset, count)

    async def read_async(self, offset: int, count: int) -> bytes:
        """Like `read`, in the event loop."""
        return await self.store.read_async(self, offset, count)

    def is_unaltered(self) -> bool:
        """Whether it still is what was found. Raises StoreFault."""
        return self.store.is_unaltered(self)

    async def is_unaltered_async(self) -> bool:
        """Like `is_unaltered`, in the event loop."""
        return await self.store.is_unaltered_async(self)


@dataclass(frozen=True, slots=True)
class Made:
    """A content made on demand; each call of `chunks` makes it anew, in pieces of some 64 KiB.

    What the application that Invio is part of makes may come asynchronously; a store's does not. Making it may wait
    for long: `chunks` is called, and its pieces are taken, by threads of `pool`.
    """

    chunks: Callable[[], Iterator[bytes] | AsyncIterator[bytes]]
    pool: Pool | None = None

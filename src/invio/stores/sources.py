"""Sources: what a slice of a reply is read from, and what a streamed part is made by.

A source is found with the facts and opened only by the sender. Opening compares what is opened
with what was found: a file that was replaced in between is not the file that was decided about.
"""

from __future__ import annotations

import os
import time
from collections.abc import AsyncIterator, Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from typing import ClassVar, NamedTuple, Protocol, Self

from invio.core.addresses import Address
from invio.core.files import Caller
from invio.core.readable import ContentChanged, Readable
from invio.producers.spooling import Production
from invio.workers.pool import Pool

PIECE = 1024 * 1024  # bytes read at a time of a content that is read through

_APART = 256 * 1024  # bytes between two samples of an open file
_SAMPLES = 32  # at most
_SAMPLE = 64  # bytes of each

# A system sets a file's time before it writes, and its length after. How often it is looked whether that is so, how
# many seconds apart, and how long ago (in ns) the time may be.
_LOOKS, _LOOKS_EVERY, _JUST_NOW = 5, 0.001, 50_000_000

# How old a file's time must be for a further change to show in it. Seconds.
_SETTLED = 2.0


def is_settled(modified: float | None) -> bool:
    """Whether a further change would show in the file's time (Unix seconds); None always does."""
    return modified is None or time.time() - modified > _SETTLED


def read_fully(descriptor: int, count: int, offset: int) -> bytes:
    """Reads `count` bytes, no fewer, of an open file. Raises ContentChanged."""
    data = os.pread(descriptor, count, offset)
    while len(data) < count:
        more = os.pread(descriptor, count - len(data), offset + len(data))
        if not more:
            raise ContentChanged("the file ended before its announced length")
        data += more
    return data


def read_unaltered(source: Readable, descriptor: int, count: int, offset: int) -> bytes:
    """Reads `count` bytes of an open file that, after they were read, still is what was found.

    Raises:
        ContentChanged: it is not.
    """
    data = read_fully(descriptor, count, offset)
    if not source.is_at(descriptor):
        raise ContentChanged("the file was altered while it was sent")
    return data


class Samples(NamedTuple):
    """A few bytes of what is still to be read of an open file.

    They tell a file that has grown, as logs do, from one that was written anew in its place and is longer now: both
    have the same inode, and neither has the length or the time that was found. A change that leaves the samples as they
    are, in a file that has grown as well, is not noticed.
    """

    places: range
    taken: int

    @classmethod
    def of(cls, descriptor: int, start: int, stop: int) -> Samples:
        """Those of an open file from `start` to `stop` (not included); the last of them are its last bytes."""
        count = min(_SAMPLES, 1 + (stop - start) // _APART)
        places = range(max(start, stop - _SAMPLE), start - 1, -max(1, (stop - start) // count))
        return cls(places, _taken(descriptor, places))

    def check(self, source: Readable, descriptor: int) -> None:
        """Raises ContentChanged: the file was cut, or written anew."""
        size = os.fstat(descriptor).st_size
        if size < source.size:
            raise ContentChanged("the file ended before its announced length")
        if size > source.size and _taken(descriptor, self.places) != self.taken:
            raise ContentChanged("the file was written anew while it was read")


def _taken(descriptor: int, places: range) -> int:
    return hash(b"".join([os.pread(descriptor, _SAMPLE, place) for place in places]))


@contextmanager
def opened_unaltered(source: Readable) -> Iterator[int | None]:
    """A descriptor from which all of a content is read, with `pread`; None where there is none.

    Raises:
        ContentChanged: the file is not what was found, or no longer when the `with` ends.
    """
    descriptor = source.open()
    if descriptor is None:
        yield None
        return
    try:
        samples = Samples.of(descriptor, 0, source.size) if source.size > PIECE else None
        yield descriptor
        if not source.is_at(descriptor):
            raise ContentChanged("the file was altered while it was read")
        if samples is not None:
            samples.check(source, descriptor)
    finally:
        os.close(descriptor)


def read_through(source: Readable) -> Iterator[bytes]:
    """Reads all of a content, a piece at a time; after the last one it was found unaltered.

    Raises:
        ContentChanged: it is not, or no longer, what was found.
        StoreFault: another system has it, and failed.
    """
    size = source.size
    with opened_unaltered(source) as descriptor:
        # By offsets: a file that is kept open without a name has one position for all who read it.
        for at in range(0, size, PIECE):
            count = min(PIECE, size - at)
            yield source.read(at, count) if descriptor is None else read_fully(descriptor, count, at)
    if descriptor is None and not source.is_unaltered():
        raise ContentChanged("it was altered while it was read")


class _Opened:
    """What is read by a descriptor."""

    __slots__ = ()
    may_block: ClassVar[bool] = False
    size: int

    def open(self) -> int:
        raise NotImplementedError

    def is_at(self, descriptor: int) -> bool:
        raise NotImplementedError

    def read(self, offset: int, count: int) -> bytes:
        descriptor = self.open()
        try:
            return read_unaltered(self, descriptor, count, offset)
        finally:
            os.close(descriptor)

    def is_unaltered(self) -> bool:
        return True  # `read` has looked

    async def pieces(self, offset: int, count: int) -> AsyncIterator[bytes]:
        yield self.read(offset, count)


def _not_opened(error: OSError) -> str:
    if isinstance(error, PermissionError):
        return "the service's account may not read the file; the operator can let it"
    return f"the file can no longer be opened: {error.strerror}"


# O_NONBLOCK: should a pipe have taken the file's place, opening it must not wait.
_FLAGS = os.O_RDONLY | os.O_CLOEXEC | os.O_NONBLOCK
_REPLACED = "the file was replaced or altered after it was found"


class _Identity(NamedTuple):
    path: bytes
    device: int
    inode: int
    size: int
    modified_ns: int


class DiskFile(_Opened, _Identity):
    """A regular file, by its path and by what it was when it was found (`size` bytes, time in ns)."""

    __slots__ = ()

    def __hash__(self) -> int:
        # Usually there is one state of a file; equality compares all fields.
        return hash(self.path)

    @classmethod
    def of(cls, path: bytes, status: os.stat_result) -> Self:
        """The file at a path, as it was found: by its identity, length and time."""
        return cls(path, status.st_dev, status.st_ino, status.st_size, status.st_mtime_ns)

    def open(self) -> int:
        """A descriptor of the file, unaltered, for the caller to close. Raises ContentChanged."""
        descriptor = self._opened()
        if self.is_at(descriptor):
            return descriptor
        os.close(descriptor)
        raise ContentChanged(_REPLACED)

    def read(self, offset: int, count: int) -> bytes:
        """`count` bytes from `offset` on, of the file that, after they were read, is what was found.

        Raises:
            ContentChanged: it is not.
        """
        descriptor = self._opened()
        try:
            try:
                data = read_fully(descriptor, count, offset)
            except OSError:  # of what took the file's place, such as a folder or a pipe
                if self.is_at(descriptor):
                    raise
            else:
                if self.is_at(descriptor):
                    return data
        finally:
            os.close(descriptor)
        raise ContentChanged(_REPLACED)

    def _opened(self) -> int:
        """A descriptor of what is at the path now. Raises ContentChanged: it cannot be opened."""
        try:
            return os.open(self.path, _FLAGS)
        except OSError as error:
            raise ContentChanged(_not_opened(error)) from None

    def is_at(self, descriptor: int) -> bool:
        """Whether the open file is what was found, or has grown since, as logs do: what was found is its beginning."""
        status = os.fstat(descriptor)
        return self.fits(status) or self.has_grown(status) or self._grows_now(descriptor, status)

    def _grows_now(self, descriptor: int, status: os.stat_result) -> bool:
        """Whether somebody appends to the file at this moment: its time is the new one, and its length still the old.

        That is waited for, a few milliseconds at most, and only where the time is just now.
        """
        if status.st_ino != self.inode or status.st_dev != self.device or status.st_size != self.size:
            return False
        for _ in range(_LOOKS):
            if not 0 <= time.time_ns() - status.st_mtime_ns < _JUST_NOW:
                return False
            time.sleep(_LOOKS_EVERY)
            status = os.fstat(descriptor)
            if self.has_grown(status):
                return True
        return False

    def has_grown(self, status: os.stat_result) -> bool:
        """Whether this is the status of the file that was found, longer than it was then."""
        return status.st_size > self.size and status.st_ino == self.inode and status.st_dev == self.device

    def fits(self, status: os.stat_result) -> bool:
        """Whether this is the status of the file that was found, unaltered."""
        # All but the path, in the order of the fields.
        return self[1:] == (status.st_dev, status.st_ino, status.st_size, status.st_mtime_ns)


class SpooledFile(_Opened):
    """A content that was made once and is kept open without a name, for as long as somebody holds this."""

    __slots__ = ("_descriptor", "_held", "size")

    def __init__(self, descriptor: int, size: int, held: object = None) -> None:
        """`descriptor` is from now on this one's to close; `held` lives as long as this, as what has taken the room."""
        self._descriptor, self._held = descriptor, held
        self.size = size

    def __del__(self) -> None:
        os.close(self._descriptor)

    def open(self) -> int:
        """A further descriptor of the file, for the caller to close."""
        return os.dup(self._descriptor)

    def is_at(self, descriptor: int) -> bool:
        """Whether the open file has the length that was made."""
        return os.fstat(descriptor).st_size == self.size


class Reader(Protocol):
    """Reads files that cannot be opened: their store. Every call may take long, and raises StoreFault."""

    def read(self, source: BlockingFile, offset: int, count: int) -> bytes:
        """`count` bytes of a source from `offset` on."""
        ...

    def pieces(self, source: BlockingFile, offset: int, count: int) -> AsyncIterator[bytes]:
        """The same, in pieces, without blocking the event loop."""
        ...

    def is_unaltered(self, source: BlockingFile) -> bool:
        """Whether the other system still has what was found."""
        ...

    async def is_unaltered_async(self, source: BlockingFile) -> bool:
        """The same, without blocking the event loop."""
        ...

    def address_of(self, source: BlockingFile) -> str | None:
        """A URL from which the other system gives it to whoever asks; None where there is none."""
        ...


@dataclass(frozen=True, slots=True)
class BlockingFile:
    """A file that another system has, or a database: what it was when it was found (`size` bytes, its tag).

    There is no descriptor to hand over: it is read, in a worker thread, while it is sent.
    """

    store: Reader
    address: Address
    size: int
    tag: str
    may_block: ClassVar[bool] = True

    def read(self, offset: int, count: int) -> bytes:
        """`count` bytes from `offset` on."""
        return self.store.read(self, offset, count)

    def open(self) -> None:
        """There is no descriptor of it."""

    def is_at(self, descriptor: int) -> bool:  # noqa: ARG002 - there is none
        """There is no file of it that could be another."""
        return True

    def is_unaltered(self) -> bool:
        """Whether the other system still has what was found."""
        return self.store.is_unaltered(self)

    def pieces(self, offset: int, count: int) -> AsyncIterator[bytes]:
        """`count` bytes from `offset` on, in pieces, without blocking the event loop."""
        return self.store.pieces(self, offset, count)


@dataclass(frozen=True, slots=True)
class Recipe:
    """How a content made on demand is shared.

    `for_caller` gives what makes it for whoever asks. `keep` is for how many seconds it is good for others, once it is
    made; while it is being made, it is everybody's who asks. `personal`: it is each recipient's own. `estimate` is how
    many bytes it has, about.
    """

    for_caller: Callable[[Caller], Callable[[], Iterator[bytes]]]
    keep: float = 0.0
    personal: bool = False
    estimate: int | None = None


@dataclass(frozen=True, slots=True)
class Made:
    """A content made on demand; each call of `chunks` makes it anew, in pieces of some 64 KiB.

    What the application that Invio is part of makes may come asynchronously; a store's does not. Making it may wait
    for long: `chunks` is called, and its pieces are taken, by threads of `pool`. What a store has is made once for all
    who ask, by its `recipe`; `production` is the run that makes it, or has made it.
    """

    chunks: Callable[[], Iterator[bytes] | AsyncIterator[bytes]]
    pool: Pool | None = None
    recipe: Recipe | None = None
    production: Production | None = None

    def of(self, caller: Caller) -> Made:
        """The content as this caller gets it."""
        if self.recipe is None or not self.recipe.personal:
            return self
        return Made(self.recipe.for_caller(caller), self.pool, self.recipe)


def on_disk(source: object) -> DiskFile | None:
    """A source as a file on a disk of this machine, if it is one: what can be looked at again without being read."""
    return source if isinstance(source, DiskFile) else None

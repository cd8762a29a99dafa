"""Files made on demand, made once for an archive and kept without a name.

What is made for an archive is bounded like what is made for a request: in time, in size, and in what all of it takes on
the disk. A few large contents of an archive have files of their own, which are sent by descriptor. All others lie in
one file: an archive of very many would need as many descriptors.
"""

from __future__ import annotations

import os
import tempfile
import threading
import time
import weakref
from collections import OrderedDict
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, replace
from functools import partial
from typing import TypeVar

from invio.core.addresses import Address
from invio.core.readable import HeldInMemory
from invio.delivery.sending.production import MAKING
from invio.producers.failures import NoRoom, NotProduced
from invio.producers.room import Room, Taken
from invio.producers.spooling import Production
from invio.stores.arriving import crc32, write_all
from invio.stores.sources import Made, SpooledFile

T = TypeVar("T")

SMALL = 256 * 1024  # bytes of a content that lies in one file with others
OWN_FILES = 16  # contents of a bundle that have one of their own, at most
_PIECE = 1024 * 1024  # bytes


class SharedFile:
    """Contents, one after the other in one file; it is closed when nobody holds any of them."""

    def __init__(self, room: Room) -> None:
        """Raises OSError: it cannot be created."""
        self._file = tempfile.TemporaryFile(prefix="invio-", dir=room.folder)  # noqa: SIM115 - as long as this lives
        self._taken = Taken(room)
        weakref.finalize(self, self._taken.give_back_the_rest)
        self._size = 0
        self._lock = threading.Lock()
        self.beside = 0  # contents of the same bundle that have a file of their own

    def add(self, pieces: Iterable[bytes]) -> SpooledPart:
        """Adds a content. Raises OSError; NotProduced: there is no room for it."""
        with self._lock:
            at = end = self._size
            for piece in pieces:
                self._taken.take(len(piece))
                os.lseek(self._file.fileno(), end, os.SEEK_SET)
                write_all(self._file.fileno(), piece)
                end += len(piece)
            self._size = end
        return SpooledPart(self, at, end - at)

    def read(self, at: int, count: int) -> bytes:
        """`count` bytes of the file."""
        return os.pread(self._file.fileno(), count, at)


@dataclass(frozen=True, slots=True)
class SpooledPart(HeldInMemory):
    """A content in a shared file."""

    shared: SharedFile
    at: int
    size: int

    def read(self, offset: int, count: int) -> bytes:
        """`count` bytes from `offset` on."""
        return self.shared.read(self.at + offset, count)


@dataclass(frozen=True, slots=True)
class Spool:
    """A content, its CRC-32, and when it was made, Unix seconds."""

    file: SpooledFile | SpooledPart
    crc: int
    made: float


class Spools:
    """The files made for each bundle; the oldest go first, and are closed when nobody holds them."""

    def __init__(self, limit: int, room: Room | None = None, gives_room: Callable[[], bool] = lambda: False) -> None:
        """`limit` is how many are kept for a bundle that is planned again.

        Where they lie, and how much may, is as in `room`, but what is made for archives takes none of it.
        `gives_room` drops the plan of one archive, and returns whether there was one to drop.
        """
        self._limit, self.room, self._gives_room = limit, replace(room or Room(), fair=False), gives_room
        self._kept: OrderedDict[tuple[str, str], Spool] = OrderedDict()
        self._shared: weakref.WeakValueDictionary[str, SharedFile] = weakref.WeakValueDictionary()
        self._lock = threading.Lock()

    def take(
        self,
        bundle: str,
        address: Address,
        made: Made,
        check: Callable[[], object] = lambda: None,
        whose: str | None = None,
    ) -> Spool:
        """The content that this bundle has of this address; made now if it has none, for whoever it is.

        `check` is called every so often meanwhile, and may raise to end it.

        Raises:
            NotProduced: it is not made, or there is no room for it.
            OSError: it cannot be kept.
        """
        key = (bundle, str(address))
        with self._lock:
            kept = self._kept.get(key)
            if kept is not None:
                self._kept.move_to_end(key)
                return kept
        spool = self._made_with_room(bundle, made, check, whose)
        with self._lock:
            # Another request for the same bundle may have been faster: all must get one content.
            kept = self._kept.setdefault(key, spool)
            while len(self._kept) > self._limit:
                self._kept.popitem(last=False)
            return kept

    def _made_with_room(self, bundle: str, made: Made, check: Callable[[], object], whose: str | None) -> Spool:
        while True:
            try:
                return self._made(bundle, made, check, whose)
            except NoRoom:
                if not self._lets_go():
                    raise

    def _lets_go(self) -> bool:
        """Drops contents, then plans, until some room is free. Returns whether any is."""
        before = self.room.used
        with self._lock:
            self._kept.clear()
        while self.room.used >= before:
            if not self._gives_room():
                return False
        return True

    def _made(self, bundle: str, made: Made, check: Callable[[], object], whose: str | None) -> Spool:
        run = Production(made.chunks, made.pool or MAKING, self.room, whose)  # type: ignore[arg-type]
        try:
            run.make(check)
        except NotProduced:
            if run.lacks_room:
                raise NoRoom from None
            raise
        crc, shared = 0, self._shared_by(bundle)
        for piece in _pieces(run):
            crc = crc32()(piece, crc)
        if run.length > SMALL and shared.beside < OWN_FILES:
            shared.beside += 1
            return Spool(SpooledFile(run.descriptor(), run.length, (run, shared)), crc, time.time())
        return Spool(shared.add(_pieces(run)), crc, time.time())

    def _shared_by(self, bundle: str) -> SharedFile:
        with self._lock:
            shared = self._shared.get(bundle)
            if shared is None:
                shared = self._shared[bundle] = SharedFile(self.room)
            return shared

    def close(self) -> None:
        """Forgets all files that were made."""
        with self._lock:
            self._kept.clear()


def _pieces(run: Production) -> Iterator[bytes]:
    return (run.part(at, _PIECE) for at in range(0, run.length, _PIECE))


def spooled(made: Made, shared: SharedFile) -> Spool:
    """Makes an application's own content, in this thread, into a file of its own or, if it is small, a shared one.

    Raises:
        NotProduced: there is no room for it; or what the application's function raises.
    """
    size = crc = 0
    with _on_disk(lambda: tempfile.TemporaryFile(buffering=0, prefix="invio-")) as file:
        pieces = made.chunks()
        if not isinstance(pieces, Iterator):
            raise TypeError("only an application's own reply is made asynchronously")
        for piece in pieces:
            _on_disk(partial(write_all, file.fileno(), piece))
            crc = crc32()(piece, crc)
            size += len(piece)
        if size <= SMALL:
            file.seek(0)
            return Spool(_on_disk(partial(shared.add, [file.read()])), crc, time.time())
        return Spool(SpooledFile(os.dup(file.fileno()), size), crc, time.time())


def _on_disk(work: Callable[[], T]) -> T:
    """Does something to what is kept: what the disk refuses is told apart from what the application's function raises.

    Raises:
        NotProduced: the disk refuses it.
    """
    try:
        return work()
    except OSError as error:
        raise NotProduced(f"it could not be kept until it is sent: {error.strerror or error}", "no-space") from None

"""The base of stores whose calls may take long: another system, a database, a custom class.

A kind of store says three things, each in a plain function that may wait and may fail: what is known of a file
(`look_up`), what is in a folder (`look_into`), and bytes of a content (`read_at`). Everything else is here: threads of
the store's own with a deadline, so that what hangs there stands in nobody else's way; facts that are good for a while,
those of a listing as well, so that a page of 200 files is one call and not 201; pieces that are read ahead while
earlier ones are sent; and the last piece of a content, which is only given after the file was found unaltered.

Invariants:
- A content is read as it was found or not at all: what `look_up` gives at the end has the tag that it had at first.
- At most `ahead` pieces of one transfer, of `room` bytes, are read beside the one that is sent, and only while threads
  are free: a long queue of readers is served one piece each.
- A transfer whose reader takes nothing still holds one piece. The more transfers there are, the shorter pieces are.
- Whatever a kind raises that is no `Missing` and no `ContentChanged` is a `StoreFault`, which names the store.
"""

from __future__ import annotations

import asyncio
import logging
import time
from collections import deque
from collections.abc import AsyncIterator, Callable, Iterable, Sequence
from contextlib import suppress
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, ClassVar, TypeVar, cast

from invio.core.addresses import Address, is_proper
from invio.core.files import FileFacts, bounded
from invio.core.memory import Memory
from invio.core.readable import ContentChanged
from invio.core.reasons import Refusal
from invio.core.versions import PathConflict
from invio.stores.sources import BlockingFile
from invio.stores.store import Found, Missing, StoreFault
from invio.workers.heap import give_back_memory
from invio.workers.pool import DeadlinePassed, Pool, PoolBusy

if TYPE_CHECKING:
    from invio.stores.cached import ContentCache

log = logging.getLogger("invio.stores")

T = TypeVar("T")
_SAID = (Missing, ContentChanged, StoreFault)  # the errors a kind of store raises on purpose

# For how long facts are good without asking again: a player asks for a range after the other. Seconds.
FRESH = 2.0
_SEEN = 8192  # files whose facts are remembered
# Bytes of pieces that are read, or wait to be sent, of all transfers of a process: beyond it nothing is read ahead.
_ROOM = 256 * 1024 * 1024
_MUCH = _ROOM // 4  # bytes of pieces of which the process keeps memory that is worth being given back
_LEAST = 64 * 1024  # bytes of a piece, however many transfers there are
_GLIMPSED = 200_000  # of which a listing told
_PAUSES = (0.1, 0.4)  # seconds before what failed is asked again
_FIRST = 1024 * 1024  # bytes of the first piece that is read of a content; the following ones grow


def place_of(address: Address) -> tuple[bool, str]:
    """What a listing is in the order of: folders before files, each by its path."""
    return not address.folder, address.path


@dataclass(frozen=True, slots=True)
class Reading:
    """How a kind of store is read: by how many calls at once, in pieces of how many bytes at most.

    Of one transfer at most `ahead` pieces beside the next, all of them of at most `room` bytes. Few long pieces: some
    systems take as long to find the place in a long content as to read 20 MB of it.
    """

    calls: int = 8
    largest: int = 48 * 1024 * 1024
    ahead: int = 2
    room: int = 96 * 1024 * 1024


class _Held:
    """How many bytes of pieces there are at present, of how many transfers; used in event loops alone."""

    count = 0
    transfers = 0
    most = 0  # bytes, since memory was given back

    @property
    def piece(self) -> int:
        """The longest a piece may be when room is scarce, in bytes: one of each transfer takes a quarter of it."""
        return min(_FIRST, max(_LEAST, _ROOM // 4 // max(1, self.transfers)))

    def take(self, some: int) -> None:
        """Counts one more piece of `some` bytes."""
        self.count += some
        self.most = max(self.most, self.count)

    def give_back(self, some: int, pool: Pool) -> None:
        """Removes pieces of `some` bytes; a thread of `pool` returns their memory to the system if it was much."""
        self.count -= some
        if self.most >= _MUCH and self.count <= self.most // 4:
            with suppress(PoolBusy):
                pool.submit(give_back_memory)
                self.most = self.count


_held = _Held()


class BlockingStore:
    """A base for stores that wait; see the module's text. `kind` is the store's own word for what it is."""

    kind: str = "custom"
    waits: bool = True
    # Whether `look_into` tells all of a file that `look_up` does.
    lists_all: ClassVar[bool] = True

    def __init__(
        self, name: str, *, timeout: float = 20.0, fresh: float = FRESH, reading: Reading | None = None
    ) -> None:
        """`timeout` is for how many seconds one call may take, `fresh` for how many facts are good."""
        self.name = name
        self.cache: ContentCache | None = None
        self._timeout = timeout
        self._fresh = fresh
        self.reading = reading or Reading()
        self._calls = Pool(f"store-{name}", self.reading.calls, waiting=self.reading.calls, deadline=timeout)
        self._seen: Memory[str, tuple[float, Found]] = Memory(_SEEN)
        # What a listing told, where asking for a file tells more.
        self._glimpsed: Memory[str, tuple[float, Found]] = Memory(_GLIMPSED)

    # What a kind of store says.

    def look_up(self, address: Address) -> FileFacts:
        """The facts of a file: its `size`, and a `tag` that changes whenever the content may have.

        Raises:
            Missing: there is no such file. Anything else: the store does not answer.
        """
        raise NotImplementedError

    def look_into(self, folder: Address) -> Iterable[FileFacts | Address]:
        """What is in a folder, in any order: facts of files, or their addresses alone; addresses of folders.

        Raises:
            Missing: there is no such folder. Anything else: the store does not answer.
        """
        raise NotImplementedError

    def read_at(self, address: Address, tag: str, offset: int, count: int) -> bytes:
        """`count` bytes from `offset` on of the content that had `tag`.

        Raises:
            Missing, ContentChanged: it is no longer there. Anything else: the store does not answer.
        """
        raise NotImplementedError

    def address_of(self, source: BlockingFile) -> str | None:  # noqa: ARG002 - most have none
        """A temporary URL of the content itself; None where there is none."""
        return None

    # What the service asks.

    def _located(self, address: Address) -> Found:
        if address.folder:
            raise Missing(str(address))
        seen = self._seen.get(address.path)
        if seen is not None and time.monotonic() - seen[0] < self._fresh:
            return seen[1]
        return self._found(self._asked(lambda: _tried(lambda: self.look_up(address), self._timeout)))

    def locate(self, address: Address) -> Found:
        """Finds a file; its content is the cache's, where the store has one. Raises Missing, StoreFault."""
        found = self._located(address)
        return found if self.cache is None else self.cache.of(found)

    def list(self, folder: Address) -> list[Address]:
        """What is in a folder, in order; its files' facts are good for a while. Raises Missing, StoreFault."""
        listed = self._entries(lambda: self.look_into(folder))
        if not listed and folder.path:
            raise Missing(str(folder))
        return sorted(set(listed), key=place_of)

    def _entries(self, look: Callable[[], Iterable[FileFacts | Address]]) -> Sequence[Address]:
        """The addresses that a look into a folder gives; the facts it gives are cached. Raises Missing, StoreFault."""
        listed = []
        for entry in self._asked(lambda: _tried(lambda: list(look()), self._timeout)):
            if isinstance(entry, FileFacts):
                memory = self._seen if self.lists_all else self._glimpsed
                try:
                    entry = self._found(entry, memory).facts.address
                except StoreFault as fault:  # of one file, which keeps nobody from the others
                    log.error("store.file-left-out", extra={"fields": {"error": str(fault)}})
                    continue
            elif not is_proper(entry):
                continue
            listed.append(entry)
        return listed

    def glance(self, address: Address) -> Found:
        """Like `locate`, where what a listing tells of a file will do."""
        seen = self._glimpsed.get(address.path)
        return self._located(address) if seen is None or time.monotonic() - seen[0] >= self._fresh else seen[1]

    def _found(self, facts: FileFacts, memory: Memory[str, tuple[float, Found]] | None = None) -> Found:
        """The finding; of a file that is unaltered the same as before, so that what was made of it is still good."""
        memory = self._seen if memory is None else memory
        try:
            facts = bounded(facts)
        except ValueError as error:
            raise StoreFault(f"store {self.name!r}: {error}", store=self.name) from None
        seen = memory.get(facts.address.path)
        found = None if seen is None else seen[1]
        if found is None or found.facts != facts:
            source = BlockingFile(self, facts.address, cast(int, facts.size), str(facts.tag))
            found = Found(facts, source)
        memory.keep(facts.address.path, (time.monotonic(), found))
        return found

    def forget(self, address: Address) -> None:
        """Drops what is cached of a file that was put or removed."""
        self._seen.pop(address.path, None)
        self._glimpsed.pop(address.path, None)

    def read(self, source: BlockingFile, offset: int, count: int) -> bytes:
        """`count` bytes of a file that was found. Raises ContentChanged, StoreFault."""
        return self._patiently(lambda: self._read(source, offset, count)) if count else b""

    async def read_async(self, source: BlockingFile, offset: int, count: int) -> bytes:
        """Like `read`, in the event loop."""
        return await self._patiently_async(lambda: self._read(source, offset, count)) if count else b""

    def is_unaltered(self, source: BlockingFile) -> bool:
        """Whether the file is what was found, asked anew. Raises StoreFault."""
        return self._patiently(lambda: self._is_unaltered(source))

    async def is_unaltered_async(self, source: BlockingFile) -> bool:
        """Like `is_unaltered`, in the event loop."""
        return await self._patiently_async(lambda: self._is_unaltered(source))

    async def pieces(self, source: BlockingFile, offset: int, count: int) -> AsyncIterator[bytes]:
        """A part of a content in pieces, read ahead. The last one is given after the file was found unaltered.

        Raises:
            ContentChanged, StoreFault.
        """
        stop = offset + count
        asked = at = offset
        _held.transfers += 1
        size = min(_held.piece, self.reading.largest)
        waiting: deque[asyncio.Future[bytes]] = deque()
        held = 0  # bytes of this transfer's pieces
        try:
            while at < stop:
                while asked < stop and self._may_ask(len(waiting), held + (some := min(size, stop - asked))):
                    waiting.append(asyncio.ensure_future(self.read_async(source, asked, some)))
                    asked, held = asked + some, held + some
                    _held.take(some)
                    # Small at first, so that it begins soon, and larger the longer it goes on and there is room.
                    size = min(2 * size if _held.count < _ROOM // 2 else _held.piece, self.reading.largest)
                piece = await waiting.popleft()
                at += len(piece)
                if at >= stop and not await self.is_unaltered_async(source):
                    raise ContentChanged("the file was altered while it was sent")
                yield piece
                held -= len(piece)
                _held.give_back(len(piece), self._calls)
        finally:
            _held.transfers -= 1
            _held.give_back(held, self._calls)
            for one in waiting:
                one.cancel()
                one.add_done_callback(_looked_at)

    def _may_ask(self, waiting: int, held: int) -> bool:
        """Whether to request a further piece, with which `held` bytes are held: always one, and some ahead."""
        if not waiting:
            return True
        if waiting > self.reading.ahead or held > self.reading.room:
            return False
        return self._calls.taken < self.reading.calls and _held.count < _ROOM

    def _read(self, source: BlockingFile, offset: int, count: int) -> bytes:
        try:
            data = _tried(lambda: self.read_at(source.address, source.tag, offset, count), self._timeout)
        except Missing:
            raise ContentChanged("the file is no longer there") from None
        if len(data) != count:
            raise ContentChanged("the file ended before its announced length")
        return data

    def _is_unaltered(self, source: BlockingFile) -> bool:
        try:
            facts = _tried(lambda: self.look_up(source.address), self._timeout)
        except Missing:
            return False
        return str(facts.tag) == source.tag and facts.size == source.size

    def _asked(self, work: Callable[[], T]) -> T:
        """The store's answer; when the store is busy, the call is refused at once. Raises Missing, StoreFault."""
        try:
            return self._calls.call(work)
        except (*_SAID, PathConflict, Refusal):
            raise
        except Exception as error:  # each kind has errors of its own
            raise self.fault(error) from error

    def _patiently(self, work: Callable[[], T]) -> T:
        """Like `_asked`, for a content that is being read: it waits for a thread as long as a call may take."""
        try:
            return self._calls.call_in_turn(work, self._timeout)
        except (ContentChanged, StoreFault):
            raise
        except Exception as error:  # each kind has errors of its own
            raise self.fault(error) from error

    async def _patiently_async(self, work: Callable[[], T]) -> T:
        try:
            return await self._calls.run_in_turn(work, self._timeout)
        except (ContentChanged, StoreFault):
            raise
        except Exception as error:  # each kind has errors of its own
            raise self.fault(error) from error

    def fault(self, error: BaseException) -> StoreFault:
        """The fault, with the name of the store."""
        if isinstance(error, PoolBusy | DeadlinePassed):
            word = "busy" if isinstance(error, PoolBusy) else "no-answer"
            return StoreFault(f"store {self.name!r}: {error}", store=self.name, word=word)
        word = "no-answer" if isinstance(error, TimeoutError) or "Timeout" in type(error).__name__ else "unreachable"
        return StoreFault(f"store {self.name!r}: {type(error).__name__}: {error}", store=self.name, word=word)


def _tried(ask: Callable[[], T], seconds: float) -> T:
    """Calls the store, and once or twice more after a failure: a connection may have been lost.

    `seconds` is for how long it is waited for: it is not asked again when most of them are over.
    """
    end = time.monotonic() + seconds / 2
    for pause in _PAUSES:
        try:
            return ask()
        except (*_SAID, PathConflict, Refusal):
            raise
        except Exception as error:  # each kind has errors of its own
            if time.monotonic() + pause > end:
                raise
            log.info("store.asked-again", extra={"fields": {"error": f"{type(error).__name__}: {error}"[:500]}})
            time.sleep(pause)
    return ask()


def _looked_at(future: asyncio.Future[Any]) -> None:
    """Consumes the result of a call that nobody awaits any more."""
    if not future.cancelled():
        future.exception()

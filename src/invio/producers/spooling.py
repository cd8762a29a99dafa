"""Productions: one run of a producer, written to a nameless file while everybody who asked is sent what there is.

A producer writes as fast as it can, whoever reads how fast: a slow client holds no database. Each reader follows at its
own pace, and waits where it has caught up. Once the content is whole, it has a length and a digest, and any part of it
can be read.

Invariants:
- Bytes that were written are never changed; `length` only grows, and is raised after the bytes are in the file. So a
  reader that reads below `length` gets what every other reader gets.
- A production ends once, as `whole` or as `failed`. Whoever waits is woken at each piece and at the end.
- What is made is bounded: a content by `bytes` and `seconds`, all of them together by their `Room`. What goes beyond
  fails; its file, and with it the room, is given back when nobody holds the production any more.
- What has failed holds no place on the disk: nobody gets any more of it, however far behind they are.
- When nobody has read for `LINGERS` seconds, an unfinished production is stopped: its rows are closed, and with them
  the database's cursor.

Orders of events that were considered: a reader that leaves while the producer is waiting for its database (the watch
cancels the query, by another thread); the first reader that comes while the last one leaves (`readers` is counted under
the lock, and the watch looks at it under the same); a producer that ends before anybody reads (its readers find it
whole); one that never gives a piece (its readers are told after `seconds`; its thread stays taken until it returns).
"""

from __future__ import annotations

import asyncio
import errno
import hashlib
import logging
import os
import secrets
import tempfile
import threading
import time
import weakref
from collections.abc import AsyncIterator, Callable, Iterator
from contextlib import suppress

from invio.producers.failures import NoRoom, NotProduced
from invio.producers.room import Room, Taken
from invio.workers.pool import Pool, PoolBusy

log = logging.getLogger("invio.delivery")

LINGERS = 3.0  # seconds for which a production goes on without a reader: one that was cut off may come back
_LOOKED_EVERY = 0.1  # seconds between two looks of the watch
_WAITS = 0.25  # seconds after which a reader looks whether it is still wanted
_PIECE = 256 * 1024  # bytes read at a time
_FULL = (errno.ENOSPC, errno.EDQUOT)


class Production:
    """One run. Nothing is made before `start`, which the first reader calls."""

    def __init__(self, begin: Callable[[], Iterator[bytes]], pool: Pool, room: Room, whose: str | None = None) -> None:
        """`begin` gives the pieces; it, and each piece, is taken by a thread of `pool`, for whoever it is."""
        self.tag = secrets.token_hex(12)
        self._begin, self._pool, self._room, self.whose = begin, pool, room, whose
        self._changed = threading.Condition()
        self._waiting: set[tuple[asyncio.AbstractEventLoop, asyncio.Event]] = set()
        self._file = tempfile.TemporaryFile(prefix="invio-", dir=room.folder)  # noqa: SIM115 - as long as this lives
        self._pieces: Iterator[bytes] | None = None
        self._started = False
        self._stopped = False
        self._deadline = float("inf")
        self._left_at = 0.0
        self._sha256 = hashlib.sha256()
        self.readers = 0
        self.length = 0
        self.whole = False
        # What is raised holds on to where it was raised, and so to this: each time it is raised anew.
        self.failed: tuple[str, str] | None = None
        self.lacks_room = False  # why it failed
        self.began = 0.0  # Unix seconds
        self.ended = 0.0  # on the clock that does not go back
        self._taken = Taken(room, whose)
        weakref.finalize(self, self._taken.give_back_the_rest)

    @property
    def sha256(self) -> bytes:
        """Of the content, once it is whole."""
        return self._sha256.digest()

    @property
    def ends(self) -> bool:
        """Whether nothing more is made."""
        return self.whole or self.failed is not None

    def start(self) -> None:
        """Starts the run, once. Raises NotProduced: too many runs are under way."""
        self._start(is_watched=True)

    def make(self, check: Callable[[], object]) -> None:
        """Makes all of it, and returns when it is whole. This thread watches the run, and not one of its own.

        `check` is called every so often, and may raise: then the run is stopped.

        Raises:
            NotProduced: it is not made.
        """
        self._start(is_watched=False)
        self._reads(+1)
        try:
            while not self.whole:
                check()
                with self._changed:
                    if not self._has(0, whole=True):
                        self._changed.wait(_WAITS)
                self._look()
        except BaseException:
            self._stop(NotProduced("nobody waits for it any more"))
            raise
        finally:
            self._reads(-1)

    def _start(self, *, is_watched: bool) -> None:
        with self._changed:
            if self._started:
                return
            self._started = True
            self.began, self._deadline = time.time(), time.monotonic() + self._room.seconds
            self._left_at = time.monotonic()
        try:
            if is_watched:
                threading.Thread(target=self._watch, name="production", daemon=True).start()
            self._pool.submit(self._make, whose=self.whose)
        except (PoolBusy, RuntimeError):  # the latter: the system gives no thread
            self._end(NotProduced("too much of this is being made at once", "busy"))
            raise self._failure() from None

    def descriptor(self) -> int:
        """A descriptor of what is made, which the caller closes."""
        return os.dup(self._file.fileno())

    # What the producer's thread does.

    def _make(self) -> None:
        try:
            self._pieces = self._begin()
            for piece in self._pieces:
                if self._stopped:
                    raise NotProduced("nobody waits for it any more")
                self._add(piece)
                if time.monotonic() > self._deadline:
                    raise NotProduced(f"it took longer than {self._room.seconds:g} seconds")
        except NotProduced as error:
            self.lacks_room = isinstance(error, NoRoom)
            self._end(error)
        except OSError as error:
            full = error.errno in _FULL
            self._fail(error, NotProduced("the disk is full", "no-space") if full else None)
        except BaseException as error:  # a producer is the operator's own code, and may raise anything
            self._fail(error, None)
        else:
            self._end(None)
        finally:
            close = getattr(self._pieces, "close", None)
            self._pieces = None
            if self.failed is not None:  # the run may have been stopped while a piece was written
                self._give_up()
            if close is not None:
                with suppress(Exception):  # the source may have failed already
                    close()

    def _fail(self, error: BaseException, said: NotProduced | None) -> None:
        if not self._stopped and self.failed is None:
            log.error("producer.failed", exc_info=error)
        self._end(said or NotProduced(f"the content could not be made ({type(error).__name__})"))

    def _add(self, piece: bytes) -> None:
        if self.length + len(piece) > self._room.bytes:
            raise NotProduced(f"it is larger than {self._room.bytes} bytes")
        self._taken.take(len(piece))
        self._file.write(piece)
        self._file.flush()
        self._sha256.update(piece)
        with self._changed:
            if self.failed is not None:  # the run was stopped meanwhile
                raise self._failure()
            self.length += len(piece)
            self._wake()

    def _end(self, failed: NotProduced | None) -> None:
        with self._changed:
            if self.ends:
                return
            self.failed, self.whole = None if failed is None else (str(failed), failed.word), failed is None
            self.ended = time.monotonic()
            self._wake()
        if failed is not None:
            self._give_up()

    def _give_up(self) -> None:
        """Frees the disk space at once, even if readers still hold this: they get no more of it."""
        with suppress(OSError):
            os.ftruncate(self._file.fileno(), 0)
        self._taken.give_back()

    def _failure(self) -> NotProduced:
        said, word = self.failed or ("nothing was made", "not-made")
        return NotProduced(said, word)

    def _wake(self) -> None:
        """Wakes the waiters. Call it under the lock."""
        self._changed.notify_all()
        for loop, event in self._waiting:
            with suppress(RuntimeError):  # its loop has ended, and with it the waiter
                loop.call_soon_threadsafe(event.set)
        self._waiting.clear()

    def _watch(self) -> None:
        """Stops runs that take too long or that nobody reads; in its own thread, because the producer's may block."""
        while not self.ends:
            time.sleep(_LOOKED_EVERY)
            self._look()

    def _look(self) -> None:
        now = time.monotonic()
        with self._changed:
            abandoned = not self.readers and now - self._left_at > LINGERS
            self._stopped = self._stopped or abandoned
        if abandoned:
            self._stop(NotProduced("nobody waits for it any more"))
        elif now > self._deadline:
            self._stop(NotProduced(f"it took longer than {self._room.seconds:g} seconds"))

    def _stop(self, why: NotProduced) -> None:
        if self.ends:
            return
        self._end(why)
        cancel = getattr(self._pieces, "cancel", None)
        if cancel is not None:
            with suppress(Exception):  # a driver's error, of a query that is no longer needed
                cancel()

    # What readers do.

    def _reads(self, change: int) -> None:
        with self._changed:
            self.readers += change
            self._left_at = time.monotonic()

    async def pieces(self) -> AsyncIterator[bytes]:
        """All of the content, as it comes to be.

        Raises:
            NotProduced: it is not made, or no further.
        """
        at = 0
        self._reads(+1)
        try:
            self.start()
            while True:
                length = self.length
                piece = b"" if at >= length else os.pread(self._file.fileno(), min(_PIECE, length - at), at)
                if self.failed is not None:  # and what was read may have been given up in between
                    raise self._failure()
                if piece:
                    at += len(piece)
                    yield piece
                elif self.whole and at == self.length:
                    return
                else:
                    await self._changes(at)
        finally:
            self._reads(-1)

    async def _changes(self, seen: int) -> None:
        """Returns when there is more than was seen, or the end, or after a while."""
        event = asyncio.Event()
        waits = (asyncio.get_running_loop(), event)
        with self._changed:
            if self.length > seen or self.ends:
                return
            self._waiting.add(waits)
        try:
            async with asyncio.timeout(_WAITS):
                await event.wait()
        except TimeoutError:
            pass
        finally:
            with self._changed:
                self._waiting.discard(waits)

    async def all(self) -> None:
        """Runs the producer, and returns when the content is whole. Raises NotProduced."""
        self.start()
        await self.reach_async(0, whole=True)

    def part(self, offset: int, count: int) -> bytes:
        """Bytes of what there is so far; fewer than `count` at its end."""
        return os.pread(self._file.fileno(), min(count, max(0, self.length - offset)), offset)

    async def reach_async(self, upto: int, *, whole: bool) -> None:
        """Returns when there are `upto` bytes, or with `whole` when there is no more to come. Raises NotProduced."""
        self._reads(+1)
        try:
            while not self._has(upto, whole=whole):
                await self._changes(self.length)
        finally:
            self._reads(-1)

    def reach(self, upto: int, *, whole: bool) -> None:
        """Like `reach_async`, for a worker thread."""
        self._reads(+1)
        try:
            with self._changed:
                while not self._has(upto, whole=whole):
                    self._changed.wait(_WAITS)
        finally:
            self._reads(-1)

    def _has(self, upto: int, *, whole: bool) -> bool:
        if self.failed is not None:
            raise self._failure()
        return self.whole or (not whole and self.length >= upto)

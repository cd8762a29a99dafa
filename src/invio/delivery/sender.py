"""Sending: a reply → the ASGI `send`. Nothing else writes the body of a file.

Two ways, one loop: where the server offers zero-copy, slices are handed over as descriptors;
elsewhere they are read and sent in pieces. Small slices are read in either case, and leave
together with the literal bytes around them.
"""

from __future__ import annotations

import asyncio
import os
import time
from collections.abc import AsyncIterator, Iterator
from contextlib import suppress
from typing import Any

from starlette.concurrency import iterate_in_threadpool, run_in_threadpool

from invio.core.replies import Reply, Slice, Streamed
from invio.delivery.zerocopy import ClientGone, ReplyBroken, Wire
from invio.stores.sources import ContentChanged, SliceSource

# A slice up to this size is copied: one write with its neighbours costs less than a sendfile.
SMALL = 64 * 1024  # bytes
PIECE = 256 * 1024  # bytes read at a time on a server without zero-copy
# The end of a slice is read, then the file is looked at once more, and only then it is sent: a file
# that was altered under way is broken off before its announced length, never completed.
TAIL = 4 * 1024  # bytes
# The pauses of a limited body: short enough to be smooth, long enough to cost nothing.
_TICK = 0.05  # seconds


class Meter:
    """Counts what a reply has handed over, and knows what of it arrived. Bytes, from the body's first."""

    def __init__(self, wire: Wire | None) -> None:
        self._wire = wire
        self.counted = 0

    @property
    def sent(self) -> int:
        return self.counted if self._wire is None else self._wire.body_sent

    @property
    def arrived(self) -> int:
        """What was sent, less what the other side has not acknowledged yet."""
        if self._wire is None:
            return self.counted
        return max(0, self._wire.body_sent - self._wire.unacknowledged())


class Sender:
    """Sends one reply over one ASGI exchange."""

    def __init__(self, scope: Any, receive: Any, send: Any) -> None:
        self._receive = receive
        self._send = send
        self._rate: int | None = None
        extensions = scope.get("extensions") or {}
        self._zero_copy = "http.response.zerocopysend" in extensions
        self._wire: Wire | None = extensions.get("invio.connection")
        self._gone = False
        self._began = 0.0
        self.meter = Meter(self._wire)

    def limit(self, rate: int | None) -> None:
        """Lets the body leave no faster than `rate` bytes a second."""
        self._rate = rate

    async def send(self, reply: Reply) -> None:
        """Sends the reply to its last byte.

        Raises:
            ClientGone: the client went away.
            ReplyBroken: the content is not what was announced; the connection must be broken.
        """
        if self._wire is not None:
            self._wire.hold_head(reply.status, reply.headers)
            await self._body(reply)
            return
        await self._send({"type": "http.response.start", "status": reply.status, "headers": reply.headers})
        # Servers differ in what `send` does once the client is gone; all of them tell `receive`.
        watcher = asyncio.create_task(self._watch())
        try:
            await self._body(reply)
        finally:
            watcher.cancel()
            with suppress(asyncio.CancelledError):
                await watcher

    async def arrival(self) -> None:
        """Returns when all that was sent is acknowledged, or the client is gone."""
        pause = 0.001
        wire = self._wire
        while wire is not None and not wire.gone and wire.unacknowledged():
            await asyncio.sleep(pause)
            pause = min(0.1, pause * 2)

    async def _watch(self) -> None:
        while (await self._receive())["type"] != "http.disconnect":
            pass
        self._gone = True

    async def _body(self, reply: Reply) -> None:
        self._began = time.monotonic()
        if any(isinstance(part, Streamed) for part in reply.parts):
            await self._streamed(reply)
            return
        pending: list[bytes] = []
        waiting = 0
        for part in reply.parts:
            if isinstance(part, Slice) and part.length > SMALL:
                await self._literal(b"".join(pending), more=True)
                tail = await self._all_but_tail(part)
                pending, waiting = [tail], len(tail)
            elif isinstance(part, Slice):
                pending.append(_read(part))
                waiting += part.length
            elif isinstance(part, bytes):
                pending.append(part)
                waiting += len(part)
            if waiting >= PIECE:
                await self._literal(b"".join(pending), more=True)
                pending, waiting = [], 0
        await self._literal(b"".join(pending), more=False)

    async def _literal(self, data: bytes, more: bool) -> None:
        if not data and more:
            return
        if self._rate is None:
            await self._piece(data, more)
            return
        step = self._step(len(data))
        for begin in range(0, len(data) or 1, step or 1):
            piece = data[begin : begin + step] if step < len(data) else data
            await self._piece(piece, more or begin + step < len(data))
        await self._hold_rate()

    async def _piece(self, data: bytes, more: bool) -> None:
        if self._gone:
            raise ClientGone("the client closed the connection")
        await self._send({"type": "http.response.body", "body": data, "more_body": more})
        self.meter.counted += len(data)
        if more:
            await self._hold_rate()

    async def _all_but_tail(self, part: Slice) -> bytes:
        """Sends a slice up to its last few bytes, and gives those, read and found unaltered."""
        source = _source(part)
        descriptor = _opened(source)
        try:
            stop = part.offset + part.length - TAIL
            step = self._step(part.length if self._zero_copy else PIECE)
            for begin in range(part.offset, stop, step):
                count = min(step, stop - begin)
                if self._zero_copy:
                    message = {"file": descriptor, "offset": begin, "count": count, "more_body": True}
                    await self._send({"type": "http.response.zerocopysend", **message})
                    self.meter.counted += count
                    await self._hold_rate()
                else:
                    await self._piece(await run_in_threadpool(_pread, descriptor, count, begin), more=True)
            return _read_unaltered(source, descriptor, TAIL, stop)
        finally:
            os.close(descriptor)

    async def _streamed(self, reply: Reply) -> None:
        for part in reply.parts:
            if isinstance(part, Streamed):
                async for piece in _pieces(part.source.chunks()):  # type: ignore[attr-defined]
                    await self._literal(piece, more=True)
        await self._literal(b"", more=False)

    def _step(self, length: int) -> int:
        """How much to send at once: all of it, or what the rate allows in one tick."""
        return length if self._rate is None else max(1, min(length, int(self._rate * _TICK)))

    async def _hold_rate(self) -> None:
        if self._rate is not None:
            ahead = self.meter.sent / self._rate - (time.monotonic() - self._began)
            if ahead > 0:
                await asyncio.sleep(ahead)


async def _pieces(chunks: Iterator[bytes]) -> AsyncIterator[bytes]:
    """Takes pieces in a worker thread; a fault of whoever makes them breaks the reply."""
    try:
        async for piece in iterate_in_threadpool(chunks):
            yield piece
    except (ClientGone, ReplyBroken, asyncio.CancelledError):
        raise
    except Exception as error:  # a producer is the operator's own code, and may raise anything
        raise ReplyBroken(f"the content could not be made: {type(error).__name__}: {error}") from error


def _source(part: Slice) -> SliceSource:
    return part.source  # type: ignore[return-value]


def _opened(source: SliceSource) -> int:
    try:
        return source.open()
    except ContentChanged as error:
        raise ReplyBroken(str(error)) from None


def _read(part: Slice) -> bytes:
    source = _source(part)
    descriptor = _opened(source)
    try:
        return _read_unaltered(source, descriptor, part.length, part.offset)
    finally:
        os.close(descriptor)


def _read_unaltered(source: SliceSource, descriptor: int, count: int, offset: int) -> bytes:
    data = _pread(descriptor, count, offset)
    if not source.is_at(descriptor):
        raise ReplyBroken("the file was altered while it was sent")
    return data


def _pread(descriptor: int, count: int, offset: int) -> bytes:
    data = os.pread(descriptor, count, offset)
    while len(data) < count:
        more = os.pread(descriptor, count - len(data), offset + len(data))
        if not more:
            raise ReplyBroken("the file ended before its announced length")
        data += more
    return data

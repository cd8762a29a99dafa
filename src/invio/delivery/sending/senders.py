"""Sending: a reply → the ASGI `send`. Nothing else writes the body of a file.

Two ways, one loop: where the server offers zero-copy, and nothing between it and us would lose them,
slices are handed over as descriptors; elsewhere they are read and sent in pieces. Small slices are
read in either case, and leave together with the literal bytes around them. Where a speed limit
holds, every step waits for its turn before it leaves, so that nothing is read that is not about to
be sent.
"""

from __future__ import annotations

import asyncio
import os
import time
from collections.abc import Coroutine, Sequence
from contextlib import suppress
from typing import Any

from invio.core.archive.plan import SMALL
from invio.core.http.replies import Reply, Slice, Streamed
from invio.core.throttle import Throttle
from invio.delivery.sending.acknowledgement import AcknowledgementMonitor, Ended, PendingResponse
from invio.delivery.sending.connection import Connection
from invio.delivery.sending.eager import in_thread
from invio.delivery.sending.errors import ClientGone, IdleTimer, ReaderStuck, ReplyBroken
from invio.delivery.sending.meter import Meter
from invio.delivery.sending.production import made_pieces
from invio.delivery.sending.pump import Pump
from invio.delivery.sending.slices import (
    TAIL,
    blocking_pieces,
    opened,
    read_fully,
    read_slice,
    read_unaltered,
)
from invio.stores.sources import Samples

# A slice up to SMALL bytes is copied: one write with its neighbours costs less than a sendfile.
PIECE = 256 * 1024  # bytes read at a time on a server without zero-copy
_MADE_IDLE = 20.0  # seconds for which a reader of what is being made may take nothing
# How often a reader is looked at while it is waited for, as a part of the time that it has.
_LOOKS = 4


class Sender:
    """Sends one reply over one ASGI exchange."""

    __slots__ = (
        "_breaker", "_gone", "_idle", "_look", "_patience", "_receive", "_send", "_throttles", "_wire", "_wrapped",
        "_zero_copy", "meter",
    )  # fmt: skip

    def __init__(self, scope: Any, receive: Any, send: Any, idle: float | None = None) -> None:
        """`idle` is for how many seconds the other side may take nothing of what is ready for it."""
        self._receive = receive
        self._send = send
        self._throttles: Sequence[Throttle] = ()
        extensions = scope.get("extensions") or {}
        self._zero_copy = "http.response.zerocopysend" in extensions
        self._wire: Connection | None = extensions.get("invio.connection")
        # Whether `send` is the connection's own, or wrapped by middleware.
        self._wrapped = self._wire is not None and getattr(send, "__self__", None) is not self._wire
        self._breaker: Connection | None = None  # the connection, where it can only be broken
        self._gone = False
        self._idle = idle
        self._look: asyncio.TimerHandle | None = None
        self._patience: IdleTimer | None = None
        self.meter = Meter(self._wire)

    @property
    def on_own_server(self) -> bool:
        """Whether the connection is our server's, and not another's."""
        return self._wire is not None

    @property
    def _own_wire(self) -> Connection:
        if self._wire is None:
            raise TypeError("the connection is another server's")
        return self._wire

    def limit(self, throttles: Sequence[Throttle]) -> None:
        """Lets the body leave no faster than each of `throttles` allows."""
        self._throttles = throttles

    def hand_over(self, reply: Reply, watch: AcknowledgementMonitor, ended: Ended) -> bool:
        """Lets a long body send itself, where nothing stands in between and nothing has to be waited for.

        True: it is on its way, and `ended` is called once, at its end. False: it is not such a body,
        and nothing was sent. Raises ReplyBroken.
        """
        wire = self._wire
        if wire is None or self._wrapped or self._throttles or reply.length is None or reply.length <= SMALL:
            return False
        if reply.may_block or not wire.free:
            return False
        pump = Pump(wire, reply.parts, watch, ended)
        pump.start(wire.head_of(reply.status, reply.headers))
        return True

    def sends_at_once(self, reply: Reply) -> bool:
        """Whether a reply may be sent in one write, when the connection takes it."""
        if self._wire is None or self._wrapped or self._throttles or reply.length is None:
            return False
        return reply.length <= SMALL and not reply.may_block

    def send_at_once(self, reply: Reply) -> bool:
        """Sends head and body of a `sends_at_once` reply in one write; False if that is not possible after all.

        Raises:
            ReplyBroken: the content is not what was announced; nothing was sent.
        """
        # Literals and slices alone: what is streamed has no length.
        body = b"".join([part if isinstance(part, bytes) else read_slice(part) for part in reply.parts])  # type: ignore[arg-type]
        return self._own_wire.send_whole(reply.status, reply.headers, body)

    def defer(self) -> None:
        """Lets the application return; the response follows after `resume`."""
        self._own_wire.defer()

    def resume(self) -> None:
        """See `defer`."""
        self._own_wire.resume()

    def spawn(self, sending: Coroutine[Any, Any, None]) -> None:
        """Sends a postponed response with a coroutine that nobody awaits."""
        self._own_wire.spawn(sending)

    async def send(self, reply: Reply) -> None:
        """Sends the reply to its last byte.

        Raises:
            ClientGone: the client went away, or took nothing for too long.
            ReplyBroken: the content is not what was announced; the connection must be broken.
        """
        for throttle in self._throttles:
            throttle.users += 1
        try:
            if self._wrapped:
                await self._look_through()
            if self._wire is not None and not self._wrapped:
                await self._send_on_wire(self._wire, reply)
                return
            # A copy: what stands around this may add to it, and the reply is kept for others.
            start = {"type": "http.response.start", "status": reply.status, "headers": list(reply.headers)}
            await self._send(start)
            if self._wire is not None:
                self._keep_looking()
                await self._body(reply)
                return
            # Servers differ in what `send` does once the client is gone; all of them tell `receive`.
            watcher = asyncio.create_task(self._watch())
            try:
                await self._body(reply)
            except ReplyBroken as error:
                # Middleware may take the end of what it got for the end of the body.
                if self._breaker is not None:
                    self._breaker.cut(str(error))
                raise
            finally:
                watcher.cancel()
                with suppress(asyncio.CancelledError):
                    await watcher
        finally:
            for throttle in self._throttles:
                throttle.users -= 1
            self._stop_looking()

    async def _look_through(self) -> None:
        """Tests whether middleware around the connection's `send` passes on unknown messages.

        The framework's own wrappers do; middleware that compresses or rebuilds the body would lose
        a file that is handed over by its descriptor, so then there is no such connection for us.
        """
        wire = self._own_wire
        await self._send(wire.question())
        if not wire.answered:
            self._wire, self._zero_copy = None, False
            self._breaker = wire
            self.meter.through(None)

    @property
    def untouched(self) -> bool:
        """Whether nothing has left yet, so that another reply may be sent instead."""
        return self._wire is not None and not self._wrapped and self._wire.untouched

    async def _send_on_wire(self, wire: Connection, reply: Reply) -> None:
        if self.sends_at_once(reply) and self.send_at_once(reply):
            return
        wire.hold_head(reply.status, reply.headers)
        if reply.length is None or reply.length > SMALL:
            self._keep_looking()
        await self._body(reply)

    def end_on_arrival(self, watch: AcknowledgementMonitor, ended: Ended) -> None:
        """Calls `ended` once the whole reply has arrived, or no longer can."""
        wire = self._wire
        if wire is None or wire.gone:
            ended(None)
            return
        answer = PendingResponse(wire, watch, ended)
        wire.attach(answer)
        watch.arrives(answer)

    def _keep_looking(self) -> None:
        """Starts disconnecting a client that takes nothing."""
        if self._idle is None or self._wire is None or self._look is not None:
            return
        if self._patience is None:
            self._patience = IdleTimer()
        if self._patience.ended(time.monotonic(), self.meter.arrived, waiting=self._wire.waiting(), idle=self._idle):
            self._wire.cut(f"the client took nothing for {self._idle:g} seconds")
            return
        self._look = asyncio.get_running_loop().call_later(self._idle / _LOOKS, self._look_again)

    def _look_again(self) -> None:
        self._look = None
        self._keep_looking()

    def _stop_looking(self) -> None:
        if self._look is not None:
            self._look.cancel()
            self._look = None

    async def _watch(self) -> None:
        while (await self._receive())["type"] != "http.disconnect":
            pass
        self._gone = True

    async def _body(self, reply: Reply) -> None:
        if reply.length is None:
            await self._streamed(reply)
            return
        pending: list[bytes] = []
        waiting = 0
        for part in reply.parts:
            if isinstance(part, Slice):
                if part.source.may_block:
                    async for piece in blocking_pieces(part):
                        await self._literal(b"".join([*pending, piece]), more=True)
                        pending, waiting = [], 0
                elif part.length > SMALL and (descriptor := opened(part.source)) is not None:
                    tail = await self._all_but_tail(part, descriptor, b"".join(pending))
                    pending, waiting = [tail], len(tail)
                else:
                    pending.append(read_slice(part))
                    waiting += part.length
            elif isinstance(part, bytes):
                pending.append(part)
                waiting += len(part)
            if waiting >= PIECE:
                await self._literal(b"".join(pending), more=True)
                pending, waiting = [], 0
        await self._literal(b"".join(pending), more=False)

    async def _literal(self, data: bytes, *, more: bool) -> None:
        if not self._throttles:
            if data or not more:
                await self._piece(data, more=more)
            return
        begin = 0
        while begin < len(data):
            step = self._step(len(data) - begin)
            await self._turn(step)
            piece = data[begin : begin + step]
            begin += step
            await self._piece(piece, more=more or begin < len(data))
        if not data and not more:
            await self._piece(b"", more=False)

    async def _piece(self, data: bytes, *, more: bool) -> None:
        if self._gone:
            raise ClientGone("the client closed the connection")
        message = {"type": "http.response.body", "body": data, "more_body": more}
        if self._wire is not None or self._idle is None:
            await self._send(message)
        else:
            try:
                await asyncio.wait_for(self._send(message), self._idle)
            except TimeoutError:
                raise ReaderStuck(f"the client took nothing for {self._idle:g} seconds") from None
        self.meter.counted += len(data)

    async def _all_but_tail(self, part: Slice, descriptor: int, before: bytes) -> bytes:
        """Sends what stands `before` a slice, and the slice up to its last few bytes; gives those, found unaltered.

        The descriptor is closed.
        """
        try:
            await self._literal(before, more=True)
            begin, stop = part.offset, part.offset + part.length - TAIL
            samples = Samples.of(descriptor, begin, stop + TAIL)
            while begin < stop:
                step = self._step(stop - begin if self._zero_copy else min(PIECE, stop - begin))
                await self._turn(step)
                if self._wire is not None and not self._wrapped:
                    await self._wire.send_file(descriptor, begin, step, more=True)
                elif self._zero_copy:
                    message = {"file": descriptor, "offset": begin, "count": step, "more_body": True}
                    await self._send({"type": "http.response.zerocopysend", **message})
                    self.meter.counted += step
                else:
                    await self._piece(await in_thread(read_fully, descriptor, step, begin), more=True)
                begin += step
            return read_unaltered(part.source, descriptor, TAIL, stop, samples)
        finally:
            os.close(descriptor)

    async def _streamed(self, reply: Reply) -> None:
        for part in reply.parts:
            if isinstance(part, Streamed):
                if (
                    self._idle is not None
                ):  # it holds what it is made of: a connection to a database, a function's state
                    self._idle = min(self._idle, _MADE_IDLE)
                async for piece in made_pieces(part.source, self._is_gone):
                    await self._literal(piece, more=True)
        await self._literal(b"", more=False)

    def _is_gone(self) -> bool:
        """Whether the client is gone."""
        return self._gone or (self._wire is not None and self._wire.gone)

    def _step(self, length: int) -> int:
        """How much of `length` to send at once: all of it, or what the limits let through in one go."""
        return min([length, *(throttle.step for throttle in self._throttles)])

    async def _turn(self, count: int) -> None:
        """Returns when `count` bytes may leave."""
        if not self._throttles:
            return
        now = time.monotonic()
        ready = max(throttle.reserve(now, count) for throttle in self._throttles)
        if ready > now:
            await asyncio.sleep(ready - now)

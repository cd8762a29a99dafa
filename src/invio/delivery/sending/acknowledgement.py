"""Responses that continue without a task until the client has acknowledged every byte.

A byte handed to the kernel has not arrived yet: a response ends when the client has acknowledged its last byte, or is
gone. Until then there is no task and no coroutine of its request. One timer looks at all of them, and the next request
on the same connection at the one before it.
"""

from __future__ import annotations

import asyncio
import select
from collections.abc import Callable

from invio.delivery.sending.connection import Connection
from invio.delivery.sending.errors import ClientGone, IdleTimer, ReaderStuck

# How an answer ended: None when all of it was sent, and taken or the client left meanwhile.
Ended = Callable[[Exception | None], None]

_LOOKS = 4  # at a reader, within the time that it may take nothing
# Acknowledgements are looked for at ticks: soon after all was sent, and then less and less often. Mostly the next
# request on the same connection is there first.
_TICK = 0.01  # seconds
_SOON, _LATER = 2, 10  # ticks
# How often, a tick apart, whoever wants to be told of what has ended looks for the acknowledgements of what was sent
# a moment ago: some systems send them 40 ms late.
_LOOKS_TO_TELL = 6


class Stopped(Exception):
    """The service ends before the answer did."""


class PendingResponse:
    """An answer that was handed over, until it has arrived."""

    __slots__ = ("_ended", "_patience", "_watch", "_wire")

    def __init__(self, wire: Connection, watch: AcknowledgementMonitor, ended: Ended) -> None:
        self._wire = wire
        self._watch = watch
        self._ended: Ended | None = ended
        self._patience: IdleTimer | None = None

    @property
    def sending(self) -> bool:
        """Whether something of the body has not been handed over yet."""
        return False

    def push(self) -> None:
        """Sends what the socket takes, of an answer that is still `sending`."""

    def lost(self, why: ClientGone) -> None:
        """The connection is lost; `why` says how."""
        if self.sending:
            self.break_off(why)
        else:
            self.end(why if isinstance(why, ReaderStuck) else None)

    def stop(self) -> None:
        """Ends the answer where it is, and its connection."""
        if self.sending or not self.look_for_arrival():
            self.break_off(Stopped("the service was stopped"))

    def look(self, now: float, idle: float) -> None:
        """Cuts off a reader that has taken nothing for too long."""
        wire = self._wire
        if self._patience is None:
            self._patience = IdleTimer()
        if self._patience.ended(now, wire.arrived, waiting=self.sending or wire.waiting(), idle=idle):
            wire.cut(f"the client took nothing for {idle:g} seconds")

    def look_for_arrival(self) -> bool:
        """Ends the response if everything sent is acknowledged; returns whether it did."""
        wire = self._wire
        if self._ended is not None and not wire.gone:
            if wire.unacknowledged():
                return False
            wire.taken = True
        self.end(None)
        return True

    def break_off(self, error: Exception) -> None:
        """Ends a response that cannot be completed, and breaks its connection."""
        if self._ended is not None:
            self._wire.give_up()
            self.end(error)

    def end(self, error: Exception | None) -> None:
        """Reports how it ended, once; it is no longer watched."""
        self._watch.forget(self)
        self._wire.detach(self)
        ended, self._ended = self._ended, None
        if ended is not None:
            ended(error)


class AcknowledgementMonitor:
    """One timer for all answers: for readers that take nothing, and for the last acknowledgements of each."""

    def __init__(self, idle: float) -> None:
        """`idle` is for how many seconds a reader may take nothing of what is ready for it."""
        self._idle = idle
        self._sending: dict[PendingResponse, int] = {}  # with the descriptors of their sockets, or -1
        self._by_socket: dict[int, PendingResponse] = {}  # by those descriptors
        # Sockets that take no more at present. The event loop watches this one thing instead of a
        # thousand sockets, for each of which it keeps three objects.
        self._full: select.epoll | None = None
        # Those all of which was sent, with the tick of the next look, and how many there are between two.
        self._arriving: dict[PendingResponse, tuple[int, int]] = {}
        self._tick = 0
        self._timer: asyncio.TimerHandle | None = None
        self._ticking: asyncio.TimerHandle | None = None

    def sends(self, answer: PendingResponse, descriptor: int) -> None:
        """Watches a response whose socket is full."""
        if self._sending.get(answer, -1) != descriptor:
            if self._full is None:
                self._full = select.epoll()
                asyncio.get_running_loop().add_reader(self._full.fileno(), self._push, self._full)
            self._full.register(descriptor, select.EPOLLOUT)
            self._sending[answer], self._by_socket[descriptor] = descriptor, answer
        self._look_later()

    def arrives(self, answer: PendingResponse) -> None:
        """Watches a response that was sent and waits for acknowledgements."""
        self._arriving[answer] = (self._tick + _SOON, _SOON)
        self._sending[answer] = -1
        if self._ticking is None:
            self._ticking = asyncio.get_running_loop().call_later(_TICK, self._next_tick)
        if self._timer is None:
            self._look_later()

    def forget(self, answer: PendingResponse) -> None:
        """Stops watching a response that has ended."""
        self._arriving.pop(answer, None)
        descriptor = self._sending.pop(answer, -1)
        if descriptor >= 0 and self._full is not None:
            self._full.unregister(descriptor)
            del self._by_socket[descriptor]

    def stop(self) -> None:
        """Ends everything that is under way."""
        for timer in (self._timer, self._ticking):
            if timer is not None:
                timer.cancel()
        self._timer = self._ticking = None
        for answer in list(self._sending):
            answer.stop()
        if self._full is not None:
            asyncio.get_running_loop().remove_reader(self._full.fileno())
            self._full.close()
            self._full = None

    def _push(self, full: select.epoll) -> None:
        for descriptor, _ in full.poll(0):
            answer = self._by_socket.get(descriptor)
            if answer is not None:  # it may have ended since
                answer.push()

    def _look_later(self) -> None:
        if self._timer is None:
            self._timer = asyncio.get_running_loop().call_later(self._idle / _LOOKS, self._look)

    def _look(self) -> None:
        self._timer = None
        now = asyncio.get_running_loop().time()
        for answer in list(self._sending):
            answer.look(now, self._idle)
        if self._sending:
            self._look_later()

    def look_for_arrivals(self) -> None:
        """Ends the responses that have arrived by now."""
        for answer in list(self._arriving):
            answer.look_for_arrival()

    async def arrivals(self) -> None:
        """Returns when what was just sent has arrived, or is late."""
        for _ in range(_LOOKS_TO_TELL):
            self.look_for_arrivals()
            if all(ticks == _LATER for _, ticks in self._arriving.values()):
                return
            await asyncio.sleep(_TICK)

    def _next_tick(self) -> None:
        self._tick += 1
        for answer, (due, ticks) in list(self._arriving.items()):
            if due <= self._tick and not answer.look_for_arrival():
                ticks = min(_LATER, 2 * ticks)
                self._arriving[answer] = (self._tick + ticks, ticks)
        loop = asyncio.get_running_loop()
        self._ticking = loop.call_later(_TICK, self._next_tick) if self._arriving else None

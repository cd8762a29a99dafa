"""Pumps: long bodies that send themselves, called back by the event loop when their socket takes more.

A reader may take hours. While it does, there is no task and no coroutine of its request, and of the
request itself only what the end of the answer still needs: a thousand slow readers are a few
megabytes. One timer looks at all of them.
"""

from __future__ import annotations

import asyncio
import os
import select
import socket
import time
from collections.abc import Callable, Iterator, Sequence

from invio.core.archive import SMALL
from invio.core.replies import Part, Slice
from invio.delivery.reading import TAIL, is_run, opened, read_slice, read_unaltered, source_of
from invio.delivery.wire import STEP, TURN, ClientGone, Patience, ReaderStuck, ReplyBroken, Wire
from invio.stores.sources import SliceSource

# How an answer ended: None when all of it was sent, and taken or the client left meanwhile.
Ended = Callable[[Exception | None], None]

_LOOKS = 4  # at a reader, within the time that it may take nothing
_PIECE = 256 * 1024  # bytes that are read together, and then sent
_READING = 8  # how much longer small files take to be read than large ones to be sent, byte by byte
_SOON = 0.002  # seconds after which acknowledgements are looked for
_NOTHING = memoryview(b"")
_NO_MORE: Iterator[Part] = iter(())
_LATER = 0.1  # seconds between two looks for them, at most


class Stopped(Exception):
    """The service ends before the answer did."""


class Pump:
    """Sends a head, and after it the parts of a body: of a file, or of an archive.

    What is read, small parts and the ends of files, stands in `_rest` and goes first; then the file that is
    open, from `_at` to `_stop`.
    """

    __slots__ = (
        "_at", "_descriptor", "_ended", "_head", "_last", "_parts", "_rest", "_source", "_stop", "_watch", "_wire",
        "patience",
    )  # fmt: skip

    def __init__(self, wire: Wire, parts: Sequence[Part], watch: Watch, ended: Ended) -> None:
        """`parts` are literal, or slices that can be read here and now.

        Raises:
            ReplyBroken: a file is no longer the one that was found; nothing was sent then.
        """
        self._wire = wire
        self._parts = iter(parts)
        self._source: SliceSource | None = None
        self._descriptor = -1
        self._at = self._stop = 0
        self._last = False  # whether nothing comes after `_rest`
        self._rest = _NOTHING
        self._head = 0  # bytes of `_rest` that are no body
        self._watch = watch
        self._ended: Ended | None = ended
        self.patience = Patience()
        self._go_on()
        if type(parts) is list and len(parts) == 1:
            self._parts = _NO_MORE  # so that nothing of the reply is held for as long as a reader takes

    def start(self, head: bytes) -> None:
        """Sends as much as the socket takes, and leaves the rest for later."""
        self._head, self._rest = len(head), memoryview(head + self._rest)
        self._wire.attach(self)
        self.push()
        if self._sending:
            self._wire.lighten()

    def push(self) -> None:
        """Sends what the socket takes. The event loop calls it again when it takes more."""
        if self._ended is None:
            return
        try:
            whole = self._push()
            if whole:
                self._wire.complete()
        except (OSError, ReplyBroken) as error:
            self._break_off(error)
            return
        if not whole:
            self._watch.sends(self, self._wire.direct_socket().fileno())
            return
        # Not looked for at once: the last bytes have only just left.
        self._watch.forget(self)
        self._watch.arrives(self)

    def _push(self) -> bool:
        """Whether all of the body was sent; False when the socket, or this turn of the loop, takes no more."""
        wire, turn = self._wire, TURN
        sock = wire.direct_socket()
        target = sock.fileno()
        while True:
            if self._rest:
                sent = wire.attempt(sock.send, self._rest, 0 if self._last else socket.MSG_MORE)
                if sent is None:
                    return False
                # What was sent whole is let go of, which a slice would not do.
                self._rest = self._rest[sent:] if sent < len(self._rest) else _NOTHING
                if self._head:
                    sent -= (head := min(self._head, sent))
                    self._head -= head
                wire.body_sent += sent
            elif self._at < self._stop:
                if turn <= 0:
                    return False
                count = min(self._stop - self._at, STEP)
                sent = wire.attempt(os.sendfile, target, self._descriptor, self._at, count)
                if sent is None:
                    return False
                if not sent:
                    raise ReplyBroken("the file ended before its announced length")
                self._at += sent
                wire.body_sent += sent
                turn -= sent
            elif self._last:
                return True
            elif turn <= 0:
                return False
            else:
                turn -= self._go_on()

    def _go_on(self) -> int:
        """Reads what comes next, up to a file that is sent past us; gives what that costs, as if it were bytes sent."""
        pieces: list[bytes] = []
        cost = size = 0
        if self._descriptor >= 0:
            assert self._source is not None
            pieces.append(read_unaltered(self._source, self._descriptor, TAIL, self._stop))
            self._close()
        for part in self._parts:
            if isinstance(part, bytes):
                pieces.append(part)
                size += len(part)
                continue
            assert isinstance(part, Slice)
            if part.length > SMALL and not is_run(part):
                self._source = source_of(part)
                self._descriptor = opened(self._source)
                self._at, self._stop = part.offset, part.offset + part.length - TAIL
                break
            pieces.append(read_slice(part))
            size += part.length
            cost += part.length * _READING
            if size >= _PIECE:
                break
        else:
            self._last = True
        if pieces:
            self._rest = memoryview(pieces[0] if len(pieces) == 1 else b"".join(pieces))
        return cost

    @property
    def _sending(self) -> bool:
        """Whether something of the body has not been handed over yet."""
        return self._descriptor >= 0 or bool(self._rest)

    def lost(self, why: ClientGone) -> None:
        """The connection is lost; `why` says how."""
        if self._sending:
            self._break_off(why)
        else:
            self._end(why if isinstance(why, ReaderStuck) else None)

    def stop(self) -> None:
        """Ends the answer where it is, and its connection."""
        self._break_off(Stopped("the service was stopped"))

    def look(self, now: float, idle: float) -> None:
        """Cuts off a reader that has taken nothing for too long."""
        wire = self._wire
        if self.patience.ended(now, wire.arrived, self._sending or wire.waiting(), idle):
            wire.cut(f"the client took nothing for {idle:g} seconds")

    def look_for_arrival(self) -> bool:
        """Ends when everything that was sent is acknowledged; whether that is so."""
        wire = self._wire
        if self._ended is not None and not wire.gone:
            if wire.unacknowledged():
                return False
            wire.taken = True
        self._end(None)
        return True

    def _break_off(self, error: Exception) -> None:
        if self._ended is not None:
            self._wire.give_up()
            self._end(error)

    def _end(self, error: Exception | None) -> None:
        self._close()
        self._watch.forget(self)
        self._wire.detach(self)
        ended, self._ended = self._ended, None
        if ended is not None:
            ended(error)

    def _close(self) -> None:
        if self._descriptor >= 0:
            os.close(self._descriptor)
            self._descriptor = -1


class Watch:
    """One timer for all pumps: for readers that take nothing, and for the last acknowledgements of each."""

    def __init__(self, idle: float) -> None:
        """`idle` is for how many seconds a reader may take nothing of what is ready for it."""
        self._idle = idle
        self._sending: dict[Pump, int] = {}  # with the descriptors of their sockets, or -1
        self._pumps: dict[int, Pump] = {}  # by those descriptors
        # Sockets that take no more at present. The event loop watches this one thing instead of a
        # thousand sockets, for each of which it keeps three objects.
        self._full: select.epoll | None = None
        self._arriving: dict[Pump, float] = {}  # with how long to wait until the next look
        self._timer: asyncio.TimerHandle | None = None
        self._soon: asyncio.TimerHandle | None = None

    def sends(self, pump: Pump, descriptor: int) -> None:
        """A pump waits for its socket to take more."""
        if self._sending.get(pump, -1) != descriptor:
            if self._full is None:
                self._full = select.epoll()
                asyncio.get_running_loop().add_reader(self._full.fileno(), self._push)
            self._full.register(descriptor, select.EPOLLOUT)
            self._sending[pump], self._pumps[descriptor] = descriptor, pump
        self._look_later()

    def arrives(self, pump: Pump) -> None:
        """A pump has sent all, and waits for acknowledgements."""
        self._arriving[pump] = _SOON
        self._sending[pump] = -1
        if self._soon is None:
            self._soon = asyncio.get_running_loop().call_later(_SOON, self._look_for_arrivals)
        self._look_later()

    def forget(self, pump: Pump) -> None:
        self._arriving.pop(pump, None)
        descriptor = self._sending.pop(pump, -1)
        if descriptor >= 0 and self._full is not None:
            self._full.unregister(descriptor)
            del self._pumps[descriptor]

    def stop(self) -> None:
        """Ends everything that is under way."""
        for timer in (self._timer, self._soon):
            if timer is not None:
                timer.cancel()
        self._timer = self._soon = None
        for pump in list(self._sending):
            pump.stop()
        if self._full is not None:
            asyncio.get_running_loop().remove_reader(self._full.fileno())
            self._full.close()
            self._full = None

    def _push(self) -> None:
        assert self._full is not None
        for descriptor, _ in self._full.poll(0):
            pump = self._pumps.get(descriptor)
            if pump is not None:  # it may have ended since
                pump.push()

    def _look_later(self) -> None:
        if self._timer is None:
            self._timer = asyncio.get_running_loop().call_later(self._idle / _LOOKS, self._look)

    def _look(self) -> None:
        self._timer = None
        now = time.monotonic()
        for pump in list(self._sending):
            pump.look(now, self._idle)
        if self._sending:
            self._look_later()

    def _look_for_arrivals(self) -> None:
        self._soon = None
        waits = [pause for pump in list(self._arriving) if (pause := self._again(pump)) is not None]
        if waits:
            self._soon = asyncio.get_running_loop().call_later(min(waits), self._look_for_arrivals)

    def _again(self, pump: Pump) -> float | None:
        """Looks at one; gives after how many seconds to look again."""
        if pump.look_for_arrival():
            return None
        pause = self._arriving[pump] = min(_LATER, 2 * self._arriving[pump])
        return pause

"""Pumps: long bodies that send themselves, called back by the event loop when their socket takes more.

A reader may take hours. While it does, there is no task and no coroutine of its request, and of the
request itself only what the end of the answer still needs: a thousand slow readers are a few
megabytes. One timer looks at all of them.
"""

from __future__ import annotations

import os
import socket
from collections.abc import Iterator, Sequence

from invio.core.archive.plan import SMALL
from invio.core.http.replies import Part, Slice
from invio.core.readable import Readable
from invio.delivery.sending.acknowledgement import AcknowledgementMonitor, Ended, PendingResponse
from invio.delivery.sending.connection import STEP, TURN, Connection
from invio.delivery.sending.errors import ReplyBroken
from invio.delivery.sending.slices import TAIL, check_samples, opened, read_slice, read_unaltered
from invio.stores.sources import Samples

_PIECE = 256 * 1024  # bytes that are read together, and then sent
_READING = 8  # how much longer small files take to be read than large ones to be sent, byte by byte
_NOTHING = memoryview(b"")
_NO_MORE: Iterator[Part] = iter(())


class Pump(PendingResponse):
    """Sends a head, and after it the parts of a body: of a file, or of an archive.

    What is read, small parts and the ends of files, stands in `_rest` and goes first; then the file that is
    open, from `_at` to `_stop`.
    """

    __slots__ = ("_at", "_descriptor", "_head", "_last", "_parts", "_rest", "_samples", "_source", "_stop")

    def __init__(self, wire: Connection, parts: Sequence[Part], watch: AcknowledgementMonitor, ended: Ended) -> None:
        """`parts` are literal, or slices that can be read here and now.

        Raises:
            ReplyBroken: a file is no longer the one that was found; nothing was sent then.
        """
        PendingResponse.__init__(self, wire, watch, ended)  # by name, as in `end`: `super` takes three times as long
        self._parts = iter(parts)
        self._source: Readable | None = None  # of which `_descriptor` is open
        self._descriptor = -1
        self._samples: Samples | None = None  # of that, once the socket was full
        self._at = self._stop = 0
        self._last = False  # whether nothing comes after `_rest`
        self._rest = _NOTHING
        self._head = 0  # bytes of `_rest` that are no body
        self._go_on()
        if type(parts) is list and len(parts) == 1:
            self._parts = _NO_MORE  # so that a slow reader does not keep the reply in memory

    def start(self, head: bytes) -> None:
        """Sends as much as the socket takes, and leaves the rest for later."""
        self._head, self._rest = len(head), memoryview(head + self._rest)
        self._wire.attach(self)
        self._wire.defer()
        self.push()
        if self.sending:
            self._wire.release_request_state()

    def push(self) -> None:
        """Sends what the socket takes. The event loop calls it again when it takes more."""
        if self._ended is None:
            return
        try:
            if self._samples is not None and self._source is not None:
                check_samples(self._samples, self._source, self._descriptor)
            whole = self._push()
            if whole:
                self._wire.complete()
        except (OSError, ReplyBroken) as error:
            self.break_off(error)
            return
        if not whole:
            if self._samples is None and self._source is not None:
                self._samples = Samples.of(self._descriptor, self._at, self._stop + TAIL)
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
                # Drops what was sent whole; a slice would keep it in memory.
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
        """Reads the next parts, up to a file sent by descriptor; returns the cost in bytes."""
        pieces: list[bytes] = []
        cost = size = 0
        if self._source is not None:
            pieces.append(read_unaltered(self._source, self._descriptor, TAIL, self._stop, self._samples))
            self._close()
        for part in self._parts:
            if isinstance(part, bytes):
                pieces.append(part)
                size += len(part)
            else:
                assert isinstance(part, Slice)
                if part.length > SMALL and (descriptor := opened(part.source)) is not None:
                    self._source, self._descriptor = part.source, descriptor
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
    def sending(self) -> bool:
        """Whether something of the body has not been given to the socket yet."""
        return self._descriptor >= 0 or bool(self._rest)

    def end(self, error: Exception | None) -> None:
        """Ends the body, for `error` or because it was sent whole."""
        self._close()
        PendingResponse.end(self, error)

    def _close(self) -> None:
        if self._descriptor >= 0:
            os.close(self._descriptor)
            self._source, self._descriptor, self._samples = None, -1, None

"""How a connection ends: after everything sent was taken, or at once; its senders are told.

A connection that is closed while something is on its way takes that back, and nobody could tell what was taken. So it
is ended on our side behind what was sent, and closed when that has arrived, or nothing of it arrives any more.
"""

from __future__ import annotations

import asyncio
import socket
import struct
import time
from collections.abc import Coroutine
from contextlib import suppress
from typing import Any

from uvicorn.protocols.http.httptools_impl import HttpToolsProtocol

from invio.delivery.sending.connection import Unfinished
from invio.delivery.sending.eager import start_eagerly
from invio.delivery.sending.errors import ClientGone, IdleTimer, ReaderStuck
from invio.delivery.sending.uvicorn.socket_state import SocketState

# A connection with something on its way is not closed while some of it arrives; and how often that is looked at.
_TAKEN_WITHIN = 60.0  # seconds
_LINGERS = 1.0  # seconds for which what still comes is read before a connection is closed
_TAKEN_LOOK = 0.02  # seconds
_AT_ONCE = struct.pack("ii", 1, 0)  # SO_LINGER: reset, and nothing is delivered any more


class ClosingProtocol(HttpToolsProtocol):
    """The sending side of a connection, and its end."""

    __slots__ = (
        "_eof",
        "_leaving",
        "_lingers",
        "_outgoing",
        "_patience",
        "_waiting",
        "answer",
        "cut_because",
        "gone",
    )

    def __init__(self, *given: Any, **named: Any) -> None:
        super().__init__(*given, **named)
        self.gone = False
        self.cut_because: str | None = None
        self.answer: Unfinished | None = None  # the last one that goes on by itself, or has still to arrive
        self._outgoing: SocketState | None = None
        self._waiting: asyncio.Future[None] | None = None
        self._patience: IdleTimer | None = None  # with a reader that still has to take what was sent
        self._eof = False  # whether the client has said all it will
        self._leaving = False  # whether the connection is closed as soon as that was taken
        self._lingers = False  # whether it is to stay half open a moment longer

    def start(self, coroutine: Coroutine[Any, Any, None]) -> None:
        """Runs a coroutine at once, up to where it waits, and then as a task of the server's."""
        task = start_eagerly(coroutine)
        if task is not None:
            task.add_done_callback(self.tasks.discard)
            self.tasks.add(task)

    def release_request_state(self) -> None:
        """Frees what only reading a request needs; the receiving side overrides this."""

    def leave(self) -> None:
        """Stops reading from a connection that is about to be closed."""
        self._leaving = True

    def close_when_taken(self) -> None:
        """Closes the connection once the other side has taken what was sent; closed before, it would not be known.

        More may be coming meanwhile. Closed with bytes that nobody read, the system would break the connection, and
        take what was said away from whoever has not read it yet: so those are read for a moment, until the other side
        closes as well (RFC 9112 §9.6).
        """
        if self.gone:
            return
        if self._outgoing is None:
            self.transport.close()
            return
        self._leaving, self._lingers = True, not self._eof
        self.flow.resume_reading()
        # Once the transport has sent what it has.
        self.loop.call_soon(self.loop.call_soon, self._close_or_wait, self._outgoing)

    def _close_or_wait(self, outgoing: SocketState) -> None:
        if self.gone:
            return
        outgoing.say_end()
        if self._waits_for_taking():
            self.loop.call_later(_TAKEN_LOOK, self._close_or_wait, outgoing)
        elif self._lingers:
            self._lingers = False
            self.loop.call_later(_LINGERS, self._close_or_wait, outgoing)
        else:
            self.transport.close()

    def _waits_for_taking(self) -> bool:
        """Whether sent bytes are still on their way and the client has taken some lately."""
        left = 0 if self._outgoing is None else self._outgoing.unacknowledged()
        if not left:
            return False
        if self._patience is None:
            self._patience = IdleTimer()
        return not self._patience.ended(time.monotonic(), -left, waiting=True, idle=_TAKEN_WITHIN)

    def cut(self, why: str) -> None:
        """Breaks the connection, and tells its senders why."""
        if not self.gone:
            self.cut_because = why
            self.reset()

    def reset(self) -> None:
        """Resets the connection, so that the client notices and undelivered bytes are discarded.

        Closed in the usual way, the system would go on delivering what is in its buffers; and over HTTP/1.0, where
        the end of the connection is the end of the body, half of a content would be taken for the whole.
        """
        sock = self.transport.get_extra_info("socket") if self._outgoing is None else self._outgoing.socket
        if sock is not None:
            with suppress(OSError, ValueError):  # it is closed already
                sock.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, _AT_ONCE)
        self.transport.abort()

    @property
    def said_all(self) -> bool:
        """Whether the client has said all it will: mostly it has left, and some only close their own side."""
        return self._eof

    @property
    def waits(self) -> bool:
        """Whether a sender waits for the socket to take more."""
        return self._waiting is not None

    async def writable(self, sock: socket.socket) -> None:
        """Returns when the connection's socket takes more. Raises ClientGone."""
        if self.gone:
            raise ClientGone("the client closed the connection")
        self._waiting = waiting = self.loop.create_future()
        self.loop.add_writer(sock.fileno(), wake, waiting)
        try:
            await waiting
        finally:
            self._waiting = None
            if not self.gone:
                self.loop.remove_writer(sock.fileno())

    def _be_gone(self, closed: ClientGone) -> None:
        """Tells the senders on this connection that it is gone."""
        self.gone = True
        why = closed if self.cut_because is None else ReaderStuck(self.cut_because)
        if self.answer is not None:
            self.answer.lost(why)
        if self._waiting is not None and not self._waiting.done():
            self._waiting.set_exception(why)


def wake(waiting: asyncio.Future[None]) -> None:
    """Wakes the waiter, unless it was woken or cancelled already."""
    if not waiting.done():
        waiting.set_result(None)

"""A uvicorn protocol that sends files without reading them.

It offers the ASGI extension `http.response.zerocopysend`, by `os.sendfile` on a duplicate of the socket's descriptor.
The event loop's transport keeps reading requests and noticing that a client went away; for
sending it is bypassed by the `Exchange` of a response that asked for zero-copy. TLS connections are
left to the transport, and do not offer the extension.

Besides the standard extension the scope offers `invio.connection`, that `Exchange`: what of the body
was handed to the kernel, and what of that the other side has not acknowledged.

Of three layers this is the upper one: `closing` ends connections, `framing` makes requests of what comes, and this
follows a connection from its first moment to its last.
- One look every few seconds ends connections that say nothing, or begin something and do not go on.
- A client that has said all it will (half-closed, RFC 9112 §9.6) gets its answers. It looks like one that has
  left, so it is taken for gone when nothing could be sent to it for some seconds.
"""

from __future__ import annotations

import asyncio
import logging
import sys
from contextlib import suppress
from functools import lru_cache
from typing import Any

from invio.core.networks import network_of
from invio.core.reasons import Refusal
from invio.delivery.sending.errors import ClientGone, IdleTimer
from invio.delivery.sending.uvicorn.framing import FramedProtocol
from invio.delivery.sending.uvicorn.signals import NO_QUEUE, Flow
from invio.delivery.sending.uvicorn.socket_state import SocketState
from invio.workers.shared import Counts, OwnCounts

log = logging.getLogger("invio.delivery")

_LOOKED_AT_EVERY = 2.0  # seconds between two looks at all connections
_BODY_WITHIN = 70.0  # seconds for which a body may bring nothing; those that are put have a limit of their own
_STUCK = 60.0  # seconds for which a reader of what no delivery watches may take nothing
_LEFT_WITHIN = 10.0  # seconds in which something has to be sent to a client that has said all it will


@lru_cache(maxsize=64)
def _same(server: tuple[str, int | None] | None) -> tuple[str, int | None] | None:
    """One object for all connections to one address."""
    return server


def _server_of(name: Any) -> tuple[str, int | None] | None:
    """What ASGI calls `server`: an address and a port, or the path of a local socket."""
    if isinstance(name, tuple):
        return name[0], name[1]
    return (name, None) if isinstance(name, str) else None


def _counted_as(network: str) -> tuple[str, str]:
    return "connections", network_of(network)


class ZeroCopyProtocol(FramedProtocol):
    """uvicorn's protocol for httptools, with the zero-copy extension and limits on what a stranger sends."""

    __slots__ = (
        "_answered",
        "_counted",
        "_stuck",
    )

    head_seconds = 30.0  # within which a request's head has to be there
    network_connections: int | None = None  # of one network at once
    connection_counts: Counts = OwnCounts()  # of each network
    _looking: dict[asyncio.AbstractEventLoop, asyncio.TimerHandle] = {}  # noqa: RUF012

    def __init__(self, *given: Any, **named: Any) -> None:
        super().__init__(*given, **named)
        self._answered = 0.0  # when the last answer ended, by the event loop's clock
        self._stuck: IdleTimer | None = None  # with a reader that the server waits for

    def connection_made(self, transport: Any) -> None:
        """A connection begins."""
        # The server asks the transport's own socket for the addresses, which keeps them for as long as it lives.
        self.connections.add(self)
        self.transport, self.flow = transport, Flow(transport)  # type: ignore[assignment]
        self.scheme = "https" if transport.get_extra_info("sslcontext") else "http"
        if self.scheme == "http":  # TLS has an end of its own, which is the transport's to say
            try:
                self._outgoing = SocketState(transport)
            except OSError as error:  # the limit of open files is reached
                log.error("connection.dropped", extra={"fields": {"error": str(error)}})
                transport.abort()
        sock = transport.get_extra_info("socket") if self._outgoing is None else self._outgoing.socket
        with suppress(OSError):  # it is lost already
            self.server = _same(_server_of(sock.getsockname()))
            client = sock.getpeername()
            if isinstance(client, tuple):  # mostly many connections come from one place
                self.client = (sys.intern(client[0]), client[1])
        self.pipeline = NO_QUEUE
        self._heard = self.loop.time()
        network = "" if self.client is None else self.client[0]
        self._counted = self.network_connections is not None
        if self._counted:
            self.connection_counts.add(_counted_as(network), 1)
        if self._counted and self.connection_counts.total(_counted_as(network)) > (self.network_connections or 0):
            log.warning("connection.one-too-many", extra={"fields": {"network": network}})
            transport.abort()
        if self.loop not in self._looking:
            self._look_at_all_later()

    def _look_at_all_later(self) -> None:
        self._looking[self.loop] = self.loop.call_later(_LOOKED_AT_EVERY, self._look_at_all)

    def _look_at_all(self) -> None:
        """Ends connections that make no progress; one timer serves all of them."""
        del self._looking[self.loop]
        now = self.loop.time()
        for one in list(self.connections):
            if isinstance(one, ZeroCopyProtocol):
                one._look_at(now)
        if self.connections:
            self._look_at_all_later()

    def _look_at(self, now: float) -> None:
        if self.gone or self._leaving or self.transport.is_closing():
            return
        silent = now - self._heard
        if self._in_head or (self._between and self.cycle is None):
            if silent > self.head_seconds:
                if self._between:
                    self.transport.close()
                else:
                    self._refuse(
                        Refusal(
                            "too-slow",
                            f"the request's header section did not arrive within {self.head_seconds:g} seconds",
                        )
                    )
        elif self._body_open and silent > (self.timeout_keep_alive if self.cycle.response_complete else _BODY_WITHIN):
            self._end_request(
                Refusal("too-slow", f"nothing came for {silent:.0f} seconds of a request body that is incomplete")
            )
        elif self.flow.write_paused and self._outgoing is not None:
            if self._stuck is None:
                self._stuck = IdleTimer()
            if self._stuck.ended(now, -self._outgoing.unacknowledged(), waiting=True, idle=_STUCK):
                self.cut(f"the client took nothing for {_STUCK:g} seconds")
        else:
            self._stuck = None

    def eof_received(self) -> bool:  # type: ignore[override]
        """The client has half-closed the connection. Returns True: it stays open for the responses."""
        if self._eof:
            return True
        if self.scheme == "https" or self.gone or self._leaving:
            return False
        if self._body_open and not self._drop_waiting() and not self.cycle.response_complete:
            # RFC 9112 §8: what was not sent whole is no request. There is nobody to tell that to.
            self.cycle.disconnected = True
            self.cycle.message_event.set()
            return False
        if self.cycle is None or (self.cycle.response_complete and not self.pipeline and not self._unfed):
            return False
        self._eof = True
        if not self._unfed:
            self.cycle.keep_alive = False
        self.loop.call_later(1.0, self._look_after_eof, -1, 0.0)
        return True

    def _look_after_eof(self, before: int, idle: float) -> None:
        """Ends a connection whose client has left, or to which nothing can be sent for long."""
        if self.gone or self._outgoing is None:
            return
        sent = -1 if self._latest is None else self._latest.body_sent
        if sent != before or self._outgoing.unacknowledged():
            idle = 0.0
        if idle >= _LEFT_WITHIN or self._outgoing.is_closed():
            self.reset()
            return
        self.loop.call_later(1.0, self._look_after_eof, sent, idle + 1.0)

    def on_response_complete(self) -> None:
        """An answer has ended: the next request of the connection may begin."""
        self.server_state.total_requests += 1
        if self._leaving or self.transport.is_closing():
            return
        if self.pipeline:
            self._start_asgi_task(*self.pipeline.pop())
        if self._unfed:
            self.loop.call_soon(self._feed_again)
        elif not self._eof:
            self.flow.resume_reading()
        if self.cycle is not None and not self.cycle.response_complete:
            return
        if self._eof and not self._unfed:
            self.close_when_taken()
            return
        self._answered = self.loop.time()
        if self.timeout_keep_alive_task is None:
            self._look_for_more(self.timeout_keep_alive)

    def _look_for_more(self, wait: float) -> None:
        """Schedules closing the connection, unless there is a reason to keep it by then."""
        self.timeout_keep_alive_task = self.loop.call_later(wait, self.timeout_keep_alive_handler)

    def _unset_keepalive_if_required(self) -> None:
        """Called for each request. The timer goes on, and looks at what came meanwhile when its time has come."""

    def timeout_keep_alive_handler(self) -> None:
        """Closes a connection that was silent for a while, once what was sent has arrived."""
        self.timeout_keep_alive_task = None
        if not self._between or self._unfed or (self.cycle is not None and not self.cycle.response_complete):
            return  # the end of the answer begins anew
        left = self._answered + self.timeout_keep_alive - self.loop.time()
        if left > 0:
            self._look_for_more(left)
        elif self._waits_for_taking():
            # The server counts from when the last byte was handed over; it may take the other side longer to take it.
            self._look_for_more(self.timeout_keep_alive)
        else:
            super().timeout_keep_alive_handler()

    def shutdown(self) -> None:
        """The service stops: closes the connection after the response that is under way."""
        if self.cycle is None or self.cycle.response_complete:
            self.close_when_taken()
        else:
            self.cycle.keep_alive = False

    def connection_lost(self, exc: Exception | None) -> None:
        """The connection has ended; its waiters are told."""
        network = "" if self.client is None else self.client[0]
        if self._counted:
            self.connection_counts.add(_counted_as(network), -1)
        if self._outgoing is not None:
            self._outgoing.lost()
        super().connection_lost(exc)
        if self.timeout_keep_alive_task is not None:
            self.timeout_keep_alive_task.cancel()
            self.timeout_keep_alive_task = None
        self._latest, self._unfed = None, b""
        self._be_gone(ClientGone("the client closed the connection"))
        if self._outgoing is not None:
            self.loop.remove_writer(self._outgoing.socket.fileno())
            self._outgoing.socket.close()

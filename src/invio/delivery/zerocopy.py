"""A uvicorn protocol that sends files without reading them: the ASGI extension
`http.response.zerocopysend`, by `os.sendfile` on a duplicate of the socket's descriptor.

The event loop's transport keeps reading requests and noticing that a client went away; for
sending it is bypassed by the `Wire` of a response that asked for zero-copy. TLS connections are
left to the transport, and do not offer the extension.

Besides the standard extension the scope offers `invio.connection`, that `Wire`: what of the body
was handed to the kernel, and what of that the other side has not acknowledged.
"""

from __future__ import annotations

import asyncio
import logging
import sys
import time
from collections.abc import Coroutine
from functools import lru_cache
from typing import Any
from urllib.parse import unquote

import httptools
from uvicorn.protocols.http.httptools_impl import STATUS_LINE, HttpToolsProtocol, RequestResponseCycle

from invio.core.reasons import Refusal
from invio.delivery.arrival import Answer
from invio.delivery.endings import ClientGone, Patience, ReaderStuck
from invio.delivery.outgoing import Outgoing
from invio.delivery.refusals import refusal_reply
from invio.delivery.turns import begin_at_once
from invio.delivery.wire import NO_SCOPE, Wire

log = logging.getLogger("invio.delivery")
# The longest head of a request, with its target; the parser itself knows no limit.
_HEAD = 64 * 1024  # bytes

# A connection with something on its way is not closed while some of it arrives; and how often that is looked at.
_TAKEN_WITHIN = 60.0  # seconds
_TAKEN_LOOK = 0.02  # seconds
_NO_HEADERS: Any = ()
_NO_BODY = bytearray()
_OFFERED: dict[str, Any] = {}  # what the extension says of itself: nothing, and the same for all


def _nothing() -> None:
    """What is called at the end of a response that the server thinks has ended."""


@lru_cache(maxsize=64)
def _same(server: tuple[str, int | None] | None) -> tuple[str, int | None] | None:
    """One object for all connections to one address."""
    return server


class _Signal:
    """As much of asyncio.Event as a response needs, in a tenth of its memory: one waiter, if any."""

    __slots__ = ("_set", "_waiting")

    def __init__(self) -> None:
        self._set = False
        self._waiting: asyncio.Future[None] | None = None

    def is_set(self) -> bool:
        return self._set

    def set(self) -> None:
        self._set = True
        if self._waiting is not None:
            _wake(self._waiting)

    def clear(self) -> None:
        self._set = False

    async def wait(self) -> bool:
        while not self._set:
            if self._waiting is not None:  # a second one, which is not to be: it looks now and then
                await asyncio.sleep(0.01)
                continue
            self._waiting = asyncio.get_running_loop().create_future()
            try:
                await self._waiting
            finally:
                self._waiting = None
        return True


class _Deaf(_Signal):
    """What a response has in place of its signal once nobody waits for that."""

    def set(self) -> None:
        """Nothing is to be told."""


_DEAF: Any = _Deaf()


class _Queue(list[Any]):
    """Requests that wait for their turn on a connection: few, and mostly none."""

    def appendleft(self, item: Any) -> None:
        self.insert(0, item)


class ZeroCopyProtocol(HttpToolsProtocol):
    """uvicorn's protocol for httptools, with the zero-copy extension and a limit on a request's head."""

    # Apart from the server's own attributes: with these among them, they would outgrow the dictionary
    # that instances share, and each connection had one of its own.
    __slots__ = (
        "_answered",
        "_begins_at_once",
        "_between",
        "_head_bytes",
        "_latest",
        "_leaving",
        "_outgoing",
        "_patience",
        "_reading",
        "_waiting",
        "answer",
        "cut_because",
        "gone",
    )

    def __init__(self, *given: Any, **named: Any) -> None:
        super().__init__(*given, **named)
        # An application that says so can do without a task until it waits; but for requests that had to wait for
        # the end of an answer, which may have been sent in a task of its own.
        self._begins_at_once = getattr(self.app, "begins_at_once", False) and self.limit_concurrency is None
        self._reading = False
        self._answered = 0.0  # when the last answer ended, by the event loop's clock
        self.gone = False
        self.cut_because: str | None = None
        self.answer: Answer | None = None  # the last one that goes on by itself, or has still to arrive
        self._head_bytes = 0  # of a request whose head has not ended yet
        self._outgoing: Outgoing | None = None
        self._waiting: asyncio.Future[None] | None = None
        self._patience: Patience | None = None  # with a reader that still has to take what was sent
        self._latest: Wire | None = None  # the response that began last
        self._leaving = False  # whether the connection is closed as soon as that was taken
        self._between = True  # whether no request has been read in part

    def connection_made(self, transport: Any) -> None:
        super().connection_made(transport)
        self.server = _same(self.server)
        if self.client is not None:  # mostly many connections come from one place
            self.client = (sys.intern(self.client[0]), self.client[1])
        if self.scheme == "http":  # TLS has an end of its own, which is the transport's to say
            try:
                self._outgoing = Outgoing(transport)
            except OSError as error:  # as many files are open as may be
                log.error("connection.dropped", extra={"fields": {"error": str(error)}})
                transport.abort()
        self.pipeline = _Queue()  # type: ignore[assignment]
        self.flow._is_writable_event = _Signal()  # type: ignore[assignment]
        self.flow._is_writable_event.set()

    def _start_asgi_task(self, cycle: Any, app: Any) -> None:
        if self.scheme == "https":
            super()._start_asgi_task(cycle, app)
            return
        cycle.message_event = _Signal()
        super()._start_asgi_task(cycle, self._wired(cycle, app))

    def _wired(self, cycle: Any, app: Any) -> Wire:
        """The application, with the extension."""
        if self._latest is not None:
            self._latest.followed()
        self._latest = wire = Wire(app, cycle, self)
        cycle.scope["extensions"] = {"http.response.zerocopysend": _OFFERED, "invio.connection": wire}
        return wire

    def start(self, coroutine: Coroutine[Any, Any, None]) -> None:
        """Runs a coroutine at once, up to where it waits, and then as a task of the server's."""
        task = begin_at_once(coroutine)
        if task is not None:
            task.add_done_callback(self.tasks.discard)
            self.tasks.add(task)

    def data_received(self, data: bytes) -> None:
        if self._leaving:
            return
        if self.answer is not None and self.cycle.response_complete:
            self.answer.look_for_arrival()  # whoever asks for more has mostly taken what came before
        if self.parser is None:
            self.parser = httptools.HttpRequestParser(self)
        self._head_bytes += len(data)
        self._reading = self._begins_at_once
        try:
            super().data_received(data)
        finally:
            self._reading = False
        if self._head_bytes > _HEAD:
            self._refuse(Refusal("long-head", f"the head of a request has at most {_HEAD} bytes"))

    def on_message_begin(self) -> None:
        self._between = False
        super().on_message_begin()

    def on_headers_complete(self) -> None:
        fed, self._head_bytes = self._head_bytes, 0
        if fed > _HEAD and len(self.url) + sum(len(name) + len(value) + 4 for name, value in self.headers) > _HEAD:
            self._refuse(Refusal("long-head", f"the head of a request has at most {_HEAD} bytes"))
            return
        version = self.parser.get_http_version()
        if version not in ("1.1", "1.0"):
            # The parser takes a first line without a version for HTTP/0.9, and one with any number.
            self._refuse(Refusal("bad-request", "the version of HTTP is neither 1.1 nor 1.0"))
            return
        if self._reading and not self.parser.should_upgrade():
            self._begin(version)
        else:
            super().on_headers_complete()

    def _begin(self, version: str) -> None:
        """Does what the server does with a request, for an application that `begins_at_once` and is not mounted."""
        scope, state, url = self.scope, self.server_state, httptools.parse_url(self.url)
        raw = url.path
        path = raw.decode("ascii")
        scope["method"] = self.parser.get_method().decode("ascii")
        scope["http_version"] = version
        scope["path"] = unquote(path) if "%" in path else path
        scope["raw_path"] = raw
        scope["query_string"] = url.query or b""
        before = self.cycle
        self.cycle = cycle = RequestResponseCycle(
            scope,
            self.transport,
            self.flow,
            self.logger,
            self.access_logger,
            False,
            state.default_headers,
            _Signal(),  # type: ignore[arg-type]
            self.expect_100_continue,
            version != "1.0" and self.parser.should_keep_alive(),
            self.on_response_complete,
        )
        if before is None or before.response_complete:
            self.start(cycle.run_asgi(self._wired(cycle, self.app)))
        else:
            self.flow.pause_reading()
            self.pipeline.appendleft((cycle, self.app))

    def on_body(self, body: bytes) -> None:
        self._head_bytes = 0
        if self.cycle is not None:
            super().on_body(body)

    def on_message_complete(self) -> None:
        self._between = True
        if self.cycle is not None:
            super().on_message_complete()

    def send_400_response(self, msg: str) -> None:  # noqa: ARG002
        self._refuse(Refusal("bad-request", "this is not an HTTP/1.1 request; mind its first line and its fields"))

    def _refuse(self, refusal: Refusal) -> None:
        """Answers what cannot be made a request of, and hears no more on this connection."""
        if self.transport.is_closing():
            return
        if self.cycle is not None and not self.cycle.response_complete:
            # Answers to what came before are under way; they are ended, and nothing is mixed into them.
            self.cycle.keep_alive = False
            return
        reply = refusal_reply(refusal, "GET", None)
        lines = [STATUS_LINE[reply.status][:-2]]
        lines += [name + b": " + value for name, value in (*self.server_state.default_headers, *reply.headers)]
        lines.append(b"connection: close")
        body = b"".join(part for part in reply.parts if isinstance(part, bytes))
        self.transport.write(b"\r\n".join(lines) + b"\r\n\r\n" + body)
        self.transport.close()

    def lighten(self) -> None:
        """Lets go of what is only needed to read requests, until there is another."""
        self.scope, self.headers = NO_SCOPE, _NO_HEADERS
        if self._between:
            self.url = b""
        if self.cycle is not None:
            self.cycle.scope = NO_SCOPE
            self.cycle.message_event = _DEAF
            if self._between:
                self.cycle.body = _NO_BODY
            self.loop.call_soon(self._forget_callback)
        if self._between:
            self.parser = None  # type: ignore[assignment]

    def _forget_callback(self) -> None:
        """The server has left a function of its own, which does nothing, with each response that goes on by itself."""
        if self.answer is not None and not self.cycle.response_complete:
            self.cycle.on_response = _nothing

    def on_response_complete(self) -> None:
        self.server_state.total_requests += 1
        if self._leaving or self.transport.is_closing():
            return
        self.flow.resume_reading()
        if self.pipeline:
            self._start_asgi_task(*self.pipeline.pop())
            return
        self._answered = self.loop.time()
        if self.timeout_keep_alive_task is None:
            self._look_for_more(self.timeout_keep_alive)

    def _look_for_more(self, wait: float) -> None:
        """Has the connection be closed after so many seconds, unless there is a reason not to by then."""
        self.timeout_keep_alive_task = self.loop.call_later(wait, self.timeout_keep_alive_handler)

    def _unset_keepalive_if_required(self) -> None:
        """Called for each request. The timer goes on, and looks at what came meanwhile when its time has come."""

    def timeout_keep_alive_handler(self) -> None:
        self.timeout_keep_alive_task = None
        if not self._between or (self.cycle is not None and not self.cycle.response_complete):
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
        if self.cycle is None or self.cycle.response_complete:
            self.close_when_taken()
        else:
            self.cycle.keep_alive = False

    def leave(self) -> None:
        """Hears no more on this connection, which is about to be closed."""
        self._leaving = True

    def close_when_taken(self) -> None:
        """Closes the connection once the other side has taken what was sent; closed before, it would not be known."""
        if self.gone:
            return
        if self._outgoing is None or not self._outgoing.unacknowledged():
            self.transport.close()
            return
        self._leaving = True
        self.loop.call_soon(self.loop.call_soon, self._close_or_wait)  # once the transport has sent what it has

    def _close_or_wait(self) -> None:
        if self.gone:
            return
        self.outgoing.say_end()
        if self._waits_for_taking():
            self.loop.call_later(_TAKEN_LOOK, self._close_or_wait)
        else:
            self.transport.close()

    def _waits_for_taking(self) -> bool:
        """Whether something is on its way, and some of it was taken lately."""
        left = 0 if self._outgoing is None else self._outgoing.unacknowledged()
        if not left:
            return False
        if self._patience is None:
            self._patience = Patience()
        return not self._patience.ended(time.monotonic(), -left, True, _TAKEN_WITHIN)

    def cut(self, why: str) -> None:
        """Breaks the connection, and has whoever sends on it told why."""
        if not self.gone:
            self.cut_because = why
            self.transport.abort()

    @property
    def outgoing(self) -> Outgoing:
        """The connection's sending side, once it is made."""
        assert self._outgoing is not None
        return self._outgoing

    @property
    def waits(self) -> bool:
        """Whether somebody waits for the socket to take more."""
        return self._waiting is not None

    async def writable(self) -> None:
        """Returns when the socket takes more. Raises ClientGone."""
        if self.gone:
            raise ClientGone("the client closed the connection")
        sock = self.outgoing.socket
        self._waiting = waiting = self.loop.create_future()
        self.loop.add_writer(sock.fileno(), _wake, waiting)
        try:
            await waiting
        finally:
            self._waiting = None
            if not self.gone:
                self.loop.remove_writer(sock.fileno())

    def connection_lost(self, exc: Exception | None) -> None:
        if self._outgoing is not None:
            self._outgoing.lost()
        super().connection_lost(exc)
        if self.timeout_keep_alive_task is not None:
            self.timeout_keep_alive_task.cancel()
            self.timeout_keep_alive_task = None
        self.gone, self._latest = True, None
        closed = ClientGone("the client closed the connection")
        why = closed if self.cut_because is None else ReaderStuck(self.cut_because)
        if self.answer is not None:
            self.answer.lost(why)
        if self._waiting is not None and not self._waiting.done():
            self._waiting.set_exception(why)
        if self._outgoing is not None:
            self.loop.remove_writer(self._outgoing.socket.fileno())
            self._outgoing.socket.close()


def _wake(waiting: asyncio.Future[None]) -> None:
    if not waiting.done():
        waiting.set_result(None)

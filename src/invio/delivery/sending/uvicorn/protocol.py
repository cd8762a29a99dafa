"""A uvicorn protocol that sends files without reading them: the ASGI extension
`http.response.zerocopysend`, by `os.sendfile` on a duplicate of the socket's descriptor.

The event loop's transport keeps reading requests and noticing that a client went away; for
sending it is bypassed by the `Exchange` of a response that asked for zero-copy. TLS connections are
left to the transport, and do not offer the extension.

Besides the standard extension the scope offers `invio.connection`, that `Exchange`: what of the body
was handed to the kernel, and what of that the other side has not acknowledged.

What a stranger sends is bounded in size, number and time:
- A request's framing is checked before anything of it is begun (RFC 9112 §6.3, §3.2): what is not exactly one
  request is answered 400, and the connection hears no more. A body that breaks off, or is broken, ends its request.
- `Upgrade` is ignored (RFC 9110 §7.8): the parser would leave what follows the head to another protocol, so the
  head is read again without the field, and the body after it as the body that it is.
- Of requests that are sent before the answers to those before them, a few are read; the rest waits unread.
- One look every few seconds ends connections that say nothing, or begin something and do not go on.
- A client that has said all it will (half-closed, RFC 9112 §9.6) gets its answers. It looks like one that has
  left, so it is taken for gone when nothing could be sent to it for some seconds.
"""

from __future__ import annotations

import asyncio
import logging
import re
import socket
import struct
import sys
import time
from collections import Counter
from collections.abc import Coroutine
from contextlib import suppress
from functools import lru_cache
from typing import Any
from urllib.parse import unquote

import httptools
from uvicorn.protocols.http.httptools_impl import STATUS_LINE, HttpToolsProtocol, RequestResponseCycle

from invio.core.reasons import Refusal
from invio.delivery.problem_details import refusal_reply
from invio.delivery.sending.connection import Unfinished
from invio.delivery.sending.eager import start_eagerly
from invio.delivery.sending.errors import ClientGone, IdleTimer, ReaderStuck
from invio.delivery.sending.uvicorn.exchange import NO_SCOPE, Exchange
from invio.delivery.sending.uvicorn.socket_state import SocketState

log = logging.getLogger("invio.delivery")
# The longest head of a request, with its target; the parser itself knows no limit.
_HEAD = 64 * 1024  # bytes

# A connection with something on its way is not closed while some of it arrives; and how often that is looked at.
_TAKEN_WITHIN = 60.0  # seconds
_TAKEN_LOOK = 0.02  # seconds
_LOOKED_AT_EVERY = 2.0  # seconds between two looks at all connections
_BODY_WITHIN = 70.0  # seconds for which a body may bring nothing; those that are put have a limit of their own
_STUCK = 60.0  # seconds for which a reader of what no delivery watches may take nothing
_LEFT_WITHIN = 10.0  # seconds in which something has to be sent to a client that has said all it will
# Requests that wait on a connection for the answers before theirs; and how much is read of what may hold more.
_PIPELINED = 32
_PORTION, _OF_BODIES = 4 * 1024, 64 * 1024  # bytes
_UNFED = 1024 * 1024  # bytes that wait unread, at most
_UNWANTED = 1024 * 1024  # bytes of a body that are read although its request was answered
_NO_HEADERS: Any = ()
# RFC 9110 §7.2, RFC 3986 §3.2.2: a name, an IPv4 address, or an IPv6 one in brackets, and a port.
_HOST = re.compile(rb"(?:\[[0-9A-Fa-f:.]+\]|(?:[A-Za-z0-9._~!$&'()*+,;=-]|%[0-9A-Fa-f]{2})*)(?::[0-9]*)?\Z")
_NO_BODY = bytearray()
_AT_ONCE = struct.pack("ii", 1, 0)  # SO_LINGER: reset, and nothing is delivered any more
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
        "_between",
        "_body_open",
        "_deaf",
        "_eof",
        "_faulty",
        "_final",
        "_head_bytes",
        "_heard",
        "_host",
        "_hosts",
        "_in_head",
        "_latest",
        "_leaving",
        "_outgoing",
        "_patience",
        "_reading",
        "_starts_eagerly",
        "_stuck",
        "_unfed",
        "_unwanted",
        "_upgrading",
        "_waiting",
        "answer",
        "cut_because",
        "gone",
    )

    head_seconds = 30.0  # within which a request's head has to be there
    network_connections: int | None = None  # of one network at once
    _good_host = b""  # what was last seen to be one
    _networks: Counter[str] = Counter()  # noqa: RUF012 - of all connections
    _looking: dict[asyncio.AbstractEventLoop, asyncio.TimerHandle] = {}  # noqa: RUF012

    def __init__(self, *given: Any, **named: Any) -> None:
        super().__init__(*given, **named)
        self.parser = None  # type: ignore[assignment] # the server's is more lenient than those that follow it
        # An application that says so can do without a task until it waits; but for requests that had to wait for
        # the end of an answer, which may have been sent in a task of its own.
        self._starts_eagerly = (
            getattr(self.app, "starts_eagerly", False)
            and self.limit_concurrency is None
            and not self.config.reset_contextvars  # which takes a task for each request
        )
        self._reading = False
        self._answered = 0.0  # when the last answer ended, by the event loop's clock
        self.gone = False
        self.cut_because: str | None = None
        self.answer: Unfinished | None = None  # the last one that goes on by itself, or has still to arrive
        self._head_bytes = 0  # of a request whose head has not ended yet
        self._outgoing: SocketState | None = None
        self._waiting: asyncio.Future[None] | None = None
        self._patience: IdleTimer | None = None  # with a reader that still has to take what was sent
        self._latest: Exchange | None = None  # the response that began last
        self._leaving = False  # whether the connection is closed as soon as that was taken
        self._between = True  # whether no request has been read in part
        self._in_head = False  # whether a head is being read
        self._body_open = False  # whether the body of `cycle` has not ended yet
        self._final = False  # whether the last request that may come on this connection was read
        self._deaf = False  # whether what comes is not read any more
        self._upgrading = False  # whether the head that was read asks for another protocol
        self._eof = False  # whether the client has said all it will
        self._unfed = b""  # what has come and was not read yet
        self._unwanted = 0  # bytes of a body that came after its answer
        self._heard = 0.0  # when something came, or a head began, by the event loop's clock
        self._stuck: IdleTimer | None = None  # with a reader that the server waits for
        self._hosts = 0  # Host fields of this head, and the last of them
        self._host = b""
        self._faulty = False  # whether its framing is not to be trusted

    def connection_made(self, transport: Any) -> None:
        super().connection_made(transport)
        self.server = _same(self.server)
        if self.client is not None:  # mostly many connections come from one place
            self.client = (sys.intern(self.client[0]), self.client[1])
        if self.scheme == "http":  # TLS has an end of its own, which is the transport's to say
            try:
                self._outgoing = SocketState(transport)
            except OSError as error:  # as many files are open as may be
                log.error("connection.dropped", extra={"fields": {"error": str(error)}})
                transport.abort()
        self.pipeline = _Queue()  # type: ignore[assignment]
        self.flow._is_writable_event = _Signal()  # type: ignore[assignment]
        self.flow._is_writable_event.set()
        self._heard = self.loop.time()
        network = "" if self.client is None else self.client[0]
        self._networks[network] += 1
        if self.network_connections is not None and self._networks[network] > self.network_connections:
            log.warning("connection.one-too-many", extra={"fields": {"network": network}})
            transport.abort()
        if self.loop not in self._looking:
            self._look_at_all_later()

    def _look_at_all_later(self) -> None:
        self._looking[self.loop] = self.loop.call_later(_LOOKED_AT_EVERY, self._look_at_all)

    def _look_at_all(self) -> None:
        """Ends the connections that do not go on; one timer serves all of them."""
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
            if self._stuck.ended(now, -self._outgoing.unacknowledged(), True, _STUCK):
                self.cut(f"the client took nothing for {_STUCK:g} seconds")
        else:
            self._stuck = None

    def _start_asgi_task(self, cycle: Any, app: Any) -> None:
        if self.scheme == "https":
            super()._start_asgi_task(cycle, app)
            return
        heard = _Signal()
        if cycle.message_event.is_set():  # its body came while it waited for its turn
            heard.set()
        cycle.message_event = heard
        super()._start_asgi_task(cycle, self._wired(cycle, app))

    def _wired(self, cycle: Any, app: Any) -> Exchange:
        """The application, with the extension."""
        if self._latest is not None:
            self._latest.followed()
        self._latest = wire = Exchange(app, cycle, self)
        cycle.scope["extensions"] = {"http.response.zerocopysend": _OFFERED, "invio.connection": wire}
        return wire

    def start(self, coroutine: Coroutine[Any, Any, None]) -> None:
        """Runs a coroutine at once, up to where it waits, and then as a task of the server's."""
        task = start_eagerly(coroutine)
        if task is not None:
            task.add_done_callback(self.tasks.discard)
            self.tasks.add(task)

    def data_received(self, data: bytes) -> None:
        if self._leaving or self._deaf or self._final:
            return
        if not self._in_head:
            self._heard = self.loop.time()
        if self.answer is not None and self.cycle.response_complete:
            self.answer.look_for_arrival()  # whoever asks for more has mostly taken what came before
        if self._unfed:
            if len(self._unfed) > _UNFED:
                self.reset()
                return
            data, self._unfed = self._unfed + data, b""
        if len(data) > _PORTION or self.pipeline:
            self._feed(data)
            return
        again = self._parse(data)
        if again:
            self._feed(again)

    def _feed(self, data: bytes) -> None:
        """Reads what has come, as far as there is room for further requests."""
        at = 0
        while at < len(data) and not (self._leaving or self._deaf or self._final):
            if len(self.pipeline) >= _PIPELINED:
                self._unfed = data[at:]
                self.flow.pause_reading()
                return
            # Where no body is read there may be many small requests, and few of them are to be begun.
            stop = at + (_OF_BODIES if self._body_open else _PORTION)
            portion = data if not at and stop >= len(data) else data[at:stop]
            at += len(portion)
            again = self._parse(portion)
            if again:  # a head that is read again, and what came behind it
                data, at = again + data[at:], 0
        self._unfed = b""

    def _feed_again(self) -> None:
        if self._unfed and not self.gone:
            data, self._unfed = self._unfed, b""
            self._feed(data)
        if self._unfed or self.gone:
            return
        if not self._eof:
            self.flow.resume_reading()
        elif self.cycle.response_complete:
            self.close_when_taken()
        else:
            self.cycle.keep_alive = False  # nothing will follow it

    def _parse(self, portion: bytes) -> bytes:
        """Has some of what came be parsed; gives what is to be parsed in place of what asks for another protocol."""
        if self.parser is None:
            self.parser = httptools.HttpRequestParser(self)
        self._head_bytes += len(portion)
        self._reading = self._starts_eagerly
        try:
            self.parser.feed_data(portion)
        except httptools.HttpParserUpgrade as upgrade:
            return self._without_upgrade() + portion[upgrade.args[0] :] if self._upgrading else b""
        except httptools.HttpParserError:
            if not self._final:  # else something came behind a request that was said to be the last
                said = "this is not a valid HTTP/1.1 request; check its request line, its fields and its length"
                self._end_request(Refusal("bad-request", said))
            return b""
        finally:
            self._reading = False
        if self._head_bytes > _HEAD:
            self._refuse(Refusal("long-head", f"a request's header section may have at most {_HEAD} bytes"))
        return b""

    def _without_upgrade(self) -> bytes:
        """The head that was read last, without its wish for another protocol; to be read again by a new parser."""
        self._upgrading = False
        lines = [self.parser.get_method() + b" " + self.url + b" HTTP/1.1"]
        for name, value in self.headers:
            if name == b"connection":
                kept = [one.strip() for one in value.split(b",") if one.strip().lower() != b"upgrade"]
                if kept:
                    lines.append(b"connection: " + b", ".join(kept))
            elif name != b"upgrade":
                lines.append(name + b": " + value)
        self.parser, self._head_bytes = None, 0  # type: ignore[assignment]
        return b"\r\n".join(lines) + b"\r\n\r\n"

    def on_message_begin(self) -> None:
        if self._final:
            return
        self._between, self._in_head, self._body_open = False, True, False
        self._hosts, self._faulty, self._unwanted = 0, False, 0
        self._heard = self.loop.time()
        super().on_message_begin()

    def on_header(self, name: bytes, value: bytes) -> None:
        if not self._in_head:  # a trailer: RFC 9110 §6.5.1, it is not made part of the head
            return
        name = name.lower()
        self.headers.append((name, value))
        if name == b"host":
            self._hosts += 1
            self._host = value
        elif name == b"transfer-encoding":
            # RFC 9112 §6.1: `chunked` is what ends a body; what else there is, nobody here knows.
            self._faulty = self._faulty or value.strip().lower() != b"chunked"
        elif name == b"expect" and value.lower() == b"100-continue":
            self.expect_100_continue = True

    def on_headers_complete(self) -> None:
        if self._final or self._deaf:
            return
        fed, self._head_bytes, self._in_head = self._head_bytes, 0, False
        if fed > _HEAD and len(self.url) + sum(len(name) + len(value) + 4 for name, value in self.headers) > _HEAD:
            self._refuse(Refusal("long-head", f"a request's header section may have at most {_HEAD} bytes"))
            return
        version = self.parser.get_http_version()
        if version not in ("1.1", "1.0"):
            # The parser takes a first line without a version for HTTP/0.9, and one with any number.
            self._refuse(Refusal("bad-request", "the HTTP version must be 1.1 or 1.0"))
            return
        if version == "1.0":
            self.expect_100_continue = False  # RFC 9110 §10.1.1
            self._faulty = self._faulty or any(name == b"transfer-encoding" for name, _ in self.headers)
        elif self._hosts != 1:
            self._refuse(Refusal("bad-request", "an HTTP/1.1 request needs exactly one Host field"))  # RFC 9112 §3.2
            return
        if self._hosts and self._host != ZeroCopyProtocol._good_host:  # mostly all come for one
            if not _HOST.match(self._host):
                self._refuse(Refusal("bad-request", "the Host field is not a valid host name or address"))
                return
            ZeroCopyProtocol._good_host = self._host
        if self._faulty:
            self._refuse(Refusal("bad-request", "the only transfer coding supported is 'chunked'"))
            return
        if self.parser.should_upgrade():
            if self.parser.get_method() == b"CONNECT":
                allow = "GET, HEAD, OPTIONS"
                self._refuse(Refusal("wrong-method", "this service is not a proxy", allow=allow))
                return
            self._upgrading = True
            return
        self._body_open = True
        if self._reading:
            self._begin(version)
        else:
            super().on_headers_complete()

    def _begin(self, version: str) -> None:
        """Does what the server does with a request, for an application that `starts_eagerly` and is not mounted."""
        scope, state, url = self.scope, self.server_state, httptools.parse_url(self.url)
        raw = url.path
        path = raw.decode("ascii")
        scope["method"] = self.parser.get_method().decode("ascii")
        scope["http_version"] = version
        scope["path"] = self.root_path + (unquote(path) if "%" in path else path)
        scope["raw_path"] = self.root_path.encode("ascii") + raw if self.root_path else raw
        scope["query_string"] = url.query or b""
        before = self.cycle
        self.cycle = cycle = RequestResponseCycle(
            scope=scope,
            transport=self.transport,
            flow=self.flow,
            logger=self.logger,
            access_logger=self.access_logger,
            access_log=False,
            default_headers=state.default_headers,
            message_event=_Signal(),  # type: ignore[arg-type]
            expect_100_continue=self.expect_100_continue,
            keep_alive=version != "1.0" and self.parser.should_keep_alive(),
            on_response=self.on_response_complete,
        )
        if before is None or before.response_complete:
            self.start(cycle.run_asgi(self._wired(cycle, self.app)))
        else:
            self.flow.pause_reading()
            self.pipeline.appendleft((cycle, self.app))

    def on_body(self, body: bytes) -> None:
        self._head_bytes = 0
        if not self._body_open:
            return
        if self.cycle.response_complete:
            # RFC 9112 §9.3: the rest of a body that nobody wants is read, as long as it is not much.
            self._unwanted += len(body)
            if self._unwanted > _UNWANTED:
                self._deaf = True
                self.close_when_taken()
            return
        super().on_body(body)

    def on_message_complete(self) -> None:
        if self._upgrading or self._final:
            return
        self._between = True
        if not self._body_open:
            return
        self._body_open = False
        self._final = not self.cycle.keep_alive and not self.cycle.response_complete
        super().on_message_complete()

    def send_400_response(self, msg: str) -> None:  # noqa: ARG002
        self._refuse(
            Refusal("bad-request", "this is not a valid HTTP/1.1 request; check its request line and its fields")
        )

    def _end_request(self, refusal: Refusal) -> None:
        """Ends the request that is being read, whose head or body is broken, or does not come."""
        if self._body_open:
            self._body_open = False
            if self._drop_waiting():
                pass
            elif self.cycle.response_complete:
                self._deaf = True
                self.close_when_taken()
                return
            elif self.cycle.response_started or self._is_sending():
                self._deaf = True
                self.cycle.keep_alive = False
                return
            else:
                self._answer_and_go(refusal)
                return
        self._refuse(refusal)

    def _drop_waiting(self) -> bool:
        """Takes the request that was read last out of those that wait, as if it had not come; whether it waited."""
        waiting = next((item for item in self.pipeline if item[0] is self.cycle), None)
        if waiting is None:
            return False
        self.pipeline.remove(waiting)
        self._body_open = False
        before = self.pipeline[0][0] if self.pipeline else self._running()
        if before is not None:
            self.cycle = before
        return True

    def _running(self) -> Any:
        """The cycle whose response is being sent."""
        return None if self._latest is None else self._latest.cycle

    def _is_sending(self) -> bool:
        return self.answer is not None and self.answer.sending

    def _answer_and_go(self, refusal: Refusal) -> None:
        """Answers instead of the application, which is told that the client is gone."""
        cycle = self.cycle
        self._deaf = True
        cycle.disconnected = True
        self._write_refusal(refusal)
        self._be_gone(ClientGone("the request's body was not complete"))
        cycle.message_event.set()
        self.transport.close()

    def _refuse(self, refusal: Refusal) -> None:
        """Answers what cannot be made a request of, and hears no more on this connection."""
        self._deaf, self._in_head, self._unfed = True, False, b""
        if self.transport.is_closing():
            return
        if self.cycle is not None and not self.cycle.response_complete:
            # Answers to what came before are under way; they are ended, and nothing is mixed into them.
            self.cycle.keep_alive = False
            return
        self._write_refusal(refusal)
        self.transport.close()

    def _write_refusal(self, refusal: Refusal) -> None:
        reply = refusal_reply(refusal, "GET", None)
        lines = [STATUS_LINE[reply.status][:-2]]
        lines += [name + b": " + value for name, value in (*self.server_state.default_headers, *reply.headers)]
        lines.append(b"connection: close")
        body = b"".join(part for part in reply.parts if isinstance(part, bytes))
        self.transport.write(b"\r\n".join(lines) + b"\r\n\r\n" + body)

    def eof_received(self) -> bool:  # type: ignore[override]
        """The client has said all it will. True: the connection stays open for its answers."""
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

    def release_request_state(self) -> None:
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
        """Has the connection be closed after so many seconds, unless there is a reason not to by then."""
        self.timeout_keep_alive_task = self.loop.call_later(wait, self.timeout_keep_alive_handler)

    def _unset_keepalive_if_required(self) -> None:
        """Called for each request. The timer goes on, and looks at what came meanwhile when its time has come."""

    def timeout_keep_alive_handler(self) -> None:
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
            self._patience = IdleTimer()
        return not self._patience.ended(time.monotonic(), -left, True, _TAKEN_WITHIN)

    def cut(self, why: str) -> None:
        """Breaks the connection, and has whoever sends on it told why."""
        if not self.gone:
            self.cut_because = why
            self.reset()

    def reset(self) -> None:
        """Breaks the connection so that the other side notices, and takes back what it has not got yet.

        Closed in the usual way, the system would go on delivering what is in its buffers; and over HTTP/1.0, where
        the end of the connection is the end of the body, half of a content would be taken for the whole.
        """
        sock = self.transport.get_extra_info("socket") if self._outgoing is None else self._outgoing.socket
        if sock is not None:
            with suppress(OSError, ValueError):  # it is closed already
                sock.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, _AT_ONCE)
        self.transport.abort()

    @property
    def outgoing(self) -> SocketState:
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
        network = "" if self.client is None else self.client[0]
        self._networks[network] -= 1
        if not self._networks[network]:
            del self._networks[network]
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

    def _be_gone(self, closed: ClientGone) -> None:
        """Tells whoever sends on this connection that nothing more can be."""
        self.gone = True
        why = closed if self.cut_because is None else ReaderStuck(self.cut_because)
        if self.answer is not None:
            self.answer.lost(why)
        if self._waiting is not None and not self._waiting.done():
            self._waiting.set_exception(why)


def _wake(waiting: asyncio.Future[None]) -> None:
    if not waiting.done():
        waiting.set_result(None)

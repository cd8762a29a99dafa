"""What comes by a connection: which bytes are a request, and when it begins.

What a stranger sends is bounded in size, number and time:
- A request's framing is checked before anything of it is begun (RFC 9112 §6.3, §3.2): what is not exactly one
  request is answered 400, and the connection hears no more. A body that breaks off, or is broken, ends its request.
- `Upgrade` is ignored (RFC 9110 §7.8): the parser would leave what follows the head to another protocol, so the
  head is read again without the field, and the body after it as the body that it is.
- Of requests that are sent before the answers to those before them, a few are read; the rest waits unread.
"""

from __future__ import annotations

import re
from typing import Any
from urllib.parse import unquote

import httptools
from uvicorn.protocols.http.flow_control import HIGH_WATER_LIMIT
from uvicorn.protocols.http.httptools_impl import STATUS_LINE, RequestResponseCycle

from invio.core.reasons import Refusal
from invio.delivery.problem_details import refusal_reply
from invio.delivery.sending.errors import ClientGone
from invio.delivery.sending.uvicorn.closing import ClosingProtocol
from invio.delivery.sending.uvicorn.exchange import NO_SCOPE, Exchange
from invio.delivery.sending.uvicorn.signals import DEAF, NO_QUEUE, Queue, Signal
from invio.delivery.sending.uvicorn.socket_state import SocketState

# The longest head of a request, with its target; the parser itself knows no limit.
_HEAD = 64 * 1024  # bytes
# Requests that wait on a connection for the answers before theirs; and how much is read of what may hold more.
_PIPELINED = 32
_PORTION, _OF_BODIES = 4 * 1024, 64 * 1024  # bytes
_UNFED = 1024 * 1024  # bytes that wait unread, at most
_UNWANTED = 1024 * 1024  # bytes of a body that are read although its request was answered
_NO_HEADERS: Any = ()
# The fields that decide what is a request; no other is looked at here.
_OF_FRAMING = frozenset((b"host", b"transfer-encoding", b"content-length", b"expect"))
# RFC 9110 §7.2, RFC 3986 §3.2.2: a name, an IPv4 address, or an IPv6 one in brackets, and a port.
# No comma, which a name may have: two Host fields that somebody joined look like that.
_HOST = re.compile(rb"(?:\[[0-9A-Fa-f:.]+\]|(?:[A-Za-z0-9._~!$&'()*+;=-]|%[0-9A-Fa-f]{2})*)(?::[0-9]*)?\Z")
_NO_BODY = bytearray()
_OFFERED: dict[str, Any] = {}  # what the extension says of itself: nothing, and the same for all


def _nothing() -> None:
    """What is called at the end of a response that the server thinks has ended."""


def path_and_query(target: bytes) -> tuple[bytes, bytes]:
    """The two parts of a request's target, as the server takes them, which parses all of it as a URL.

    `target` is what the parser of requests let through: printable ASCII.

    Raises:
        HttpParserInvalidURLError: it is no URL.
    """
    if target.startswith(b"/") and b"#" not in target:  # nearly always
        path, _, query = target.partition(b"?")
        return path, query
    url = httptools.parse_url(target)
    return url.path, url.query or b""


class FramedProtocol(ClosingProtocol):
    """The receiving side of a connection: from bytes to requests that have begun."""

    # Apart from the server's own attributes: with these among them, they would outgrow the dictionary
    # that instances share, and each connection had one of its own.
    __slots__ = (
        "_between",
        "_body_left",
        "_body_open",
        "_deaf",
        "_faulty",
        "_final",
        "_good_host",
        "_head_bytes",
        "_heard",
        "_host",
        "_hosts",
        "_in_head",
        "_latest",
        "_reading",
        "_starts_eagerly",
        "_unfed",
        "_unwanted",
        "_upgrading",
    )

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
        self._head_bytes = 0  # of a request whose head has not ended yet
        self._latest: Exchange | None = None  # the response that began last
        self._between = True  # whether no request has been read in part
        self._in_head = False  # whether a head is being read
        self._body_open = False  # whether the body of `cycle` has not ended yet
        self._body_left = 0  # bytes of it that are still to come, where its head says how many
        self._final = False  # whether the last request that may come on this connection was read
        self._deaf = False  # whether what comes is not read any more
        self._upgrading = False  # whether the head that was read asks for another protocol
        self._unfed = b""  # what has come and was not read yet
        self._unwanted = 0  # bytes of a body that came after its answer
        self._heard = 0.0  # when something came, or a head began, by the event loop's clock
        self._hosts = 0  # Host fields of this head, and the last of them
        self._host = b""
        self._good_host = b""  # what was last seen to be one
        self._faulty = False  # whether its framing is not to be trusted

    def _start_asgi_task(self, cycle: Any, app: Any) -> None:
        if self._outgoing is None:  # what goes out is TLS's to encrypt
            super()._start_asgi_task(cycle, app)
            return
        heard = Signal()
        if cycle.message_event.is_set():  # its body arrived while it was queued
            heard.set()
        cycle.message_event = heard
        super()._start_asgi_task(cycle, self._wired(cycle, app, self._outgoing))

    def _wired(self, cycle: Any, app: Any, outgoing: SocketState) -> Exchange:
        """The application, with the extension."""
        if self._latest is not None:
            self._latest.followed()
        self._latest = wire = Exchange(app, cycle, self, outgoing)
        cycle.scope["extensions"] = {"http.response.zerocopysend": _OFFERED, "invio.connection": wire}
        return wire

    def data_received(self, data: bytes) -> None:
        """Reads what has come, unless nothing more is wanted from this connection."""
        if self._leaving:
            # What comes to a connection that is about to be closed is read, as long as it is not much.
            self._unwanted += len(data)
            if self._unwanted > _UNWANTED:
                self.transport.close()
            return
        if self._deaf or self._final:
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
            # Where no body is read there may be many small requests, and few of them are to be begun. What is of one
            # body is read in one go.
            stop = at + (max(_OF_BODIES, self._body_left) if self._body_open else _PORTION)
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
        """Parses some of the received bytes; returns what to parse in place of an upgrade request."""
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
        """The last head without its `Upgrade` field, to be parsed again by a new parser."""
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
        """A request's first byte was read."""
        if self._final:
            return
        self._between, self._in_head, self._body_open, self._body_left = False, True, False, 0
        self._hosts, self._faulty, self._unwanted = 0, False, 0
        self._heard = self.loop.time()
        if self.pipeline is NO_QUEUE and self.cycle is not None and not self.cycle.response_complete:
            self.pipeline = Queue()  # type: ignore[assignment]
        ClosingProtocol.on_message_begin(self)  # by name, as below: `super` takes three times as long

    def on_header(self, name: bytes, value: bytes) -> None:
        """A field of a head was read; what decides about framing is looked at here."""
        if not self._in_head:  # a trailer: RFC 9110 §6.5.1, it is not made part of the head
            return
        name = name.lower()
        self.headers.append((name, value))
        if name not in _OF_FRAMING:
            return
        if name == b"host":
            self._hosts += 1
            self._host = value
        elif name == b"transfer-encoding":
            # RFC 9112 §6.1: `chunked` is what ends a body; what else there is, nobody here knows.
            self._faulty = self._faulty or value.strip().lower() != b"chunked"
        elif name == b"content-length" and value.isdigit():
            self._body_left = int(value)
        elif name == b"expect" and value.lower() == b"100-continue":
            self.expect_100_continue = True

    def on_headers_complete(self) -> None:
        """A head was read: it is refused, or its request begins."""
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
        if self._hosts and self._host != self._good_host:  # mostly all come for one
            if not _HOST.match(self._host):
                self._refuse(Refusal("bad-request", "the Host field is not a valid host name or address"))
                return
            self._good_host = self._host
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
        if self._reading and self._outgoing is not None:
            self._begin(version, self._outgoing)
        else:
            super().on_headers_complete()

    def _begin(self, version: str, outgoing: SocketState) -> None:
        """Does what the server does with a request, for an application that `starts_eagerly` and is not mounted."""
        scope, state = self.scope, self.server_state
        raw, query = path_and_query(self.url)
        path = raw.decode("ascii")
        scope["method"] = self.parser.get_method().decode("ascii")
        scope["http_version"] = version
        scope["path"] = self.root_path + (unquote(path) if "%" in path else path)
        scope["raw_path"] = self.root_path.encode("ascii") + raw if self.root_path else raw
        scope["query_string"] = query
        before = self.cycle
        self.cycle = cycle = RequestResponseCycle(
            scope=scope,
            transport=self.transport,
            flow=self.flow,
            logger=self.logger,
            access_logger=self.access_logger,
            access_log=False,
            default_headers=state.default_headers,
            message_event=Signal(),  # type: ignore[arg-type]
            expect_100_continue=self.expect_100_continue,
            keep_alive=version != "1.0" and self.parser.should_keep_alive(),
            on_response=self.on_response_complete,
        )
        if before is None or before.response_complete:
            self.start(cycle.run_asgi(self._wired(cycle, self.app, outgoing)))
        else:
            self.flow.pause_reading()
            self.pipeline.appendleft((cycle, self.app))

    def on_body(self, body: bytes) -> None:
        """Some of a body was read."""
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
        # What the server does, but what comes while nothing waits to be taken is not copied.
        cycle: Any = self.cycle
        self._body_left = max(0, self._body_left - len(body))
        if not cycle.body:
            cycle.body = body
        elif isinstance(cycle.body, bytes):
            cycle.body = bytearray(cycle.body) + body
        else:
            cycle.body += body
        if len(cycle.body) > HIGH_WATER_LIMIT:
            self.flow.pause_reading()
        cycle.message_event.set()

    def on_message_complete(self) -> None:
        """A request was read to its end."""
        if self._upgrading or self._final:
            return
        self._between = True
        if not self._body_open:
            return
        self._body_open = False
        self._final = not self.cycle.keep_alive and not self.cycle.response_complete
        ClosingProtocol.on_message_complete(self)

    def send_400_response(self, msg: str) -> None:  # noqa: ARG002
        """Refuses what the parser cannot read."""
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
        """Removes the last request from the queue, if it is there; returns whether it was."""
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
        """Answers in the application's place; the application is told that the client is gone."""
        cycle = self.cycle
        self._deaf = True
        cycle.disconnected = True
        self._write_refusal(refusal)
        self._be_gone(ClientGone("the request's body was not complete"))
        cycle.message_event.set()
        self.close_when_taken()

    def _refuse(self, refusal: Refusal) -> None:
        """Answers a malformed request, and stops reading from this connection."""
        self._deaf, self._in_head, self._unfed = True, False, b""
        if self._leaving or self.transport.is_closing():
            return
        if self.cycle is not None and not self.cycle.response_complete:
            # Answers to what came before are under way; they are ended, and nothing is mixed into them.
            self.cycle.keep_alive = False
            return
        self._write_refusal(refusal)
        self.close_when_taken()

    def _write_refusal(self, refusal: Refusal) -> None:
        reply = refusal_reply(refusal, "GET", None)
        lines = [STATUS_LINE[reply.status][:-2]]
        lines += [name + b": " + value for name, value in (*self.server_state.default_headers, *reply.headers)]
        lines.append(b"connection: close")
        self.transport.write(b"\r\n".join(lines) + b"\r\n\r\n" + reply.said)

    def release_request_state(self) -> None:
        """Frees what only reading a request needs, until the next one comes."""
        self.scope, self.headers = NO_SCOPE, _NO_HEADERS
        if self._between:
            self.url = b""
        if self.cycle is not None:
            self.cycle.scope = NO_SCOPE
            self.cycle.message_event = DEAF
            if self._between:
                self.cycle.body = _NO_BODY
            self.loop.call_soon(self._forget_callback)
        if self._between:
            self.parser = None  # type: ignore[assignment]

    def _forget_callback(self) -> None:
        """The server has left a function of its own, which does nothing, with each response that goes on by itself."""
        if self.answer is not None and not self.cycle.response_complete:
            self.cycle.on_response = _nothing

"""A uvicorn protocol that sends files without reading them: the ASGI extension
`http.response.zerocopysend`, by `os.sendfile` on a duplicate of the socket's descriptor.

The event loop's transport keeps reading requests and noticing that a client went away; for
sending it is bypassed once a response has asked for zero-copy, and from then on everything of
that response goes through the duplicate, in order. A socket that is full is waited for with
`add_writer`. TLS connections are left to the transport, and do not offer the extension.

Besides the standard extension the scope offers `invio.connection`, a `Wire`: what of the body
was handed to the kernel, and what of that the other side has not acknowledged.
"""

from __future__ import annotations

import asyncio
import os
import socket
import struct
from collections.abc import Callable
from fcntl import ioctl
from typing import Any

from uvicorn.protocols.http.httptools_impl import STATUS_LINE, HttpToolsProtocol

from invio.core.reasons import Refusal
from invio.delivery.refusals import refusal_reply

# linux/sockios.h; termios.TIOCOUTQ is the same number where it exists
_SIOCOUTQ = 0x5411
# One call of sendfile: large enough to cost nothing, small enough to let others in.
_STEP = 16 * 1024 * 1024  # bytes
_TURN = 32 * 1024 * 1024  # bytes after which the loop gets a turn even though the socket takes more
# What middleware knows of messages before a response is this one, meant for tools; the others it may not expect.
_QUESTION = "http.response.debug"
# The longest head of a request, with its target; the parser itself knows no limit.
_HEAD = 64 * 1024  # bytes
# The length of a body that ends with its connection, which is how HTTP/1.0 is told of an end.
_UNTIL_CLOSE = 1 << 62


class ClientGone(OSError):
    """The other side closed the connection, or it was lost."""


class ReaderStuck(ClientGone):
    """The other side took nothing for so long that it was cut off."""


class ReplyBroken(Exception):
    """The response cannot be completed as announced; the connection must be broken, not ended."""


class Wire:
    """One response on one connection."""

    __slots__ = ("_app", "_cycle", "_direct", "_head", "_protocol", "_until_close", "answered", "body_sent")

    def __init__(self, app: Callable[..., Any], cycle: Any, protocol: ZeroCopyProtocol) -> None:
        self._app = app
        self._cycle = cycle
        self._protocol = protocol
        self._direct = False
        self._head = b""
        self._until_close = False
        self.answered = False  # whether a question that was sent to this response has reached it
        self.body_sent = 0  # bytes of the body that the kernel, or the transport's buffer, has taken

    @property
    def gone(self) -> bool:
        """Whether the other side is no longer there."""
        return self._protocol.gone

    @staticmethod
    def question() -> dict[str, Any]:
        """A message to be sent before the response: it has no effect but that, if it arrives, it is `answered`."""
        return {"type": _QUESTION, "info": {}}

    @property
    def untouched(self) -> bool:
        """Whether nothing of the response has left, its head included."""
        return bool(self._head) or not self._cycle.response_started

    def unacknowledged(self) -> int:
        """Bytes that were sent on this connection and not yet acknowledged by the other side."""
        return self._protocol.unacknowledged()

    def waiting(self) -> bool:
        """Whether something was sent that the other side has not taken yet."""
        transport = self._protocol.transport
        return self._protocol.waits or transport.get_write_buffer_size() > 0 or self._protocol.unacknowledged() > 0

    def cut(self, why: str) -> None:
        """Breaks the connection; whoever is sending on it gets ReaderStuck."""
        self._protocol.cut(why)

    @property
    def cut_because(self) -> str | None:
        return self._protocol.cut_because

    async def __call__(self, scope: Any, receive: Any, _send: Any) -> None:
        """The application, with a connection that is broken when a reply cannot be completed."""
        try:
            await self._app(scope, receive, self.send)
        except (ReplyBroken, ClientGone):
            self._give_up()

    def _give_up(self) -> None:
        # The cycle takes a response that was begun and not ended for a fault of the application,
        # unless the client is gone; here either is known already, and was recorded.
        self._cycle.response_started = True
        self._cycle.disconnected = True
        self._protocol.transport.abort()

    async def send(self, message: dict[str, Any]) -> None:
        """The ASGI `send` of this response."""
        kind = message["type"]
        cycle = self._cycle
        if kind == _QUESTION:
            self.answered = True
        elif kind == "http.response.zerocopysend":
            file = message["file"]
            descriptor = file if isinstance(file, int) else file.fileno()
            await self.send_file(descriptor, message["offset"], message["count"], message.get("more_body", False))
        elif kind == "http.response.body" and self._direct:
            await self._send_bytes(message)
        else:
            if self._protocol.gone:
                raise self._lost("the client closed the connection")
            if self._head:
                head, self._head = self._head, b""
                # HEAD has no body, whatever the message holds; a chunked one has a frame around it.
                if cycle.chunked_encoding or self._until_close or cycle.scope["method"] == "HEAD":
                    self._protocol.transport.write(head)
                else:
                    if cycle.flow.write_paused:
                        await cycle.flow.drain()
                    self._send_with_head(head, message)
                    return
            if self._until_close and not message.get("more_body", False):
                cycle.expected_content_length = len(message.get("body", b""))
            await cycle.send(message)
            if self._protocol.gone:
                raise self._lost("the client closed the connection")
            self.body_sent += len(message.get("body", b""))

    def hold_head(self, status: int, headers: list[tuple[bytes, bytes]]) -> None:
        """Instead of `http.response.start`: the head leaves together with the first of the body."""
        cycle = self._cycle
        cycle.response_started = True
        cycle.waiting_for_100_continue = False
        lines = [STATUS_LINE[status][:-2], *[name + b": " + value for name, value in cycle.default_headers]]
        block, length = _block(headers)
        if block:
            lines.append(block)
        if length is not None:
            cycle.chunked_encoding = False
            cycle.expected_content_length = length
        elif status not in (204, 304) and cycle.scope["method"] != "HEAD":
            if cycle.scope["http_version"] == "1.0":
                # RFC 9112 §6.1: no transfer coding for HTTP/1.0; §6.3: it ends with the connection.
                self._until_close = True
                cycle.chunked_encoding = False
                cycle.expected_content_length = _UNTIL_CLOSE
                cycle.keep_alive = False
            else:
                cycle.chunked_encoding = True
                lines.append(b"transfer-encoding: chunked")
        if not cycle.keep_alive:
            lines.append(b"connection: close")
        self._head = b"\r\n".join(lines) + b"\r\n\r\n"

    def send_whole(self, status: int, headers: list[tuple[bytes, bytes]], body: bytes) -> bool:
        """Sends a response with its length in one write; False where that is not to be, and nothing was sent."""
        cycle = self._cycle
        if cycle.flow.write_paused or self._protocol.gone or cycle.scope["method"] == "HEAD" or not body:
            return False
        self.hold_head(status, headers)
        head, self._head = self._head, b""
        if cycle.expected_content_length != len(body):
            raise ReplyBroken("the head announces another length than the content has")
        cycle.expected_content_length = 0
        self._protocol.transport.write(head + body)
        self.body_sent = len(body)
        self._end_unless(more=False)
        return True

    def _send_with_head(self, head: bytes, message: dict[str, Any]) -> None:
        """Head and first piece in one write: one packet for a small file."""
        body = message.get("body", b"")
        self._cycle.expected_content_length -= len(body)
        self._protocol.transport.write(head + body)
        self.body_sent += len(body)
        self._end_unless(message.get("more_body", False))

    async def _go_direct(self) -> socket.socket:
        """The socket, once everything that the transport still holds has left."""
        transport = self._protocol.transport
        if not self._direct and transport.get_write_buffer_size():
            await asyncio.sleep(0)
            if transport.get_write_buffer_size():
                low, high = transport.get_write_buffer_limits()
                transport.set_write_buffer_limits(high=0)
                try:
                    await self._protocol.flow.drain()
                finally:
                    transport.set_write_buffer_limits(high=high, low=low)
        self._direct = True
        if self._protocol.gone:
            raise self._lost("the client closed the connection")
        return self._protocol.direct_socket()

    def _lost(self, why: str) -> ClientGone:
        """What to raise; the server is told as well, that a response without an end is no fault."""
        self._cycle.disconnected = True
        because = self._protocol.cut_because
        return ClientGone(why) if because is None else ReaderStuck(because)

    async def _send_bytes(self, message: dict[str, Any]) -> None:
        body, more = message.get("body", b""), message.get("more_body", False)
        self._cycle.expected_content_length -= len(body)
        await self._write(await self._go_direct(), body, more)
        self.body_sent += len(body)
        self._end_unless(more)

    async def _write(self, sock: socket.socket, data: bytes, more: bool) -> None:
        view = memoryview(data)
        flags = socket.MSG_MORE if more else 0
        while view:
            sent = self._attempt(sock.send, view, flags)
            if sent is None:
                await self._protocol.writable()
            else:
                view = view[sent:]

    def _attempt(self, send: Callable[..., int], *given: object) -> int | None:
        """What a call has sent; None when the socket takes no more at present.

        A function of its own, so that nobody waits with an exception, and its traceback, in hand.
        """
        try:
            return send(*given)
        except BlockingIOError:
            return None
        except OSError as error:
            raise self._lost(str(error)) from None

    async def send_file(self, descriptor: int, offset: int, count: int, more: bool) -> None:
        """`count` bytes of an open file, from `offset` on; `more` says that they are not the body's last."""
        sock = await self._go_direct()
        if self._head:
            await self._write(sock, self._head, more=True)
            self._head = b""
        if count > self._cycle.expected_content_length:
            raise ReplyBroken("more was to be sent than the head announced")
        target, turn = sock.fileno(), _TURN
        while count:
            sent = self._attempt(os.sendfile, target, descriptor, offset, min(count, _STEP))
            if sent is None:
                await self._protocol.writable()
                turn = _TURN
                continue
            if not sent:
                raise ReplyBroken("the file ended before its announced length")
            offset += sent
            count -= sent
            turn -= sent
            self.body_sent += sent
            self._cycle.expected_content_length -= sent
            if turn <= 0:
                turn = _TURN
                await asyncio.sleep(0)
                if self._protocol.gone:
                    raise self._lost("the client closed the connection")
        self._end_unless(more)

    def _end_unless(self, more: bool) -> None:
        """Ends the response as the cycle itself would after its last message."""
        if more:
            return
        cycle = self._cycle
        if cycle.expected_content_length:
            raise ReplyBroken("less was sent than the head announced")
        cycle.response_complete = True
        cycle.message_event.set()
        if not cycle.keep_alive:
            cycle.transport.close()
        cycle.on_response()


_OFFERED: dict[str, Any] = {}  # what the extension says of itself: nothing, and the same for all


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


class _Queue(list[Any]):
    """Requests that wait for their turn on a connection: few, and mostly none."""

    def appendleft(self, item: Any) -> None:
        self.insert(0, item)


class ZeroCopyProtocol(HttpToolsProtocol):
    """uvicorn's protocol for httptools, with the zero-copy extension and a limit on a request's head."""

    gone = False
    cut_because: str | None = None
    _head_bytes = 0  # of a request whose head has not ended yet
    _direct: socket.socket | None = None
    _waiting: asyncio.Future[None] | None = None
    _last_unacknowledged = 0

    def connection_made(self, transport: Any) -> None:
        super().connection_made(transport)
        self.pipeline = _Queue()  # type: ignore[assignment]
        self.flow._is_writable_event = _Signal()  # type: ignore[assignment]
        self.flow._is_writable_event.set()

    def _start_asgi_task(self, cycle: Any, app: Any) -> None:
        if self.scheme == "https":
            super()._start_asgi_task(cycle, app)
            return
        wire = Wire(app, cycle, self)
        cycle.scope["extensions"] = {"http.response.zerocopysend": _OFFERED, "invio.connection": wire}
        cycle.message_event = _Signal()
        super()._start_asgi_task(cycle, wire)

    def direct_socket(self) -> socket.socket:
        """A duplicate of the connection's socket; made when first asked for, closed with the connection."""
        if self._direct is None:
            original = self.transport.get_extra_info("socket")
            self._direct = socket.socket(fileno=os.dup(original.fileno()))
            self._direct.setblocking(False)
        return self._direct

    def data_received(self, data: bytes) -> None:
        self._head_bytes += len(data)
        super().data_received(data)
        if self._head_bytes > _HEAD:
            self._refuse(Refusal("long-head", f"the head of a request has at most {_HEAD} bytes"))

    def on_headers_complete(self) -> None:
        fed, self._head_bytes = self._head_bytes, 0
        if fed > _HEAD and len(self.url) + sum(len(name) + len(value) + 4 for name, value in self.headers) > _HEAD:
            self._refuse(Refusal("long-head", f"the head of a request has at most {_HEAD} bytes"))
            return
        if self.parser.get_http_version() not in ("1.1", "1.0"):
            # The parser takes a first line without a version for HTTP/0.9, and one with any number.
            self._refuse(Refusal("bad-request", "the version of HTTP is neither 1.1 nor 1.0"))
            return
        super().on_headers_complete()

    def on_body(self, body: bytes) -> None:
        self._head_bytes = 0
        if self.cycle is not None:
            super().on_body(body)

    def on_message_complete(self) -> None:
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

    def cut(self, why: str) -> None:
        """Breaks the connection, and has whoever sends on it told why."""
        if not self.gone:
            self.cut_because = why
            self.transport.abort()

    @property
    def waits(self) -> bool:
        """Whether somebody waits for the socket to take more."""
        return self._waiting is not None

    async def writable(self) -> None:
        """Returns when the socket takes more. Raises ClientGone."""
        if self.gone:
            raise ClientGone("the client closed the connection")
        sock = self.direct_socket()
        self._waiting = waiting = self.loop.create_future()
        self.loop.add_writer(sock.fileno(), _wake, waiting)
        try:
            await waiting
        finally:
            self._waiting = None
            if self._direct is not None:
                self.loop.remove_writer(self._direct.fileno())

    def unacknowledged(self) -> int:
        if self.gone or self._direct is None:
            return self._last_unacknowledged
        return _unacknowledged(self._direct)

    def connection_lost(self, exc: Exception | None) -> None:
        super().connection_lost(exc)
        if self._direct is not None:
            self._last_unacknowledged = _unacknowledged(self._direct)
            self.loop.remove_writer(self._direct.fileno())
            self._direct.close()
            self._direct = None
        self.gone = True
        if self._waiting is not None and not self._waiting.done():
            lost = ClientGone("the client closed the connection")
            self._waiting.set_exception(lost if self.cut_because is None else ReaderStuck(self.cut_because))


# Header blocks by the identity of the list that they were made from, which is kept with them so that it
# stays the same: a reply's headers are never changed, and many answers have the same ones.
_BLOCKS: dict[int, tuple[object, bytes, int | None]] = {}
_BLOCKS_KEPT = 2048


def _block(headers: list[tuple[bytes, bytes]]) -> tuple[bytes, int | None]:
    """Header fields as they are sent, and the length that they announce."""
    kept = _BLOCKS.get(id(headers))
    if kept is not None and kept[0] is headers:
        return kept[1], kept[2]
    block = b"\r\n".join([name + b": " + value for name, value in headers])
    # Whatever the values came from, none of them may end its line and begin another.
    ends = max(0, len(headers) - 1)
    if block.count(b"\n") != ends or block.count(b"\r") != ends:
        raise RuntimeError("a header holds a line end")
    length = next((int(value) for name, value in headers if name == b"content-length"), None)
    if len(_BLOCKS) >= _BLOCKS_KEPT:
        _BLOCKS.clear()
    _BLOCKS[id(headers)] = (headers, block, length)
    return block, length


def _wake(waiting: asyncio.Future[None]) -> None:
    if not waiting.done():
        waiting.set_result(None)


def _unacknowledged(sock: socket.socket) -> int:
    try:
        return int(struct.unpack("i", ioctl(sock.fileno(), _SIOCOUTQ, b"\0\0\0\0"))[0])
    except OSError:
        return 0

"""One response on one connection, sent without reading the files that it consists of.

Once a response has asked for zero-copy, everything of it goes by a duplicate of the socket's
descriptor, in order: `os.sendfile` for files, `send` for what stands between them. A socket that is
full is waited for. Before that, the event loop's transport sends, as it does for everybody.
"""

from __future__ import annotations

import asyncio
import logging
import os
import socket
from collections.abc import Callable, Coroutine
from typing import TYPE_CHECKING, Any

from uvicorn.protocols.http.httptools_impl import STATUS_LINE

from invio.delivery.sending.connection import STEP, TURN, Connection, Unfinished
from invio.delivery.sending.errors import ClientGone, ReaderStuck, ReplyBroken
from invio.delivery.sending.header_blocks import header_block
from invio.delivery.sending.uvicorn.closing import ClosingProtocol
from invio.delivery.sending.uvicorn.socket_state import SocketState

log = logging.getLogger("invio.delivery")

# What middleware knows of messages before a response is this one, meant for tools; the others it may not expect.
_QUESTION = "http.response.debug"
# The longest first piece that is copied behind the head, to be sent with it in one write. Longer ones are not copied.
_COPIED = 64 * 1024  # bytes
# The length of a body that ends with its connection, which is how HTTP/1.0 is told of an end.
_UNTIL_CLOSE = 1 << 62
# What is left of the request when nobody will ask for it again.
NO_SCOPE: Any = {"type": "http"}


class Exchange:
    """One response on one connection."""

    __slots__ = (
        "_app", "_cycle", "_direct", "_end", "_head", "_outgoing", "_protocol", "_turn", "_until_close", "answered",
        "body_sent", "taken",
    )  # fmt: skip

    def __init__(self, app: Callable[..., Any], cycle: Any, protocol: ClosingProtocol, outgoing: SocketState) -> None:
        self._app = app
        self._cycle = cycle
        self._protocol = protocol
        self._outgoing = outgoing
        self._direct = False
        self._head = b""
        self._until_close = False
        self._end: int | None = None  # where the response ended, by the connection's count, once others follow it
        self._turn = TURN  # bytes until the loop gets its turn
        self.answered = False  # whether a question that was sent to this response has reached it
        self.taken = False  # whether all of it is known to have arrived
        self.body_sent = 0  # bytes of the body that the kernel, or the transport's buffer, has taken

    @property
    def cycle(self) -> Any:
        """The server's own account of this request and its response."""
        return self._cycle

    @property
    def gone(self) -> bool:
        """Whether the other side is no longer there."""
        return self._protocol.gone

    @property
    def leaving(self) -> bool:
        """Whether the other side is gone, or has closed at least its own side."""
        return self._protocol.gone or self._protocol.said_all

    @staticmethod
    def question() -> dict[str, Any]:
        """A message to be sent before the response: it has no effect but that, if it arrives, it is `answered`."""
        return {"type": _QUESTION, "info": {}}

    @property
    def untouched(self) -> bool:
        """Whether nothing of the response has left, its head included."""
        return bool(self._head) or not self._cycle.response_started

    def unacknowledged(self) -> int:
        """Bytes of this response that were sent and not acknowledged yet."""
        if self._end is None:
            return self._outgoing.unacknowledged()
        return max(0, self._end - self._outgoing.acknowledged())

    def followed(self) -> None:
        """Another response begins on this connection; later unacknowledged bytes may belong to it."""
        if self.taken or self._end is not None:
            return
        if self._outgoing.unacknowledged():
            self._end = self._outgoing.position()
        else:
            self.taken = True

    @property
    def arrived(self) -> int:
        """Bytes of the body that the other side has acknowledged."""
        if self.taken:
            return self.body_sent
        return max(0, self.body_sent - self.unacknowledged())

    @property
    def at_most(self) -> int:
        """Bytes of the body that the other side may have got: those that are on the wire as well."""
        return self.body_sent if self.taken else max(self.arrived, self.body_sent - self._outgoing.unsent())

    def waiting(self) -> bool:
        """Whether something was sent that the other side has not taken yet."""
        return self._protocol.waits or self._outgoing.unacknowledged() > 0

    def cut(self, why: str) -> None:
        """Breaks the connection; whoever is sending on it gets ReaderStuck."""
        self._protocol.cut(why)

    @property
    def cut_because(self) -> str | None:
        """Why the connection was broken by us, if it was."""
        return self._protocol.cut_because

    async def __call__(self, scope: Any, receive: Any, _send: Any) -> None:
        """The application, with a connection that is broken when a reply cannot be completed."""
        try:
            await self._app(scope, receive, self.send)
        except (ReplyBroken, ClientGone):
            self.give_up()
        if self._cycle.response_complete:
            self._let_go()

    def defer(self) -> None:
        """Lets the application return; the response is sent in a later turn."""
        self._cycle.disconnected = True  # otherwise its return would count as an error

    def resume(self) -> None:
        """Sends what `defer` postponed."""
        cycle = self._cycle
        cycle.disconnected = self._protocol.gone
        cycle.on_response = self._protocol.on_response_complete

    def spawn(self, sending: Coroutine[Any, Any, None]) -> None:
        """Sends a postponed response with a coroutine."""
        self._protocol.start(self._guarded(sending))

    async def _guarded(self, sending: Coroutine[Any, Any, None]) -> None:
        try:
            await sending
        except (ReplyBroken, ClientGone):
            self.give_up()
        except Exception:
            log.exception("delivery.failed")
            self.give_up()

    def give_up(self) -> None:
        """Breaks the connection: the answer is not sent whole."""
        # The cycle takes a response that was begun and not ended for a fault of the application,
        # unless the client is gone; here either is known already, and was recorded.
        self._cycle.response_started = True
        self._cycle.disconnected = True
        self._protocol.reset()

    @property
    def free(self) -> bool:
        """Whether a body may be sent past the transport at once: nothing of it or before it is waiting there."""
        return not (self._protocol.gone or self._head or self._protocol.transport.get_write_buffer_size())

    def head_of(self, status: int, headers: list[tuple[bytes, bytes]]) -> bytes:
        """The response's head, for somebody else to send."""
        self.hold_head(status, headers)
        head, self._head = self._head, b""
        return head

    def direct_socket(self) -> socket.socket:
        """The socket itself. Raises ClientGone."""
        if self._protocol.gone:
            raise self._lost("the client closed the connection")
        return self._outgoing.socket

    def attach(self, answer: Unfinished) -> None:
        """Registers `answer` to be told when the connection is lost."""
        self._protocol.answer = answer

    def detach(self, answer: Unfinished) -> None:
        """Ends what `attach` began."""
        if self._protocol.answer is answer:
            self._protocol.answer = None

    def release_request_state(self) -> None:
        """Frees what the application was told of the request, which nobody asks for again."""
        self._protocol.release_request_state()

    def complete(self) -> None:
        """The caller has sent the body: the next request may be answered. Raises ReplyBroken."""
        if self.body_sent != self._cycle.expected_content_length:
            raise ReplyBroken("more, or less, was sent than the head announced")
        self._cycle.expected_content_length = 0
        self._cycle.on_response = self._protocol.on_response_complete
        self._end_unless(more=False)

    async def send(self, message: dict[str, Any]) -> None:
        """The ASGI `send` of this response."""
        kind = message["type"]
        cycle = self._cycle
        if kind == _QUESTION:
            self.answered = True
        elif kind == "http.response.zerocopysend":
            file = message["file"]
            descriptor = file if isinstance(file, int) else file.fileno()
            await self.send_file(descriptor, message["offset"], message["count"], more=message.get("more_body", False))
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
                        if self._protocol.gone:  # which ends the waiting, too
                            raise self._lost("the client closed the connection")
                    if len(message.get("body", b"")) <= _COPIED:
                        self._send_with_head(head, message)
                        return
                    await self._write(await self._go_direct(), head, more=True)
                    await self._send_bytes(message)
                    return
            if self._until_close and not message.get("more_body", False):
                cycle.expected_content_length = len(message.get("body", b""))
            await self._send_by_cycle(message)
            if self._protocol.gone:
                raise self._lost("the client closed the connection")
            self.body_sent += len(message.get("body", b""))

    async def _send_by_cycle(self, message: dict[str, Any]) -> None:
        """As the server would, but that what went before on this connection is let arrive before that is closed."""
        cycle = self._cycle
        closes = message["type"] == "http.response.body" and not message.get("more_body", False)
        if not closes or cycle.keep_alive:
            await cycle.send(message)
            return
        cycle.keep_alive = True
        self._protocol.leave()
        await cycle.send(message)
        self._protocol.close_when_taken()

    def hold_head(self, status: int, headers: list[tuple[bytes, bytes]]) -> None:
        """Takes the place of `http.response.start`; the head is sent with the first bytes of the body."""
        cycle = self._cycle
        cycle.response_started = True
        cycle.waiting_for_100_continue = False
        usual = cycle.default_headers
        lines = [STATUS_LINE[status][:-2], header_block(usual, keeps=True)[0]] if usual else [STATUS_LINE[status][:-2]]
        block, length = header_block(headers, keeps=status != 206)
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
        if not self._write_now(head + body):
            return False  # whoever sends it otherwise is told that the client is gone
        cycle.expected_content_length = 0
        self.body_sent = len(body)
        self._end_unless(more=False)
        return True

    def _send_with_head(self, head: bytes, message: dict[str, Any]) -> None:
        """Head and first piece in one write: one packet for a small file."""
        body = message.get("body", b"")
        self._cycle.expected_content_length -= len(body)
        if not self._write_now(head + body):
            raise self._lost("the client closed the connection")
        self.body_sent += len(body)
        self._end_unless(more=message.get("more_body", False))

    def _write_now(self, data: bytes) -> bool:
        """Sends what the socket takes at once; the transport sends the rest. False: the connection is lost.

        The transport alone would send it at the end of this turn of the event loop, with all that is sent in it,
        and the other sides would have nothing to do until then.
        """
        transport, sent = self._protocol.transport, 0
        if not transport.get_write_buffer_size():
            try:
                sent = self._outgoing.socket.send(data)
            except BlockingIOError:
                sent = 0
            except OSError:  # the transport will notice; what it is given now would count as sent
                return False
        if sent < len(data):
            transport.write(data[sent:])
        return True

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
        return self._outgoing.socket

    def _lost(self, why: str) -> ClientGone:
        """What to raise; the server is told as well, that a response without an end is no fault."""
        self._cycle.disconnected = True
        because = self._protocol.cut_because
        return ClientGone(why) if because is None else ReaderStuck(because)

    async def _send_bytes(self, message: dict[str, Any]) -> None:
        body, more = message.get("body", b""), message.get("more_body", False)
        self._cycle.expected_content_length -= len(body)
        await self._write(await self._go_direct(), body, more=more)
        self.body_sent += len(body)
        self._end_unless(more=more)

    async def _write(self, sock: socket.socket, data: bytes, *, more: bool) -> None:
        view = memoryview(data)
        flags = socket.MSG_MORE if more else 0
        while view:
            sent = self.attempt(sock.send, view, flags)
            if sent is None:
                await self._protocol.writable(sock)
                self._turn = TURN
            else:
                view = view[sent:]
                self._turn -= sent
        if self._turn <= 0 and more:
            await self._let_others_in()

    async def _let_others_in(self) -> None:
        """Yields, so that a socket that always takes more does not starve the event loop."""
        self._turn = TURN
        await asyncio.sleep(0)
        if self._protocol.gone:
            raise self._lost("the client closed the connection")

    def attempt(self, send: Callable[..., int], *given: object) -> int | None:
        """What a call has sent; None when the socket takes no more at present.

        A function of its own, so that nobody waits with an exception, and its traceback, in hand.
        """
        try:
            return send(*given)
        except BlockingIOError:
            return None
        except OSError as error:
            raise self._lost(str(error)) from None

    async def send_file(self, descriptor: int, offset: int, count: int, *, more: bool) -> None:
        """`count` bytes of an open file, from `offset` on; `more` says that they are not the body's last."""
        sock = await self._go_direct()
        if count > self._cycle.expected_content_length:
            raise ReplyBroken("more was to be sent than the head announced")
        if self._head:
            await self._write(sock, self._head, more=True)
            self._head = b""
        target = sock.fileno()
        while count:
            sent = self.attempt(os.sendfile, target, descriptor, offset, min(count, STEP))
            if sent is None:
                await self._protocol.writable(sock)
                self._turn = TURN
                continue
            if not sent:
                raise ReplyBroken("the file ended before its announced length")
            offset += sent
            count -= sent
            self._turn -= sent
            self.body_sent += sent
            self._cycle.expected_content_length -= sent
            if self._turn <= 0 and (count or more):
                await self._let_others_in()
        self._end_unless(more=more)

    def _end_unless(self, *, more: bool) -> None:
        """Ends the response as the cycle itself would after its last message."""
        if more:
            return
        cycle = self._cycle
        if cycle.expected_content_length:
            raise ReplyBroken("less was sent than the head announced")
        cycle.response_complete = True
        cycle.message_event.set()
        self._let_go()
        if not cycle.keep_alive:
            self._protocol.close_when_taken()
        cycle.on_response()

    def _let_go(self) -> None:
        """Breaks the reference cycle scope → exchange → cycle, so that reference counting frees all three."""
        self._cycle.scope = NO_SCOPE


if TYPE_CHECKING:

    def _is_a_connection(exchange: Exchange) -> Connection:
        return exchange

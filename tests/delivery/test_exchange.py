"""One response on one connection: its head, its account of what has left, and how it ends; on a socket pair."""

from __future__ import annotations

import asyncio
import contextlib
import os
import socket
from collections.abc import Callable, Iterator
from pathlib import Path
from types import SimpleNamespace
from typing import Any, cast

import pytest

from invio.delivery.sending.connection import TURN
from invio.delivery.sending.errors import ClientGone, ReaderStuck, ReplyBroken
from invio.delivery.sending.uvicorn import exchange as exchange_module
from invio.delivery.sending.uvicorn.exchange import NO_SCOPE, Exchange


class Outgoing:
    """The connection's own counts, which a test sets."""

    def __init__(self, own: socket.socket) -> None:
        self.socket = own
        self.on_its_way = self.not_on_the_wire = self.got = 0

    def unacknowledged(self) -> int:
        return self.on_its_way

    def unsent(self) -> int:
        return self.not_on_the_wire

    def acknowledged(self) -> int:
        return self.got

    def position(self) -> int:
        return self.got + self.on_its_way


class Transport:
    """A transport whose buffer holds what is written until the test empties it."""

    def __init__(self) -> None:
        self.buffer, self.limits = b"", (1, 4)

    def write(self, data: bytes) -> None:
        self.buffer += data

    def get_write_buffer_size(self) -> int:
        return len(self.buffer)

    def get_write_buffer_limits(self) -> tuple[int, int]:
        return self.limits

    def set_write_buffer_limits(self, high: int, low: int = 0) -> None:
        self.limits = (low, high)


class Protocol:
    """A connection, as its exchange sees it; `said` are the calls that came."""

    def __init__(self, own: socket.socket) -> None:
        self.outgoing, self.transport, self.flow = Outgoing(own), Transport(), self
        self.gone = self.waits = False
        self.cut_because: str | None = None
        self.answer: object = None
        self.said: list[str] = []

    def __getattr__(self, name: str) -> Callable[..., None]:
        return lambda *_: self.said.append(name)

    async def drain(self) -> None:
        """The transport sends all that it holds."""
        assert self.transport.limits == (0, 0), "it is waited for until nothing is left"
        self.outgoing.socket.sendall(self.transport.buffer)
        self.transport.buffer = b""

    async def writable(self, _sock: socket.socket) -> None:
        self.said.append("writable")
        await asyncio.sleep(0)


class Cycle(SimpleNamespace):
    """The server's account of a request."""

    async def send(self, message: dict[str, Any]) -> None:
        self.sent.append(message["type"])
        if message["type"] == "http.response.start":
            self.response_started = True


class One:
    """An exchange, with what stands around it and the other end of its socket."""

    def __init__(self, method: str = "GET", version: str = "1.1") -> None:
        own, self.other = socket.socketpair()
        own.setblocking(False)
        self.other.setblocking(False)
        self.protocol = cast(Any, Protocol(own))
        self.cycle = Cycle(
            scope={"method": method, "http_version": version}, response_started=False, response_complete=False,
            disconnected=False, keep_alive=True, chunked_encoding=None, expected_content_length=0, default_headers=[],
            waiting_for_100_continue=True, message_event=asyncio.Event(), sent=[],
            on_response=lambda: self.protocol.said.append("next"),
            flow=SimpleNamespace(write_paused=False),
        )  # fmt: skip
        self.exchange = Exchange(self.app, self.cycle, self.protocol, self.protocol.outgoing)
        self.raises: Exception | None = None

    async def app(self, *_: object) -> None:
        if self.raises is not None:
            raise self.raises

    def came(self) -> bytes:
        try:
            return self.other.recv(1 << 20)
        except BlockingIOError:
            return b""


@pytest.fixture
def one() -> Iterator[One]:
    made = One()
    yield made
    made.protocol.outgoing.socket.close()
    made.other.close()


LENGTH = [(b"content-length", b"4")]


def test_a_small_response_leaves_in_one_write_and_the_next_request_may_be_answered(one: One) -> None:
    exchange, cycle = one.exchange, one.cycle
    assert exchange.untouched
    assert exchange.send_whole(200, [*LENGTH, (b"x-a", b"b")], b"four")
    assert one.came() == b"HTTP/1.1 200 OK\r\ncontent-length: 4\r\nx-a: b\r\n\r\nfour"
    assert (exchange.body_sent, exchange.untouched, cycle.response_complete) == (4, False, True)
    assert cycle.waiting_for_100_continue is False
    assert cycle.message_event.is_set()
    assert exchange.cycle is cycle
    assert cycle.scope is NO_SCOPE
    assert one.protocol.said == ["next"]


def test_a_small_response_may_be_the_last_and_has_what_every_one_has(one: One) -> None:
    one.cycle.keep_alive, one.cycle.default_headers = False, [(b"x-each", b"1")]
    assert one.exchange.send_whole(200, LENGTH, b"four")
    assert one.came() == b"HTTP/1.1 200 OK\r\nx-each: 1\r\ncontent-length: 4\r\nconnection: close\r\n\r\nfour"
    assert one.protocol.said == ["close_when_taken", "next"]


def test_a_small_response_of_another_length_or_to_nobody_is_not_sent(one: One) -> None:
    with pytest.raises(ReplyBroken, match="announces another length"):
        one.exchange.send_whole(200, LENGTH, b"fours")
    assert one.came() == b""
    one.other.close()
    assert not one.exchange.send_whole(200, LENGTH, b"four")


def test_a_full_socket_leaves_all_of_a_small_response_to_the_transport(one: One) -> None:
    with contextlib.suppress(BlockingIOError):
        while True:
            one.protocol.outgoing.socket.send(bytes(65536))
    assert one.exchange.send_whole(200, LENGTH, b"four")
    assert one.protocol.transport.buffer == b"HTTP/1.1 200 OK\r\ncontent-length: 4\r\n\r\nfour"


def test_a_held_head_leaves_with_the_first_piece(one: One) -> None:
    async def work() -> None:
        one.exchange.hold_head(200, LENGTH)
        await one.exchange.send({"type": "http.response.body", "body": b"fo", "more_body": True})
        assert one.came().endswith(b"\r\n\r\nfo")
        assert (one.exchange.body_sent, one.cycle.response_complete) == (2, False)

    asyncio.run(work())
    whole = One()
    whole.exchange.hold_head(200, LENGTH)
    asyncio.run(whole.exchange.send({"type": "http.response.body", "body": b"four"}))
    assert whole.came().endswith(b"\r\n\r\nfour")
    assert (whole.exchange.body_sent, whole.cycle.response_complete) == (4, True)
    lost = One()
    lost.exchange.hold_head(200, LENGTH)
    lost.other.close()
    with pytest.raises(ClientGone):
        asyncio.run(lost.exchange.send({"type": "http.response.body", "body": b"four"}))
    assert lost.exchange.body_sent == 0


@pytest.mark.parametrize("gone", [False, True])
@pytest.mark.parametrize("said_all", [False, True])
def test_who_is_gone_or_has_closed_their_side_is_leaving(one: One, *, gone: bool, said_all: bool) -> None:
    one.protocol.gone, one.protocol.said_all = gone, said_all
    assert (one.exchange.gone, one.exchange.leaving) == (gone, gone or said_all)


def test_a_long_first_piece_is_copied_nowhere(one: One) -> None:
    """A slow reader would hold it twice: where it lies, and in the transport."""
    body = bytes(range(256)) * 4000

    async def work() -> bytes:
        one.exchange.hold_head(200, [(b"content-length", b"%d" % len(body))])
        sending = asyncio.create_task(one.exchange.send({"type": "http.response.body", "body": body}))
        got = b""
        while not sending.done():
            await asyncio.sleep(0)
            assert one.protocol.transport.buffer == b""
            got += one.came()
        await sending
        return got + one.came()

    assert asyncio.run(work()).partition(b"\r\n\r\n")[2] == body
    assert (one.exchange.body_sent, one.cycle.response_complete) == (len(body), True)


def test_a_body_that_ends_with_its_connection_is_as_long_as_what_is_sent_of_it() -> None:
    one = One(version="1.0")

    async def work() -> None:
        one.exchange.hold_head(200, [])
        await one.exchange.send({"type": "http.response.body", "body": b"ab", "more_body": True})
        assert one.protocol.transport.buffer.endswith(b"\r\nconnection: close\r\n\r\n")
        assert one.cycle.expected_content_length > 1 << 40
        await one.exchange.send({"type": "http.response.body", "body": b"c"})
        assert one.cycle.expected_content_length == 1

    asyncio.run(work())
    assert one.exchange.body_sent == 3


@pytest.mark.parametrize("why", ["paused", "gone", "head", "empty"])
def test_what_cannot_leave_in_one_write_leaves_nothing(one: One, why: str) -> None:
    one.cycle.flow.write_paused, one.protocol.gone = why == "paused", why == "gone"
    one.cycle.scope["method"] = "HEAD" if why == "head" else "GET"
    assert not one.exchange.send_whole(200, LENGTH, b"" if why == "empty" else b"four")
    assert one.exchange.untouched
    assert one.came() == one.protocol.transport.buffer == b""


def test_what_the_socket_does_not_take_is_the_transports_and_what_waits_there_goes_first(one: One) -> None:
    one.protocol.transport.buffer = b"before"
    assert one.exchange.send_whole(200, LENGTH, b"four")
    assert one.came() == b""
    assert one.protocol.transport.buffer.startswith(b"beforeHTTP/1.1 200")
    one.protocol.transport.buffer = b""
    long = b"x" * 8_000_000
    exchange = Exchange(one.app, one.cycle, one.protocol, one.protocol.outgoing)
    one.cycle.scope = {"method": "GET", "http_version": "1.1"}
    assert exchange.send_whole(200, [(b"content-length", b"%d" % len(long))], long)
    taken = one.came()
    assert taken
    assert (taken + one.protocol.transport.buffer).partition(b"\r\n\r\n")[2] == long
    one.protocol.transport.buffer = b""
    one.other.close()
    assert not exchange._write_now(b"x")
    assert one.protocol.transport.buffer == b"", "what it is given now would count as sent"


@pytest.mark.parametrize(
    ("method", "version", "status", "said"),
    [
        ("GET", "1.1", 200, b"\r\ntransfer-encoding: chunked\r\n"),
        ("GET", "1.0", 200, b"\r\nconnection: close\r\n"),
        ("HEAD", "1.1", 200, b"HTTP/1.1 200 OK\r\n\r\n"),
        ("GET", "1.1", 304, b"HTTP/1.1 304 Not Modified\r\n\r\n"),
        ("GET", "1.1", 204, b"HTTP/1.1 204 No Content\r\n\r\n"),
    ],
)
def test_a_head_says_how_a_body_without_a_length_ends(method: str, version: str, status: int, said: bytes) -> None:
    one = One(method, version)
    head = one.exchange.head_of(status, [])
    assert said in head
    assert head.endswith(b"\r\n\r\n")
    assert bool(one.cycle.chunked_encoding) is (b"chunked" in said)
    assert one.cycle.keep_alive is (version == "1.1")
    assert one.exchange._until_close is (version == "1.0")


def test_of_what_was_sent_the_unacknowledged_has_not_arrived(one: One) -> None:
    exchange, outgoing = one.exchange, one.protocol.outgoing
    exchange.body_sent, outgoing.on_its_way, outgoing.not_on_the_wire, outgoing.got = 100, 30, 10, 270
    assert (exchange.unacknowledged(), exchange.arrived, exchange.at_most) == (30, 70, 90)
    assert exchange.waiting()
    exchange.followed()
    outgoing.on_its_way, outgoing.got = 500, 290  # most of it is of the response that follows
    exchange.followed()
    assert (exchange.unacknowledged(), exchange.arrived) == (10, 90)
    outgoing.got = 900
    assert (exchange.unacknowledged(), exchange.arrived) == (0, 100)
    whole = Exchange(one.app, one.cycle, one.protocol, one.protocol.outgoing)
    whole.body_sent, outgoing.on_its_way, outgoing.not_on_the_wire = 100, 0, 0
    assert not whole.waiting()
    one.protocol.waits = True
    assert whole.waiting(), "somebody waits for the socket to take more"
    whole.followed()
    outgoing.on_its_way = outgoing.not_on_the_wire = 60
    assert (whole.taken, whole.arrived, whole.at_most) == (True, 100, 100)
    begun = Exchange(one.app, one.cycle, one.protocol, one.protocol.outgoing)
    one.protocol.waits, outgoing.on_its_way = False, 1
    assert begun.arrived == 0, "of its head something is on its way, and of its body nothing"
    assert begun.waiting()


def test_a_response_that_fails_breaks_the_connection_and_no_other_error_is_hidden(one: One) -> None:
    for error in (ReplyBroken("x"), ClientGone("x")):
        one.raises = error
        asyncio.run(one.exchange({}, None, None))
        assert (one.cycle.response_started, one.cycle.disconnected) == (True, True)
        assert one.protocol.said.pop() == "reset"
    one.raises = ValueError("of the application")
    with pytest.raises(ValueError, match="of the application"):
        asyncio.run(one.exchange({}, None, None))
    one.raises = None
    asyncio.run(one.exchange({}, None, None))
    assert one.cycle.scope is not NO_SCOPE
    one.cycle.response_complete = True
    asyncio.run(one.exchange({}, None, None))
    assert one.cycle.scope is NO_SCOPE


def test_a_response_may_be_put_off_and_its_application_return(one: One) -> None:
    one.exchange.defer()
    assert one.cycle.disconnected, "or its return would count as an error"
    one.protocol.gone = True
    one.exchange.resume()
    assert one.cycle.disconnected
    one.protocol.gone = False
    one.exchange.resume()
    assert not one.cycle.disconnected
    one.cycle.on_response()
    assert one.protocol.said == ["on_response_complete"]

    async def fails() -> None:
        raise ValueError("a fault")

    asyncio.run(one.exchange._guarded(fails()))
    assert one.protocol.said[-1] == "reset"

    async def breaks() -> None:
        raise ReplyBroken("the file has changed")

    asyncio.run(one.exchange._guarded(breaks()))
    assert one.protocol.said[-2:] == ["reset", "reset"]
    one.protocol.said.clear()
    one.protocol.start = asyncio.run
    one.exchange.spawn(breaks())
    one.exchange.release_request_state()
    one.exchange.cut("the client took nothing")
    assert one.protocol.said[-3:] == ["reset", "release_request_state", "cut"]


def test_who_sends_on_a_lost_connection_is_told_why(one: One) -> None:
    one.protocol.gone = True
    file = {"type": "http.response.zerocopysend", "file": 0, "offset": 0, "count": 0}
    for send in ({"type": "http.response.start", "status": 200}, {"type": "http.response.body", "body": b"x"}, file):
        with pytest.raises(ClientGone):
            asyncio.run(one.exchange.send(send))
    assert one.cycle.disconnected
    assert one.cycle.sent == []
    assert one.exchange.gone
    with pytest.raises(ClientGone):
        asyncio.run(one.exchange._let_others_in())
    one.protocol.cut_because = "the client took nothing"
    assert one.exchange.cut_because == "the client took nothing"
    with pytest.raises(ReaderStuck, match="took nothing"):
        one.exchange.direct_socket()
    assert not one.exchange.free


def test_a_client_that_leaves_with_a_piece_has_not_got_it(one: One) -> None:
    async def send(_: object) -> None:
        one.protocol.gone = True

    one.cycle.send = send  # type: ignore[method-assign, assignment]
    with pytest.raises(ClientGone):
        asyncio.run(one.exchange.send({"type": "http.response.body", "body": b"four"}))
    assert one.exchange.body_sent == 0
    one.protocol.outgoing.socket.close()
    with pytest.raises(ClientGone, match="Bad file descriptor"):
        one.exchange.attempt(one.protocol.outgoing.socket.send, b"x")


def test_a_client_that_leaves_while_a_head_waits_gets_nothing(one: One) -> None:
    async def drain() -> None:
        one.protocol.gone = True

    one.cycle.flow = SimpleNamespace(write_paused=True, drain=drain)
    one.exchange.hold_head(200, LENGTH)
    with pytest.raises(ClientGone):
        asyncio.run(one.exchange.send({"type": "http.response.body", "body": b"four"}))
    assert one.came() == one.protocol.transport.buffer == b""
    assert one.exchange.body_sent == 0


def test_a_question_reaches_the_response_and_changes_nothing(one: One) -> None:
    assert not one.exchange.answered
    asyncio.run(one.exchange.send(Exchange.question()))
    assert one.exchange.answered
    assert one.exchange.untouched
    assert one.exchange.free
    one.exchange.hold_head(200, LENGTH)
    assert one.exchange.untouched
    assert not one.exchange.free, "its head has not left"


def test_a_file_follows_what_the_transport_holds_and_ends_the_response(one: One, tmp_path: Path) -> None:
    (tmp_path / "a").write_bytes(b"0123456789")
    descriptor = os.open(tmp_path / "a", os.O_RDONLY)
    one.protocol.transport.buffer = b"earlier|"

    async def work() -> None:
        one.exchange.hold_head(206, [(b"content-length", b"6")])
        message = {"type": "http.response.zerocopysend", "file": descriptor, "offset": 2, "count": 4}
        await one.exchange.send({**message, "more_body": True})
        assert not one.cycle.response_complete
        await one.exchange.send({"type": "http.response.body", "body": b"!!"})

    asyncio.run(work())
    came = one.came()
    assert came.startswith(b"earlier|HTTP/1.1 206")
    assert came.endswith(b"\r\n\r\n2345!!")
    assert (one.exchange.body_sent, one.cycle.response_complete) == (6, True)
    assert one.protocol.transport.limits == (1, 4), "as they were before it was waited for"
    os.close(descriptor)


def test_a_long_file_gives_others_their_turn_and_ends_the_response(
    one: One, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "a").write_bytes(b"0123456789")
    monkeypatch.setattr(exchange_module, "STEP", 4)
    exchange = one.exchange

    async def sent(file: int, count: int, turn: int, *, more: bool) -> int:
        exchange._turn = turn
        await exchange.send_file(file, 0, count, more=more)
        return exchange._turn

    async def work(file: int) -> None:
        one.cycle.expected_content_length = 4 + 3 + 8 + 4
        assert await sent(file, 4, 4, more=True) == TURN, "its turn is over, and more will come"
        assert await sent(file, 3, 4, more=True) == 1
        assert await sent(file, 8, 4, more=True) == TURN - 4, "after its first step"
        assert not one.cycle.response_complete
        assert await sent(file, 4, 4, more=False) == 0, "the last piece waits for nobody"

    with (tmp_path / "a").open("rb") as file:
        asyncio.run(work(file.fileno()))
    assert (one.exchange.body_sent, one.cycle.response_complete) == (19, True)
    assert one.came() == b"0123" + b"012" + b"01234567" + b"0123"


@pytest.mark.parametrize(("announced", "offset", "says"), [(3, 0, "more was"), (20, 8, "ended before")])
def test_a_file_that_is_not_as_announced_breaks_the_response(
    one: One, tmp_path: Path, announced: int, offset: int, says: str
) -> None:
    (tmp_path / "a").write_bytes(b"0123456789")
    one.exchange.hold_head(200, [(b"content-length", b"%d" % announced)])
    with (tmp_path / "a").open("rb") as file, pytest.raises(ReplyBroken, match=says):
        asyncio.run(one.exchange.send_file(file.fileno(), offset, 4, more=True))
    with pytest.raises(ReplyBroken, match="less was sent"):
        one.exchange._end_unless(more=False)
    with pytest.raises(ReplyBroken, match="more, or less"):
        one.exchange.complete()


def test_a_full_socket_is_waited_for_and_a_fast_one_gives_others_their_turn(one: One) -> None:
    exchange, body = one.exchange, b"x" * 3_000_000
    yielded: list[int] = []

    async def take() -> bytes:
        data = b""
        while len(data) < len(body):
            data += one.came()
            await asyncio.sleep(0)
        return data

    async def work() -> None:
        own = one.protocol.outgoing.socket
        reading = asyncio.create_task(take())
        await exchange._write(own, body, more=True)
        assert await reading == body
        assert "writable" in one.protocol.said
        exchange._turn = 4  # what is left of it
        for piece, left in ((b"abc", 1), (b"d", TURN), (b"e", TURN - 1)):
            asyncio.get_running_loop().call_soon(yielded.append, left)
            await exchange._write(own, piece, more=True)
            assert exchange._turn == left
            assert (left in yielded) is (left == TURN)
            await asyncio.sleep(0)
        exchange._turn = 1
        await exchange._write(own, b"f", more=False)
        assert exchange._turn == 0, "the last piece waits for nobody"

    asyncio.run(work())


def test_the_end_of_a_connection_waits_for_what_was_sent_on_it(one: One) -> None:
    one.cycle.keep_alive = False

    async def work() -> None:
        await one.exchange.send({"type": "http.response.start", "status": 200})
        await one.exchange.send({"type": "http.response.body", "body": b"ab", "more_body": True})
        assert one.protocol.said == []
        await one.exchange.send({"type": "http.response.body", "body": b"c"})

    asyncio.run(work())
    assert one.cycle.sent == ["http.response.start", "http.response.body", "http.response.body"]
    assert one.cycle.keep_alive, "or the server would close it at once"
    assert one.protocol.said == ["leave", "close_when_taken"]
    assert one.exchange.body_sent == 3


def test_who_attached_is_told_until_they_are_detached(one: One) -> None:
    first, second = SimpleNamespace(), SimpleNamespace()
    one.exchange.attach(first)
    one.exchange.detach(second)
    assert one.protocol.answer is first
    one.exchange.detach(first)
    assert one.protocol.answer is None

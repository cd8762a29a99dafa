"""Sending, on real servers: with zero-copy and on one that knows nothing of it, the bytes are the same."""

from __future__ import annotations

import logging
import os
import socket
import time
from collections.abc import Callable, Iterator
from contextlib import suppress
from pathlib import Path
from typing import Any

import pytest

from invio.core.http.replies import Part, Reply, Slice, Streamed
from invio.core.throttle import Throttle
from invio.delivery.sending.acknowledgement import AcknowledgementMonitor
from invio.delivery.sending.errors import ClientGone, ReaderStuck
from invio.delivery.sending.senders import Sender
from invio.delivery.sending.uvicorn.protocol import ZeroCopyProtocol
from invio.stores.sources import DiskFile, Made
from tests.in_threads import serving
from tests.running import get_raw, until

BIG = os.urandom(3_000_000)


class Sending:
    """A server whose one answer is the reply that the test sets; it keeps what became of each."""

    def __init__(self) -> None:
        self.reply = Reply(200, [], [], 0)
        self.throttles: list[Throttle] = []
        self.idle: float | None = None
        self.outcomes: list[str] = []
        self.senders: list[Sender] = []
        self.port = 0
        self.protocol: object = None
        self.hands_over = False  # long bodies that can send themselves do
        self.starts_eagerly = False  # without a task, until something has to be waited for
        self.watch: AcknowledgementMonitor | None = None

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        if scope["type"] != "http":
            return
        sender = Sender(scope, receive, send, self.idle)
        sender.limit(self.throttles)
        self.senders.append(sender)
        try:
            if self.hands_over:
                self.watch = self.watch or AcknowledgementMonitor(self.idle or 60)
                if sender.hand_over(self.reply, self.watch, self.ended):
                    return
            await sender.send(self.reply)
            self.outcomes.append("sent")
        except ClientGone as error:
            self.outcomes.append(str(error) if isinstance(error, ReaderStuck) else "gone")
        except Exception as error:
            self.outcomes.append(str(error))
            raise

    def ended(self, error: Exception | None) -> None:
        """How a body ended that sent itself."""
        gone = isinstance(error, ClientGone) and not isinstance(error, ReaderStuck)
        self.outcomes.append("sent" if error is None else "gone" if gone else str(error))

    def set(self, *parts: Part, status: int = 200) -> bytes:
        """Sets the reply; gives the body that it must have."""
        body = b"".join(_content(part) for part in parts)
        streamed = any(isinstance(part, Streamed) for part in parts)
        headers = [] if streamed else [(b"content-length", b"%d" % len(body))]
        self.reply = Reply(status, headers, list(parts), None if streamed else len(body))
        return body

    def outcome(self) -> str:
        for _ in range(1000):
            if self.outcomes:
                return self.outcomes.pop()
            time.sleep(0.02)
        raise AssertionError("the reply did not end")


def _content(part: Part) -> bytes:
    if isinstance(part, bytes):
        return part
    if isinstance(part, Streamed):
        return b"".join(part.source.chunks())  # type: ignore[attr-defined]
    return Path(os.fsdecode(part.source.path)).read_bytes()[part.offset : part.offset + part.length]  # type: ignore[attr-defined]


@pytest.fixture(params=["by itself", "zero-copy", "httptools", "h11"])
def server(request: pytest.FixtureRequest) -> Iterator[Sending]:
    app = Sending()
    app.hands_over = app.starts_eagerly = request.param == "by itself"
    app.protocol = http = request.param if request.param in ("httptools", "h11") else ZeroCopyProtocol
    loop = "uvloop" if http is ZeroCopyProtocol else "asyncio"
    with serving(app, http=http, loop=loop, lifespan="off", timeout_keep_alive=1) as app.port:
        yield app


@pytest.fixture
def big(tmp_path: Path) -> DiskFile:
    return _disk_file(tmp_path / "big.bin", BIG)


def _disk_file(path: Path, content: bytes) -> DiskFile:
    path.write_bytes(content)
    return DiskFile.of(os.fsencode(path), path.stat())


def test_literals_and_slices_leave_in_their_order(server: Sending, big: DiskFile, tmp_path: Path) -> None:
    small = _disk_file(tmp_path / "small.bin", b"small content")
    body = server.set(
        b"head", Slice(small, 0, 13), Slice(big, 0, len(BIG)), b"", b"between", Slice(small, 6, 3), Slice(big, 7, 200_000),
        b"x" * 300_000, b"end",
    )  # fmt: skip
    for _ in range(3):
        assert get_raw(server.port, "/").body == body
        assert server.outcome() == "sent"
    assert server.senders[-1].meter.sent == len(body)


def test_a_connection_serves_one_reply_after_the_other(server: Sending, big: DiskFile) -> None:
    body = server.set(Slice(big, 0, 500_000), b"end")
    with socket.create_connection(("127.0.0.1", server.port), timeout=10) as connection:
        for _ in range(4):
            connection.sendall(b"GET / HTTP/1.1\r\nhost: x\r\n\r\n")
            data = b""
            while b"\r\n\r\n" not in data or len(data) < data.index(b"\r\n\r\n") + 4 + len(body):
                data += connection.recv(1_000_000)
            assert data.endswith(body)


def test_pipelined_requests_are_answered_in_order(server: Sending, big: DiskFile) -> None:
    body = server.set(b"<", Slice(big, 0, 100_000), b">")
    with socket.create_connection(("127.0.0.1", server.port), timeout=10) as connection:
        connection.sendall(
            b"GET / HTTP/1.1\r\nhost: x\r\n\r\n" * 2 + b"GET / HTTP/1.1\r\nhost: x\r\nconnection: close\r\n\r\n"
        )
        data = b""
        while piece := connection.recv(1_000_000):
            data += piece
    assert data.count(body) == 3


def test_long_bodies_are_sent_one_after_the_other(server: Sending, big: DiskFile) -> None:
    body = server.set(Slice(big, 12_345, 2_000_000))
    head = b"GET / HTTP/1.1\r\nhost: x\r\n"
    with socket.create_connection(("127.0.0.1", server.port), timeout=10) as connection:
        connection.sendall(head + b"\r\n" + head[:20])  # the next one has begun while this one is answered
        time.sleep(0.2)
        connection.sendall(head[20:] + b"\r\n" + head + b"connection: close\r\n\r\n")
        data = b""
        while piece := connection.recv(1_000_000):
            data += piece
    assert data.count(body) == 3
    assert [server.outcome() for _ in range(3)] == ["sent"] * 3
    if isinstance(server.protocol, type):
        time.sleep(0.1)
        assert [sender.meter.arrived for sender in server.senders] == [len(body)] * 3


@pytest.mark.parametrize("connection", [b"keep-alive", b"close"])
def test_what_is_on_its_way_is_not_cut_off_by_the_end_of_the_connection(
    server: Sending, big: DiskFile, connection: bytes
) -> None:
    body = server.set(Slice(big, 0, len(BIG)))
    with socket.socket() as reader:
        reader.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 64 * 1024)
        reader.settimeout(10)
        reader.connect(("127.0.0.1", server.port))
        reader.sendall(b"GET / HTTP/1.1\r\nhost: x\r\nconnection: %s\r\n\r\n" % connection)
        got = b""
        while len(got) < len(body):  # for longer than the server keeps a connection that does nothing
            got += reader.recv(100_000)
            time.sleep(0.05)
    assert body[-1000:] in got
    assert server.outcome() == "sent"
    if isinstance(server.protocol, type):
        assert server.senders[-1].meter.arrived == len(body)


def test_a_content_that_is_made_is_sent_as_it_is_made(server: Sending) -> None:
    made = Made(lambda: (b"%d," % number * 1000 for number in range(50)))
    body = server.set(Streamed(made))
    with socket.create_connection(("127.0.0.1", server.port), timeout=10) as connection:
        connection.sendall(b"GET / HTTP/1.1\r\nhost: x\r\nconnection: close\r\n\r\n")
        data = b""
        while piece := connection.recv(1_000_000):
            data += piece
    front, _, chunks = data.partition(b"\r\n\r\n")
    assert b"transfer-encoding: chunked" in front.lower()
    assert chunks.endswith(b"0\r\n\r\n")
    joined = b""
    while chunks:
        size, _, rest = chunks.partition(b"\r\n")
        joined, chunks = joined + rest[: int(size, 16)], rest[int(size, 16) + 2 :]
    assert joined == body


def test_head_and_an_empty_body_end_at_once(server: Sending) -> None:
    server.set()
    assert get_raw(server.port, "/").body == b""
    server.reply = Reply(200, [(b"content-length", b"12345")], [], 0)
    assert get_raw(server.port, "/", method="HEAD").headers["content-length"] == "12345"


def test_a_client_that_goes_away_ends_the_reply_at_once(server: Sending, tmp_path: Path) -> None:
    huge = tmp_path / "huge.bin"
    with huge.open("wb") as file:
        file.truncate(2 * 2**30)
    source = DiskFile.of(os.fsencode(huge), huge.stat())
    server.reply = Reply(200, [(b"content-length", b"%d" % source.size)], [Slice(source, 0, source.size)], source.size)

    def go_away(after: float = 0.0) -> None:
        with socket.create_connection(("127.0.0.1", server.port)) as connection:
            connection.sendall(b"GET / HTTP/1.1\r\nhost: x\r\n\r\n")
            connection.recv(100_000)
            time.sleep(after)
        assert server.outcome() == "gone"
        assert server.senders[-1].meter.arrived < source.size

    go_away(0.3)  # the first one that is waited for opens what all of them are watched by
    time.sleep(0.2)
    before = len(os.listdir("/proc/self/fd"))
    for _ in range(3):
        go_away()
    until(lambda: len(os.listdir("/proc/self/fd")) <= before)  # no descriptor is left open


def test_a_client_that_goes_away_while_it_takes_nothing_is_noticed(server: Sending, big: DiskFile) -> None:
    server.set(*[Slice(big, 0, len(BIG))] * 20)
    with socket.socket() as connection:
        connection.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 8192)
        connection.connect(("127.0.0.1", server.port))
        connection.sendall(b"GET / HTTP/1.1\r\nhost: x\r\n\r\n")
        connection.recv(1000)
        time.sleep(0.3)  # by now the server waits for the socket to take more
    assert server.outcome() == "gone"


@pytest.mark.parametrize(
    ("alter", "says"),
    [
        (lambda path: path.write_bytes(BIG[:1000]), "replaced or altered"),
        (lambda path: os.utime(path, (1, 1)), "replaced or altered"),
        (lambda path: path.unlink(), "no longer be opened"),
    ],
)
def test_a_file_altered_before_it_is_sent_breaks_the_connection(
    server: Sending,
    big: DiskFile,
    tmp_path: Path,
    alter: Callable[[Path], None],
    says: str,
    caplog: pytest.LogCaptureFixture,
) -> None:
    caplog.set_level(logging.CRITICAL)
    body = server.set(b"first", Slice(big, 0, len(BIG)))
    alter(tmp_path / "big.bin")
    assert len(_until_closed(server.port)) < len(body)
    assert says in server.outcome()


def _broken_off(server: Sending, path: Path, alter: Callable[[], None]) -> None:
    """Has a large file be altered once its first bytes have come, and less than all of it follow."""
    source = _disk_file(path, b"a" * 20_000_000)
    server.set(Slice(source, 0, source.size))
    with socket.socket() as connection:
        connection.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 8192)
        connection.connect(("127.0.0.1", server.port))
        connection.sendall(b"GET / HTTP/1.1\r\nhost: x\r\n\r\n")
        connection.settimeout(10)
        got = 0
        while got < 100_000:  # so that the file is open
            got += len(connection.recv(100_000))
        alter()
        with suppress(ConnectionResetError):
            while piece := connection.recv(1_000_000):
                got += len(piece)
    assert got < source.size


def test_a_file_altered_while_it_is_sent_is_never_completed(
    server: Sending, tmp_path: Path, caplog: pytest.LogCaptureFixture
) -> None:
    caplog.set_level(logging.CRITICAL)
    path = tmp_path / "growing.bin"

    def overwrite() -> None:
        with path.open("r+b") as file:
            file.write(b"b" * 100)

    _broken_off(server, path, overwrite)
    assert "altered" in server.outcome()


@pytest.mark.parametrize("anew", [b"b" * 20_000_001, b"a" * 10_000_000 + b"b" * 10_000_001])
def test_a_file_that_is_written_anew_and_longer_while_it_is_sent_is_never_completed(
    server: Sending, tmp_path: Path, caplog: pytest.LogCaptureFixture, anew: bytes
) -> None:
    caplog.set_level(logging.CRITICAL)
    path = tmp_path / "dump.sql"

    def overwrite() -> None:
        with path.open("r+b") as file:  # so that it is at no time shorter, which would tell
            file.write(anew)

    _broken_off(server, path, overwrite)
    assert "written anew" in server.outcome()


def test_a_file_that_grows_while_it_is_sent_is_sent_as_it_was(server: Sending, tmp_path: Path) -> None:
    path = tmp_path / "growing.log"
    source = _disk_file(path, b"08:00 level 3\n" * 1_000_000)
    body = server.set(Slice(source, 0, source.size))
    with socket.socket() as connection:
        connection.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 8192)
        connection.connect(("127.0.0.1", server.port))
        connection.settimeout(10)
        connection.sendall(b"GET / HTTP/1.1\r\nhost: x\r\nconnection: close\r\n\r\n")
        got = bytearray(connection.recv(1000))
        with path.open("ab") as file:
            file.write(b"08:01 level 4\n" * 1000)
        connection.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 1_000_000)
        while piece := connection.recv(1_000_000):
            got += piece
    assert bytes(got).partition(b"\r\n\r\n")[2] == body
    assert server.outcome() == "sent"


def test_a_maker_that_fails_breaks_the_connection(server: Sending, caplog: pytest.LogCaptureFixture) -> None:
    caplog.set_level(logging.CRITICAL)

    def chunks() -> Iterator[bytes]:
        yield b"x" * 1000
        raise ValueError("the gauge does not answer")

    server.reply = Reply(200, [], [Streamed(Made(chunks))], None)
    assert not _until_closed(server.port).endswith(b"0\r\n\r\n")
    assert "the content could not be made" in server.outcome()


def _until_closed(port: int) -> bytes:
    with socket.create_connection(("127.0.0.1", port), timeout=10) as connection:
        connection.sendall(b"GET / HTTP/1.1\r\nhost: x\r\n\r\n")
        data = b""
        try:
            while piece := connection.recv(1_000_000):
                data += piece
        except ConnectionResetError:
            pass
        return data


def test_a_rate_holds(server: Sending, big: DiskFile) -> None:
    server.throttles = [Throttle(400_000), Throttle(5_000_000)]
    body = server.set(b"head", Slice(big, 0, 800_000), b"tail")
    began = time.perf_counter()
    assert get_raw(server.port, "/").body == body
    assert 1.9 < time.perf_counter() - began < 20


def test_connections_share_a_rate_fairly(server: Sending, big: DiskFile) -> None:
    server.throttles = [Throttle(600_000)]
    server.set(Slice(big, 0, len(BIG)))
    connections = [socket.create_connection(("127.0.0.1", server.port), timeout=10) for _ in range(3)]
    for connection in connections:
        connection.sendall(b"GET / HTTP/1.1\r\nhost: x\r\n\r\n")
        connection.setblocking(False)
    got = [0, 0, 0]

    def take() -> None:
        for place, connection in enumerate(connections):
            with suppress(BlockingIOError):
                got[place] += len(connection.recv(1_000_000))
        time.sleep(0.01)

    while not all(got):  # from then on all three are being sent
        take()
    got, began = [0, 0, 0], time.monotonic()
    # What a busy machine holds up for one of them is made up for later; who is favoured stays so.
    while sum(got) < 1_200_000 or (min(got) <= 0.4 * max(got) and sum(got) < 6_000_000):
        take()
    took = time.monotonic() - began
    for connection in connections:
        connection.close()
    assert sum(got) < (took + 0.2) * 600_000
    assert min(got) > 0.4 * max(got), got
    assert server.throttles[0].users <= 3


def test_a_reader_that_takes_nothing_is_cut_off_and_a_slow_one_is_not(server: Sending, tmp_path: Path) -> None:
    server.idle = 0.5
    source = _disk_file(tmp_path / "file.bin", BIG * 8)
    server.set(Slice(source, 0, source.size))
    with socket.socket() as connection:
        connection.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 64 * 1024)
        connection.connect(("127.0.0.1", server.port))
        connection.sendall(b"GET / HTTP/1.1\r\nhost: x\r\n\r\n")
        if isinstance(server.protocol, type):  # the others see only that a piece has not left yet
            for _ in range(20):  # slowly, for longer than it may take nothing
                assert connection.recv(64 * 1024)
                time.sleep(0.05)
            assert not server.outcomes
        assert "took nothing for 0.5 seconds" in server.outcome()


def test_http_1_0_is_told_of_an_end_by_the_end(server: Sending) -> None:
    body = server.set(Streamed(Made(lambda: (b"%d," % number * 1000 for number in range(20)))))
    with socket.create_connection(("127.0.0.1", server.port), timeout=10) as connection:
        connection.sendall(b"GET / HTTP/1.0\r\n\r\n")
        data = b""
        while piece := connection.recv(1_000_000):
            data += piece
    front, _, rest = data.partition(b"\r\n\r\n")
    if isinstance(server.protocol, type):  # the others are as their makers have them
        assert b"transfer-encoding" not in front.lower()
        assert rest == body
    assert server.outcome() == "sent"


def test_a_header_that_holds_a_line_end_is_never_sent(server: Sending, caplog: pytest.LogCaptureFixture) -> None:
    caplog.set_level(logging.CRITICAL)
    server.reply = Reply(200, [(b"x-name", b"a\r\nset-cookie: b"), (b"content-length", b"0")], [], 0)
    assert b"set-cookie" not in _until_closed(server.port)


def test_a_file_that_ends_too_soon_breaks_the_connection(
    server: Sending, tmp_path: Path, caplog: pytest.LogCaptureFixture
) -> None:
    caplog.set_level(logging.CRITICAL)
    path = tmp_path / "shrinking.bin"
    _broken_off(server, path, lambda: os.truncate(path, 100))
    outcome = server.outcome()
    # Where the head leaves before the file is opened, that may be what is noticed.
    opened_later = server.protocol in ("httptools", "h11") and "replaced or altered" in outcome
    assert opened_later or "ended before its announced length" in outcome


def test_a_reader_that_takes_nothing_of_a_long_literal_keeps_nobody_waiting(server: Sending, big: DiskFile) -> None:
    body = server.set(Slice(big, 0, 100_000), bytes(12_000_000))
    with socket.socket() as idle:
        idle.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 8192)
        idle.connect(("127.0.0.1", server.port))
        idle.sendall(b"GET / HTTP/1.1\r\nhost: x\r\n\r\n")
        assert idle.recv(100)
        assert get_raw(server.port, "/").body == body
    assert server.outcome() in ("sent", "gone")

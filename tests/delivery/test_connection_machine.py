"""A connection by a state machine: whatever is asked on it, answers come in order, each whole, or it is closed.

Requests are pipelined, sent in pieces, long and short, by GET and HEAD, with `Connection: close` or a broken head
among them; what has come is read now or later. The model is the list of answers that are due. The connection is never
reset, for that would take away what had come and was not read yet.
"""

from __future__ import annotations

import http.client
import io
import socket
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, precondition, rule, run_state_machine_as_test

from invio.core.http.replies import Part, Reply, Slice
from invio.delivery.sending.acknowledgement import AcknowledgementMonitor
from invio.delivery.sending.senders import Sender
from invio.stores.sources import DiskFile
from tests import in_threads

LONG = 400_000  # bytes: several turns of the event loop, and more than a socket takes at once
BROKEN = [
    b"GET /short/1 HTTP/1.1\r\nhost: a\r\nhost: b\r\n\r\n",
    b"GET /short/1 HTTP/1.1\r\nhost: a\r\ncontent-length: 1\r\ncontent-length: 2\r\n\r\n",
    b"GET /short/1 HTTP/1.1\r\nhost: a,b\r\n\r\n",
    b"GET /short/1 HTTP/7.3\r\nhost: a\r\n\r\n",
    b"\x00\x01\x02\r\n\r\n",
]


class Answers:
    """Answers `/short/N` with its own target, `/long/N` with a piece of a file, and everything else with a 404."""

    starts_eagerly = True

    def __init__(self, file: Path) -> None:
        self.content = file.read_bytes()
        self.file = file
        self.watch: AcknowledgementMonitor | None = None

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        sender = Sender(scope, receive, send, 60.0)
        self.watch = self.watch or AcknowledgementMonitor(60.0)
        reply = self.reply(scope["path"], scope["method"])
        if reply.parts and sender.hand_over(reply, self.watch, lambda _: None):
            return
        await sender.send(reply)

    def reply(self, path: str, method: str) -> Reply:
        status, body = self.expected(path)
        headers = [(b"content-type", b"text/plain"), (b"content-length", b"%d" % len(body))]
        parts: list[Part] = [body]
        if len(body) > LONG // 2:
            source = DiskFile.of(bytes(self.file), self.file.stat())
            parts = [Slice(source, self.content.index(body[:64]), len(body))]
        return Reply(status, headers, [] if method == "HEAD" else parts, 0 if method == "HEAD" else len(body))

    def expected(self, path: str) -> tuple[int, bytes]:
        kind, _, number = path[1:].partition("/")
        if kind == "long":
            start = int(number) * 1000
            return 200, self.content[start : start + LONG]
        return (200, path.encode()) if kind == "short" else (404, b"nothing here")


@dataclass(frozen=True)
class Due:
    """An answer that is due: None for one that says 400, or for the end of the connection instead."""

    target: str | None
    method: str = "GET"


@pytest.fixture(scope="module")
def serving(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[Answers, int]]:
    file = tmp_path_factory.mktemp("connection") / "long.bin"
    file.write_bytes(b"".join(b"%012d" % number for number in range(50_000)))
    app = Answers(file)
    with in_threads.serving(app, lifespan="off") as port:
        yield app, port


def test_answers_come_in_order_each_whole_or_the_connection_is_closed(serving: tuple[Answers, int]) -> None:
    app, port = serving

    class OneConnection(RuleBasedStateMachine):
        def __init__(self) -> None:
            super().__init__()
            self.sock = socket.create_connection(("127.0.0.1", port), timeout=20)
            self.due: list[Due] = []
            self.unsent = b""
            self.came = bytearray()
            self.over = False  # whether nothing that is sent from now on is to be answered

        @rule(
            path=st.sampled_from(["/short/1", "/short/22", "/long/3", "/long/77", "/other"]),
            method=st.sampled_from(["GET", "GET", "HEAD"]),
            closes=st.sampled_from([False, False, False, True]),
        )
        def ask(self, path: str, method: str, closes: bool) -> None:
            more = b"connection: close\r\n" if closes else b""
            self.unsent += f"{method} {path} HTTP/1.1\r\nhost: a\r\n".encode() + more + b"\r\n"
            if not self.over:
                self.due.append(Due(path, method))
            self.over = self.over or closes

        @rule(body=st.binary(max_size=30))
        def ask_with_a_body(self, body: bytes) -> None:
            """A body is never taken for a request."""
            head = b"POST /short/9 HTTP/1.1\r\nhost: a\r\ncontent-length: %d\r\n\r\n" % len(body)
            self.unsent += head + body
            if not self.over:
                self.due.append(Due("/short/9"))

        @rule(broken=st.sampled_from(BROKEN))
        @precondition(lambda self: not self.over)
        def ask_what_is_no_request(self, broken: bytes) -> None:
            self.unsent += broken
            self.due.append(Due(None))
            self.over = True

        @rule(count=st.integers(1, 200))
        @precondition(lambda self: self.unsent)
        def send(self, count: int) -> None:
            self.sock.sendall(self.unsent[:count])
            self.unsent = self.unsent[count:]

        @rule(count=st.sampled_from([1, 1000, 300_000]))
        def read(self, count: int) -> None:
            self.sock.setblocking(False)
            try:
                self.came += self.sock.recv(count)
            except BlockingIOError:
                pass
            finally:
                self.sock.settimeout(20)

        def teardown(self) -> None:
            with self.sock:
                self.sock.sendall(self.unsent)
                self.sock.shutdown(socket.SHUT_WR)
                while piece := self.sock.recv(1 << 20):
                    self.came += piece
            self._compare()

        def _compare(self) -> None:
            left = bytes(self.came)
            for due in self.due:
                if due.target is None:  # broken: 400 and the end, or the end alone after an answer under way
                    assert not left or self._taken(left, "GET")[:1] == (400,)
                    return
                status, body, left = self._taken(left, due.method)
                expected, content = app.expected(due.target)
                assert (status, body) == (expected, b"" if due.method == "HEAD" else content)
            assert left == b"", "nothing comes that nobody asked for"

        @staticmethod
        def _taken(data: bytes, method: str) -> tuple[int, bytes, bytes]:
            """The first answer of some bytes, and what comes after it."""

            class Bytes(io.BytesIO):
                def makefile(self, *_: object, **__: object) -> io.BytesIO:
                    return self

                def close(self) -> None:
                    """What is left is still to be read."""

            source = Bytes(data)
            answer = http.client.HTTPResponse(source, method=method)  # type: ignore[arg-type]
            answer.begin()
            body = answer.read()
            assert len(body) == (0 if method == "HEAD" else answer.length or len(body))
            return answer.status, body, source.read()

    run_state_machine_as_test(
        OneConnection,
        settings=settings(
            max_examples=60, stateful_step_count=25, deadline=None, suppress_health_check=[HealthCheck.too_slow]
        ),
    )

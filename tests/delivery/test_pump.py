"""Pumps, on a pair of sockets: what is read of a body before its reader takes it."""

from __future__ import annotations

import socket
from collections.abc import Callable, Iterator
from typing import Any, cast

import pytest

from invio.core.http.replies import Part
from invio.delivery.sending.acknowledgement import AcknowledgementMonitor
from invio.delivery.sending.connection import Connection
from invio.delivery.sending.pump import Pump

PIECE = 256 * 1024  # bytes


class Wire:
    """A connection of which a pump uses only the socket."""

    def __init__(self, sock: socket.socket) -> None:
        self._sock = sock
        self.body_sent = 0
        self.gone = self.completed = False

    def direct_socket(self) -> socket.socket:
        return self._sock

    def attempt(self, send: Callable[..., int], *given: Any) -> int | None:
        try:
            return send(*given)
        except BlockingIOError:
            return None

    def complete(self) -> None:
        self.completed = True

    def unacknowledged(self) -> int:
        return 0

    def defer(self, *_: object) -> None:
        """Nothing has to be deferred, nor released, nor attached."""

    release_request_state = attach = detach = defer


@pytest.fixture
def pair() -> Iterator[tuple[socket.socket, socket.socket]]:
    with socket.create_server(("127.0.0.1", 0)) as listener:
        reader = socket.create_connection(listener.getsockname())
        writer, _ = listener.accept()
    with reader, writer:
        writer.setblocking(False)
        writer.setsockopt(socket.SOL_SOCKET, socket.SO_SNDBUF, PIECE)
        yield reader, writer


def test_no_more_of_long_literals_is_in_memory_than_what_is_about_to_be_sent(
    pair: tuple[socket.socket, socket.socket],
) -> None:
    """The directory of an archive of many files is one: it took 9 MB for each reader that asked for it and read none."""
    reader, writer = pair
    pieces = [bytes([number]) * PIECE for number in range(64)]
    taken: list[int] = []

    def parts() -> Iterator[Part]:
        for piece in pieces:
            taken.append(len(piece))
            yield piece

    ended: list[object] = []
    wire = Wire(writer)
    watch = cast(AcknowledgementMonitor, Watch())
    pump = Pump(cast(Connection, wire), cast(Any, parts()), watch, ended.append)
    pump.start(b"head\r\n")
    got = b""
    while not wire.completed:
        assert sum(taken) - wire.body_sent <= PIECE
        got += reader.recv(PIECE)
        pump.push()
    while len(got) < len(b"head\r\n") + sum(map(len, pieces)):
        got += reader.recv(1 << 20)
    assert got == b"head\r\n" + b"".join(pieces)
    assert pump.look_for_arrival()
    assert ended == [None]


class Watch:
    """A monitor that looks at nothing by itself."""

    def sends(self, *_: object) -> None:
        """Nobody calls back: the test pushes."""

    forget = arrives = sends

"""The clients: raw sockets, as little work a byte as possible, so that the server is what is measured."""

from __future__ import annotations

import selectors
import socket
import time
from collections.abc import Sequence
from itertools import cycle

BUFFER = 1024 * 1024  # bytes
SMALL = 16 * 1024  # bytes
# The kernel drops the bytes instead of copying them; what came is still counted.
DROPPED = socket.MSG_TRUNC


def _request(target: str, span: tuple[int, int] | None = None) -> bytes:
    wanted = "" if span is None else f"range: bytes={span[0]}-{span[1]}\r\n"
    return f"GET {target} HTTP/1.1\r\nhost: 127.0.0.1\r\nuser-agent: bench\r\n{wanted}\r\n".encode()


def _length(head: bytes) -> int:
    status = head.split(b"\r\n", 1)[0]
    if b" 200 " not in status and b" 206 " not in status:
        raise RuntimeError(f"the server answered {status.decode()}")
    for line in head.split(b"\r\n"):
        if line.lower().startswith(b"content-length:"):
            return int(line.partition(b":")[2])
    raise RuntimeError("the answer has no length")


def download(port: int, target: str, count: int | None = None, drops: bool = False) -> float:
    """Takes one file whole, or its first `count` bytes, over one connection; gives bytes a second.

    `drops`: the bytes are not copied to the client, which is the slower side otherwise.
    """
    buffer = memoryview(bytearray(BUFFER))
    with socket.create_connection(("127.0.0.1", port)) as connection:
        began = time.perf_counter()
        connection.sendall(_request(target, None if count is None else (0, count - 1)))
        head = b""
        while b"\r\n\r\n" not in head:
            head += connection.recv(65536)
        front, _, rest = head.partition(b"\r\n\r\n")
        size = _length(front)
        left = size - len(rest)
        while left:
            got = connection.recv_into(buffer, min(BUFFER, left), DROPPED if drops else 0)
            if not got:
                raise RuntimeError("the connection ended early")
            left -= got
        return size / (time.perf_counter() - began)


def hammer(
    port: int | Sequence[int],
    targets: Sequence[str],
    connections: int,
    seconds: float,
    spans: Sequence[tuple[int, int]] = (),
) -> float:
    """Asks for the targets in turn over kept connections; gives answers a second.

    Of several ports, each gets as many of the connections. With `spans`, each (first, last) byte of one target in turn.
    """
    ports = cycle([port] if isinstance(port, int) else port)
    requests = cycle([_request(targets[0], span) for span in spans] or [_request(target) for target in targets])
    selector = selectors.DefaultSelector()
    buffer = memoryview(bytearray(BUFFER))
    expected: dict[int, int] = {}
    for _ in range(connections):
        connection = socket.create_connection(("127.0.0.1", next(ports)))
        connection.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        connection.sendall(next(requests))
        selector.register(connection, selectors.EVENT_READ)
        expected[connection.fileno()] = 0
    answers = 0
    began = time.perf_counter()
    end = began + seconds
    while (now := time.perf_counter()) < end:
        for key, _ in selector.select(1.0):
            connection = key.fileobj  # type: ignore[assignment]
            left = expected[key.fd]
            if left:
                got = connection.recv_into(buffer, min(BUFFER, left), DROPPED)
                if not got:
                    raise RuntimeError("the server closed the connection")
            else:
                # The head and what comes with it: little, so that looking for its end costs little.
                data = connection.recv(SMALL)
                front, _, rest = data.partition(b"\r\n\r\n")
                left, got = _length(front), len(rest)
            left -= got
            expected[key.fd] = left
            if not left:
                answers += 1
                connection.sendall(next(requests))
    for key in list(selector.get_map().values()):
        key.fileobj.close()  # type: ignore[union-attr]
    return answers / (now - began)


def latencies(port: int, targets: Sequence[str], count: int) -> list[float]:
    """Asks for one target after the other over one connection; gives how long each answer took, in seconds."""
    took = []
    requests = cycle([_request(target) for target in targets])
    with socket.create_connection(("127.0.0.1", port)) as connection:
        for _ in range(count):
            began = time.perf_counter()
            connection.sendall(next(requests))
            front, _, rest = connection.recv(65536).partition(b"\r\n\r\n")
            left = _length(front) - len(rest)
            while left:
                left -= len(connection.recv(65536))
            took.append(time.perf_counter() - began)
            time.sleep(0.005)
    return took


class SlowReaders:
    """Many connections, each of which takes 64 KiB a second of its file."""

    def __init__(self, port: int, targets: Sequence[str]) -> None:
        self._connections = []
        for target in targets:
            connection = socket.socket()
            # A small window, so that what is waited for waits in the server, not in this machine's kernel.
            connection.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 64 * 1024)
            connection.connect(("127.0.0.1", port))
            connection.sendall(_request(target))
            self._connections.append(connection)

    def read_for(self, seconds: float) -> int:
        """Reads for a while; gives how many connections got something in the last second.

        The connections are read one after the other throughout each second, not all at its start.
        """
        end = time.perf_counter() + seconds
        alive = 0
        for connection in self._connections:
            connection.setblocking(False)
        while (second := time.perf_counter()) < end:
            alive = 0
            for place, connection in enumerate(self._connections):
                try:
                    alive += bool(connection.recv(64 * 1024))
                except BlockingIOError:
                    pass
                ahead = second + place / len(self._connections) - time.perf_counter()
                if place % 20 == 0 and ahead > 0:
                    time.sleep(ahead)
            time.sleep(max(0.0, second + 1 - time.perf_counter()))
        return alive

    def close(self) -> None:
        for connection in self._connections:
            connection.close()

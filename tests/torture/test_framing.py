"""Byte streams that strangers send, against an independent model: answers in order, or the connection closed.

The model is the list of what each stream was put together from. A stream is some good requests, and then mostly
something that is not one: broken, cut off, smuggled. It is sent in pieces that are cut anywhere.
"""

from __future__ import annotations

import random
import socket
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from itertools import pairwise

import pytest

from tests.running import RULES, Service, make_folder
from tests.torture.scale import report, times

STREAMS = times(2_000, 50_000)
SMUGGLED = b"GET /get/files/smuggled.txt HTTP/1.1\r\nHost: x\r\n\r\n"
SETTINGS = """
[limits]
head = 5
[stores.files]
kind = "directory"
root = "files"
[stores.drop]
kind = "directory"
root = "drop"
writable = true
"""


@dataclass(frozen=True)
class Sent:
    """A request, and what has to come back for it. `statuses` empty: nothing need come."""

    data: bytes
    statuses: frozenset[int]
    body: bytes | None = None  # what the answer's body is, where it matters
    head: bool = False  # whether the answer has no body
    closes: bool = False  # whether the connection ends behind it
    good: bool = True


@pytest.fixture(scope="module")
def service(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    folder = tmp_path_factory.mktemp("framing") / "service"
    files = {f"{number}.txt": b"content of %d" % number for number in range(10)} | {"smuggled.txt": b"SMUGGLED"}
    make_folder(folder, files, RULES, SETTINGS)
    (folder / "drop").mkdir()
    running = Service.start(folder)
    yield running
    running.stop()


def request(method: bytes, target: bytes, *fields: bytes, body: bytes = b"") -> bytes:
    return b"\r\n".join([b"%s %s HTTP/1.1" % (method, target), b"Host: x", *fields, b"", body])


def chunked(chance: random.Random, body: bytes) -> bytes:
    whole = b""
    while body:
        count = chance.randint(1, len(body))
        whole += b"%x\r\n%s\r\n" % (count, body[:count])
        body = body[count:]
    return whole + b"0\r\n\r\n"


def good(chance: random.Random, token: bytes) -> Sent:
    """One request that has to be answered."""
    number = chance.randrange(10)
    target, content = b"/get/files/%d.txt" % number, b"content of %d" % number
    upgrade = [
        b"Connection: Upgrade, keep-alive",
        chance.choice([b"Upgrade: h2c", b"Upgrade: websocket", b"upgrade: TLS/1.0"]),
    ]
    bearer = b"Authorization: Bearer " + token
    kind = chance.randrange(12)
    if kind <= 2:
        return Sent(request(b"GET", target), frozenset([200]), content)
    if kind == 3:
        return Sent(request(b"HEAD", target), frozenset([200]), head=True)
    if kind == 4:
        return Sent(request(b"GET", target, *upgrade), frozenset([200]), content)
    if kind == 5:  # a body that is a request, behind a head that asks for another protocol
        length = b"Content-Length: %d" % len(SMUGGLED)
        return Sent(request(b"GET", target, *upgrade, length, body=SMUGGLED), frozenset([200]), content)
    if kind == 6:
        body = chunked(chance, SMUGGLED)
        return Sent(
            request(b"GET", target, *upgrade, b"Transfer-Encoding: chunked", body=body), frozenset([200]), content
        )
    if kind == 7:
        length = b"Content-Length: %d" % len(SMUGGLED)
        return Sent(request(b"POST", target, length, body=SMUGGLED), frozenset([405]))
    if kind == 8:
        body = SMUGGLED * chance.randint(1, 3)
        place = b"/api/files/drop/%d.bin" % chance.randrange(1000)
        if chance.random() < 0.5:
            return Sent(request(b"PUT", place, bearer, *upgrade, b"Content-Length: %d" % len(body), body=body),
                        frozenset([200, 201]))  # fmt: skip
        trailer = b"X-Trailer: 1\r\nAuthorization: Bearer x\r\n" if chance.random() < 0.3 else b""
        framed = chunked(chance, body)[:-2] + trailer + b"\r\n"
        return Sent(request(b"PUT", place, bearer, b"Transfer-Encoding: Chunked", body=framed), frozenset([200, 201]))
    if kind == 9:
        return Sent(request(b"GET", b"/healthz"), frozenset([200]), b'{"status":"alive"}')
    if kind == 10:
        return Sent(request(b"OPTIONS", target), frozenset([204]), head=True)
    return Sent(request(b"GET", b"/get/files/none", b"Range: bytes=0-1"), frozenset([404]))


BROKEN: list[Callable[[random.Random], bytes]] = [
    lambda _: request(b"GET", b"/get/files/1.txt", b"Host: y"),
    lambda _: b"GET /get/files/1.txt HTTP/1.1\r\n\r\n",
    lambda _: b"GET /get/files/1.txt HTTP/1.1\r\nHost: a/b?c\r\n\r\n",
    lambda _: b"GET /get/files/1.txt HTTP/1.1\r\nHost: u@a\r\n\r\n",
    lambda _: request(b"GET", b"/get/files/1.txt", b"Transfer-Encoding: xchunked", body=SMUGGLED),
    lambda _: request(b"GET", b"/get/files/1.txt", b"Transfer-Encoding: identity", body=SMUGGLED),
    lambda _: request(b"POST", b"/get/files/1.txt", b"Transfer-Encoding: gzip, chunked", body=b"0\r\n\r\n"),
    lambda _: request(b"POST", b"/bundles", b"Transfer-Encoding: chunked", b"Content-Length: 5", body=b"0\r\n\r\n"),
    lambda _: request(b"POST", b"/bundles", b"Content-Length: 5", b"Content-Length: 6", body=b"aaaaaa"),
    lambda _: request(b"POST", b"/bundles", b"Content-Length: +5", body=b"aaaaa"),
    lambda _: request(b"POST", b"/bundles", b"Content-Length: 5, 5", body=b"aaaaa"),
    lambda _: request(b"POST", b"/api/sessions", b"Transfer-Encoding: chunked", body=b"zz\r\nabc\r\n0\r\n\r\n"),
    lambda _: request(b"POST", b"/api/sessions", b"Transfer-Encoding: chunked", body=b"0x3\r\nabc\r\n0\r\n\r\n"),
    lambda _: request(b"POST", b"/api/sessions", b"Transfer-Encoding: chunked", body=b"3\r\nabcd\r\n0\r\n\r\n"),
    lambda _: request(b"PUT", b"/api/files/drop/x", b"Transfer-Encoding: chunked", body=b"ffffffffffffffffff\r\nabc"),
    lambda _: request(
        b"PUT", b"/api/files/drop/x", b"Transfer-Encoding: chunked",
                      body=b"3\r\nabc\r\n0\r\nContent-Length: 5\r\n\r\n"),
    lambda _: b"GET /get/files/1.txt HTTP/1.1\r\nHost : x\r\n\r\n",
    lambda _: b"GET /get/files/1.txt HTTP/1.1\r\nHost: x\r\n folded\r\n\r\n",
    lambda _: b"GET /get/files/1.txt HTTP/1.1\r\nHost: x\r\nX: a\0b\r\n\r\n",
    lambda _: b"GET /get/files/1.txt HTTP/9.9\r\nHost: x\r\n\r\n",
    lambda _: b"GET /get/files/1.txt\r\n\r\n",
    lambda _: b"CONNECT x:80 HTTP/1.1\r\nHost: x\r\nContent-Length: %d\r\n\r\n%s" % (len(SMUGGLED), SMUGGLED),
    lambda _: b"PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n",
    lambda _: b"\x16\x03\x01\x02\x00\x01\x00\x01\xfc\x03\x03",
    lambda chance: bytes(chance.randrange(256) for _ in range(chance.randint(1, 200))) + b"\r\n\r\n",
    lambda _: b"HTTP/1.0 GET / \r\n\r\n",
    lambda _: b"GET /get/files/1.txt HTTP/1.0\r\nTransfer-Encoding: chunked\r\n\r\n" + chunked(random.Random(1), SMUGGLED),
]  # fmt: skip


def last(chance: random.Random) -> list[Sent]:
    """How a stream ends: said to be the last, broken, or cut off; and what comes behind it counts for nothing."""
    number = chance.randrange(10)
    target, content = b"/get/files/%d.txt" % number, b"content of %d" % number
    kind = chance.randrange(6)
    behind = SMUGGLED if chance.random() < 0.5 else b""
    if kind == 0:
        return [Sent(request(b"GET", target, b"Connection: close") + behind, frozenset([200]), content, closes=True)]
    if kind == 1:
        old = b"GET %s HTTP/1.0\r\n%s\r\n" % (
            target,
            chance.choice([b"", b"Host: x\r\n", b"Connection: keep-alive\r\n"]),
        )
        return [Sent(old + behind, frozenset([200]), content, closes=True)]
    if kind in (2, 3):
        return [Sent(chance.choice(BROKEN)(chance) + behind, frozenset([400, 405, 431]), closes=True, good=False)]
    whole = good(random.Random(chance.random()), b"none").data
    if kind == 4:  # cut anywhere
        return [Sent(whole[: chance.randrange(len(whole))], frozenset(), closes=True, good=False)]
    body = b"Content-Length: %d" % (len(SMUGGLED) + chance.randint(1, 1000))
    cut = request(chance.choice([b"PUT", b"POST"]), b"/api/files/drop/cut.bin", body, body=SMUGGLED)
    return [Sent(cut, frozenset([400, 401, 404, 405, 408]), closes=True, good=False)]


def answers(data: bytes, sent: list[Sent]) -> list[tuple[int, bytes]] | None:
    """What came back, split by its own framing; None when it is not whole answers."""
    found: list[tuple[int, bytes]] = []
    while data:
        head, ends, data = data.partition(b"\r\n\r\n")
        if not ends or not head.startswith(b"HTTP/1.1 "):
            return None
        status = int(head[9:12])
        fields = [line.partition(b":") for line in head.split(b"\r\n")[1:]]
        told = {name.lower(): value.strip() for name, _, value in fields}
        place = len(found)
        if place < len(sent) and sent[place].head and status in (200, 204):
            found.append((status, b""))
            continue
        if told.get(b"transfer-encoding") == b"chunked":
            body = b""
            while True:
                size, _, data = data.partition(b"\r\n")
                count = int(size or b"0", 16)
                body, data = body + data[:count], data[count + 2 :]
                if not count:
                    break
        else:
            count = int(told.get(b"content-length", b"0"))
            if len(data) < count:
                return None
            body, data = data[:count], data[count:]
        found.append((status, body))
    return found


def exchange(port: int, chance: random.Random, sent: list[Sent]) -> bytes:
    """Sends a stream in pieces that are cut anywhere; gives all that came back until the connection ended."""
    whole = b"".join(one.data for one in sent)
    cuts = sorted(chance.randrange(len(whole) + 1) for _ in range(chance.choice([0, 0, 1, 3, 8])))
    with socket.create_connection(("127.0.0.1", port), timeout=20) as connection:
        connection.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        data = b""
        try:
            for start, stop in pairwise([0, *cuts, len(whole)]):
                connection.sendall(whole[start:stop])
            connection.shutdown(socket.SHUT_WR)
        except OSError:
            pass  # it has ended already, and what it answered is still to be read
        try:
            while piece := connection.recv(65536):
                data += piece
        except ConnectionResetError:
            pass
        return data


def test_answers_come_in_order_or_the_connection_is_closed(service: Service) -> None:
    token = service.tokens["ann"].encode()

    def tried(number: int) -> str | None:
        chance = random.Random(20261127 + number)
        sent = [good(chance, token) for _ in range(chance.choice([0, 0, 1, 1, 1, 2, 2, 3, 3, 4, 5, 6, 8, 40]))] + last(
            chance
        )
        data = exchange(service.port, chance, sent)
        found = answers(data, sent)
        said = f"stream {number}: {[one.data[:60] for one in sent[-3:]]} -> {data[-300:]!r}"
        if b"SMUGGLED" in data:
            return f"smuggled: {said}"
        if found is None:
            return f"not whole answers: {said}"
        for place, (status, body) in enumerate(found):
            if place >= len(sent):
                return f"more answers than requests: {said}"
            wanted = sent[place]
            if wanted.statuses and status not in wanted.statuses:
                return f"request {place} got {status}: {said}"
            if wanted.body is not None and body != wanted.body:
                return f"request {place} got another's answer: {said}"
        whole = sum(one.good for one in sent)
        if len(found) < whole:
            return f"{len(found)} answers to {whole} good requests: {said}"
        return None

    with ThreadPoolExecutor(8) as clients:
        wrong = [one for one in clients.map(tried, range(STREAMS)) if one is not None]
    report("byte streams (pipelined, cut, smuggled, upgraded) against the model", STREAMS, len(wrong), wrong)
    assert wrong == []
    assert "Traceback" not in service.logged()
    assert not list((service.folder / "drop").glob("cut*")), "what was not sent whole changed nothing"
    assert all(path.read_bytes().startswith(SMUGGLED) for path in (service.folder / "drop").glob("*.bin"))

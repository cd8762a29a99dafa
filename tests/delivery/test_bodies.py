"""Bodies on their way in: each byte once and in its order, however it is framed, cut and taken, and none beyond it."""

from __future__ import annotations

import asyncio
import hashlib
import random
import socket
from collections.abc import Iterator
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.in_threads import serving

CONTENT = random.Random(7).randbytes(2_000_000)


class Summing:
    """Answers with the digest of each body, which it takes as slowly as the path says."""

    starts_eagerly = True

    def __init__(self) -> None:
        self.longest = 0  # bytes that were ever handed over together

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        sha256, more = hashlib.sha256(), True
        while more:
            for _ in range(int(scope["path"][1:])):
                await asyncio.sleep(0)
            message = await receive()
            assert message["type"] == "http.request"
            assert type(message["body"]) is bytes
            self.longest = max(self.longest, len(message["body"]))
            sha256.update(message["body"])
            more = message["more_body"]
        body = sha256.hexdigest().encode()
        await send({"type": "http.response.start", "status": 200, "headers": [(b"content-length", b"64")]})
        await send({"type": "http.response.body", "body": body})


@pytest.fixture(scope="module")
def summing() -> Iterator[tuple[Summing, int]]:
    app = Summing()
    with serving(app, lifespan="off") as port:
        yield app, port


def request(path: str, body: bytes, pieces: list[int]) -> bytes:
    """A request whose body is as long as its head says, or in chunks of the lengths that are given."""
    head = f"PUT /{path} HTTP/1.1\r\nhost: a\r\n".encode()
    if not pieces:
        return head + b"content-length: %d\r\n\r\n" % len(body) + body
    parts, at = [head + b"transfer-encoding: chunked\r\n\r\n"], 0
    while at < len(body):
        for length in pieces:
            piece = body[at : at + length]
            at += length
            if piece:
                parts.append(b"%x\r\n" % len(piece) + piece + b"\r\n")
    return b"".join([*parts, b"0\r\n\r\n"])


BODIES = st.tuples(
    st.sampled_from(["0", "1", "40"]),
    st.one_of(st.integers(0, 300), st.integers(0, 300_000)),
    st.one_of(st.just([]), st.lists(st.sampled_from([1, 7, 4096, 70_000]), min_size=1, max_size=5)),
)


@settings(max_examples=40, deadline=None)
@given(st.lists(BODIES, min_size=1, max_size=4), st.lists(st.integers(1, 200_000), min_size=1, max_size=4))
def test_each_body_is_taken_whole_and_once(
    summing: tuple[Summing, int], asked: list[tuple[str, int, list[int]]], cuts: list[int]
) -> None:
    due = [hashlib.sha256(CONTENT[number : number + length]).hexdigest() for number, (_, length, _) in enumerate(asked)]
    sent = b"".join(
        request(
            path,
            CONTENT[number : number + length],
            pieces if length < 50_000 else [max(pieces, default=0)][: len(pieces)],
        )
        for number, (path, length, pieces) in enumerate(asked)
    )
    with socket.create_connection(("127.0.0.1", summing[1]), timeout=30) as client:
        at = 0
        while at < len(sent):
            for cut in cuts:
                client.sendall(sent[at : at + cut])
                at += cut
        came = b""
        while came.count(b"\r\n\r\n") < len(due) or len(came.rpartition(b"\r\n\r\n")[2]) < 64:
            more = client.recv(1 << 16)
            assert more, came
            came += more
    assert [part[:64].decode() for part in came.split(b"\r\n\r\n")[1:]] == due


def test_what_the_head_has_announced_is_handed_over_as_it_was_read(summing: tuple[Summing, int]) -> None:
    summing[0].longest = 0
    with socket.create_connection(("127.0.0.1", summing[1]), timeout=30) as client:
        client.sendall(request("0", CONTENT, []))
        assert client.recv(1 << 16).endswith(hashlib.sha256(CONTENT).hexdigest().encode())
    assert summing[0].longest > 64 * 1024, "it is cut into no smaller portions than come from the system"

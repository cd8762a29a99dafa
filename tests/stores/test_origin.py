"""A web server as a store: one that behaves, and ones that do not."""

from __future__ import annotations

import asyncio
import socket
import threading
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

import pytest

from invio.core.addresses import parse_address
from invio.core.readable import ContentChanged
from invio.stores.origin import OriginStore
from invio.stores.sources import read_through
from invio.stores.store import Missing, StoreFault

CONTENT = bytes(range(256)) * 20_000


class Odd(ThreadingHTTPServer):
    """`how` is what it does wrong; `tag` what it calls its content."""

    daemon_threads = True
    how = ""
    tag = '"one"'
    asked = 0


class Handler(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    server: Odd

    def do_HEAD(self) -> None:
        if self.server.how == "knows no HEAD":
            self.say(405)
        elif self.server.how == "fails at first" and self.server.asked == 0:
            self.server.asked += 1
            self.connection.shutdown(socket.SHUT_RDWR)
            self.close_connection = True
        else:
            self.answer(body=False)

    def do_GET(self) -> None:
        self.answer(body=True)

    def answer(self, *, body: bool) -> None:
        how = self.server.how
        if how.startswith("redirects"):
            where = {"redirects within": "/other/a.bin", "redirects inward": "http://127.0.0.2:9/a.bin"}[how]
            if self.path != "/other/a.bin":
                self.say(302, location=where)
                return
        if self.path not in ("/files/a.bin", "/other/a.bin", "/files/S%C3%B6dra%20leden.bin"):
            self.say(404)
        elif self.headers.get("x-key") != "k":
            self.say(403)
        elif how == "tells no length":
            self.say(200)
        else:
            self.content(body=body)

    def content(self, *, body: bool) -> None:
        how, text = self.server.how, self.headers.get("range")
        start, stop = 0, len(CONTENT)
        if text and how != "ignores ranges":
            first, _, last = text.removeprefix("bytes=").partition("-")
            start, stop = int(first), int(last) + 1
        if how == "another part":
            start += 1
        self.send_response(206 if text and how != "ignores ranges" else 200)
        self.send_header("etag", self.server.tag)
        self.send_header("content-type", "application/pdf")
        if how.startswith("codes as "):
            self.send_header("content-encoding", how.removeprefix("codes as "))
        self.send_header("last-modified", "Thu, 15 Jan 2026 08:00:00 GMT")
        if text and how != "ignores ranges":
            self.send_header("content-range", f"bytes {start}-{stop - 1}/{len(CONTENT)}")
        self.send_header("content-length", str(stop - start))
        self.end_headers()
        if body:
            self.wfile.write(CONTENT[start : stop - (10 if how == "ends early" else 0)])
        if how == "ends early":
            self.close_connection = True

    def say(self, status: int, **headers: str) -> None:
        self.send_response(status)
        for name, value in headers.items():
            self.send_header(name, value)
        if status != 200:
            self.send_header("content-length", "0")
        else:
            self.close_connection = True
        self.end_headers()

    def log_message(self, format: str, *args: object) -> None:
        pass


@pytest.fixture
def server() -> Iterator[Odd]:
    with Odd(("127.0.0.1", 0), Handler) as server:
        thread = threading.Thread(target=server.serve_forever, daemon=True)
        thread.start()
        yield server
        server.shutdown()
        thread.join()


def store_of(server: Odd, timeout: float = 5.0) -> OriginStore:
    url = f"http://127.0.0.1:{server.server_port}/files"
    return OriginStore("far", url, {"headers": {"x-key": "k"}}, timeout=timeout, fresh=0.0)


@pytest.mark.parametrize(
    "how", ["", "knows no HEAD", "ignores ranges", "redirects within", "fails at first", "codes as identity"]
)
def test_a_file_is_had_whole_and_in_parts(server: Odd, how: str) -> None:
    server.how = how
    store = store_of(server)
    found = store.locate(parse_address("far/a.bin"))
    assert (found.facts.size, found.facts.media_type) == (len(CONTENT), "application/pdf")
    assert found.facts.modified == 1768464000.0
    assert b"".join(read_through(found.content)) == CONTENT
    assert found.content.read(70_000, 300) == CONTENT[70_000:70_300]

    async def part() -> bytes:
        return b"".join([piece async for piece in found.content.pieces(5, 4_000_000)])

    assert asyncio.run(part()) == CONTENT[5:4_000_005]


def test_names_are_encoded_and_what_is_not_there_is_missing(server: Odd) -> None:
    store = store_of(server)
    assert store.locate(parse_address("far/Södra leden.bin")).facts.size == len(CONTENT)
    for absent in ("far/none.bin", "far/a.bin/b"):
        with pytest.raises(Missing):
            store.locate(parse_address(absent))
    assert store.list(parse_address("far/")) == []
    with pytest.raises(Missing):
        store.list(parse_address("far/deep/"))


@pytest.mark.parametrize(
    ("how", "says"),
    [
        ("redirects inward", "redirects to '127.0.0.2', where nothing is to be had from"),
        ("tells no length", "does not tell how long"),
        ("codes as gzip", "gives 'a.bin' in the coding 'gzip' alone"),
    ],
)
def test_a_server_that_leads_astray_is_not_followed(server: Odd, how: str, says: str) -> None:
    server.how = how
    with pytest.raises(StoreFault, match=says):
        store_of(server).locate(parse_address("far/a.bin"))


@pytest.mark.parametrize(
    ("how", "error"),
    [
        ("ends early", StoreFault),
        ("another part", StoreFault),
        ("codes as br", StoreFault),
        ("another tag", ContentChanged),
    ],
)
def test_what_is_not_the_file_that_was_found_is_broken_off(server: Odd, how: str, error: type[Exception]) -> None:
    source = store_of(server).locate(parse_address("far/a.bin")).content
    server.how, server.tag = how, '"two"' if how == "another tag" else server.tag
    with pytest.raises(error):
        source.read(0, 2000)


def test_a_server_that_is_gone_or_silent_is_told_as_what_it_is(server: Odd) -> None:
    server.shutdown()
    server.server_close()
    with pytest.raises(StoreFault, match="store 'far': ConnectError") as caught:
        store_of(server).locate(parse_address("far/a.bin"))
    assert (caught.value.store, caught.value.word) == ("far", "unreachable")


def test_options_that_mean_nothing_are_refused() -> None:
    with pytest.raises(StoreFault, match="no option 'header' for a web server; expected headers"):
        OriginStore("far", "https://files.example.org/", {"header": {}})

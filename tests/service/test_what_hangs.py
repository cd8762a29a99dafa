"""A system whose files are found and cannot be read, and an application that does not answer, stop nobody else."""

from __future__ import annotations

import os
import socket
import time
from collections.abc import Callable
from contextlib import ExitStack
from pathlib import Path

import pytest

from tests.rules import rule
from tests.running import Service

Start = Callable[..., Service]
AT_ONCE = 60  # more than any number of threads that are shared
STORE = """
import time
from invio.stores import BlockingStore, FileFacts

class Silent(BlockingStore):
    def __init__(self, name):
        super().__init__(name, timeout=8.0)

    def look_up(self, address):
        if address.path.startswith("unknown"):
            time.sleep(60)
        return FileFacts(address, 1000, None, "tag")

    def look_into(self, folder):
        return []

    def read_at(self, address, tag, offset, count):
        time.sleep(60)

    describes = False

    def begin(self):
        time.sleep(60)

    put = remove = begin

def answers_late(question):
    time.sleep(60)
"""
STORES = ("silent", "still", "mute")
SETTINGS = """
[service]
shutdown = 0
[stores.files]
kind = "directory"
root = "files"
[stores.drop]
kind = "managed"
root = "drop"
""" + "".join(f'[stores.{name}]\nkind = "custom"\nclass = "silent_here:Silent"\n' for name in STORES)
RULES = (
    rule("recipient:bob", "silent/**", "put", "bob puts")
    + rule("signed-in", "silent/** still/** mute/** files/** drop/**", "list read", "everyone reads")
    + rule("recipient:ann", "**", "put manage administer link", "ann has everything")
    + rule("recipient:ann", "silent/**", "read", "no large ones", max_size=10**9)
    + rule(
        "recipient:bob",
        "drop/asked/**",
        "put manage",
        "asks",
        ask={"function": "silent_here:answers_late", "timeout": 5.0},
    )
)


def the_others_are_served(service: Service) -> None:
    """Puts, removes, and has what takes a look into the records."""
    with service.client("ann") as client:
        came = client.put("/api/files/drop/a.txt", content=b"a")
        assert came.status_code == 201
        assert client.post(f"/api/versions/drop/a.txt?version={came.json()['version']}").status_code == 200
        assert client.delete("/api/files/drop/a.txt").status_code == 204
        assert client.get("/api/links").status_code == 200
    link = service.link("files/a.txt", {"id": "L1"})
    assert service.get(link, if_none_match="*").status_code == 304
    assert service.get("/get/files/a.txt", "bob", want_content_digest="sha-256=1").headers["content-digest"]
    assert service.get("/get/files/a.txt", "bob", want_repr_digest="sha-256=1").headers["repr-digest"]


@pytest.mark.parametrize(
    ("request_line", "fields"),
    [
        ("GET /get/silent/one.bin", "range: bytes=0-9\r\nwant-content-digest: sha-256=1\r\n"),
        ("GET /get/silent/one.txt", ""),
        ("GET /api/decisions?address={store}/unknown-{number}.bin", ""),
        ("PUT /api/files/silent/{number}.txt", "content-length: 0\r\n"),
        ("DELETE /api/files/drop/asked/{number}.txt", ""),
        ("POST /api/versions/drop/asked/{number}.txt?version=1", ""),
    ],
    ids=["a digest", "a type", "a decision", "a put", "a removal", "a version"],
)
def test_requests_that_wait_for_what_hangs_keep_nobody_else_waiting(
    start: Start, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, request_line: str, fields: str
) -> None:
    (tmp_path / "silent_here.py").write_text(STORE)
    monkeypatch.setenv("PYTHONPATH", f"{tmp_path}{os.pathsep}{os.environ.get('PYTHONPATH', '')}")
    service = start(files={"a.txt": b"aaa"}, settings=SETTINGS, rules=RULES)
    the_others_are_served(service)
    with ExitStack() as connections:
        for number in range(AT_ONCE):
            line = request_line.format(number=number, store=STORES[number % 3])
            connection = connections.enter_context(socket.create_connection(("127.0.0.1", service.port)))
            head = f"{line} HTTP/1.1\r\nhost: x\r\nauthorization: Bearer {service.tokens['bob']}\r\n{fields}\r\n"
            connection.sendall(head.encode())
            time.sleep(0.02)  # as people ask: of those who ask in one moment the most are told to come again
        began = time.monotonic()
        the_others_are_served(service)
        assert time.monotonic() - began < 3
        busy = [queue["waiting"] for queue in service.get("/api/service", "ann").json()["queues"]]
        assert busy == sorted(busy, reverse=True)
        assert busy[0] > 0 or not request_line.startswith("PUT"), "the uploads that wait come first"

"""The account of what arrived: durable, live, and true."""

from __future__ import annotations

import json
import os
import signal
import socket
import sqlite3
import struct
import subprocess
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import httpx
import pytest

from tests.running import INVIO, RULES, Service

Start = Callable[..., Service]
SIZE = 8_000_000


@pytest.fixture
def service(start: Start) -> Service:
    return start(files={"big.bin": os.urandom(SIZE), "a.txt": b"a"})


@contextmanager
def following(service: Service, who: str = "ann") -> Iterator[list[dict[str, Any]]]:
    """Collects what the stream says while the block runs."""
    events: list[dict[str, Any]] = []
    client = service.client(who)
    opened = threading.Event()

    def read() -> None:
        try:
            with client.stream("GET", "/api/transfers/stream", timeout=30) as answer:
                assert answer.headers["content-type"].startswith("text/event-stream")
                for line in answer.iter_lines():
                    opened.set()
                    if line.startswith("data: "):
                        events.append(json.loads(line[6:]))
        except httpx.TransportError:
            pass

    thread = threading.Thread(target=read, daemon=True)
    thread.start()
    assert opened.wait(30)
    yield events
    client.close()


def until(condition: Callable[[], bool]) -> None:
    for _ in range(500):
        if condition():
            return
        time.sleep(0.05)
    raise AssertionError("it did not come to pass")


def test_a_transfer_moves_on_the_stream_and_ends_complete(service: Service) -> None:
    with following(service) as events:
        service.get(service.link("files/big.bin", {"to": "bob"}, rate=5_000_000))
        until(lambda: bool(events) and events[-1]["state"] == "complete")
    running = [event for event in events if event["state"] == "running"]
    counts = [event["bytes"] for event in events]
    assert len(running) >= 3
    assert counts == sorted(counts)
    # All may have arrived a moment before the transfer is settled.
    assert all(event["percent"] == 100 * event["bytes"] // SIZE for event in running)
    assert any(0 < event["percent"] < 100 for event in running)
    assert any(event["rate"] and event["seconds_left"] for event in running)
    last = events[-1]
    assert (last["bytes"], last["size"], last["percent"], last["recipient"]) == (SIZE, SIZE, 100.0, "bob")


def test_a_killed_client_shows_as_broken_off_with_what_it_took(service: Service) -> None:
    with following(service) as events:
        link = service.link("files/big.bin", {"to": "bob"}, rate=4_000_000)
        client = subprocess.Popen(["curl", "-s", "-o", "/dev/null", service.url + link])
        until(lambda: any(event["bytes"] > 1_000_000 for event in events))
        client.send_signal(signal.SIGKILL)
        client.wait()
        until(lambda: events[-1]["state"] == "broken-off")
    [kept] = service.transfers()
    assert kept["state"] == "broken-off"
    assert 1_000_000 < kept["bytes"] < SIZE
    assert 0 < kept["percent"] < 100
    assert "went away" in kept["reason"]
    assert "Traceback" not in service.logged()
    assert "ERROR" not in service.logged()


def leave_with_bytes_under_way(service: Service, head: str) -> None:
    """Asks, takes next to nothing, and breaks the connection."""
    with socket.socket() as connection:
        connection.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 4096)
        connection.connect(("127.0.0.1", service.port))
        connection.sendall(f"{head}\r\nhost: x\r\n\r\n".encode())
        connection.recv(1000)
        time.sleep(0.5)
        connection.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))
    until(lambda: service.transfers()[0]["state"] != "running")


def test_a_client_that_leaves_with_bytes_under_way_is_not_counted_complete(service: Service) -> None:
    """All of a file may fit into the two kernels' buffers; it has not arrived for that."""
    leave_with_bytes_under_way(service, "GET /get/files/big.bin HTTP/1.1\r\nrange: bytes=0-1999999")
    [kept] = service.transfers()
    assert kept["state"] == "broken-off"
    assert kept["bytes"] < 2_000_000


@pytest.mark.parametrize("version", ["1.1", "1.0"])
def test_nor_does_what_leaves_in_one_write_count_before_it_has_arrived(service: Service, version: str) -> None:
    (service.folder / "files" / "small.bin").write_bytes(bytes(60_000))
    leave_with_bytes_under_way(service, f"GET /get/files/small.bin HTTP/{version}")
    [kept] = service.transfers()
    assert (kept["state"], kept["size"]) == ("broken-off", 60_000)
    assert kept["bytes"] < 30_000
    assert service.get("/get/files/small.bin").status_code == 200
    assert service.transfers()[0]["state"] == "complete"


def test_of_answers_that_follow_each_other_on_a_connection_each_counts_what_arrived_of_it(service: Service) -> None:
    for number in range(300):
        (service.folder / "files" / f"s{number:03}.bin").write_bytes(bytes(4096))
    with socket.socket() as connection:
        connection.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 4096)
        connection.connect(("127.0.0.1", service.port))
        requests = [f"GET /get/files/s{number:03}.bin HTTP/1.1\r\nhost: x\r\n\r\n" for number in range(300)]
        connection.sendall("".join(requests).encode())
        taken = 0
        while taken < 460_000:
            taken += len(connection.recv(4096))
        connection.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))

    def told() -> list[dict[str, Any]]:
        return [json.loads(line) for line in service.get("/api/history", "ann").text.splitlines()]

    until(lambda: "running" not in {one["state"] for one in told()})
    brought = {one["address"]: one["bytes"] for one in told()}
    in_order = [brought.get(f"files/s{number:03}.bin", 0) for number in range(300)]
    whole = in_order.count(4096)
    assert 90 < whole < 150
    assert in_order[:whole] == [4096] * whole
    assert in_order[whole] < 4096
    assert not any(in_order[whole + 1 :]), "what comes after one that did not arrive did not either"


def test_a_recipient_of_one_file_at_a_time_obtains_one_after_the_other(start: Start) -> None:
    limits = "[limits]\nrecipient_transfers = 1\n[stores.files]\nkind = 'directory'\nroot = 'files'\n"
    service = start(files={"a.bin": bytes(1000)}, settings=limits)
    answers = [service.get("/get/files/a.bin", "bob").status_code for _ in range(20)]
    with service.client("bob") as client:
        answers += [client.get("/get/files/a.bin").status_code for _ in range(20)]
    assert answers == [200] * 40


def test_a_connection_that_is_to_be_closed_is_so_at_once(service: Service) -> None:
    """What is still to arrive is waited for, but the client learns of the end behind it."""
    for head in ("GET /get/files/part.bin HTTP/1.1\r\nconnection: close", "GET /get/files/part.bin HTTP/1.0"):
        (service.folder / "files" / "part.bin").write_bytes(bytes(5000))
        took = []
        for _ in range(5):
            with socket.create_connection(("127.0.0.1", service.port)) as connection:
                began = time.perf_counter()
                connection.sendall(f"{head}\r\nhost: x\r\n\r\n".encode())
                while connection.recv(65536):
                    pass
                took.append(time.perf_counter() - began)
        assert min(took) < 0.015
    until(lambda: {one["state"] for one in service.transfers()} == {"complete"})


def test_a_resumed_file_is_one_transfer_and_counts_each_byte_once(service: Service) -> None:
    for start, stop in ((0, 2_999_999), (2_000_000, 3_999_999), (6_000_000, SIZE - 1)):
        assert service.get("/get/files/big.bin", "bob", Range=f"bytes={start}-{stop}").status_code == 206
        until(lambda: service.transfers()[0]["state"] != "running")
    [kept] = service.transfers()
    assert (kept["state"], kept["requests"], kept["bytes"]) == ("partial", 3, 6_000_000)
    service.get("/get/files/big.bin", "bob", Range="bytes=4000000-5999999")
    until(lambda: service.transfers()[0]["state"] == "complete")
    [kept] = service.transfers()
    assert (kept["requests"], kept["bytes"]) == (4, SIZE)


def break_off(service: Service, target: str, after: int) -> None:
    """Asks for the whole, takes a part of it, and leaves."""
    with service.client() as client, client.stream("GET", target) as answer:
        taken = 0
        for piece in answer.iter_raw(65536):
            taken += len(piece)
            if taken >= after:
                break


def test_what_broke_off_and_is_begun_anew_is_the_same_transfer(start: Start) -> None:
    quota = RULES.replace('"bundle"]\n', '"bundle"]\nquota = { files = 1, per = "1d" }\n', 1)
    service = start(files={"big.bin": os.urandom(SIZE), "a.txt": b"a"}, rules=quota)
    for _ in range(3):
        break_off(service, "/get/files/big.bin", 500_000)
        until(lambda: {one["state"] for one in service.transfers()} == {"broken-off"})
    assert service.get("/get/files/big.bin").status_code == 200
    until(lambda: service.transfers()[0]["state"] == "complete")
    [shown] = service.transfers()
    assert (shown["requests"], shown["bytes"]) == (4, SIZE)
    assert service.get("/get/files/a.txt").status_code == 429


@pytest.mark.parametrize("how", ["closed", "reset"])
def test_a_link_for_one_use_may_be_begun_anew_as_soon_as_it_broke_off(service: Service, how: str) -> None:
    """At a limited speed the sender learns late that nobody is there; whoever asks again may have come before."""
    for number in range(3):
        link = service.link("files/big.bin", {"id": f"{how}-{number}"}, uses=1, rate=1_500_000)
        with socket.create_connection(("127.0.0.1", service.port), timeout=20) as connection:
            connection.sendall(f"GET {link} HTTP/1.1\r\nhost: x\r\n\r\n".encode())
            assert connection.recv(100_000).startswith(b"HTTP/1.1 200")
            if how == "reset":
                connection.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, b"\1\0\0\0\0\0\0\0")
        with service.client() as client, client.stream("GET", link) as again:
            assert again.status_code == 200


def test_two_at_once_of_the_whole_are_two_transfers(service: Service) -> None:
    link = service.link("files/big.bin", rate=4_000_000)
    threads = [threading.Thread(target=service.get, args=(link,)) for _ in range(2)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    until(lambda: [one["state"] for one in service.transfers()] == ["complete", "complete"])


def test_a_program_that_asks_for_the_whole_and_then_for_ranges_resumes(service: Service, tmp_path: Path) -> None:
    link = service.url + service.link("files/big.bin", {"id": "once"}, uses=1, rate=1_500_000)
    command = ["aria2c", "-x4", "-s4", "-k1M", "--file-allocation=none", "--quiet", "-o", "big.bin", link]
    first = subprocess.Popen(command, cwd=tmp_path)
    until(lambda: any(one["bytes"] > 1_000_000 for one in service.transfers()))
    first.send_signal(signal.SIGTERM)
    first.wait(20)
    assert (tmp_path / "big.bin.aria2").exists()
    again = subprocess.run([*command[:-1], "-c", link], cwd=tmp_path, timeout=60)
    assert again.returncode == 0
    assert (tmp_path / "big.bin").read_bytes() == (service.folder / "files" / "big.bin").read_bytes()
    until(lambda: [one["state"] for one in service.transfers()] == ["complete"])


def test_segments_fetched_at_once_are_one_transfer(service: Service) -> None:
    def segment(number: int) -> None:
        step = SIZE // 4
        service.get("/get/files/big.bin", "bob", Range=f"bytes={number * step}-{(number + 1) * step - 1}")

    threads = [threading.Thread(target=segment, args=(number,)) for number in range(4)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    until(lambda: service.transfers()[0]["state"] == "complete")
    assert [shown["requests"] for shown in service.transfers()] == [4]


def test_what_is_not_delivered_is_no_transfer(service: Service) -> None:
    tag = service.get("/get/files/a.txt").headers["etag"]
    service.get("/get/files/a.txt", If_None_Match=tag)
    service.get("/get/files/a.txt", Range="bytes=9-")
    service.get("/get/files/none.txt")
    with service.client() as client:
        client.head("/get/files/a.txt")
    assert len(service.transfers()) == 1


def test_a_killed_service_has_lost_no_transfer_and_calls_none_running(service: Service, start: Start) -> None:
    for _ in range(5):
        service.get("/get/files/a.txt")
    with socket.create_connection(("127.0.0.1", service.port)) as connection:
        connection.sendall(f"GET {service.link('files/big.bin', rate=100_000)} HTTP/1.1\r\nhost: x\r\n\r\n".encode())
        connection.recv(100)
        service.stop(signal.SIGKILL)
    again = start(service.folder)
    kept = again.transfers()
    assert len(kept) == 6
    assert kept[0]["state"] == "broken-off"
    assert "the service ended" in kept[0]["reason"]


def test_what_cannot_be_recorded_is_not_delivered(service: Service) -> None:
    other = sqlite3.connect(service.folder / "data" / "records.sqlite", isolation_level=None)
    other.execute("BEGIN IMMEDIATE")
    refused = service.get("/get/files/a.txt")
    assert (refused.status_code, refused.json()["reason"]) == (503, "unavailable")
    assert refused.headers["retry-after"] == "1"
    other.execute("ROLLBACK")
    other.close()
    assert service.get("/get/files/a.txt").status_code == 200


def test_everybody_sees_their_own_and_who_manages_sees_all(service: Service) -> None:
    service.get("/get/files/a.txt", "bob")
    service.get("/get/files/a.txt", "ann")
    service.get("/get/files/a.txt")
    assert [shown["recipient"] for shown in service.transfers("bob")] == ["bob"]
    assert [shown["recipient"] for shown in service.transfers("ann")] == [None, "ann", "bob"]
    assert service.get("/api/transfers").json()["transfers"] == []
    assert service.get("/api/transfers/stream").status_code == 401
    first = service.get("/api/transfers?limit=2", "ann").json()
    rest = service.get(f"/api/transfers?limit=2&before={first['next']}", "ann").json()
    assert [shown["recipient"] for shown in rest["transfers"]] == ["bob"]


def test_sigterm_lets_transfers_end_and_exits_with_zero(service: Service) -> None:
    link = service.link("files/big.bin", rate=8_000_000)
    got: list[int] = []
    thread = threading.Thread(target=lambda: got.append(len(service.get(link).content)))
    thread.start()
    until(lambda: any(shown["state"] == "running" for shown in service.transfers()))
    with following(service):
        assert service.stop(signal.SIGTERM) == 0
    thread.join(10)
    assert got == [SIZE]


def test_sigint_exits_with_zero_even_when_a_transfer_would_take_for_ever(start: Start) -> None:
    settings = '[service]\nshutdown = 1\n[stores.files]\nkind = "directory"\nroot = "files"\n'
    service = start(files={"big.bin": bytes(SIZE)}, settings=settings, rules=RULES)
    with socket.create_connection(("127.0.0.1", service.port)) as connection:
        connection.sendall(f"GET {service.link('files/big.bin', rate=1000)} HTTP/1.1\r\nhost: x\r\n\r\n".encode())
        connection.recv(100)
        began = time.perf_counter()
        assert service.stop(signal.SIGINT) == 0
        assert time.perf_counter() - began < 15
    again = start(service.folder)
    assert [shown["state"] for shown in again.transfers()] == ["broken-off"]


def test_the_terminal_shows_transfers_as_they_go(service: Service) -> None:
    environment = {**os.environ, "INVIO_URL": service.url, "INVIO_TOKEN": service.tokens["ann"]}
    viewer = subprocess.Popen(
        [INVIO, "transfers", "--follow"],
        env=environment,
        stdout=subprocess.PIPE,
        text=True,
        # Whoever runs the tests in the background may have it ignored, for all below.
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.default_int_handler) and None,
    )
    lines: list[str] = []

    def read() -> None:
        assert viewer.stdout is not None
        lines.extend(viewer.stdout)

    reader = threading.Thread(target=read)
    reader.start()

    def seen(state: str) -> bool:
        return any(state in line and "files/big.bin" in line and "bob" in line for line in lines)

    for _ in range(8):  # the viewer takes its time to start
        if not seen("running") or not seen("complete"):
            service.get(service.link("files/big.bin", {"to": "bob"}, rate=8_000_000))
            time.sleep(1)
    viewer.send_signal(signal.SIGINT)
    assert viewer.wait(20) == 0
    reader.join()
    assert seen("running")
    assert seen("complete")

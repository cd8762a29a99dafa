"""Sources under attack: full disks, killed processes, and what another system or a producer may do at its worst."""

from __future__ import annotations

import io
import os
import random
import sqlite3
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

import httpx
import pytest
from PIL import Image

from tests.rules import rule
from tests.running import SETTINGS, Service, make_folder
from tests.stores.test_origin import CONTENT, Handler, Odd
from tests.torture.scale import report, times
from tests.torture.test_faults import needs_mount, small_disk

Start = Callable[..., Service]

CODE = """
import time

def large(**_):
    for number in range(400):
        yield (number, "x" * 50_000)

def slow(**_):
    while True:
        yield ("x" * 20_000,)
        time.sleep(0.005)
"""
MADE = """
[stores.tables]
kind = "tables"
[[stores.tables.file]]
path = "large.csv"
function = "made_there:large"
keep = "1m"
[[stores.tables.file]]
path = "slow.csv"
function = "made_there:slow"
[stores.drop]
kind = "managed"
root = "drop"
[stores.rows]
kind = "table"
database = "sqlite:///rows.sqlite"
table = "rows"
writable = true
columns = { key = "path", content = "content" }
[renditions.thumb]
width = 200
height = 200
"""
RULES = rule("anyone", "*/**", "list read bundle put manage")


def folder_of(path: Path, settings: str = "") -> Path:
    make_folder(path, {"a.txt": b"a"}, rules=RULES, settings=SETTINGS + MADE + settings)
    (path / "made_there.py").write_text(CODE)
    with sqlite3.connect(path / "rows.sqlite") as database:
        database.execute("CREATE TABLE rows (path TEXT PRIMARY KEY, content BLOB)")
    return path


@contextmanager
def serving(path: Path) -> Iterator[Service]:
    service = Service.start(path, PYTHONPATH=str(path))
    try:
        yield service
    finally:
        service.stop()


@needs_mount
def test_a_full_disk_in_the_middle_of_a_spool_ends_with_a_reason_and_is_given_back(tmp_path: Path) -> None:
    folder = folder_of(tmp_path / "service")
    with small_disk(folder / "data" / "making", 8_000), serving(folder) as service:
        for _ in range(times(3, 20)):
            try:
                reply = service.get("/get/tables/large.csv", accept_encoding="identity")
            except (httpx.ReadError, httpx.RemoteProtocolError):
                pass  # broken off: some of it had left
            else:
                assert (reply.status_code, reply.json()["reason"]) == (507, "no-space")
            assert service.get("/get/files/a.txt").content == b"a", "others have theirs"
        end = time.monotonic() + 10
        while (free := _free(folder / "data" / "making")) < 7_500_000:
            assert time.monotonic() < end, f"only {free} bytes were given back"
            time.sleep(0.1)
        told = [one["reason"] for one in service.transfers() if one["state"] == "broken-off"]
        assert told
        assert set(told) == {"the disk is full"}
    report("made files with the spool's disk full", times(3, 20))


def _free(path: Path) -> int:
    status = os.statvfs(path)
    return status.f_bavail * status.f_frsize


@needs_mount
def test_a_full_disk_in_the_middle_of_a_rendition_ends_with_a_reason(tmp_path: Path) -> None:
    folder = folder_of(tmp_path / "service")
    held = io.BytesIO()
    Image.effect_noise((400, 400), 90).save(held, "PNG")
    (folder / "files" / "north.png").write_bytes(held.getvalue())
    with small_disk(folder / "data" / "renditions", 16), serving(folder) as service:
        refused = service.get("/get/files/north.png?rendition=thumb")
        assert (refused.status_code, refused.json()["reason"]) == (507, "no-space")
        assert not list((folder / "data" / "renditions").glob("*.part"))
        assert service.get("/get/files/north.png").content == held.getvalue()


def test_a_process_that_is_killed_while_it_makes_and_takes_leaves_nothing_half(tmp_path: Path) -> None:
    folder, kills, chance = folder_of(tmp_path / "service"), times(6, 200), random.Random(11)
    lost = 0
    known: list[str] = []
    for number in range(kills):
        with serving(folder) as service:
            lost += _lost(service, known[-4:])
            assert list((folder / "data" / "making").iterdir()) == []
            threads = [threading.Thread(target=_read, args=(service,)) for _ in range(3)]
            threads += [
                threading.Thread(target=_put, args=(service, f"{store}/put-{number}.bin", known))
                for store in ("drop", "rows")
            ]
            for thread in threads:
                thread.start()
            time.sleep(chance.random() * 0.4)
            service.process.kill()
            service.process.wait(10)
            for thread in threads:
                thread.join(20)
    with serving(folder) as service:
        lost += _lost(service, known)
        for store in ("drop", "rows"):
            for file in service.get(f"/api/files?in={store}/&limit=1000").json()["files"]:
                whole = len(service.get(f"/get/{file['address']}").content)
                lost += whole != PUT
    report("kills in the middle of puts and of files that are made", kills, lost)
    assert lost == 0


PUT = 3_000_000


def _read(service: Service) -> None:
    with suppress(httpx.HTTPError), service.client() as client, client.stream("GET", "/get/tables/slow.csv") as reply:
        for _ in reply.iter_raw():
            pass


def _put(service: Service, address: str, known: list[str]) -> None:
    with suppress(httpx.HTTPError), service.client() as client:
        if client.put(f"/api/files/{address}", content=_content(address)).status_code == 201:
            known.append(address)


def _lost(service: Service, addresses: list[str]) -> int:
    """How many of them are not there as they were put."""
    return sum(service.get(f"/get/{address}").content != _content(address) for address in addresses)


def _content(address: str) -> bytes:
    return random.Random(address).randbytes(PUT)


@pytest.mark.parametrize("how", ["ends early", "another part", "stalls"])
def test_a_system_at_its_worst_breaks_its_own_downloads_alone(tmp_path: Path, how: str) -> None:
    with Odd(("127.0.0.1", 0), _Stalling) as web:
        threading.Thread(target=web.serve_forever, daemon=True).start()
        url = f"http://127.0.0.1:{web.server_port}/files"
        remote = (
            f'[stores.far]\nkind = "remote"\nurl = "{url}"\ntimeout = 1\noptions = {{ headers = {{ x-key = "k" }} }}\n'
        )
        with serving(folder_of(tmp_path / "service", remote)) as service:
            assert service.get("/get/far/a.bin").content == CONTENT
            web.how = how
            threads = [threading.Thread(target=_fails, args=(service, "/get/far/a.bin")) for _ in range(30)]
            for thread in threads:
                thread.start()
            began = time.monotonic()
            for _ in range(20):
                assert service.get("/get/files/a.txt").content == b"a"
                assert service.get("/readyz").status_code == 200
            assert time.monotonic() - began < 5
            for thread in threads:
                thread.join(30)
        web.shutdown()


class _Stalling(Handler):
    """As `Handler`; and one that says nothing for a while."""

    def do_GET(self) -> None:
        if self.server.how == "stalls":
            time.sleep(3)
        super().do_GET()


def _fails(service: Service, path: str) -> None:
    try:
        assert service.get(path).status_code in (200, 502, 503, 504)
    except httpx.HTTPError:
        pass

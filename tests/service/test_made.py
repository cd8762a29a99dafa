"""Files made on demand, through a running service: parameters, formats, one run for all, and what goes wrong."""

from __future__ import annotations

import hashlib
import io
import json
import socket
import sqlite3
import threading
import time
import zipfile
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import ExitStack, contextmanager
from pathlib import Path

import httpx
import pytest

from tests.rules import rule
from tests.running import SETTINGS, Service, make_folder

CODE = """
import os, time, threading
from pathlib import Path

HERE = Path(__file__).parent
def ran(name):
    with open(HERE / "runs.txt", "a") as file:
        file.write(name + "\\n")

def slow(**_):
    ran("slow")
    for number in range(20):
        yield ("row", number, "x" * 5000)
        time.sleep(0.05)

def gated(**_):
    ran("gated")
    for number in range(60):
        yield ("row", number, "x" * 5000)
    end = time.monotonic() + 60
    while not (HERE / "open.txt").exists() and time.monotonic() < end:
        time.sleep(0.02)
    yield ("row", 60, "x" * 5000)

def closes(**_):
    ran("closes")
    try:
        while True:
            yield ("row" * 20000,)
            time.sleep(0.02)
    finally:
        ran("closed")

def waits(**_):
    ran("waits")
    yield ("first" * 20000,)
    while not (HERE / "go").exists():
        time.sleep(0.02)
    yield ("last",)

def never(**_):
    time.sleep(60)
    yield ()

def raises(**_):
    raise RuntimeError("the gauge is out of order at /srv/secret")

def late(**_):
    yield ("x" * 100000,)
    time.sleep(0.7)  # some of it has left by then
    raise RuntimeError("the gauge is out of order at /srv/secret")

def endless(**_):
    while True:
        yield ("x" * 1000000,)

def drawing(station):
    return b"%PDF-" + station.encode() * 1000

def mine(recipient, groups):
    return [("recipient", "groups"), (recipient, ",".join(groups))]
"""

MADE = """
[making]
seconds = 3
bytes = 8_000_000

[stores.tables]
kind = "tables"

[[stores.tables.file]]
path = "gauges/{station}/{month}.{format}"
database = "sqlite:///gauges.sqlite"
query = "SELECT at, level FROM readings WHERE station = :station AND month = :month ORDER BY at"
formats = ["csv", "jsonl", "xlsx"]
parameters.station = { query = "SELECT DISTINCT station FROM readings" }
parameters.month = { pattern = "[0-9]{4}-[0-9]{2}" }

[[stores.tables.file]]
path = "kept.csv"
function = "made_here:slow"
keep = "10m"

[[stores.tables.file]]
path = "drawings/{station}.pdf"
function = "made_here:drawing"
media_type = "application/pdf"
name = "Drawing of {station}.pdf"
parameters.station = { choices = ["pier", "rock"] }

[[stores.tables.file]]
path = "mine.csv"
function = "made_here:mine"
caller = true
keep = "10m"
"""
MADE += """
[[stores.tables.file]]
path = "held/{number}.csv"
function = "made_here:gated"
parameters.number = { pattern = "[0-9]+" }

[[stores.tables.file]]
path = "guessed.csv"
function = "made_here:slow"
estimate = 200_000
"""
for one in ("slow", "gated", "closes", "waits", "never", "raises", "late", "endless"):
    MADE += f'\n[[stores.tables.file]]\npath = "{one}.csv"\nfunction = "made_here:{one}"\n'

RULES = rule("anyone", "files/** tables/**", "list read bundle link", "everyone reads") + rule(
    "group:admins", "**", "manage administer", "admins"
)


@contextmanager
def serving(folder: Path, settings: str = MADE) -> Iterator[Service]:
    make_folder(folder, rules=RULES, settings=SETTINGS + settings)
    (folder / "made_here.py").write_text(CODE)
    with sqlite3.connect(folder / "gauges.sqlite") as database:
        database.execute("CREATE TABLE readings (station TEXT, month TEXT, at TEXT, level REAL)")
        for month in ("2026-01", "2026-02"):
            rows = [("tern-rock", month, f"{month}-{day:02}", day / 4) for day in range(1, 29)]
            database.executemany("INSERT INTO readings VALUES (?, ?, ?, ?)", rows)
    service = Service.start(folder, PYTHONPATH=str(folder))
    yield service
    assert service.stop() == 0


@pytest.fixture(scope="module")
def service(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    with serving(tmp_path_factory.mktemp("made") / "service") as service:
        yield service


def runs(service: Service, name: str) -> int:
    file = service.folder / "runs.txt"
    return file.read_text().split().count(name) if file.exists() else 0


def until(what: object, seconds: float = 10) -> None:
    end = time.monotonic() + seconds
    while not what():  # type: ignore[operator]
        assert time.monotonic() < end, "it did not come to be"
        time.sleep(0.02)


def test_parameters_are_folders_files_and_nothing_else(service: Service) -> None:
    listed = [file["address"] for file in service.get("/api/files?in=tables/gauges/").json()["files"]]
    assert listed == ["tables/gauges/tern-rock/"]
    reply = service.get("/get/tables/gauges/tern-rock/2026-01.csv")
    assert (reply.status_code, reply.headers["content-type"]) == (200, "text/csv; charset=utf-8")
    assert reply.text.splitlines()[:2] == ["at,level", "2026-01-01,0.25"]
    lines = service.get("/get/tables/gauges/tern-rock/2026-02.jsonl").text.splitlines()
    assert json.loads(lines[0]) == {"at": "2026-02-01", "level": 0.25}
    sheet = service.get("/get/tables/gauges/tern-rock/2026-02.xlsx")
    assert sheet.headers["content-type"].endswith("spreadsheetml.sheet")
    assert sheet.content[:2] == b"PK"
    for absent in ("tern-rock/2026-1.csv", "none/2026-01.csv", "tern-rock/2026-01.pdf", "x' OR '1'='1/2026-01.csv"):
        assert service.get(f"/get/tables/gauges/{absent}").status_code == 404, absent


def test_a_station_that_has_just_come_is_found_at_once(service: Service) -> None:
    assert service.get("/get/tables/gauges/new/2026-01.csv").status_code == 404
    time.sleep(1.1)  # for so long nobody is asked again about what was not there
    with sqlite3.connect(service.folder / "gauges.sqlite") as database:
        database.execute("INSERT INTO readings VALUES ('new', '2026-01', '2026-01-01', 1)")
    assert service.get("/get/tables/gauges/new/2026-01.csv").status_code == 200


def test_bytes_of_a_function_have_their_type_and_name(service: Service) -> None:
    reply = service.get("/get/tables/drawings/pier.pdf")
    assert reply.headers["content-type"] == "application/pdf"
    assert 'filename="Drawing of pier.pdf"' in reply.headers["content-disposition"]
    assert reply.content == b"%PDF-" + b"pier" * 1000
    link = service.link("tables/drawings/rock.pdf", until=int(time.time()) + 60)
    assert service.get(link).content == b"%PDF-" + b"rock" * 1000


def test_a_hundred_callers_have_one_run(tmp_path: Path) -> None:
    all_begun = threading.Barrier(101)

    def get(service: Service) -> bytes:
        plain = {"accept-encoding": "identity"}
        with service.client() as client, client.stream("GET", "/get/tables/gated.csv", headers=plain) as reply:
            pieces = reply.iter_bytes()
            first = next(pieces)
            all_begun.wait(60)
            return first + b"".join(pieces)

    with serving(tmp_path / "service", MADE.replace("seconds = 3", "seconds = 90")) as service:
        with ThreadPoolExecutor(100) as pool:
            callers = [pool.submit(get, service) for _ in range(100)]
            all_begun.wait(60)  # each has some of it before the rest is made
            (service.folder / "open.txt").touch()
            contents = {caller.result() for caller in callers}
        assert [len(content.splitlines()) for content in contents] == [61]
        assert runs(service, "gated") == 1


@pytest.mark.parametrize("token", ["bob", None], ids=["a recipient", "a network"])
def test_nobody_takes_all_that_may_be_made_at_once(tmp_path: Path, token: str | None) -> None:
    with (
        serving(tmp_path / "service", MADE.replace("seconds = 3", "seconds = 90")) as service,
        ExitStack() as connections,
    ):
        signed_in = "" if token is None else f"authorization: Bearer {service.tokens[token]}\r\n"
        for number in range(60):
            connection = connections.enter_context(socket.create_connection(("127.0.0.1", service.port)))
            head = f"GET /get/tables/held/{number}.csv HTTP/1.1\r\nhost: x\r\n{signed_in}\r\n"
            connection.sendall(head.encode())
        until(lambda: runs(service, "gated") >= 8)
        began = time.monotonic()
        assert service.get("/get/tables/drawings/pier.pdf", "ann").status_code == 200
        assert service.get("/get/tables/gauges/tern-rock/2026-01.csv", "ann").status_code == 200
        assert time.monotonic() - began < 5
        assert runs(service, "gated") == 8, "half of what is made at once"
        (service.folder / "open.txt").touch()


def test_what_is_kept_has_a_length_a_digest_ranges_and_conditions(service: Service) -> None:
    first = service.get("/get/tables/kept.csv", accept_encoding="identity")
    again = service.get("/get/tables/kept.csv")
    assert again.content == first.content
    assert int(again.headers["content-length"]) == len(first.content)
    tag = again.headers["etag"]
    assert tag.strip('"') == hashlib.sha256(first.content).hexdigest()[:40]
    part = service.get("/get/tables/kept.csv", range="bytes=100-199", if_range=tag)
    assert (part.status_code, part.content) == (206, first.content[100:200])
    assert part.headers["content-range"] == f"bytes 100-199/{len(first.content)}"
    assert service.get("/get/tables/kept.csv", if_none_match=tag).status_code == 304
    early = service.get("/get/tables/kept.csv", range="bytes=5-", if_range=first.headers["etag"])
    assert (early.status_code, early.content) == (206, first.content[5:]), "the tag that it had while it was made"
    with service.client() as client:
        head = client.head("/get/tables/kept.csv")
    assert (head.status_code, head.headers["content-length"]) == (200, str(len(first.content)))


def test_what_is_not_kept_is_made_anew_and_can_be_resumed_all_the_same(service: Service) -> None:
    before = runs(service, "slow")
    first = service.get("/get/tables/slow.csv", accept_encoding="identity")
    part = service.get("/get/tables/slow.csv", range="bytes=50000-", if_range=first.headers["etag"])
    assert (part.status_code, part.content) == (206, first.content[50_000:])
    assert runs(service, "slow") == before + 1
    service.get("/get/tables/slow.csv")
    assert runs(service, "slow") == before + 2


def test_a_download_that_was_cut_while_it_was_made_goes_on(service: Service) -> None:
    (service.folder / "go").unlink(missing_ok=True)
    with service.client() as client:
        with client.stream("GET", "/get/tables/waits.csv", headers={"accept-encoding": "identity"}) as reply:
            begun = next(reply.iter_raw(50_000))
            tag = reply.headers["etag"]
        with ThreadPoolExecutor(1) as pool:
            fields = {"range": f"bytes={len(begun)}-", "if-range": tag, "accept-encoding": "identity"}
            rest = pool.submit(client.get, "/get/tables/waits.csv", headers=fields)
            time.sleep(0.3)
            assert not rest.done(), "it waits for what is not made yet"
            (service.folder / "go").touch()
            reply = rest.result()
    assert reply.status_code == 206
    assert begun + reply.content == b"first" * 20_000 + b"\r\nlast\r\n"
    assert runs(service, "waits") == 1
    until(lambda: any(
        one["state"] == "complete" for one in service.transfers() if one["address"] == "tables/waits.csv"
    ))  # fmt: skip


def test_when_all_have_left_it_is_stopped_and_closed(service: Service) -> None:
    with service.client() as client, client.stream("GET", "/get/tables/closes.csv") as reply:
        next(reply.iter_raw())
    until(lambda: runs(service, "closed") == runs(service, "closes") == 1)


@pytest.mark.parametrize("name", ["raises", "never"])
def test_what_fails_before_its_first_byte_is_refused_without_its_cause(service: Service, name: str) -> None:
    reply = service.get(f"/get/tables/{name}.csv")
    assert (reply.status_code, reply.json()["reason"]) == (503, "not-made")
    assert "/srv" not in reply.text
    assert "retry-after" in reply.headers
    if name == "raises":
        assert "the gauge is out of order at /srv/secret" in service.logged()


@pytest.mark.parametrize("name", ["late", "endless"])
def test_what_fails_later_breaks_the_connection_and_is_recorded(service: Service, name: str) -> None:
    with pytest.raises((httpx.RemoteProtocolError, httpx.ReadError)):
        service.get(f"/get/tables/{name}.csv", accept_encoding="identity")
    until(lambda: any(
        one["state"] == "broken-off" for one in service.transfers() if one["address"] == f"tables/{name}.csv"
    ))  # fmt: skip


def test_what_is_each_recipients_own_is_nobody_elses(service: Service) -> None:
    ann, bob, nobody = (service.get("/get/tables/mine.csv", who) for who in ("ann", "bob", None))
    assert ann.text.splitlines()[1] == "ann,admins"
    assert bob.text.splitlines()[1] == "bob,crew"
    assert nobody.text.splitlines()[1] == ","
    assert ann.headers["cache-control"] == "private, no-store"
    assert service.get("/get/tables/mine.csv", "bob", if_none_match=ann.headers["etag"]).status_code == 200
    tag = service.get("/get/tables/mine.csv", "ann").headers["etag"]
    other = service.get("/get/tables/mine.csv", "bob", range="bytes=0-", if_range=tag)
    assert b"ann" not in other.content


def test_made_files_are_in_archives(service: Service) -> None:
    with service.client("ann") as client:
        made = client.post("/api/bundles", json={"files": ["tables/drawings/", "tables/mine.csv"]}).json()
        content = client.get(made["url"]).content
    assert made["entries"] == 3
    with zipfile.ZipFile(io.BytesIO(content)) as archive:
        assert b"ann,admins" in archive.read("mine.csv"), archive.namelist()


@pytest.mark.parametrize(
    ("name", "says"), [("endless", "it is larger than"), ("never", "it took longer than 3 seconds")]
)
def test_what_is_made_for_an_archive_is_bounded_too(service: Service, name: str, says: str) -> None:
    with service.client() as client:
        refused = client.post("/api/bundles", json={"files": [f"tables/{name}.csv"]})
        assert (refused.status_code, refused.json()["reason"]) == (503, "not-made")
        assert refused.json()["detail"].startswith(f"tables/{name}.csv: {says}")


def test_no_place_on_the_disk_is_left_taken(service: Service) -> None:
    """Contents lie in files without a name, which end with those who hold them."""
    assert list((service.folder / "data" / "making").iterdir()) == []


def test_faults_in_the_settings_are_told_with_their_line(tmp_path: Path) -> None:
    for number, (text, says) in enumerate(
        {
            'path = "{x}.csv"\nfunction = "made_here:slow"': "declare parameters.x",
            'path = "a.csv"\ndatabase = "sqlite:///g.sqlite"\nquery = "SELECT :x"': "the query has the value :x",
            'path = "{x}.csv"\nfunction = "made_here:slow"\nparameters.x = { patern = "a" }': "did you mean 'pattern'",
            'path = "{x}.csv"\nfunction = "made_here:slow"\nparameters.x = { pattern = "[" }': "no regular expression",
            'path = "a.csv"\nfunction = "made_here:slow"\nkeep = "10 years"': "is no span of time",
            'path = "a.{format}"\nfunction = "made_here:slow"\nformats = ["pdf"]': "'csv', 'jsonl' or 'xlsx'",
        }.items()
    ):
        folder = tmp_path / str(number)
        made = f'\n[stores.tables]\nkind = "tables"\n[[stores.tables.file]]\n{text}\n'
        make_folder(folder, settings=SETTINGS + made)
        (folder / "made_here.py").write_text(CODE)
        with pytest.raises(AssertionError, match=r"invio\.toml:[0-9]+: .*") as caught:
            Service.start(folder, PYTHONPATH=str(folder))
        assert says in str(caught.value)


def test_a_client_that_takes_nothing_keeps_nobody_from_it(service: Service) -> None:
    """The producer does not wait for the slowest: whoever asks at the same time gets all of it."""
    with socket.create_connection(("127.0.0.1", service.port)) as stuck:
        stuck.sendall(b"GET /get/tables/slow.csv HTTP/1.1\r\nHost: x\r\n\r\n")
        began = time.monotonic()
        assert len(service.get("/get/tables/slow.csv").content.splitlines()) == 20
        assert time.monotonic() - began < 5
    assert threading.active_count() < 50


def test_progress_of_what_is_being_made_is_by_an_estimate_and_says_so(service: Service) -> None:
    seen: list[tuple[float, int]] = []

    def look() -> bool:
        here = [one for one in service.transfers() if one["address"] == "tables/guessed.csv"]
        seen.extend(
            (one["percent"], one["estimated_size"]) for one in here if one["state"] == "running" and one["percent"]
        )
        return len(seen) > 3

    with ThreadPoolExecutor(1) as pool:
        reply = pool.submit(service.get, "/get/tables/guessed.csv", accept_encoding="identity")
        until(look)
        assert reply.result().status_code == 200
    assert {size for _, size in seen} == {200_000}
    percents = [percent for percent, _ in seen]
    assert percents == sorted(percents)
    assert 0 < percents[0] < 100
    ended = [one for one in service.transfers() if one["address"] == "tables/guessed.csv"]
    assert (ended[0]["percent"], ended[0]["estimated_size"]) == (100.0, None)


def test_what_a_killed_process_left_of_a_spreadsheet_is_gone_with_the_next_start(start: Callable[..., Service]) -> None:
    service = start(files={"a.txt": b"a"})
    service.process.kill()
    service.process.wait()
    left = service.folder / "data" / "making" / "sheet1.xml"
    left.write_bytes(b"half a sheet")
    start(service.folder)
    assert not left.exists()

"""What is lost when things go wrong: nothing. Full disks, locked and replaced records, deaths, and stops under load."""

from __future__ import annotations

import contextlib
import hashlib
import io
import json
import os
import random
import re
import shutil
import signal
import socket
import sqlite3
import subprocess
import threading
import time
import zipfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from functools import partial
from pathlib import Path

import httpx
import pytest

from tests.running import RULES, Service, at_once, get_raw, make_folder, until
from tests.torture.scale import report, times

Start = Callable[..., Service]
MODELS = """
[stores.files]
kind = "directory"
root = "files"
[stores.models]
kind = "managed"
root = "models"
[stores.drop]
kind = "directory"
root = "drop"
writable = true
"""


@contextmanager
def small_disk(place: Path, kilobytes: int) -> Iterator[Path]:
    """A file system of so many KiB at a place, for as long as the `with` lasts."""
    place.mkdir(parents=True, exist_ok=True)
    subprocess.run(["mount", "-t", "tmpfs", "-o", f"size={kilobytes}k,mode=700", "tmpfs", str(place)], check=True)
    try:
        yield place
    finally:
        subprocess.run(["umount", "-l", str(place)], check=True)


def can_mount() -> bool:
    return os.geteuid() == 0 and shutil.which("mount") is not None and subprocess.run(
        ["sh", "-c", "d=$(mktemp -d) && mount -t tmpfs tmpfs $d && umount $d"], capture_output=True
    ).returncode == 0  # fmt: skip


needs_mount = pytest.mark.skipif(not can_mount(), reason="a small file system can be mounted by root alone")


def fill(place: Path) -> Path:
    """Fills a file system to its last byte."""
    filler = place / "filler"
    with filler.open("wb", buffering=0) as file, suppress(OSError):
        while file.write(bytes(4096)):
            pass
    with filler.open("ab", buffering=0) as file, suppress(OSError):
        while file.write(b"x"):
            pass
    return filler


@needs_mount
def test_what_ended_while_the_records_could_not_be_written_is_written_once_they_can(
    start: Start, tmp_path: Path
) -> None:
    folder = tmp_path / "service"
    rules = RULES.replace('actions = ["list", "read", "bundle"]',
                          'actions = ["list", "read", "bundle"]\nquota = { bytes = 1_000_000_000, per = "1d" }')  # fmt: skip
    make_folder(folder, {"large.bin": bytes(30_000_000), "small.txt": b"s"}, rules)
    records = (folder / "data" / "records.sqlite").read_bytes()
    shutil.rmtree(folder / "data")
    with small_disk(folder / "data", 6000):
        (folder / "data" / "records.sqlite").write_bytes(records)
        service = start(folder)
        with service.client("bob") as one, service.client("bob") as two:
            with (
                one.stream("GET", "/get/files/large.bin") as first,
                two.stream("GET", "/get/files/large.bin") as second,
            ):
                pieces = [first.iter_raw(65536), second.iter_raw(65536)]
                for each in pieces:
                    next(each)
                filler = fill(folder / "data")
                until(lambda: service.get("/readyz").status_code == 503)
                assert service.get("/healthz").status_code == 200
                refused = service.get("/get/files/small.txt", "bob")
                assert (refused.status_code, refused.json()["reason"]) == (503, "unavailable")
                for path in ("/api/links", "/api/recipients/bob/tokens"):
                    with service.client("ann") as ann:
                        answer = ann.post(path, json={"address": "files/small.txt"} if "links" in path else {})
                        assert (answer.status_code, answer.json()["reason"]) == (503, "unavailable")
                for each in pieces:
                    assert sum(map(len, each)) > 29_000_000
            time.sleep(1.5)
            filler.unlink()
            until(lambda: service.get("/readyz").status_code == 200)
        until(
            lambda: [t["state"] for t in service.transfers() if t["address"].endswith("large.bin")] == ["complete"] * 2
        )
        with sqlite3.connect(folder / "data" / "records.sqlite") as rows:
            taken = "SELECT sum(reserved), sum(taken) FROM quota_uses"
            until(lambda: rows.execute(taken).fetchone() == (0, 60_000_000))
        # Background work goes on: progress is noted, and the log is brought into the database.
        with (
            service.client("bob") as client,
            client.stream("GET", service.link("files/large.bin", rate=4_000_000)) as slow,
        ):
            held = slow.iter_raw(65536)
            until_later = time.monotonic() + 2.5
            while time.monotonic() < until_later:
                next(held)
            with sqlite3.connect(folder / "data" / "records.sqlite") as rows:
                [(state, covered)] = rows.execute("SELECT state, covered FROM transfers ORDER BY id DESC LIMIT 1")
        assert (state, covered > 1_000_000) == ("running", True), covered
        service.stop()
    report("settlements while the records' disk was full", 2)


@needs_mount
def test_a_nearly_full_disk_makes_no_broken_archive(start: Start, tmp_path: Path) -> None:
    chance = random.Random(7)
    text = "\n".join(f"{chance.random():.17f} {'tide' * chance.randint(1, 9)}" for _ in range(80_000)).encode()
    sizes = range(900, 2700, times(450, 60))
    broken = 0
    for kilobytes in sizes:
        folder = tmp_path / f"service-{kilobytes}"
        make_folder(folder, {"big.txt": text})
        with small_disk(folder / "data" / "deflated", kilobytes):
            service = start(folder)
            for _ in range(2):
                with service.client() as client:
                    made = client.post("/api/bundles", json={"files": ["files/big.txt"]}).json()
                    archive = client.get(made["url"]).content
                with zipfile.ZipFile(io.BytesIO(archive)) as read:
                    if read.testzip() is not None or read.read("big.txt") != text:
                        broken += 1
            assert not list((folder / "data" / "deflated").glob("*.part"))
            service.stop()
    report("archives with the deflated contents' disk nearly full", 2 * len(sizes), broken)
    assert broken == 0


def test_a_damaged_deflated_content_is_noticed_before_its_first_use(start: Start) -> None:
    text = b"a line of text that is deflated\n" * 100_000
    service = start(files={"big.txt": text})
    os.utime(service.folder / "files" / "big.txt", (1_700_000_000, 1_700_000_000))

    def entry(running: Service) -> bytes:
        with running.client() as client:
            made = client.post("/api/bundles", json={"files": ["files/big.txt"]}).json()
            return zipfile.ZipFile(io.BytesIO(client.get(made["url"]).content)).read("big.txt")

    assert entry(service) == text
    service.stop()
    [kept] = (service.folder / "data" / "deflated").iterdir()
    status, content = kept.stat(), bytearray(kept.read_bytes())
    content[len(content) // 2] ^= 1
    kept.write_bytes(content)
    os.utime(kept, ns=(status.st_atime_ns, status.st_mtime_ns))
    again = start(service.folder)
    assert entry(again) == text
    assert "bundle.deflated-damaged" in again.logged()


def test_locked_records_are_said_so_soon_and_nothing_is_lost(start: Start) -> None:
    service = start(files={"large.bin": bytes(20_000_000), "a.txt": b"a"})
    with service.client("bob") as client, client.stream("GET", "/get/files/large.bin") as answer:
        pieces = answer.iter_raw(65536)
        next(pieces)
        lock = sqlite3.connect(service.folder / "data" / "records.sqlite", isolation_level=None)
        lock.execute("BEGIN EXCLUSIVE")
        began = time.monotonic()
        answers = at_once(12, lambda _: [service.get("/get/files/a.txt", Range="bytes=0-0").status_code])
        assert set(answers) == {503}
        with service.client("ann") as ann:
            made = ann.post("/api/links", json={"address": "files/a.txt"})
            assert (made.status_code, made.json()["reason"]) == (503, "unavailable")
        assert service.get("/readyz").status_code == 503
        assert time.monotonic() - began < 25
        sum(map(len, pieces))
        lock.execute("ROLLBACK")
        lock.close()
    until(lambda: [one["state"] for one in service.transfers() if one["address"].endswith("large.bin")] == ["complete"])
    assert service.get("/get/files/a.txt").status_code == 200


def test_a_damaged_database_hangs_nobody(start: Start) -> None:
    service = start(files={"a.txt": b"a", "b.bin": bytes(1000)})
    assert service.get("/get/files/a.txt").status_code == 200
    service.stop()
    with sqlite3.connect(service.folder / "data" / "records.sqlite") as records:
        records.execute("PRAGMA journal_mode=DELETE")
        [(page,)] = records.execute("SELECT rootpage FROM sqlite_master WHERE name = 'links'").fetchall()
        [(size,)] = records.execute("PRAGMA page_size").fetchall()
    path = service.folder / "data" / "records.sqlite"
    content = bytearray(path.read_bytes())
    content[(page - 1) * size : page * size] = b"\xff" * size
    path.write_bytes(content)
    again = start(service.folder)
    link = again.link("files/a.txt", {"id": "x"}, uses=2)
    for _ in range(3):
        answer = again.get(link)
        assert (answer.status_code, answer.json()["reason"]) == (503, "unavailable")
    assert again.get("/get/files/b.bin", Range="bytes=0-9").status_code == 206, "what does not need it goes on"


@pytest.mark.parametrize("how", ["removed", "replaced"])
def test_records_that_are_gone_are_noticed(start: Start, how: str) -> None:
    service = start(files={"a.txt": b"a"})
    path = service.folder / "data" / "records.sqlite"
    if how == "removed":
        path.unlink()
    else:
        copy = path.with_name("copy")
        shutil.copy(path, copy)
        copy.replace(path)
    until(lambda: service.get("/readyz").status_code == 503)
    assert "records" in service.get("/readyz").json()["faults"]


def test_a_root_that_is_gone_is_no_file_that_is_gone(start: Start) -> None:
    service = start(files={"a.txt": b"a"})
    (service.folder / "files").rename(service.folder / "elsewhere")
    until(lambda: service.get("/readyz").status_code == 503)
    gone = service.get("/get/files/a.txt")
    assert (gone.status_code, gone.json()["reason"]) == (502, "unreachable")
    assert "store files" in service.get("/readyz").json()["faults"]
    (service.folder / "elsewhere").rename(service.folder / "files")
    until(lambda: service.get("/readyz").status_code == 200)
    assert service.get("/get/files/a.txt").content == b"a"


def test_background_work_survives_whatever_a_file_of_rules_or_keys_holds(start: Start, tmp_path: Path) -> None:
    service = start(files={"a.txt": b"a"})
    rules, keys = service.folder / "rules.toml", service.folder / "keys.json"
    good_rules, good_keys = rules.read_text(), keys.read_text()
    deny = '\n[[rule]]\neffect = "deny"\nwho = ["anyone"]\nwhat = ["files/**"]\nactions = ["read"]\n'

    def is_answered(status: int) -> bool:
        return service.get("/get/files/a.txt").status_code == status

    odd = ["x = " + "9" * 5000, "x = " + "[" * 3000 + "]" * 3000, "\0", '[[rule]]\nask = { function = "json:none" }']
    for text, good, status in zip(odd, (good_rules + deny, good_rules) * 2, (401, 200) * 2, strict=True):
        rules.write_text(text)
        until(lambda: "rules" in service.get("/readyz").json().get("hints", {}))
        rules.write_text(good)
        until(partial(is_answered, status))
    for text in ('{"keys": {"k": "x"}, "current": ["k"]}', "[" * 100_000):
        keys.write_text(text)
        until(lambda: "keys" in service.get("/readyz").json().get("hints", {}))
        keys.write_text(good_keys)
        until(lambda: "keys" not in service.get("/readyz").json().get("hints", {}))


def test_one_process_dies_and_the_others_put_in_order_what_it_left(start: Start) -> None:
    limits = "[limits]\nrecipient_transfers = 1\n[stores.files]\nkind = 'directory'\nroot = 'files'\n"
    rules = RULES.replace('actions = ["list", "read", "bundle"]',
                          'actions = ["list", "read", "bundle"]\nquota = { bytes = 1_000_000_000, per = "1d" }')  # fmt: skip
    living = start(files={"large.bin": bytes(100_000_000), "a.txt": b"a"}, settings=limits, rules=rules)
    dying = start(living.folder)
    with contextlib.ExitStack() as held:
        client = held.enter_context(dying.client("bob"))
        answer = held.enter_context(client.stream("GET", "/get/files/large.bin"))
        pieces = answer.iter_raw(65536)
        next(pieces)
        assert living.get("/get/files/a.txt", "bob").status_code == 429
        dying.stop(signal.SIGKILL)
        until(lambda: living.get("/get/files/a.txt", "bob").status_code == 200)
    [left] = [one for one in living.transfers() if one["address"].endswith("large.bin")]
    assert (left["state"], "ended before" in left["reason"]) == ("broken-off", True)
    with sqlite3.connect(living.folder / "data" / "records.sqlite") as rows:
        assert rows.execute("SELECT sum(reserved), sum(taken) FROM quota_uses").fetchone()[0] == 0
    restarted = start(living.folder)
    assert restarted.get("/get/files/a.txt", "bob").status_code == 200


def test_several_processes_start_at_once_on_a_new_folder(tmp_path: Path) -> None:
    folder = tmp_path / "service"
    make_folder(folder, {"a.txt": b"a"})
    shutil.rmtree(folder / "data")
    from concurrent.futures import ThreadPoolExecutor

    with ThreadPoolExecutor(4) as starting:
        services = list(starting.map(lambda _: Service.start(folder), range(4)))
    try:
        assert [service.get("/get/files/a.txt").status_code for service in services] == [200] * 4
    finally:
        assert [service.stop() for service in services] == [0] * 4


def test_kills_lose_nothing_that_was_acknowledged(start: Start, tmp_path: Path) -> None:
    """`kill -9` at any moment, under puts, counted links and quotas."""
    rules = RULES.replace('what = ["files/**"]', 'what = ["files/**", "models/**", "drop/**"]').replace(
        'actions = ["list", "read", "bundle"]', 'actions = ["list", "read", "bundle", "put"]'
    )
    folder = tmp_path / "service"
    make_folder(folder, {"small.bin": bytes(5000), "large.bin": bytes(3_000_000)}, rules, MODELS)
    (folder / "drop").mkdir()
    chance, kills = random.Random(3), times(6, 100)
    acknowledged: dict[str, bytes] = {}
    uses: dict[str, int] = {}
    service = start(folder)
    for number in range(kills):
        ended = threading.Event()
        pending: dict[int, tuple[str, bytes]] = {}

        def load(
            worker: int,
            round_: int = number,
            running: Service = service,
            ended: threading.Event = ended,
            pending: dict[int, tuple[str, bytes]] = pending,
        ) -> None:
            own = random.Random(worker * 1000 + round_)
            link = running.link("files/small.bin", {"id": f"l-{round_}-{worker}"}, uses=3)
            with suppress(httpx.TransportError), running.client("bob") as client:
                while not ended.is_set():
                    store = own.choice(["models", "drop"])
                    address = f"{store}/{worker}/{own.randrange(5)}.bin"
                    content = own.randbytes(own.randrange(1, 60_000))
                    pending[worker] = (address, content)
                    if client.put(f"/api/files/{address}", content=content).status_code in (200, 201):
                        acknowledged[address] = content
                    pending.pop(worker, None)
                    if client.get(link).status_code == 200:
                        uses[f"l-{round_}-{worker}"] = uses.get(f"l-{round_}-{worker}", 0) + 1
                    client.get("/get/files/large.bin", headers={"range": f"bytes={own.randrange(3_000_000)}-"})

        workers = [threading.Thread(target=load, args=(worker,)) for worker in range(6)]
        for worker in workers:
            worker.start()
        time.sleep(chance.uniform(0.1, 0.7))
        service.stop(signal.SIGKILL)
        ended.set()
        for worker in workers:
            worker.join()
        service = start(folder)
        may_be = dict(pending.values())
        for address, content in acknowledged.items():
            found = service.get(f"/get/{address}", "bob").content
            assert found == content or found == may_be.get(address), address
            acknowledged[address] = found
        shown = {one["address"] for one in service.get("/api/files?in=drop/", "ann").json()["files"]}
        assert not any("arriving" in address for address in shown)
        states = {one["state"] for one in service.transfers()}
        assert "running" not in states
    assert all(count <= 3 for count in uses.values())
    with sqlite3.connect(folder / "data" / "records.sqlite") as rows:
        assert rows.execute("PRAGMA integrity_check").fetchone() == ("ok",)
        assert rows.execute("SELECT count(*) FROM quota_uses WHERE reserved > 0").fetchone() == (0,)
        for link, count in uses.items():
            assert rows.execute("SELECT used FROM links WHERE id = ?", (link,)).fetchone()[0] >= count
    assert not list((folder / "drop" / ".invio-arriving").iterdir())
    report("kills under puts, counted links and ranges", kills)


def test_a_stop_under_load_is_a_stop(start: Start, tmp_path: Path) -> None:
    stops = times(4, 100)
    settings = "[service]\nshutdown = 1\n" + MODELS
    rules = RULES.replace('actions = ["list", "read", "bundle"]',
                          'actions = ["list", "read", "bundle"]\nquota = { bytes = 900_000_000_000, per = "1d" }')  # fmt: skip
    folder = tmp_path / "service"
    make_folder(folder, {"large.bin": bytes(40_000_000), "a.txt": b"a"}, rules, settings)
    (folder / "drop").mkdir()
    wrong = []
    for _ in range(stops):
        service = start(folder)
        ended = threading.Event()

        def load(number: int, running: Service = service, ended: threading.Event = ended) -> None:
            with suppress(httpx.HTTPError), running.client("ann" if number % 3 else "bob") as client:
                while not ended.is_set():
                    if number % 6 == 0:
                        with client.stream("GET", "/api/transfers/stream") as stream:
                            for _ in stream.iter_lines():
                                pass
                    elif number % 6 == 1:
                        client.put(f"/api/files/drop/{number}.bin", content=bytes(3_000_000))
                    elif number % 6 == 2:
                        client.get("/get/files/a.txt")
                    else:
                        with client.stream("GET", "/get/files/large.bin") as answer:
                            for _ in answer.iter_raw(65536):
                                if number % 2:
                                    time.sleep(0.01)

        workers = [threading.Thread(target=load, args=(number,)) for number in range(times(30, 60))]
        for worker in workers:
            worker.start()
        time.sleep(0.6)
        began = time.monotonic()
        status = service.stop()
        took = time.monotonic() - began
        ended.set()
        for worker in workers:
            worker.join()
        with sqlite3.connect(folder / "data" / "records.sqlite") as rows:
            [(left,)] = rows.execute("SELECT count(*) FROM transfers WHERE state = 'running'")
            [(reserved,)] = rows.execute("SELECT count(*) FROM quota_uses WHERE reserved > 0")
        if (status, left, reserved) != (0, 0, 0) or took > 8:
            wrong.append((status, left, reserved, round(took, 1), service.logged()[-500:]))
    report("stops (SIGTERM) under load", stops, len(wrong))
    assert wrong == []


def test_signals_do_what_operators_expect(start: Start) -> None:
    service = start(
        files={"large.bin": bytes(60_000_000)},
        settings="[service]\nshutdown = 30\ndrain = 1\n[stores.files]\nkind = 'directory'\nroot = 'files'\n",
    )
    with service.client() as client, client.stream("GET", service.link("files/large.bin", rate=3_000_000)) as answer:
        pieces = answer.iter_raw(65536)
        next(pieces)
        service.process.send_signal(signal.SIGHUP)
        until(lambda: "service.reads-again" in service.logged())
        assert service.get("/healthz").status_code == 200
        service.process.send_signal(signal.SIGTERM)
        until(lambda: service.get("/readyz").json()["status"] == "stopping")
        assert service.get("/get/files/large.bin", Range="bytes=0-0").status_code == 206, "it is announced first"
        time.sleep(1.2)
        with pytest.raises(httpx.ConnectError):
            service.get("/healthz")
        service.process.send_signal(signal.SIGTERM)
        assert service.process.wait(10) == 0
    with sqlite3.connect(service.folder / "data" / "records.sqlite") as rows:
        assert {state for (state,) in rows.execute("SELECT state FROM transfers")} <= {"broken-off", "partial"}
    events = [json.loads(line)["event"] for line in service.logged().splitlines() if line.startswith("{")]
    assert events.index("service.started") < events.index("service.stopping") < events.index("service.stopped")


def test_a_quota_of_bytes_is_not_passed_by_not_reading(start: Start) -> None:
    rules = RULES.replace('actions = ["list", "read", "bundle"]',
                          'actions = ["list", "read", "bundle"]\nquota = { bytes = 5_000_000, per = "1d" }')  # fmt: skip
    settings = "[limits]\nidle = 1\n[stores.files]\nkind = 'directory'\nroot = 'files'\n"
    service = start(files={"three.bin": bytes(3_000_000)}, rules=rules, settings=settings)
    received = 0
    for _ in range(4):
        with socket.socket() as connection:
            connection.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 4096)
            connection.settimeout(10)
            connection.connect(("127.0.0.1", service.port))
            connection.sendall(b"GET /get/files/three.bin HTTP/1.1\r\nhost: x\r\n\r\n")
            head = connection.recv(100)
            if b" 200 " not in head:
                continue
            time.sleep(2.5)
            with suppress(OSError):
                while piece := connection.recv(65536):
                    received += len(piece)
    with sqlite3.connect(service.folder / "data" / "records.sqlite") as rows:
        [(taken,)] = rows.execute("SELECT sum(taken) FROM quota_uses")
    assert received <= taken + 4 * 4096
    assert received < 5_000_000


def test_what_fails_while_it_is_made_is_never_taken_for_the_whole_over_http_1_0(
    start: Start, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "failing_here.py").write_text(
        "def rows():\n    for n in range(150_000):\n        yield (n, 'x' * 10)\n    raise RuntimeError('db password=hunter2')\n"
    )
    monkeypatch.setenv("PYTHONPATH", f"{tmp_path}{os.pathsep}{os.environ.get('PYTHONPATH', '')}")
    settings = (
        MODELS
        + '[stores.made]\nkind = "tables"\n[[stores.made.file]]\npath = "t.csv"\nfunction = "failing_here:rows"\n'
    )
    folder = tmp_path / "service"
    make_folder(folder, {}, RULES.replace('what = ["files/**"]', 'what = ["files/**", "made/**"]'), settings)
    (folder / "drop").mkdir()
    service = start(folder)
    for version in ("--http1.0", "--http1.1"):
        ended = subprocess.run(
            ["curl", "-sS", version, "-o", str(tmp_path / "t.csv"), f"{service.url}/get/made/t.csv"],
            capture_output=True,
        )
        assert ended.returncode in (18, 56), ended.stderr
    with service.client("ann") as client:
        refused = client.post("/api/bundles", json={"files": ["made/t.csv", "files/"]})
        assert (refused.status_code, refused.json()["reason"]) == (503, "not-made")
    assert "hunter2" not in service.get("/api/history", "ann").text
    assert "hunter2" in service.logged(), "the operator's log says why"


def test_a_file_that_grows_is_had_up_to_the_length_it_was_found_with(start: Start) -> None:
    service = start(files={"app.log": b"line\n" * 2_000_000})
    path, ended = service.folder / "files" / "app.log", threading.Event()

    def grow() -> None:
        with path.open("ab", buffering=0) as file:
            while not ended.is_set():
                file.write(b"more\n" * 20)
                time.sleep(0.005)

    growing = threading.Thread(target=grow)
    growing.start()
    try:
        for _ in range(times(10, 50)):
            answer = service.get("/get/files/app.log")
            assert (answer.status_code, len(answer.content)) == (200, int(answer.headers["content-length"]))
        for _ in range(3):
            with service.client() as client:
                made = client.post("/api/bundles", json={"files": ["files/app.log"]}).json()
                archive = client.get(made["url"]).content
            assert zipfile.ZipFile(io.BytesIO(archive)).testzip() is None
    finally:
        ended.set()
        growing.join()


@pytest.mark.parametrize("bundled", [False, True])
def test_a_dump_that_is_written_anew_and_longer_is_never_had_half_and_half(start: Start, *, bundled: bool) -> None:
    """As `pg_dump > dump.sql` does it, while somebody takes yesterday's: the file is cut, and soon longer than it was."""
    service = start(files={"dump.sql": b"", "before.bin": bytes(3_000_000)})
    path = service.folder / "files" / "dump.sql"
    yesterday, today = b"-- yesterday's row\n" * 600_000, b"-- and today's row\n" * 700_000
    for _ in range(times(3, 20)):
        path.write_bytes(yesterday)
        target = "/get/files/dump.sql"
        if bundled:
            with service.client("ann") as client:
                target = client.post("/api/bundles", json={"files": ["files/"], "format": "tar"}).json()["url"]
        with socket.socket() as reader:
            reader.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 65536)
            reader.settimeout(30)
            reader.connect(("127.0.0.1", service.port))
            asked = f"GET {target} HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer {service.tokens['ann']}\r\n\r\n"
            reader.sendall(asked.encode())
            got = reader.recv(65536)
            path.write_bytes(today)
            with suppress(ConnectionResetError):
                while piece := reader.recv(1 << 20):
                    got += piece
        head, _, body = got.partition(b"\r\n\r\n")
        assert b" 200 " in head
        assert len(body) < int(re.findall(rb"content-length: (\d+)", head)[0])
    until(lambda: {one["state"] for one in service.transfers()} == {"broken-off"})


def test_a_clock_far_off_erases_no_history(start: Start) -> None:
    settings = "[service]\nhistory_days = 30\n[stores.files]\nkind = 'directory'\nroot = 'files'\n"
    service = start(files={"a.txt": b"a"}, settings=settings)
    for _ in range(5):
        service.get("/get/files/a.txt")
    until(lambda: '"facts"' in service.logged() or bool(service.transfers()))
    service.stop()
    with sqlite3.connect(service.folder / "data" / "records.sqlite") as rows:
        # As if the clock were 400 days ahead now: everything was long ago, and was seen to be now.
        back = 400 * 86_400
        rows.execute("UPDATE transfers SET started = started - ?, updated = updated - ?", (back, back))
        rows.execute("UPDATE transfers SET id = printf('%012x', started * 1000) || substr(id, 13)")
        rows.execute("UPDATE facts SET value = value - ? WHERE name = 'clock'", (back,))
    ahead = start(service.folder)
    time.sleep(1.5)
    assert len(ahead.transfers()) == 5
    assert "clock" in ahead.get("/readyz").json()["hints"]


def test_any_range_of_a_counted_link_costs_as_much_at_its_thousandth(start: Start) -> None:
    service = start(files={"large.bin": bytes(4_000_000)})
    link = service.link("files/large.bin", {"id": "holes"}, uses=50)
    took = []
    with service.client() as client:
        for number in range(times(600, 3000)):
            began = time.perf_counter()
            status = client.get(link, headers={"range": f"bytes={number * 3}-{number * 3}"}).status_code
            took.append(time.perf_counter() - began)
            assert status in (206, 410)
    early, late = sorted(took[50:150])[50], sorted(took[-100:])[50]
    assert late < 4 * early + 0.005, (early, late)


def test_a_recipient_of_many_uses_costs_as_much_as_one_of_few(start: Start) -> None:
    rules = RULES.replace('name = "everyone reads"\neffect = "allow"', 'name = "metered"\neffect = "allow"').replace(
        'actions = ["list", "read", "bundle"]',
        'actions = ["list", "read", "bundle"]\nquota = { files = 9_000_000, per = "30d" }',
    )
    service = start(files={"a.txt": b"a"}, rules=rules)
    service.get("/get/files/a.txt", "bob")
    service.stop()
    with sqlite3.connect(service.folder / "data" / "records.sqlite") as rows:
        now = time.time()
        uses = ((f"old-{n}", now - n * 10) for n in range(200_000))
        rows.executemany("INSERT INTO quota_uses VALUES ('metered', ?, 'recipient:bob', ?, 1, 1, 0)", uses)
    again = start(service.folder)
    again.get("/get/files/a.txt", "bob")  # which makes few of the many
    took = []
    for _ in range(20):
        began = time.perf_counter()
        assert again.get("/get/files/a.txt", "bob").status_code == 200
        took.append(time.perf_counter() - began)
    assert sorted(took)[10] < 0.1
    [quota] = again.get("/api/quotas", "bob").json()["quotas"]
    assert quota["used_files"] == 200_022


def test_every_file_of_an_archive_that_has_arrived_is_found_by_its_address(start: Start) -> None:
    service = start(files={f"in/{n}.bin": os.urandom(200_000) for n in range(10)} | {"other.txt": b"o"})
    with service.client("bob") as bob:
        made = bob.post("/api/bundles", json={"files": ["files/in/", "files/other.txt"]}).json()
        whole = bob.get(made["url"])
        assert whole.status_code == 200
    with service.client("ann") as ann:
        part = ann.post("/api/bundles", json={"files": ["files/in/"]}).json()
        entries = ann.get(f"/api/bundles/{part['id']}/entries").json()["entries"]
        assert ann.get(part["url"], headers={"range": f"bytes=0-{entries[2]['ends'] - 1}"}).status_code == 206

    def found(address: str) -> list[str]:
        lines = service.get(f"/api/history?address={address}", "ann").text.splitlines()
        return sorted(json.loads(line)["recipient"] for line in lines)

    until(lambda: all(one["state"] != "running" for one in service.transfers()))
    assert found("files/in/0.bin") == ["ann", "bob"]
    assert found(entries[2]["address"]) == ["ann", "bob"]
    assert found("files/in/9.bin") == ["bob"], "hers had not come that far"
    assert found("files/in/") == ["ann", "bob"]
    assert found("files/none.bin") == []
    his = [json.loads(line) for line in service.get("/api/history?address=files/other.txt", "bob").text.splitlines()]
    assert [one["recipient"] for one in his] == ["bob"]


def test_of_a_link_that_is_over_nothing_else_is_told(start: Start) -> None:
    service = start(files={"a.txt": b"seven b"})
    over = service.link("files/a.txt", until=1)
    revoked = service.link("files/a.txt", {"id": "gone"})
    with service.client("ann") as ann:
        ann.delete("/api/links/gone")
    for link in (over, revoked):
        for headers in ({"range": "bytes=99999-"}, {"if-match": '"x"'}, {"if-none-match": "*"}, {}):
            answer = get_raw(service.port, link, *[f"{name}: {value}" for name, value in headers.items()])
            assert (answer.status, "content-range" in answer.headers) == (410, False), headers


def test_segments_at_once_of_a_link_without_uses_left_are_told_so(start: Start) -> None:
    service = start(files={"large.bin": bytes(2_000_000)})
    link = service.link("files/large.bin", {"id": "once"}, uses=1)
    assert service.get(link).status_code == 200
    answers = at_once(40, lambda number: [service.get(link, Range=f"bytes={number}-").status_code])
    assert set(answers) == {410}


def test_segments_over_two_processes_are_one_file_of_a_quota(start: Start) -> None:
    rules = RULES.replace('actions = ["list", "read", "bundle"]',
                          'actions = ["list", "read", "bundle"]\nquota = { files = 3, per = "1d" }')  # fmt: skip
    one = start(files={"large.bin": bytes(6_000_000)}, rules=rules)
    both = (one, start(one.folder))
    size = 100_000
    answers = at_once(
        60,
        lambda n: [
            both[n % 2].get("/get/files/large.bin", "bob", Range=f"bytes={n * size}-{(n + 1) * size - 1}").status_code
        ],
    )
    assert answers == {206: 60}
    [quota] = one.get("/api/quotas", "bob").json()["quotas"]
    assert quota["used_files"] == 1


def test_a_put_while_somebody_removes_the_same_file_is_told_what_came_of_it(start: Start, tmp_path: Path) -> None:
    folder = tmp_path / "service"
    make_folder(folder, {}, RULES, MODELS)
    (folder / "drop").mkdir()
    service = start(folder)

    def ask(number: int) -> list[int]:
        with service.client("ann") as client:
            statuses = []
            for turn in range(times(30, 300)):
                if number % 2:
                    statuses.append(client.put("/api/files/drop/x.txt", content=b"%d" % turn).status_code)
                else:
                    statuses.append(client.delete("/api/files/drop/x.txt").status_code)
            return statuses

    assert set(at_once(6, ask)) <= {200, 201, 204, 404}


def test_digests_of_everything_put_are_right(start: Start, tmp_path: Path) -> None:
    folder = tmp_path / "service"
    make_folder(folder, {}, RULES, MODELS)
    (folder / "drop").mkdir()
    service = start(folder)
    with service.client("ann") as client:
        for number in range(20):
            content = os.urandom(number * 5000)
            told = client.put(f"/api/files/models/{number}.bin", content=content).json()
            assert told["sha256"] == hashlib.sha256(content).hexdigest()

"""Archives at depth: exact under ranges, breaks and changes; deflated from a cache; read by other programs."""

from __future__ import annotations

import base64
import hashlib
import io
import os
import random
import shutil
import signal
import socket
import sqlite3
import subprocess
import tarfile
import zipfile
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import httpx
import pytest

from tests.running import RULES, SETTINGS, Service, make_folder, until
from tests.torture.scale import WHOLE

Start = Callable[..., Service]
TEXT = b"".join(b"2026-01-%02d,station-%d,%d.%03d,ok\n" % (n % 28 + 1, n % 7, n % 3, n % 997) for n in range(60_000))
FILES = {
    "log.csv": TEXT,
    "same.txt": TEXT,
    "sheet.png": os.urandom(200_000),
    "noise.dat": os.urandom(300_000),
    "sub/README": b"read me",
    "sub/deep/a.txt": b"a" * 2000,
}


def bundle(service: Service, files: list[str], who: str | None = "bob", **more: object) -> dict[str, Any]:
    with service.client(who) as client:
        answer = client.post("/api/bundles", json={"files": files, **more})
        assert answer.status_code == 201, answer.text
        return dict(answer.json())


def archive(service: Service, made: dict[str, Any], who: str | None = "bob") -> zipfile.ZipFile:
    content = service.get(made["url"], who).content
    assert len(content) == made["size"]
    opened = zipfile.ZipFile(io.BytesIO(content))
    assert opened.testzip() is None
    return opened


def kept(service: Service) -> dict[str, bytes]:
    folder = service.folder / "data" / "deflated"
    return {path.name: path.read_bytes() for path in folder.iterdir()} if folder.exists() else {}


def test_compressible_contents_are_deflated_once_and_the_rest_is_stored(start: Start) -> None:
    service = start(files=FILES)
    made = bundle(service, ["files/"])
    with archive(service, made) as opened:
        methods = {info.filename: info.compress_type for info in opened.infolist()}
        assert opened.read("files/log.csv") == TEXT
    assert methods == {
        "files/log.csv": zipfile.ZIP_DEFLATED,
        "files/same.txt": zipfile.ZIP_DEFLATED,
        "files/sheet.png": zipfile.ZIP_STORED,
        "files/noise.dat": zipfile.ZIP_STORED,
        "files/sub/README": zipfile.ZIP_STORED,
        "files/sub/deep/a.txt": zipfile.ZIP_DEFLATED,
    }
    contents = kept(service)
    assert len(contents) == 2, "one for each content, however many files have it"
    before = {name: (service.folder / "data" / "deflated" / name).stat().st_ino for name in contents}
    again = bundle(service, ["files/log.csv"])
    with archive(service, again) as opened:
        assert opened.read("log.csv") == TEXT
    assert {name: (service.folder / "data" / "deflated" / name).stat().st_ino for name in contents} == before


def test_what_is_made_for_an_archive_is_deflated_too(start: Start) -> None:
    table = '[stores.tables]\nkind = "tables"\n[[stores.tables.file]]\npath = "tides.csv"\nfunction = "invio.demo.tides:this_year"\n'
    service = start(files={}, rules=RULES.replace("files/**", "tables/**"), settings=SETTINGS + table)
    made = bundle(service, ["tables/tides.csv"], sums=True)
    with archive(service, made) as opened:
        info = opened.getinfo("tides.csv")
        told = opened.read("SHA256SUMS").decode()
        assert told == f"{hashlib.sha256(opened.read('tides.csv')).hexdigest()}  tides.csv\n"
        assert info.compress_type == zipfile.ZIP_DEFLATED
        assert info.compress_size < info.file_size / 3
        assert opened.read("tides.csv") == service.get("/get/tables/tides.csv").content


def test_a_bundle_keeps_its_bytes_when_the_service_and_the_cache_are_new(start: Start) -> None:
    service = start(files=FILES)
    made = bundle(service, ["files/"])
    whole = service.get(made["url"], "bob")
    service.stop(signal.SIGKILL)
    shutil.rmtree(service.folder / "data" / "deflated")
    again = start(service.folder)
    resumed = again.get(made["url"], "bob", Range="bytes=1000-", If_Range=whole.headers["etag"])
    assert resumed.status_code == 206
    assert whole.content[:1000] + resumed.content == whole.content


def test_too_much_that_is_cold_is_stored_now_and_deflated_behind(start: Start) -> None:
    service = start(files=FILES, settings=SETTINGS + "[bundles]\nwait_for = 100000\n")
    cold = bundle(service, ["files/log.csv"])
    with archive(service, cold) as opened:
        assert opened.infolist()[0].compress_type == zipfile.ZIP_STORED
    until(lambda: bundle(service, ["files/log.csv"])["size"] < len(TEXT))
    assert len(kept(service)) == 1
    with archive(service, bundle(service, ["files/log.csv"])) as opened:
        assert opened.infolist()[0].compress_type == zipfile.ZIP_DEFLATED
    with archive(service, cold) as opened:
        assert opened.infolist()[0].compress_type == zipfile.ZIP_STORED, "what was begun stays as it is"


def test_the_cache_is_bounded_and_survives_being_killed(start: Start, tmp_path: Path) -> None:
    files = {f"{n}.txt": os.urandom(30_000).hex().encode() for n in range(20)}
    service = start(files=files, settings=SETTINGS + "[bundles]\ncache_bytes = 150000\n")
    for n in range(20):
        with archive(service, bundle(service, [f"files/{n}.txt"])) as opened:
            assert opened.read(f"{n}.txt") == files[f"{n}.txt"]
        assert sum(map(len, kept(service).values())) <= 150_000
    folder = service.folder / "data" / "deflated"
    service.stop(signal.SIGKILL)
    for number, path in enumerate(folder.iterdir()):
        if number == 0:
            path.write_bytes(path.read_bytes()[:100])  # as a machine leaves it that lost its power
    (folder / "1-1.part").write_bytes(b"half")
    again = start(service.folder)
    assert not (folder / "1-1.part").exists()
    for n in range(20):
        with archive(again, bundle(again, [f"files/{n}.txt"])) as opened:
            assert opened.read(f"{n}.txt") == files[f"{n}.txt"]
    assert sum(map(len, kept(again).values())) <= 150_000


def test_what_cannot_be_kept_deflated_is_stored(start: Start, tmp_path: Path) -> None:
    folder = tmp_path / "service"
    make_folder(folder, FILES)
    (folder / "data" / "deflated").write_bytes(b"in the way")
    service = start(folder)
    with archive(service, bundle(service, ["files/log.csv"])) as opened:
        assert opened.infolist()[0].compress_type == zipfile.ZIP_STORED
    assert "bundle.not-packed" in service.logged()


def test_folders_are_flattened_names_told_apart_and_sums_given(start: Start, tmp_path: Path) -> None:
    service = start(
        files={"a/x.txt": b"1", "b/x.txt": b"2", "b/picture": b"\x89PNG\r\n\x1a\n" + bytes(20), "b/README": b"r"}
    )
    made = bundle(service, ["files/a/", "files/b/"], folders="flatten", sums=True)
    with archive(service, made) as opened:
        assert opened.namelist() == ["x.txt", "README", "picture.png", "x (2).txt", "SHA256SUMS"]
        opened.extractall(tmp_path)
    checked = subprocess.run(["sha256sum", "-c", "SHA256SUMS"], cwd=tmp_path, capture_output=True, text=True)
    assert checked.returncode == 0, checked.stdout + checked.stderr
    assert checked.stdout.count(": OK") == 4


def test_what_cannot_be_had_is_left_out_and_listed_by_choice(start: Start) -> None:
    deny = '[[rule]]\neffect = "deny"\nwho = ["anyone"]\nwhat = ["files/sub/**"]\nactions = ["read"]\n'
    service = start(files=FILES, rules=RULES + deny)
    made = bundle(service, ["files/", "files/none.txt"], on_problem="leave-out")
    told = {one["address"]: one["reason"] for one in made["left_out"]}
    assert told == {
        "files/sub/README": "not-allowed",
        "files/sub/deep/a.txt": "not-allowed",
        "files/none.txt": "missing",
    }
    with archive(service, made) as opened:
        assert "files/sub/README" not in opened.namelist()
        listed = dict(line.split("\t") for line in opened.read("LEFT-OUT.txt").decode().splitlines())
        assert listed == told


def test_a_tar_archive_is_as_exact(start: Start, tmp_path: Path) -> None:
    service = start(files=FILES)
    made = bundle(service, ["files/"], format="tar", name="trip")
    assert made["name"] == "trip.tar"
    whole = service.get(made["url"], "bob")
    assert (whole.headers["content-type"], len(whole.content)) == ("application/x-tar", made["size"])
    edges = sorted([0, *random.Random(1).sample(range(made["size"]), 6), made["size"]])
    parts = [
        service.get(made["url"], "bob", Range=f"bytes={a}-{b - 1}", If_Range=whole.headers["etag"]).content
        for a, b in zip(edges, edges[1:], strict=False)
    ]
    assert b"".join(parts) == whole.content
    with tarfile.open(fileobj=io.BytesIO(whole.content)) as opened:
        assert opened.extractfile("files/log.csv").read() == TEXT  # type: ignore[union-attr]
    (tmp_path / "trip.tar").write_bytes(whole.content)
    for command in (["tar", "-tf"], ["bsdtar", "-tf"]):
        listed = subprocess.run([*command, tmp_path / "trip.tar"], capture_output=True, text=True, check=True)
        assert len(listed.stdout.splitlines()) == len(FILES)
        assert not listed.stderr


READERS = {
    "unzip": ["unzip", "-tqq"],
    "7-Zip": ["7z", "t", "-bso0", "-bsp0"],
    "bsdtar": ["bsdtar", "-xOf"],
    "zipfile": ["python3", "-c", "import sys, zipfile; assert zipfile.ZipFile(sys.argv[1]).testzip() is None"],
}


def read_by_others(path: Path) -> None:
    """Has each reader read the whole archive, and none of them find anything to say of it."""
    for name, command in READERS.items():
        done = subprocess.run(
            [*command, path], stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True, timeout=170
        )
        assert (done.returncode, done.stderr) == (0, ""), name


def download(service: Service, url: str, path: Path) -> None:
    token = service.tokens["bob"]
    subprocess.run(
        ["curl", "-sfS", "-o", path, "-H", f"authorization: Bearer {token}", service.url + url], check=True, timeout=170
    )


def test_other_programs_read_archives_with_all_kinds_of_entries(start: Start, tmp_path: Path) -> None:
    service = start(files={**FILES, "Södra leden – översikt.txt": TEXT, "潮汐/空": b"", "empty.bin": b""})
    made = bundle(service, ["files/"], sums=True)
    download(service, made["url"], tmp_path / "a.zip")
    read_by_others(tmp_path / "a.zip")


def test_more_than_four_gibibytes_are_read_by_others(start: Start, tmp_path: Path) -> None:
    service = start(
        files={"before.txt": b"before", "z-after.txt": TEXT}, settings=SETTINGS + "[bundles]\ncache_bytes = 0\n"
    )
    with open(service.folder / "files" / "large.bin", "wb") as large:
        large.truncate(2**32 + 12_345)
        large.seek(2**32 + 5)
        large.write(b"near the end")
    made = bundle(service, ["files/"])
    assert made["size"] > 2**32
    # The ends of it first: this is what a resume at 4 GiB is.
    tail = service.get(made["url"], "bob", Range="bytes=-400000")
    assert b"near the end" not in tail.content
    assert TEXT[-5000:] in tail.content
    if WHOLE:
        download(service, made["url"], tmp_path / "large.zip")
    else:  # what is between the ends is nothing but zeros
        ends = {"bytes=0-999999": 0, "bytes=-8000000": made["size"] - 8_000_000}
        with open(tmp_path / "large.zip", "wb") as copy:
            for span, place in ends.items():
                copy.seek(place)
                copy.write(service.get(made["url"], "bob", Range=span).content)
    with zipfile.ZipFile(tmp_path / "large.zip") as opened:
        assert opened.read("files/z-after.txt") == TEXT
        assert opened.getinfo("files/large.bin").file_size == 2**32 + 12_345
    tested = subprocess.run(["7z", "t", "-bso0", "-bsp0", tmp_path / "large.zip"], capture_output=True, timeout=170)
    assert (tested.returncode, tested.stderr) == (0, b"")


def test_seventy_thousand_entries_are_read_by_others(start: Start, tmp_path: Path) -> None:
    service = start(files={})
    for number in range(70_000):
        folder = service.folder / "files" / f"{number // 1000:02}"
        if number % 1000 == 0:
            folder.mkdir()
        (folder / f"{number}.txt").write_bytes(b"%d" % number)
    with service.client("bob") as client:
        made = client.post("/api/bundles", json={"files": ["files/"]}, timeout=170).json()
    assert made["entries"] == 70_000
    download(service, made["url"], tmp_path / "many.zip")
    read_by_others(tmp_path / "many.zip")
    entries = service.get(f"/api/bundles/{made['id']}/entries?after=69990", "bob").json()
    assert (len(entries["entries"]), entries["next"]) == (10, None)


def test_a_range_of_an_archive_has_a_digest_of_its_own_when_asked(start: Start) -> None:
    service = start(files=FILES)
    made = bundle(service, ["files/"], sums=True)
    for span in ("bytes=0-9999", "bytes=-2000", f"bytes={made['size'] // 2}-{made['size'] // 2 + 5000}"):
        answer = service.get(made["url"], "bob", range=span, want_content_digest="sha-256=1")
        assert answer.status_code == 206
        said = base64.b64encode(hashlib.sha256(answer.content).digest()).decode()
        assert answer.headers["content-digest"] == f"sha-256=:{said}:"
    whole = service.get(made["url"], "bob").content
    several = service.get(made["url"], "bob", range="bytes=0-99,200000-200099,-50")
    assert several.headers["content-type"].startswith("multipart/byteranges")
    assert all(piece in several.content for piece in (whole[:100], whole[200_000:200_100], whole[-50:]))


def test_two_hundred_resumes_at_any_offset_give_the_same_bytes(start: Start) -> None:
    """A connection that is killed wherever it is, two hundred times, and gone on with from there."""
    service = start(files={**FILES, **{f"many/{n}.bin": os.urandom(n * 37) for n in range(300)}})
    made = bundle(service, ["files/"])
    whole = service.get(made["url"], "bob").content
    chance, token = random.Random(7), service.tokens["bob"]
    tag = service.get(made["url"], "bob").headers["etag"]
    for _ in range(200):
        begin = chance.randrange(made["size"])
        request = f"GET {made['url']} HTTP/1.1\r\nhost: x\r\nauthorization: Bearer {token}\r\n"
        request += f"range: bytes={begin}-\r\nif-range: {tag}\r\n\r\n"
        with socket.create_connection(("127.0.0.1", service.port), timeout=10) as connection:
            connection.sendall(request.encode())
            data, enough = b"", chance.randrange(1, 300_000)
            while len(data) < enough and (piece := connection.recv(65_536)):
                data += piece
                if data.partition(b"\r\n\r\n")[2] == whole[begin:]:
                    break
        head, _, body = data.partition(b"\r\n\r\n")
        assert b" 206 " in head.partition(b"\r\n")[0]
        assert body == whole[begin : begin + len(body)]


def test_fifty_clients_get_each_their_own_archive(start: Start) -> None:
    files = {f"{n}/{m}.txt": b"%d of %d\n" % (m, n) * (n + 1) * 50 for n in range(50) for m in range(4)}
    service = start(files=files)

    def fetch(number: int) -> bool:
        made = bundle(service, [f"files/{number}/"])
        with archive(service, made) as opened:
            return {name: opened.read(name) for name in opened.namelist()} == {
                f"{number}/{m}.txt": files[f"{number}/{m}.txt"] for m in range(4)
            }

    with ThreadPoolExecutor(50) as clients:
        assert all(clients.map(fetch, range(50)))


@pytest.mark.parametrize("how", ["altered", "gone", "replaced"])
def test_a_file_that_changes_under_way_breaks_the_archive_off(start: Start, how: str) -> None:
    service = start(
        files={"a.bin": bytes(40_000_000), "b.bin": os.urandom(2_000_000)},
        settings=SETTINGS + "[bundles]\ncache_bytes = 0\n",
    )
    made = bundle(service, ["files/"])
    path, got = service.folder / "files" / "b.bin", 0
    with service.client("bob") as client, client.stream("GET", made["url"]) as answer:
        tag = answer.headers["etag"]
        pieces = answer.iter_raw(65_536)
        got += len(next(pieces))
        if how == "gone":
            path.unlink()
        elif how == "altered":
            path.write_bytes(b"x" * 2_000_000)
        else:
            os.replace(_beside(path), path)
        try:
            for piece in pieces:
                got += len(piece)
        except httpx.TransportError:
            pass  # that is what is expected, and seen by how much there was
    assert got < made["size"]
    [row] = [row for row in service.transfers() if row["address"] == made["address"]]
    assert row["state"] == "broken-off"
    assert (
        "changed" in row["reason"]
        or "altered" in row["reason"]
        or "opened" in row["reason"]
        or "found" in row["reason"]
    )
    after = service.get(made["url"], "bob", Range=f"bytes={got}-", If_Range=tag)
    assert after.status_code == 200
    assert after.headers["etag"] != tag
    assert zipfile.ZipFile(io.BytesIO(after.content)).testzip() is None


def _beside(path: Path) -> Path:
    other = path.with_name("other.tmp")
    other.write_bytes(os.urandom(2_000_000))
    return other


def test_a_bundle_is_planned_while_somebody_waits_and_tells_how_far_it_is(start: Start) -> None:
    service = start(files=FILES)
    made = bundle(service, ["files/"], wait=False)
    assert made["size"] is None

    def told() -> dict[str, Any]:
        return dict(service.get(f"/api/bundles/{made['id']}", "bob").json())

    until(lambda: told()["size"] is not None)
    assert told()["entries"] == len(FILES)
    assert service.get(f"/api/bundles/{made['id']}", "ann").status_code == 404
    listed = service.get(f"/api/bundles/{made['id']}/entries", "bob").json()["entries"]
    assert listed[-1]["ends"] < told()["size"]
    assert [one["address"] for one in listed][:2] == ["files/sub/deep/a.txt", "files/sub/README"]


def test_the_limits_of_a_bundle_are_told(start: Start) -> None:
    service = start(files=FILES, settings=SETTINGS + "[bundles]\nentries = 3\n")
    with service.client("bob") as client:
        refused = client.post("/api/bundles", json={"files": ["files/"]})
    assert (refused.status_code, refused.json()["reason"]) == (413, "too-large")


def test_progress_is_told_by_entry_and_by_byte(start: Start) -> None:
    service = start(files={f"{n}.bin": os.urandom(8_000_000) for n in range(4)})
    made = bundle(service, ["files/"])
    with service.client("bob") as client, client.stream("GET", made["url"]) as answer:
        pieces = answer.iter_raw(65_536)
        got = 0
        while got < 20_000_000:
            got += len(next(pieces))
        [row] = [row for row in service.transfers() if row["address"] == made["address"]]
        assert row["entries"] == 4
        assert 2 <= row["entries_done"] < 4
        assert row["entry"] == f"files/{row['entries_done']}.bin"


CREW = RULES + '[[rule]]\neffect = "allow"\nwho = ["group:crew"]\nwhat = ["files/**"]\nactions = ["link"]\n'


def test_a_link_opens_its_maker_s_bundle_as_their_rights_are_now(start: Start) -> None:
    service = start(files=FILES, rules=CREW)
    made = bundle(service, ["files/sub/"])
    with service.client("bob") as client:
        link = client.post("/api/links", json={"address": made["address"], "seconds": 86_400 * 3}).json()
    with service.client("ann") as client:
        assert client.post("/api/links", json={"address": made["address"]}).status_code in (403, 404)
    with zipfile.ZipFile(io.BytesIO(service.get(link["target"]).content)) as opened:
        assert opened.namelist() == ["sub/deep/a.txt", "sub/README"]
    assert service.get(made["url"]).status_code == 404, "without the link it is the maker's alone"
    deny = '[[rule]]\neffect = "deny"\nwho = ["group:crew"]\nwhat = ["files/sub/README"]\nactions = ["read"]\n'
    (service.folder / "rules.toml").write_text(CREW + deny)
    until(lambda: service.get(link["target"]).status_code == 403)


def test_nobody_links_to_a_bundle_of_what_they_may_not_link(start: Start) -> None:
    service = start(files=FILES)
    made = bundle(service, ["files/sub/"])
    with service.client("bob") as client:
        assert client.post("/api/links", json={"address": made["address"]}).status_code == 403


def test_contents_are_known_before_an_archive_needs_them(start: Start) -> None:
    service = start(
        files={f"{n}.bin": os.urandom(1000) for n in range(30)}, settings=SETTINGS + "[bundles]\nscan_every = 1\n"
    )
    records = service.folder / "data" / "records.sqlite"

    def known() -> int:
        with sqlite3.connect(records) as connection:
            return int(connection.execute("SELECT count(*) FROM checksums").fetchone()[0])

    until(lambda: known() == 30)
    (service.folder / "files" / "new.bin").write_bytes(b"new")
    until(lambda: known() == 31)
    assert "scan.done" in service.logged()

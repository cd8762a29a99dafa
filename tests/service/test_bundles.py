"""Bundles: planned exactly, streamed, resumable, and refused by name."""

from __future__ import annotations

import hashlib
import io
import os
import subprocess
import zipfile
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import pytest

from tests.rules import rule
from tests.running import RULES, Service

Start = Callable[..., Service]
SETTINGS = """
[stores.files]
kind = "directory"
root = "files"
[stores.tables]
kind = "tables"
[[stores.tables.file]]
path = "tides.csv"
function = "invio.demo.tides:this_year"
"""
CLOSED = RULES.replace('what = ["files/**"]', 'what = ["files/**", "tables/**"]', 1) + rule(
    "group:crew anyone", "files/drafts/**", "read", effect="deny"
)
FILES = {
    "a/chart.pdf": os.urandom(300_000),
    "b/chart.pdf": b"another chart of the same name",
    "b/deep/Södra leden.txt": b"x",
    "empty": b"",
    "drafts/secret.txt": b"s",
    "big.bin": os.urandom(3_000_000),
}


@pytest.fixture(scope="module")
def service(start_shared: Start) -> Service:
    return start_shared(files=FILES, rules=CLOSED, settings=SETTINGS)


@pytest.fixture
def own(start: Start) -> Service:
    """One that a test may alter or end, or in which nothing else is to have happened."""
    return start(files=FILES, rules=CLOSED, settings=SETTINGS)


def bundle(service: Service, files: list[str], who: str | None = "bob", **more: object) -> Any:
    with service.client(who) as client:
        return client.post("/api/bundles", json={"files": files, **more})


def test_an_archive_is_as_long_as_announced_and_holds_the_files(service: Service, tmp_path: Path) -> None:
    made = bundle(
        service, ["files/a/chart.pdf", "files/b/", "files/b/chart.pdf", "files/empty", "tables/tides.csv"], name="trip"
    )
    assert made.status_code == 201
    told = made.json()
    assert made.headers["location"] == told["url"]
    answer = service.get(told["url"], "bob")
    assert answer.headers["content-type"] == "application/zip"
    assert answer.headers["content-disposition"] == 'attachment; filename="trip.zip"'
    assert len(answer.content) == told["size"] == int(answer.headers["content-length"])
    with zipfile.ZipFile(io.BytesIO(answer.content)) as archive:
        assert archive.testzip() is None
        names = archive.namelist()
        assert names == ["chart.pdf", "b/deep/Södra leden.txt", "b/chart.pdf", "empty", "tides.csv"]
        assert told["entries"] == len(names)
        assert archive.read("chart.pdf") == FILES["a/chart.pdf"]
        assert archive.read("tides.csv") == service.get("/get/tables/tides.csv").content
    path = tmp_path / "trip.zip"
    path.write_bytes(answer.content)
    tested = subprocess.run(["unzip", "-t", path], capture_output=True, text=True)
    assert tested.returncode == 0, tested.stdout
    assert "No errors detected" in tested.stdout


def test_names_that_clash_are_told_apart(service: Service) -> None:
    told = bundle(service, ["files/a/chart.pdf", "files/b/chart.pdf"]).json()
    with zipfile.ZipFile(io.BytesIO(service.get(told["url"], "bob").content)) as archive:
        assert archive.namelist() == ["chart.pdf", "chart (2).pdf"]
        assert archive.read("chart (2).pdf") == FILES["b/chart.pdf"]


def test_any_ranges_of_an_archive_join_to_the_same_bytes(service: Service) -> None:
    told = bundle(service, ["files/big.bin", "files/b/", "tables/tides.csv"]).json()
    whole = service.get(told["url"], "bob")
    edges = [0, 1, 40, 77, 3_000_000, 3_000_100, 3_000_300, told["size"] - 10, told["size"]]
    parts = []
    for start, stop in zip(edges, edges[1:], strict=False):
        part = service.get(told["url"], "bob", Range=f"bytes={start}-{stop - 1}", If_Range=whole.headers["etag"])
        assert part.status_code == 206
        parts.append(part.content)
    assert b"".join(parts) == whole.content
    assert service.get(told["url"], "bob", If_None_Match=whole.headers["etag"]).status_code == 304


@pytest.mark.parametrize(
    ("files", "status", "reason", "names"),
    [
        ([], 400, "no-selection", None),
        (
            ["files/none", "files/b/", "files/../x", "nowhere/x"],
            403,
            "bad-selection",
            ["files/none", "files/../x", "nowhere/x"],
        ),
        (["files/drafts/secret.txt", "files/empty"], 403, "bad-selection", ["files/drafts/secret.txt"]),
        (["files/drafts/"], 403, "bad-selection", ["files/drafts/secret.txt"]),
        (["files/b/none/"], 403, "bad-selection", ["files/b/none/"]),
    ],
)
def test_what_cannot_be_bundled_is_refused_by_name(
    own: Service, files: list[str], status: int, reason: str, names: list[str] | None
) -> None:
    refused = bundle(own, files)
    assert (refused.status_code, refused.json()["reason"]) == (status, reason)
    assert refused.json().get("names") == names
    assert own.transfers() == []


def test_somebody_who_is_not_signed_in_is_told_that_this_may_help(service: Service) -> None:
    assert bundle(service, ["files/drafts/secret.txt"], who=None).json()["reason"] == "sign-in"


def test_a_bundle_is_its_maker_s_own(service: Service) -> None:
    told = bundle(service, ["files/empty"], who="bob").json()
    assert service.get(told["url"], "ann").status_code == 404
    assert service.get(told["url"]).status_code == 404
    assert service.get(told["url"].replace(".zip", ".tar"), "bob").status_code == 404
    assert service.get(told["url"], "bob").status_code == 200


def test_rights_are_checked_again_when_the_archive_is_fetched(own: Service, start: Start) -> None:
    told = bundle(own, ["files/a/chart.pdf"], who="bob").json()
    own.stop()
    (own.folder / "rules.toml").write_text(CLOSED.replace("files/drafts/**", "files/a/**"))
    again = start(own.folder)
    assert again.get(told["url"], "bob").json()["names"] == ["files/a/chart.pdf"]


def test_a_changed_file_makes_another_archive(own: Service) -> None:
    told = bundle(own, ["files/empty", "files/b/chart.pdf"]).json()
    before = own.get(told["url"], "bob")
    (own.folder / "files" / "empty").write_bytes(b"no longer")
    after = own.get(told["url"], "bob", Range="bytes=10-", If_Range=before.headers["etag"])
    assert after.status_code == 200
    assert after.headers["etag"] != before.headers["etag"]
    with zipfile.ZipFile(io.BytesIO(after.content)) as archive:
        assert archive.testzip() is None
        assert archive.read("empty") == b"no longer"


def test_a_form_without_scripts_is_answered_with_the_archive(own: Service) -> None:
    with own.client() as browser:
        body = "file=files%2Fempty&file=files%2Fb%2Fchart.pdf&name=f%C3%BCr+morgen"
        headers = {"content-type": "application/x-www-form-urlencoded", "accept": "text/html"}
        sent = browser.post("/bundles", content=body, headers=headers)
        assert sent.status_code == 303
        archive = browser.get(sent.headers["location"])
        assert archive.headers["content-disposition"].endswith("filename*=UTF-8''f%C3%BCr%20morgen.zip")
        assert zipfile.ZipFile(io.BytesIO(archive.content)).namelist() == ["empty", "chart.pdf"]


def test_many_clients_get_each_their_own(own: Service) -> None:
    selections = [["files/big.bin", "files/a/chart.pdf"], ["files/b/", "files/empty"], ["files/a/", "tables/tides.csv"]]

    def fetch(number: int) -> tuple[int, bool, str]:
        chosen = selections[number % 3]
        told = bundle(own, chosen).json()
        content = own.get(told["url"], "bob").content
        with zipfile.ZipFile(io.BytesIO(content)) as archive:
            sound = archive.testzip() is None and len(content) == told["size"]
            tides = [
                hashlib.sha256(archive.read(name)).hexdigest() for name in archive.namelist() if name != "tides.csv"
            ]
            return number % 3, sound, ",".join(tides)

    with ThreadPoolExecutor(8) as pool:
        results = list(pool.map(fetch, range(24)))
    assert all(sound for _, sound, _ in results)
    assert len({(kind, contents) for kind, _, contents in results}) == 3


def test_nothing_of_an_archive_is_left_on_the_disk(own: Service) -> None:
    def everything() -> set[Path]:
        # What is deflated is kept for the next archive; of archives themselves there is nothing.
        kept = own.folder / "data" / "deflated"
        return {
            path
            for path in own.folder.rglob("*")
            if "records.sqlite" not in path.name and kept not in (path, path.parent)
        }

    before = everything()
    told = bundle(own, ["files/big.bin", "tables/tides.csv"]).json()
    own.get(told["url"], "bob")
    assert everything() == before


def test_an_archive_that_another_process_would_make_otherwise_is_never_mixed(
    start: Start, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "chance.py").write_text(
        "import random\ndef rows():\n    for n in range(20_000):\n        yield (n, random.random())\n"
    )
    monkeypatch.setenv("PYTHONPATH", str(tmp_path))
    one = start(files=FILES, rules=CLOSED, settings=SETTINGS.replace("invio.demo.tides:this_year", "chance:rows"))
    two = start(one.folder)
    told = bundle(one, ["files/a/chart.pdf", "tables/tides.csv"]).json()
    begun = one.get(told["url"], "bob", Range="bytes=0-99999")
    assert begun.status_code == 206
    # A resume that names no tag gets all of it there, one that names it all of it as well: it is another archive.
    for more in ({}, {"If_Range": begun.headers["etag"]}):
        elsewhere = two.get(told["url"], "bob", Range="bytes=100000-", **more)
        assert elsewhere.status_code == 200
        assert elsewhere.headers["etag"] != begun.headers["etag"]
        assert zipfile.ZipFile(io.BytesIO(elsewhere.content)).testzip() is None
    own = two.get(told["url"], "bob", Range="bytes=100000-", If_Range=elsewhere.headers["etag"])
    assert (own.status_code, own.content) == (206, elsewhere.content[100000:])
    rest = one.get(told["url"], "bob", Range="bytes=100000-")
    assert rest.status_code == 206
    assert zipfile.ZipFile(io.BytesIO(begun.content + rest.content)).testzip() is None

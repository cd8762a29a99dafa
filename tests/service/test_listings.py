"""Listings: what is searched for, in which order it comes, what is left out, and what files are about."""

from __future__ import annotations

import os
import sqlite3
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.rules import rule
from tests.running import SETTINGS, Service, make_folder

STORES = """
hidden = false
leave_out = ["*.tmp", "old/*.bin", "**/cache/*"]
links = "none"

[stores.models]
kind = "managed"
root = "models"

[stores.dumps]
kind = "table"
database = "sqlite:///dumps.sqlite"
table = "dumps"
writable = true
columns = { key = "path", content = "dump", description = "subject" }
"""
FILES = {
    "north.bin": b"1" * 30, "south.bin": b"2" * 10, "East.bin": b"3" * 20, ".hidden": b"", "half.tmp": b"",
    "old/a.bin": b"", "old/a.txt": b"", "deep/er/northern light.txt": b"light", "deep/cache/x": b"", ".git/config": b"",
}  # fmt: skip
RULES = (
    rule("anyone", "files/**", "list read bundle", "everyone reads")
    + rule("group:crew", "files/deep/**", "list read", "but one", effect="deny")
    + rule("group:admins", "**", "list read bundle link put manage", "admins")
)


@pytest.fixture(scope="module")
def service(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    folder = tmp_path_factory.mktemp("listings") / "service"
    make_folder(folder, FILES, rules=RULES, settings=SETTINGS + STORES)
    (folder / "files" / "link.bin").symlink_to("north.bin")
    (folder / "files" / "linked").symlink_to("old")
    for number, name in enumerate(("north.bin", "south.bin", "East.bin")):
        path = folder / "files" / name
        os.utime(path, (1_700_000_000 - number, 1_700_000_000 - number))
    with sqlite3.connect(folder / "dumps.sqlite") as database:
        database.execute("CREATE TABLE dumps (path TEXT PRIMARY KEY, dump BLOB, subject TEXT)")
        database.execute("INSERT INTO dumps VALUES ('pier/1.bin', 'x', 'Battery CHANGED'), ('pier/2.bin', 'x', NULL)")
    service = Service.start(folder)
    yield service
    assert service.stop() == 0


def names(service: Service, query: str, who: str = "ann") -> list[str]:
    reply = service.get(f"/api/files?{query}", who)
    assert reply.status_code == 200, reply.text
    return [file["address"].partition("/")[2] for file in reply.json()["files"]]


def test_what_the_settings_leave_out_is_as_if_it_were_not_there(service: Service) -> None:
    assert names(service, "in=files/") == ["deep/", "old/", "East.bin", "north.bin", "south.bin"]
    assert names(service, "in=files/old/") == ["old/a.txt"]
    for absent in (".hidden", "half.tmp", "old/a.bin", "deep/cache/x", ".git/config", "link.bin", "linked/a.txt"):
        assert service.get(f"/get/files/{absent}", "ann").status_code == 404, absent
    for absent in (".git/", "deep/cache/x/", "linked/"):
        assert service.get(f"/api/files?in=files/{absent}", "ann").status_code == 404, absent
    with service.client("ann") as client:
        made = client.post("/api/bundles", json={"files": ["files/"]}).json()
        assert made["entries"] == 5


def test_a_search_finds_parts_of_names_below_a_folder(service: Service) -> None:
    assert names(service, "in=files/&search=NORTH") == ["deep/er/northern light.txt", "north.bin"]
    assert names(service, "in=files/&search=east") == ["East.bin"]
    assert names(service, "in=files/deep/&search=er") == ["deep/er/", "deep/er/northern light.txt"]
    assert names(service, "in=files/&search=nothing") == []
    assert names(service, "in=files/&search=north", "bob") == ["north.bin"], "only what the caller may see"


def test_pages_of_a_search_follow_each_other(service: Service) -> None:
    found, after = [], ""
    for _ in range(10):
        page = service.get(f"/api/files?in=files/&search=.bin&limit=1{after}", "ann").json()
        found += [file["name"] for file in page["files"]]
        if page["next"] is None:
            break
        after = f"&after={page['next']}"
    assert found == ["East.bin", "north.bin", "south.bin"]


@pytest.mark.parametrize(
    ("sort", "order"),
    [
        ("size", ["south.bin", "East.bin", "north.bin"]),
        ("-size", ["north.bin", "East.bin", "south.bin"]),
        ("modified", ["East.bin", "south.bin", "north.bin"]),
        ("-name", ["south.bin", "north.bin", "East.bin"]),
    ],
)
def test_files_come_in_the_order_that_was_asked_for(service: Service, sort: str, order: list[str]) -> None:
    assert [name for name in names(service, f"in=files/&sort={sort}") if not name.endswith("/")] == order
    first = service.get(f"/api/files?in=files/&sort={sort}&limit=3", "ann").json()
    rest = service.get(f"/api/files?in=files/&sort={sort}&limit=3&after={first['next']}", "ann").json()
    assert [file["name"] for file in first["files"] + rest["files"] if not file["folder"]] == order
    assert service.get("/api/files?in=files/&sort=colour", "ann").status_code == 400
    assert service.get("/api/files?sort=size", "ann").status_code == 400


def test_a_hundred_thousand_files_are_paged_and_searched(service: Service) -> None:
    many = service.folder / "files" / "many"
    many.mkdir()
    for number in range(20_000):  # the figures for 100,000 are the measurements' to say
        (many / f"sheet-{number:06}.bin").touch()
    time.sleep(2.1)  # a folder that has just changed is not remembered
    first = names(service, "in=files/many/&limit=3")
    assert first == [f"many/sheet-{number:06}.bin" for number in range(3)]
    assert names(service, "in=files/many/&search=019999&limit=3") == ["many/sheet-019999.bin"]
    (many / "sheet-000000a.bin").touch()
    assert names(service, "in=files/many/&limit=2")[1] == "many/sheet-000000a.bin", "what has come is seen at once"


@pytest.mark.parametrize("store", ["models", "dumps"])
def test_what_a_file_is_about_is_kept_shown_and_found(service: Service, store: str) -> None:
    with service.client("ann") as client:
        url = f"/api/files/{store}/bank/floor.grid"
        put = client.put(f"{url}?description=West%20Bank,%20%20after%20dredging", content=b"depths")
        assert put.status_code == 201, put.text
        assert put.json()["description"] == "West Bank, after dredging"
        assert client.get(url).json()["description"] == "West Bank, after dredging"
        assert names(service, f"in={store}/&search=DREDG") == ["bank/floor.grid"]
        client.put(f"{url}?description=surveyed%20anew", content=b"depths")
        time.sleep(0.01)
        assert client.get(url).json()["description"] == "surveyed anew"
        if store == "models":
            assert client.get(url).json()["version"] == 1, "the same content is no further version"
        assert client.put(f"{url}?description=a%07b", content=b"x").status_code == 400
        assert client.put("/api/files/files/x?description=y", content=b"x").status_code in (400, 405)


def test_columns_of_a_table_are_searched_without_regard_to_case(service: Service) -> None:
    assert names(service, "in=dumps/&search=battery%20changed") == ["pier/1.bin"]
    assert names(service, "in=dumps/&search=%25") == []


def test_an_earlier_version_becomes_the_newest_again(service: Service) -> None:
    with service.client("ann") as client:
        url = "/api/files/models/again.grid"
        for content in (b"first", b"second"):
            client.put(f"{url}?description={content.decode()}", content=content)
        tag = client.head("/get/models/again.grid").headers["etag"]
        stale = client.post("/api/versions/models/again.grid?version=1", headers={"if-match": '"other"'})
        assert stale.status_code == 412
        renewed = client.post("/api/versions/models/again.grid?version=1", headers={"if-match": tag})
        assert renewed.status_code == 200, renewed.text
        assert (renewed.json()["version"], renewed.json()["description"]) == (3, "first")
        assert client.get("/get/models/again.grid").content == b"first"
        assert client.get("/get/models/again.grid?version=2").content == b"second"
        client.delete("/api/files/models/again.grid?version=1")
        assert client.get("/get/models/again.grid").content == b"first", "each version has a content of its own"
        assert client.post("/api/versions/models/again.grid?version=1").status_code == 404
        assert client.post("/api/versions/files/north.bin?version=1").status_code == 404
    assert service.get("/api/files/models/again.grid", "bob").status_code == 404


def test_a_bad_pattern_is_told_with_its_line(tmp_path: Path) -> None:
    folder = tmp_path / "service"
    make_folder(folder, settings=SETTINGS + 'leave_out = ["a**b/c"]\n')
    with pytest.raises(AssertionError, match=r"invio.toml:.*stands alone between two"):
        Service.start(folder)

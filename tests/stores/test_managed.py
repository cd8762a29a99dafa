"""A managed store: versions by an index, contents by their names on the disk."""

from __future__ import annotations

import contextlib
import json
import logging
import sqlite3
from pathlib import Path

import pytest
import sqlalchemy as sa

from invio.core.addresses import Address, parse_address
from invio.core.http.request_head import RequestHead
from invio.core.reasons import Refusal
from invio.core.versions import Putting
from invio.records.database import open_database
from invio.records.versions import VersionRecords
from invio.stores.managed import ManagedStore
from invio.stores.store import Found, Missing, StoreFault
from tests.running import open_below

FLOOR = parse_address("models/bay/floor.grid")
PUTTING = Putting(RequestHead("PUT", []), lambda _: None)


@pytest.fixture
def store(tmp_path: Path, engine: sa.Engine) -> ManagedStore:
    return ManagedStore("models", tmp_path / "models", VersionRecords(engine, "models"))


def put(store: ManagedStore, address: Address, content: bytes) -> Found:
    with store.begin() as arriving:
        arriving.write(content)
        return store.put(address, arriving, PUTTING)[0]


def contents(root: Path) -> list[Path]:
    return sorted(path.relative_to(root) for path in root.rglob("*") if path.is_file() and len(path.name) == 32)


def test_contents_lie_where_every_version_of_this_software_looks_for_them(store: ManagedStore, tmp_path: Path) -> None:
    put(store, FLOOR, b"one")
    [path] = contents(tmp_path / "models")
    assert [len(part) for part in path.parts] == [2, 32]
    assert path.parts[1].startswith(path.parts[0])
    assert (tmp_path / "models" / path).read_bytes() == b"one"


def test_an_earlier_version_is_the_newest_again_as_a_further_one(store: ManagedStore, tmp_path: Path) -> None:
    for content in (b"one", b"three"):
        put(store, FLOOR, content)
    found, is_new = store.renew(FLOOR, 1, PUTTING)
    assert (found.facts.version, found.content.read(0, 3), is_new) == (3, b"one", False)
    assert store.renew(FLOOR, 3, PUTTING)[0].facts.version == 3, "the newest stays what it is"
    assert len(contents(tmp_path / "models")) == 3


def test_what_a_file_is_about_is_kept_said_anew_and_found(store: ManagedStore) -> None:
    put(store, FLOOR, b"one")
    put(store, FLOOR, b"two")
    about = Putting(PUTTING.head, PUTTING.known, description="before the dredging")
    assert store.renew(FLOOR, 1, about)[0].facts.description == "before the dredging"
    assert store.renew(FLOOR, 2, PUTTING)[0].facts.description is None
    assert store.renew(FLOOR, 3, PUTTING)[0].facts.description == "before the dredging"
    assert store.search(parse_address("models/"), "DREDG") == [FLOOR]
    assert store.search(parse_address("models/other/"), "dredg") == []
    assert (store.waits, store.describes) == (False, True)


def test_a_version_without_its_content_cannot_be_the_newest_again(store: ManagedStore, tmp_path: Path) -> None:
    for content in (b"one", b"two"):
        put(store, FLOOR, content)
    for path in contents(tmp_path / "models"):
        if (tmp_path / "models" / path).read_bytes() == b"one":
            (tmp_path / "models" / path).unlink()
    with pytest.raises(Missing):
        store.renew(FLOOR, 1, PUTTING)
    assert store.locate(FLOOR).facts.version == 2


def test_a_root_without_its_mark_is_taken_for_what_its_contents_say(store: ManagedStore, tmp_path: Path) -> None:
    put(store, FLOOR, b"one")
    marker, (_, called) = tmp_path / "models" / "store.json", store._index.identity()
    marker.unlink()
    assert ManagedStore("models", tmp_path / "models", store._index).locate(FLOOR).facts.size == 3
    assert json.loads(marker.read_text())["store"] == called
    # Records that were copied before they met the store learn its name from its mark.
    with sqlite3.connect(tmp_path / "records.sqlite") as records:
        records.execute("DELETE FROM facts WHERE name = 'store:models'")
    records.close()
    ManagedStore("models", tmp_path / "models", store._index)
    assert store._index.identity()[1] == called


def test_the_content_of_a_removed_version_is_deleted_by_the_next_sweep(store: ManagedStore, tmp_path: Path) -> None:
    put(store, FLOOR, b"one")
    [content] = contents(tmp_path / "models")
    store.remove(FLOOR, None, PUTTING)
    (tmp_path / "models" / content).write_bytes(b"one")  # as when the process died before it was deleted
    store.sweep(alone=True)
    assert list((tmp_path / "models").rglob(content.name)) == []


def test_nothing_stays_open_after_a_put(store: ManagedStore, tmp_path: Path) -> None:
    with store.begin() as arriving:
        arriving.write(b"zero")
        assert len(open_below(tmp_path / "models")) == 1
        store.put(FLOOR, arriving, PUTTING)
    put(store, FLOOR, b"one")
    assert open_below(tmp_path / "models") == []


def test_a_content_that_is_gone_is_missing_and_said_in_the_log(
    store: ManagedStore, tmp_path: Path, caplog: pytest.LogCaptureFixture
) -> None:
    put(store, FLOOR, b"one")
    put(store, parse_address("models/bay/other.grid"), b"other")
    [gone] = [path for path in contents(tmp_path / "models") if (tmp_path / "models" / path).read_bytes() == b"one"]
    (tmp_path / "models" / gone).unlink()
    fresh = ManagedStore("models", tmp_path / "models", store._index)
    with caplog.at_level(logging.ERROR), pytest.raises(Missing):
        fresh.locate(FLOOR)
    assert [record.message for record in caplog.records] == ["store.content-gone"]
    assert [found.facts.address.name for found in fresh.walk(parse_address("models/"))] == ["other.grid"]


def test_a_file_that_never_was_has_no_versions_and_cannot_be_removed(store: ManagedStore) -> None:
    for address in (FLOOR, parse_address("models/bay/")):
        with pytest.raises(Missing):
            store.versions(address)
    with pytest.raises(Missing):
        store.remove(FLOOR, None, PUTTING)
    put(store, FLOOR, b"one")
    assert [version.number for version in store.versions(FLOOR)] == [1]
    with pytest.raises(Missing):
        store.locate_version(FLOOR, 2)


def test_a_root_that_holds_what_these_records_do_not_know_is_refused_and_left_alone(
    store: ManagedStore, tmp_path: Path, engine: sa.Engine
) -> None:
    put(store, FLOOR, b"one")
    root = tmp_path / "models"
    before = {path.relative_to(root): path.read_bytes() for path in root.rglob("*") if path.is_file()}
    ManagedStore("models", root, VersionRecords(engine, "models"))  # its own, once more

    def refused(says: str, folder: Path = root, records: sa.Engine = engine, name: str = "models") -> None:
        with pytest.raises(StoreFault, match=says):
            ManagedStore(name, folder, VersionRecords(records, name))

    other = open_database(tmp_path / "other.sqlite")
    refused("holds what other records know", records=other)
    other.dispose()
    claimed = ManagedStore("grids", tmp_path / "grids", VersionRecords(engine, "grids"))
    put(claimed, parse_address("grids/a"), b"a")
    refused("is another store's", name="grids")
    (tmp_path / "foreign").mkdir()
    (tmp_path / "foreign" / "letter.txt").write_text("mine")
    refused("holds letter.txt, which these records do not know", tmp_path / "foreign")
    assert [path.name for path in (tmp_path / "foreign").iterdir()] == ["letter.txt"]
    (tmp_path / "folders" / "letters").mkdir(parents=True)
    (tmp_path / "folders" / "letters" / "letter.txt").write_text("mine")
    refused("holds letters, which these records do not know", tmp_path / "folders")
    refused("is empty, and the records know contents there", tmp_path / "not-mounted")
    [marker] = [path for path in root.iterdir() if path.is_file() and b'"store"' in path.read_bytes()]
    text = marker.read_text()
    marker.write_text("{")
    refused("cannot be read; put back the one that was there")
    marker.write_text(text)
    assert {path.relative_to(root): path.read_bytes() for path in root.rglob("*") if path.is_file()} == before


def test_a_folder_of_the_index_is_listed_and_walked_and_another_is_missing(store: ManagedStore) -> None:
    assert store.list(parse_address("models/")) == []
    for name in ("b.grid", "bay/floor.grid", "bay/deep/x.grid", "a.grid"):
        put(store, parse_address(f"models/{name}"), name.encode())
    listed = [str(address) for address in store.list(parse_address("models/"))]
    assert listed == ["models/bay/", "models/a.grid", "models/b.grid"]
    assert [found.facts.address.path for found in store.walk(parse_address("models/bay/"))] == [
        "bay/deep/x.grid", "bay/floor.grid",
    ]  # fmt: skip
    assert [found.facts.address.path for found in store.walk(parse_address("models/"))] == [
        "bay/deep/x.grid", "bay/floor.grid", "a.grid", "b.grid",
    ]  # fmt: skip
    for missing in ("models/ba/", "models/bay/floor.grid/"):
        with pytest.raises(Missing):
            store.list(parse_address(missing))
        with pytest.raises(Missing):
            list(store.walk(parse_address(missing)))


def test_the_same_content_twice_is_one_version_and_one_that_is_refused_leaves_nothing(
    store: ManagedStore, tmp_path: Path
) -> None:
    with store.begin() as arriving:
        arriving.write(b"one")
        found, new = store.put(FLOOR, arriving, PUTTING)
    assert (found.facts.version, new) == (1, True)
    with store.begin() as arriving:
        arriving.write(b"one")
        found, new = store.put(FLOOR, arriving, PUTTING)
    assert (found.facts.version, new) == (1, False)
    never = Putting(RequestHead("PUT", [(b"if-none-match", b"*")]), lambda _: None)
    with store.begin() as arriving:
        arriving.write(b"two")
        with pytest.raises(Refusal):
            store.put(FLOOR, arriving, never)
    assert len(contents(tmp_path / "models")) == 1
    put(store, FLOOR, b"two")
    assert store.locate(FLOOR).facts.version == 2
    assert store.locate_version(FLOOR, 1).content.read(0, 3) == b"one"
    assert store.remove(FLOOR, 1, PUTTING) == 1
    assert len(contents(tmp_path / "models")) == 1
    with pytest.raises(Missing):
        store.locate_version(FLOOR, 1)
    assert store.remove(FLOOR, None, PUTTING) == 1
    with pytest.raises(Missing):
        store.locate(FLOOR)
    assert contents(tmp_path / "models") == []


def test_what_was_put_after_the_records_were_copied_is_taken_back(
    store: ManagedStore, tmp_path: Path, caplog: pytest.LogCaptureFixture
) -> None:
    put(store, FLOOR, b"one")
    with sqlite3.connect(tmp_path / "records.sqlite") as records:
        records.execute("VACUUM INTO ?", [str(tmp_path / "copy.sqlite")])
    records.close()
    put(store, FLOOR, b"two")
    put(store, parse_address("models/new.grid"), b"new")
    put(store, parse_address("models/gone.grid"), b"gone")
    (tmp_path / "models" / "versions.jsonl").open("ab").write(b'{"path": "cut off')
    # What older records do not know, they set aside when they were served with first.
    new = next(path for path in contents(tmp_path / "models") if (tmp_path / "models" / path).read_bytes() == b"new")
    for path in contents(tmp_path / "models"):
        if (tmp_path / "models" / path).read_bytes() == b"gone":
            (tmp_path / "models" / path).unlink()
    aside = tmp_path / "models" / "aside"
    aside.mkdir()
    (tmp_path / "models" / new).rename(aside / new.name)
    with contextlib.suppress(OSError):
        (tmp_path / "models" / new).parent.rmdir()
    copied = open_database(tmp_path / "copy.sqlite")
    again = ManagedStore("models", tmp_path / "models", VersionRecords(copied, "models"))
    with pytest.raises(Missing):
        again.locate_version(FLOOR, 2)
    again.sweep(alone=True)
    assert [line.fields for line in caplog.records] == [{"store": "models", "versions": 3}]  # type: ignore[attr-defined]
    assert [version.number for version in again.versions(FLOOR)] == [2, 1]
    assert again.locate(FLOOR).content.read(0, 3) == b"two"
    assert again.locate(parse_address("models/new.grid")).facts.size == 3
    assert len(contents(tmp_path / "models")) == 3, "nothing was set aside"
    with pytest.raises(Missing):
        again.locate(parse_address("models/gone.grid"))
    copied.dispose()


def test_a_content_that_nobody_knows_is_set_aside_once_nobody_else_serves(
    store: ManagedStore, tmp_path: Path, caplog: pytest.LogCaptureFixture
) -> None:
    put(store, FLOOR, b"one")
    name = "ab" + "0" * 30
    stray = tmp_path / "models" / "ab" / name
    stray.parent.mkdir(exist_ok=True)
    stray.write_bytes(b"stray")
    store.sweep(alone=False)
    assert stray.exists(), "another process may be about to tell the records of it"
    store.sweep(alone=True)
    assert not stray.exists()
    [line] = caplog.records
    assert (line.message, line.fields) == ("store.set-aside", {"store": "models", "contents": 1})  # type: ignore[attr-defined]
    [aside] = list((tmp_path / "models").rglob(name))
    assert aside.read_bytes() == b"stray"
    (tmp_path / "models" / "cd").write_text("no folder, whatever it is called")
    store.sweep(alone=True)
    assert aside.exists()
    assert len(caplog.records) == 1, "what lies aside is not set aside again"
    assert store.locate(FLOOR).facts.size == 3


def test_another_process_sees_what_is_put_and_removed_at_once(store: ManagedStore, tmp_path: Path) -> None:
    other = ManagedStore("models", tmp_path / "models", store._index)
    put(store, FLOOR, b"one")
    assert other.locate(FLOOR).facts.version == 1
    put(store, FLOOR, b"two")
    assert other.locate(FLOOR).facts.version == 2
    assert other.locate(FLOOR) is other.locate(FLOOR), "what has not changed is not looked up again"
    store.remove(FLOOR, 2, PUTTING)
    assert other.locate(FLOOR).facts.version == 1


def test_a_root_that_cannot_be_used_is_said_with_what_to_do(
    store: ManagedStore, tmp_path: Path, engine: sa.Engine
) -> None:
    (tmp_path / "file").write_text("no folder")
    with pytest.raises(StoreFault, match=r"cannot be written to: .*; correct 'root' or its rights"):
        ManagedStore("other", tmp_path / "file", VersionRecords(engine, "other"))
    put(store, FLOOR, b"one")
    (tmp_path / "models").rename(tmp_path / "elsewhere")
    with pytest.raises(StoreFault, match="its root cannot be looked at"):
        store.locate(FLOOR)


def test_a_folder_is_filled_to_its_last_byte_and_no_further(tmp_path: Path, engine: sa.Engine) -> None:
    store = ManagedStore("models", tmp_path / "models", VersionRecords(engine, "models"), {"bay/": 10})
    put(store, FLOOR, b"123456")
    put(store, FLOOR, b"123456")  # what is there already takes no further room
    put(store, parse_address("models/bay/deep/other.grid"), b"7890")
    with pytest.raises(Refusal, match="may hold 10 bytes and holds 10; 1 more are too many"):
        put(store, parse_address("models/bay/more.grid"), b"1")
    assert put(store, parse_address("models/elsewhere.grid"), b"12345678901").facts.size == 11

"""A managed store: versions by an index, contents by their names on the disk."""

from __future__ import annotations

import logging
from collections.abc import Iterator
from pathlib import Path

import pytest
import sqlalchemy as sa

from invio.core.addresses import Address, parse_address
from invio.core.http.request_head import RequestHead
from invio.core.versions import Putting
from invio.records.database import open_database
from invio.records.versions import VersionRecords
from invio.stores.managed import ManagedStore
from invio.stores.store import Found, Missing

FLOOR = parse_address("models/bay/floor.grid")
PUTTING = Putting(RequestHead("PUT", []), lambda _: None)


@pytest.fixture
def engine(tmp_path: Path) -> Iterator[sa.Engine]:
    engine = open_database(tmp_path / "records.sqlite")
    yield engine
    engine.dispose()


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

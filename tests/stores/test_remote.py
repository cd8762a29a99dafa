"""Remote stores on fsspec's own file systems: memory, which any test can alter, and the disk."""

from __future__ import annotations

import uuid
from pathlib import Path

import fsspec
import pytest

from invio.core.addresses import BadAddress, parse_address
from invio.core.readable import ContentChanged
from invio.stores import remote
from invio.stores.remote import RemoteStore
from invio.stores.sources import BlockingFile
from invio.stores.store import Missing, StoreFault


def source_of(store: RemoteStore, text: str) -> BlockingFile:
    source = store.locate(parse_address(text)).source
    assert isinstance(source, BlockingFile)
    return source


@pytest.fixture
def place() -> str:
    folder = f"/{uuid.uuid4().hex}"
    files = fsspec.filesystem("memory")
    files.pipe({f"{folder}/a.txt": b"content", f"{folder}/deep/Über.csv": b"x,y\n", f"{folder}/bad\x07name": b""})
    return folder


def test_files_are_found_with_their_facts_and_read_in_parts(place: str) -> None:
    store = RemoteStore("m", f"memory:/{place}", {})
    found = store.locate(parse_address("m/a.txt"))
    assert found.facts.size == 7
    assert found.facts.modified is not None
    assert source_of(store, "m/a.txt").read(2, 3) == b"nte"
    assert source_of(store, "m/a.txt").read(7, 0) == b""
    assert [str(address) for address in store.list(parse_address("m/"))] == ["m/deep/", "m/a.txt"]
    assert [str(address) for address in store.list(parse_address("m/deep/"))] == ["m/deep/Über.csv"]
    for absent in ("m/none.txt", "m/deep", "m/a.txt/b"):
        with pytest.raises(Missing):
            store.locate(parse_address(absent))
    with pytest.raises(Missing):
        store.list(parse_address("m/none/"))


def test_an_altered_file_is_another(place: str) -> None:
    store = RemoteStore("m", f"memory:/{place}", {}, fresh=0.0)
    before = store.locate(parse_address("m/a.txt"))
    assert store.locate(parse_address("m/a.txt")) is before, "unaltered, it is the same finding"
    source = source_of(store, "m/a.txt")
    assert source.is_unaltered()
    fsspec.filesystem("memory").pipe(f"{place}/a.txt", b"shorter")
    assert not source.is_unaltered()
    assert store.locate(parse_address("m/a.txt")).facts.tag != before.facts.tag
    with pytest.raises(ContentChanged, match="ended before"):
        source.read(0, 100)
    fsspec.filesystem("memory").rm(f"{place}/a.txt")
    assert not source.is_unaltered()
    with pytest.raises(ContentChanged, match="no longer there"):
        source.read(0, 1)


def test_an_address_cannot_leave_the_root(tmp_path: Path) -> None:
    (tmp_path / "root").mkdir()
    (tmp_path / "secret.txt").write_text("secret")
    (tmp_path / "root" / "a.txt").write_text("a")
    store = RemoteStore("d", f"file://{tmp_path}/root", {})
    assert source_of(store, "d/a.txt").read(0, 1) == b"a"
    with pytest.raises(BadAddress):
        parse_address("d/../secret.txt")
    with pytest.raises(Missing):
        store.locate(parse_address("d/secret.txt"))


@pytest.mark.parametrize(
    ("url", "redirect", "says"),
    [
        ("nosuch://host/", None, "nosuch"),
        ("memory://x", 60, "makes no addresses; leave 'redirect' out"),
    ],
)
def test_what_cannot_be_reached_is_said_at_the_start(url: str, redirect: int | None, says: str) -> None:
    with pytest.raises(StoreFault, match=says):
        RemoteStore("m", url, {}, redirect)


@pytest.mark.parametrize(
    ("info", "media_type", "modified"),
    [
        (
            {"ContentType": "application/pdf", "LastModified": "2026-11-27T10:11:12+00:00"},
            "application/pdf",
            1795774272,
        ),
        ({"content_type": "text/CSV; charset=utf-8", "modify": "20261127101112"}, "text/csv", 1795774272),
        ({"ContentType": "binary/octet-stream", "mtime": 5}, None, 5),
        ({"contentType": "nonsense", "updated": "whenever"}, None, None),
    ],
)
def test_what_another_system_says_of_a_file_is_told(
    info: dict[str, object], media_type: str | None, modified: float | None
) -> None:
    assert (remote._media_type(info), remote._changed(info)) == (media_type, modified)

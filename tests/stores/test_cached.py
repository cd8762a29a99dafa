"""Contents of another system that are kept: fetched once for all, read from the disk, and never anything else."""

from __future__ import annotations

import asyncio
import errno
import math
import os
import threading
import time
from collections.abc import Iterable
from functools import partial
from pathlib import Path
from typing import Any, BinaryIO

import pytest

from invio.core.addresses import Address, parse_address
from invio.core.files import FileFacts
from invio.core.readable import ContentChanged
from invio.producers.room import Room
from invio.service.open_stores import open_store
from invio.service.settings import read_settings
from invio.stores.blocking import BlockingStore, Reading
from invio.stores.cached import CachedFile, ContentCache
from invio.stores.disk_cache import CacheFull, DiskCache
from invio.stores.origin import OriginStore
from invio.stores.sources import DiskFile, read_through
from invio.stores.store import Found, Missing, StoreFault

CONTENT = bytes(range(256)) * 20_000
ADDRESS = parse_address("far/a.bin")


class Far(BlockingStore):
    """A system that counts what it is asked, and does not go on before it is let."""

    def __init__(self) -> None:
        super().__init__("far", timeout=5, fresh=0.0, reading=Reading(largest=1024 * 1024, ahead=1))
        self.read_bytes, self.tag = 0, "one"
        self.may = threading.Event()
        self.may.set()
        self.passes = -1  # where a part begins that need not be let
        self.fails_at = len(CONTENT) + 1

    def look_up(self, address: Address) -> FileFacts:
        return FileFacts(address, len(CONTENT), 1.0, self.tag)

    def look_into(self, folder: Address) -> Iterable[FileFacts | Address]:
        raise Missing(str(folder))

    def read_at(self, address: Address, tag: str, offset: int, count: int) -> bytes:  # noqa: ARG002
        if offset != self.passes:
            self.may.wait(5)
        if offset + count > self.fails_at:
            raise OSError("the line is down")
        self.read_bytes += count
        return CONTENT[offset : offset + count]


@pytest.fixture
def far(tmp_path: Path) -> Far:
    far = Far()
    far.cache = ContentCache("far", DiskCache(tmp_path / "contents", 1 << 30), Room(tmp_path))
    return far


async def part(found: Found, offset: int, count: int) -> bytes:
    return b"".join([piece async for piece in found.content.pieces(offset, count)])


def kept(far: Far) -> Found:
    """The file once it is kept: that is done behind whoever was the first."""
    end = time.monotonic() + 5
    while isinstance((found := far.locate(ADDRESS)).source, CachedFile):
        assert time.monotonic() < end
        time.sleep(0.01)
    return found


def test_many_at_once_have_it_fetched_once_and_later_ones_have_it_from_the_disk(far: Far) -> None:
    async def all_of_them() -> list[bytes]:
        parts = [part(far.locate(ADDRESS), 0, len(CONTENT)) for _ in range(20)]
        return list(await asyncio.gather(*parts, part(far.locate(ADDRESS), 1_000_000, 2_000_000)))

    *wholes, some = asyncio.run(all_of_them())
    assert set(wholes) == {CONTENT}
    assert some == CONTENT[1_000_000:3_000_000]
    assert far.read_bytes == len(CONTENT)
    found = kept(far)
    assert isinstance(found.source, DiskFile)
    assert b"".join(read_through(found.content)) == CONTENT
    assert far.read_bytes == len(CONTENT)


@pytest.mark.parametrize("by_threads", [False, True])
def test_who_found_it_before_it_was_kept_has_it_from_the_disk(far: Far, by_threads: bool) -> None:
    early = far.locate(ADDRESS)
    assert asyncio.run(part(far.locate(ADDRESS), 0, len(CONTENT))) == CONTENT
    assert isinstance(kept(far).source, DiskFile)
    if by_threads:
        assert b"".join(read_through(early.content)) == CONTENT
    assert asyncio.run(part(early, 10, 3_000_000)) == CONTENT[10:3_000_010]
    assert far.read_bytes == len(CONTENT), "it was not fetched again"


def test_it_is_read_by_threads_as_well(far: Far) -> None:
    assert b"".join(read_through(far.locate(ADDRESS).content)) == CONTENT
    assert far.read_bytes == len(CONTENT)


def test_a_part_far_ahead_does_not_wait_for_what_lies_before_it(far: Far, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("invio.stores.cached._AHEAD", 1000)
    far.may.clear()
    far.passes = 4_000_000
    assert far.locate(ADDRESS).content.read(4_000_000, 10) == CONTENT[4_000_000:4_000_010]
    assert far.read_bytes == 10
    far.may.set()


@pytest.mark.parametrize("how", ["altered", "fails"])
def test_what_is_not_the_file_any_more_is_neither_completed_nor_kept(far: Far, how: str) -> None:
    found = far.locate(ADDRESS)
    if how == "altered":
        far.tag = "two"
    else:
        far.fails_at = 3_000_000
    with pytest.raises((StoreFault, ContentChanged)):
        asyncio.run(part(found, 0, len(CONTENT)))
    far.fails_at = len(CONTENT) + 1
    assert isinstance(far.locate(ADDRESS).source, CachedFile)
    assert asyncio.run(part(far.locate(ADDRESS), 0, len(CONTENT))) == CONTENT


@pytest.mark.parametrize("spool", [Room(bytes=2_000_000), Room(all_bytes=2_000_000), Room(seconds=0.0)])
def test_what_cannot_be_fetched_to_its_end_is_sent_all_the_same(tmp_path: Path, spool: Room) -> None:
    far = Far()
    far.cache = ContentCache("far", DiskCache(tmp_path / "contents", 1 << 30), spool)
    assert asyncio.run(part(far.locate(ADDRESS), 3, len(CONTENT) - 3)) == CONTENT[3:]
    assert b"".join(read_through(far.locate(ADDRESS).content)) == CONTENT
    assert isinstance(far.locate(ADDRESS).source, CachedFile)


def test_a_large_file_may_take_longer_to_fetch_than_one_to_make(tmp_path: Path) -> None:
    (tmp_path / "invio.toml").write_text(
        "[making]\nbytes = 5\nseconds = 0.1\n\n[stores.far]\nkind = 'remote'\nurl = 'http://127.0.0.1:9/'\n"
        "cache_bytes = 1_000_000\n"
    )
    store = open_store(read_settings(tmp_path / "invio.toml"), None, "far")
    assert isinstance(store, OriginStore)
    assert store.cache is not None
    room = store.cache.room
    assert (room.bytes, room.all_bytes, room.seconds) == (1_000_000, 1_000_000, math.inf)


def test_another_tag_is_another_content(far: Far) -> None:
    asyncio.run(part(far.locate(ADDRESS), 0, len(CONTENT)))
    kept(far)
    far.tag = "two"
    assert isinstance(far.locate(ADDRESS).source, CachedFile)


def _hundred(digit: bytes, file: BinaryIO) -> str:
    file.write(digit * 100)
    return ""


def test_evicted_contents_are_removed_while_others_look_into_the_cache(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    cache = DiskCache(tmp_path / "contents", 250)
    removed: dict[str, bool] = {}
    unlink = Path.unlink

    def noted(path: Path, missing_ok: bool = False) -> None:
        if path.exists():
            removed[path.name] = cache._lock.locked()
        unlink(path, missing_ok)

    monkeypatch.setattr(Path, "unlink", noted)
    for number in range(3):
        cache.obtain(DiskCache.key(number), partial(_hundred, b"%d" % number))
    assert list(removed.values()) == [False]
    assert len(list((tmp_path / "contents").iterdir())) == 2


def test_what_is_kept_is_bounded_and_what_is_damaged_is_fetched_again(tmp_path: Path) -> None:
    cache = DiskCache(tmp_path / "contents", 250)
    for number in range(4):
        cache.obtain(DiskCache.key(number), partial(_hundred, b"%d" % number))
    assert [cache.find(DiskCache.key(number)) is not None for number in range(4)] == [False, False, True, True]
    again = DiskCache(tmp_path / "contents", 250)
    [path] = [path for path in (tmp_path / "contents").iterdir() if path.read_bytes() == b"3" * 100]
    path.write_bytes(b"X" * 100)
    assert again.find(DiskCache.key(3)) is None, "another process verifies what it finds"
    assert again.find(DiskCache.key(2)) is not None
    assert not path.exists()


def test_what_is_being_sent_is_not_evicted_for_it_would_keep_its_place(tmp_path: Path) -> None:
    """Else those who read slowly could fill the disk with what the cache does not count any more."""
    cache, other = (DiskCache(tmp_path / "contents", 250) for _ in range(2))
    files = [cache.obtain(DiskCache.key(number), partial(_hundred, b"%d" % number)).file for number in range(2)]
    sent = files[0].open()
    cache.obtain(DiskCache.key(2), partial(_hundred, b"2"))
    assert [cache.find(DiskCache.key(number)) is not None for number in range(3)] == [True, False, True]
    other.obtain(DiskCache.key(3), partial(_hundred, b"3"))
    assert list(other._index())[-1] == DiskCache.key(0), "it is being used: the next look finds it behind the others"
    assert [other.find(DiskCache.key(number)) is not None for number in (0, 2, 3)] == [True, False, True], "by another"
    os.close(sent)
    other.obtain(DiskCache.key(4), partial(_hundred, b"4"))
    assert len(list((tmp_path / "contents").iterdir())) == 2


def test_where_all_others_are_being_sent_the_newest_is_not_kept(tmp_path: Path) -> None:
    cache, key = DiskCache(tmp_path / "contents", 250), DiskCache.key
    sent = [cache.obtain(key(number), partial(_hundred, b"%d" % number)).file.open() for number in range(2)]
    with pytest.raises(CacheFull) as full:
        cache.obtain(key(2), partial(_hundred, b"2"))
    assert full.value.errno == errno.ENOSPC
    assert [cache.find(key(number)) is not None for number in range(3)] == [True, True, False]
    assert len(list((tmp_path / "contents").iterdir())) == 2
    for descriptor in sent:
        os.close(descriptor)
    assert cache.obtain(key(2), partial(_hundred, b"2")).file.read(0, 3) == b"222"


def test_a_content_larger_than_the_cache_is_kept_alone(tmp_path: Path) -> None:
    cache = DiskCache(tmp_path / "contents", 50)
    for number in range(2):
        assert cache.obtain(DiskCache.key(number), partial(_hundred, b"%d" % number)).file.size == 100
    assert len(list((tmp_path / "contents").iterdir())) == 1


def test_processes_that_share_a_cache_keep_little_more_than_one_would(tmp_path: Path) -> None:
    folder, caches = tmp_path / "contents", [DiskCache(tmp_path / "contents", 6400) for _ in range(3)]
    for number in range(300):
        caches[number % 3].obtain(DiskCache.key(number), partial(_hundred, b"%d" % (number % 10)))
    held = sum(path.stat().st_size for path in folder.iterdir())
    assert 5000 < held <= 6400 + 3 * 500
    assert caches[0].find(DiskCache.key(2)) is None, "another process has evicted it"
    assert caches[0].obtain(DiskCache.key(2), partial(_hundred, b"2")).file.read(0, 3) == b"222"


def test_what_was_used_lately_is_kept_after_a_restart(tmp_path: Path) -> None:
    cache = DiskCache(tmp_path / "contents", 300)
    for number in range(3):
        cache.obtain(DiskCache.key(number), partial(_hundred, b"%d" % number))
    assert cache.find(DiskCache.key(0)) is not None
    again = DiskCache(tmp_path / "contents", 300)
    again.obtain(DiskCache.key(3), partial(_hundred, b"3"))
    assert [again.find(DiskCache.key(number)) is not None for number in range(4)] == [True, False, True, True]


def test_a_content_that_is_kept_anew_meanwhile_is_not_forgotten(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    cache, key = DiskCache(tmp_path / "contents", 300), DiskCache.key("one")
    os.unlink(cache.obtain(key, partial(_hundred, b"1")).file.path)  # by another process
    stat = os.stat

    def kept_anew(path: Any, **options: Any) -> os.stat_result:
        monkeypatch.undo()
        with pytest.raises(FileNotFoundError):
            stat(path)
        cache.obtain(key, partial(_hundred, b"2"))
        return stat(path, **options)

    monkeypatch.setattr("invio.stores.disk_cache.os.stat", kept_anew)
    assert cache.find(key) is None
    found = cache.find(key)
    assert found is not None
    assert found.file.read(0, 3) == b"222"


def found_in_cache(far: Far) -> tuple[DiskFile, CachedFile]:
    asyncio.run(part(far.locate(ADDRESS), 0, len(CONTENT)))
    found = kept(far)
    assert isinstance(found.source, DiskFile)
    assert isinstance(found.lasting, CachedFile)
    return found.source, found.lasting


def test_what_was_kept_when_it_was_found_is_had_after_it_was_evicted(far: Far) -> None:
    file, lasting = found_in_cache(far)
    assert lasting.read(5, 10) == CONTENT[5:15]
    before = far.read_bytes
    assert before == len(CONTENT), "it comes from the disk"
    os.unlink(file.path)
    assert lasting.read(5, 10) == CONTENT[5:15]
    assert asyncio.run(part(far.locate(ADDRESS)._replace(source=lasting), 7, len(CONTENT) - 7)) == CONTENT[7:]
    assert far.read_bytes > before


def test_what_is_evicted_while_it_is_sent_is_sent_to_its_end(far: Far) -> None:
    file, lasting = found_in_cache(far)

    async def sent() -> bytes:
        data = b""
        async for piece in lasting.pieces(0, len(CONTENT)):
            data += piece
            if len(data) == len(piece):
                os.unlink(file.path)
        return data

    assert asyncio.run(sent()) == CONTENT

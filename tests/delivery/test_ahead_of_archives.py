"""What is worked out before an archive needs it: CRCs by a scan, and deflated contents behind one that stored them."""

from __future__ import annotations

import os
import threading
import zlib
from collections.abc import Callable, Iterator
from pathlib import Path
from unittest import mock

import pytest
import sqlalchemy as sa

from invio.core.addresses import Address, parse_address
from invio.core.readable import HeldInMemory
from invio.core.reasons import Refusal
from invio.delivery.archives import crc_scan
from invio.delivery.archives.background_deflate import BackgroundDeflater
from invio.delivery.archives.checksums import crc_of
from invio.delivery.archives.crc_scan import scan
from invio.delivery.archives.deflate_cache import DeflateCache, Packed
from invio.records.bundles import known_crcs, known_deflated
from invio.stores.directory import DirectoryStore
from invio.stores.sources import PIECE, DiskFile
from invio.stores.store import Found, Missing
from tests.clocks import SetClock

LOG = b"08:00 level 3\n" * 1000


class Working(SetClock):
    """By this clock, each piece of work takes a second and a half."""

    def monotonic(self) -> float:
        self.now += 1.5
        return self.now


@pytest.fixture(autouse=True)
def rests(monkeypatch: pytest.MonkeyPatch) -> list[float]:
    """How long it would have rested."""
    rested: list[float] = []
    clock = Working()
    monkeypatch.setattr(clock, "sleep", rested.append)
    monkeypatch.setattr(crc_scan, "time", clock)
    return rested


@pytest.fixture
def store(tmp_path: Path) -> DirectoryStore:
    for number in range(5):
        path = tmp_path / "files" / f"{number}.log"
        path.parent.mkdir(exist_ok=True)
        path.write_bytes(b"%d" % number + LOG)
        os.utime(path, (1.6e9, 1.6e9))
    return DirectoryStore("files", tmp_path / "files")


def tag(store: DirectoryStore, name: str) -> str:
    return str(store.locate(parse_address(f"files/{name}")).facts.tag)


def known(engine: sa.Engine, *tags: str) -> dict[str, int]:
    with engine.connect() as connection:
        return known_crcs(connection, tags)


def test_a_scan_reads_what_is_not_known_and_rests_as_long_as_it_worked(
    engine: sa.Engine, store: DirectoryStore, rests: list[float]
) -> None:
    assert scan(engine, [store], lambda: False) == 5
    assert known(engine, tag(store, "3.log")) == {tag(store, "3.log"): zlib.crc32(b"3" + LOG)}
    assert rests == [1.5]
    assert scan(engine, [store], lambda: False) == 0
    assert len(rests) == 1, "it read nothing"


def test_a_file_that_is_changing_is_left_to_the_next_scan(
    engine: sa.Engine, store: DirectoryStore, tmp_path: Path
) -> None:
    (tmp_path / "files" / "0.log").write_bytes(b"just now")
    assert scan(engine, [store], lambda: False) == 4
    assert known(engine, tag(store, "0.log")) == {}


def test_a_scan_ends_when_it_is_to_and_keeps_what_it_has(engine: sa.Engine, store: DirectoryStore) -> None:
    ends = iter([False, False, False, True])
    assert scan(engine, [store], lambda: next(ends, True)) == 2


def test_a_root_that_is_gone_keeps_no_other_store_from_being_scanned(
    engine: sa.Engine, store: DirectoryStore, caplog: pytest.LogCaptureFixture
) -> None:
    class Gone:
        name, kind, waits = "gone", "directory", False

        def walk(self, folder: Address) -> Iterator[Found]:
            raise Missing(str(folder))
            yield

        def list(self, folder: Address) -> list[Address]:
            raise Missing(str(folder))

        def locate(self, address: Address) -> Found:
            raise Missing(str(address))

    assert scan(engine, [Gone(), store], lambda: False) == 5
    assert [line.fields for line in caplog.records if line.message == "scan.no-root"] == [{"store": "gone"}]  # type: ignore[attr-defined]


def test_a_crc_is_of_the_content_that_was_found_or_refused_by_its_name(tmp_path: Path) -> None:
    path = tmp_path / "a"
    for size in (0, 10, PIECE, PIECE + 1, 3 * PIECE + 7):
        path.write_bytes(os.urandom(size))
        assert crc_of(DiskFile.of(os.fsencode(path), path.stat()), "files/a") == zlib.crc32(path.read_bytes())
    for size in (10, 2 * PIECE):
        path.write_bytes(bytes(size))
        found = DiskFile.of(os.fsencode(path), path.stat())
        os.truncate(path, size - 1)
        with pytest.raises(Refusal, match="files/a: ") as refused:
            crc_of(found, "files/a")
        assert refused.value.reason.word == "changed"


class Held(HeldInMemory):
    """A content that is nowhere on a disk."""

    size = 2 * PIECE

    def read(self, offset: int, count: int) -> bytes:
        return (b"x" * self.size)[offset : offset + count]


def test_a_crc_of_what_is_on_no_disk_is_taken_as_well() -> None:
    assert crc_of(Held(), "held") == zlib.crc32(b"x" * Held.size)


@pytest.fixture
def cache(tmp_path: Path) -> Iterator[DeflateCache]:
    cache = DeflateCache(tmp_path / "deflated", 10**9)
    yield cache
    cache.close()


def test_what_an_archive_stored_is_deflated_for_the_next(
    engine: sa.Engine, store: DirectoryStore, cache: DeflateCache, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    found = {name: store.locate(parse_address(f"files/{name}")) for name in ("0.log", "1.log", "2.log")}
    asked = [(file.on_disk, str(file.facts.tag)) for file in found.values() if file.on_disk is not None]
    (tmp_path / "files" / "1.log").unlink()
    done, pack = threading.Event(), cache.pack

    def packed(source: DiskFile, on_read: Callable[[int], None]) -> Packed:
        try:
            return pack(source, on_read)
        finally:
            if source == asked[2][0]:
                done.set()

    monkeypatch.setattr(cache, "pack", packed)
    behind = BackgroundDeflater(engine, cache)
    behind.ask(asked)
    assert done.wait(10)
    behind.close()
    with engine.connect() as connection:
        deflated = known_deflated(connection, [tag for _, tag in asked])
    assert set(deflated) == {asked[0][1], asked[2][1]}, "what vanished is passed over"
    assert known(engine, asked[0][1]) == {asked[0][1]: zlib.crc32(b"0" + LOG)}


class Noticed(threading.Event):
    """An event of which is known how often somebody waited for it."""

    def __init__(self) -> None:
        super().__init__()
        self.waits = 0
        self.idle = threading.Event()

    def wait(self, timeout: float | None = None) -> bool:
        self.waits += 1
        if not self.is_set():
            self.idle.set()
        return super().wait(timeout)


def test_one_thread_deflates_and_rests_when_there_is_nothing_to_do(
    engine: sa.Engine, store: DirectoryStore, cache: DeflateCache, tmp_path: Path
) -> None:
    (tmp_path / "files" / "noise.log").write_bytes(os.urandom(5000))
    asked = [
        (file.on_disk, str(file.facts.tag))
        for file in (store.locate(parse_address(f"files/{name}")) for name in ("0.log", "noise.log"))
        if file.on_disk is not None
    ]
    before = threading.active_count()
    behind = BackgroundDeflater(engine, cache)
    behind._wake = wake = Noticed()
    behind.ask([])
    with mock.patch.object(threading.Thread, "start", side_effect=RuntimeError("no thread")):
        behind.ask(asked)  # and the next one who asks has a thread
    assert threading.active_count() == before
    for one in asked:
        behind.ask([one])
        assert wake.idle.wait(10)
        wake.idle.clear()
    assert threading.active_count() == before + 1
    assert wake.waits <= 2 * len(asked), "it does not look without being woken"
    behind.close()
    assert threading.active_count() == before
    with engine.connect() as connection:
        deflated = known_deflated(connection, [tag for _, tag in asked])
    packed, stored = (deflated[tag] for _, tag in asked)
    assert packed[1] is not None
    assert packed[1] < len(LOG)
    assert stored[1] is None


def test_a_stop_gives_up_what_is_being_deflated(
    engine: sa.Engine, store: DirectoryStore, cache: DeflateCache, monkeypatch: pytest.MonkeyPatch
) -> None:
    found = store.locate(parse_address("files/0.log"))
    file = found.on_disk
    assert file is not None
    begun = threading.Event()

    def pack(_: DiskFile, on_read: Callable[[int], None]) -> Packed:
        begun.set()
        while True:
            on_read(1)

    monkeypatch.setattr(cache, "pack", pack)
    behind = BackgroundDeflater(engine, cache)
    behind.ask([(file, "t"), (file, "u")])
    assert begun.wait(10)
    behind.close()
    with engine.connect() as connection:
        assert known_deflated(connection, ["t", "u"]) == {}


class Watched(HeldInMemory):
    """A content of which is known how it is read."""

    def __init__(self, size: int, *, may_block: bool) -> None:
        self.size, self.may_block = size, may_block
        self.reads: list[tuple[int, int]] = []
        self.unaltered = True

    def is_unaltered(self) -> bool:
        return self.unaltered

    def read(self, offset: int, count: int) -> bytes:
        self.reads.append((offset, count))
        return b"x" * count


@pytest.mark.parametrize(
    ("size", "may_block", "reads"),
    [
        (PIECE, False, 1),
        (PIECE + 1, False, 2),
        (PIECE, True, 1),
        (3 * PIECE, True, 3),
    ],
)
def test_a_checksum_is_of_all_of_a_content_and_no_long_one_is_in_memory_whole(
    size: int, reads: int, *, may_block: bool
) -> None:
    source = Watched(size, may_block=may_block)
    assert crc_of(source, "a") == zlib.crc32(b"x" * size)
    assert len(source.reads) == reads
    assert sum(count for _, count in source.reads) == size
    assert max(count for _, count in source.reads) == min(size, PIECE)


def test_a_checksum_of_what_another_system_altered_meanwhile_is_refused() -> None:
    source = Watched(10, may_block=True)
    source.unaltered = False
    with pytest.raises(Refusal, match="models/a: it was altered"):
        crc_of(source, "models/a")

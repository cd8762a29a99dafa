"""Deflated contents on their way to the disk: the next ones are not kept waiting, and what is not there is not sent."""

from __future__ import annotations

import errno
import os
import threading
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from unittest import mock

import pytest

from invio.core.files import Caller
from invio.core.readable import ContentChanged
from invio.core.rules.file import parse_rules
from invio.delivery.access.catalogue import Catalogue
from invio.delivery.archives import syncing
from invio.delivery.archives.background_deflate import BackgroundDeflater
from invio.delivery.archives.bundles import Bundles
from invio.delivery.archives.deflate_cache import DeflateCache
from invio.delivery.sending.errors import NobodyWaits
from invio.delivery.transfers.limits import BundleLimits
from invio.records.bundles import BundleOptions, known_deflated
from invio.records.database import open_database
from invio.stores.directory import DirectoryStore
from invio.stores.sources import PIECE, DiskFile
from tests.plans import compressed, read
from tests.rules import rule
from tests.running import until

BOB = Caller("bob", frozenset())
NAMES = ("0.log", "1.log")


@pytest.fixture
def files(tmp_path: Path) -> list[DiskFile]:
    """Of more than one piece each; those of one piece are not waited for."""
    (tmp_path / "files").mkdir()
    made = []
    for number, name in enumerate(NAMES):
        path = tmp_path / "files" / name
        path.write_bytes(f"sounding {number} m\n".encode() * (PIECE // 8))
        os.utime(path, (1.7e9, 1.7e9))
        made.append(DiskFile.of(os.fsencode(path), path.stat()))
    return made


@pytest.fixture
def cache(tmp_path: Path) -> Iterator[DeflateCache]:
    cache = DeflateCache(tmp_path / "deflated", 1 << 30, 1)
    yield cache
    cache.close()


class Disk:
    """In the place of `os.fdatasync`: it takes contents when it is let, or does not take them."""

    def __init__(self) -> None:
        self.takes = threading.Event()
        self.fails = False
        self.begun = self.failed = 0

    def __call__(self, descriptor: int) -> None:
        os.fstat(descriptor)  # it is open
        self.begun += 1
        assert self.takes.wait(60)
        if self.fails:
            self.failed += 1
            raise OSError(errno.EIO, os.strerror(errno.EIO))


@pytest.fixture
def disk(monkeypatch: pytest.MonkeyPatch) -> Iterator[Disk]:
    disk = Disk()
    monkeypatch.setattr(os, "fdatasync", disk)
    yield disk
    disk.takes.set()


def test_nothing_waits_for_a_disk_that_hangs_unless_it_has_failed_before(
    cache: DeflateCache, files: list[DiskFile], disk: Disk
) -> None:
    first, second = (cache.pack(file) for file in files)
    until(lambda: disk.begun == 2)
    assert first.file is not None
    cache.syncing.check(second.name)
    assert cache.find(first.name, first.file.size) == first.file
    cache.syncing._has_failed = True
    with ThreadPoolExecutor(2) as others:
        checks = others.submit(cache.syncing.check, second.name)
        finds = others.submit(cache.find, first.name, first.file.size)
        with pytest.raises(TimeoutError):
            checks.result(0.05)
        assert not finds.done()
        disk.takes.set()
        checks.result(60)
        assert finds.result(60) == first.file
    until(lambda: not cache.syncing._pending)
    assert not cache.syncing._has_failed


def test_what_the_disk_does_not_take_is_not_kept(cache: DeflateCache, files: list[DiskFile], disk: Disk) -> None:
    disk.fails = True
    made = cache.pack(files[0])
    disk.takes.set()
    assert made.file is not None
    for _ in range(2):
        with pytest.raises(OSError, match="Input/output"):
            cache.syncing.settle(made.name)
    assert cache.find(made.name, made.file.size) is None
    assert os.listdir(cache._folder) == []
    disk.fails = False
    assert cache.pack(files[0]).name == made.name
    cache.syncing.settle(made.name)
    assert os.listdir(cache._folder) == [made.name]


def test_what_can_neither_be_written_nor_removed_keeps_nobody_waiting(
    cache: DeflateCache, files: list[DiskFile], disk: Disk, monkeypatch: pytest.MonkeyPatch
) -> None:
    disk.fails = True
    made = cache.pack(files[0])
    assert made.file is not None
    monkeypatch.setattr(Path, "unlink", mock.Mock(side_effect=OSError(errno.EROFS, os.strerror(errno.EROFS))))
    disk.takes.set()
    until(lambda: disk.failed == 1)
    with ThreadPoolExecutor(1) as other, pytest.raises(OSError, match="Input/output"):
        other.submit(cache.syncing.settle, made.name).result(20)
    assert cache.find(made.name, made.file.size) is None


def test_what_another_process_has_kept_meanwhile_is_taken(
    cache: DeflateCache, files: list[DiskFile], disk: Disk, tmp_path: Path
) -> None:
    disk.fails = True
    made = cache.pack(files[0])
    disk.takes.set()
    with pytest.raises(OSError, match="Input/output"):
        cache.syncing.settle(made.name)
    disk.fails = False
    DeflateCache(tmp_path / "deflated", 1 << 30, 1).pack(files[0])
    assert cache.pack(files[0]).file is not None
    cache.syncing.settle(made.name)


def test_while_a_content_is_written_its_maker_does_not_write_it_again(
    cache: DeflateCache, files: list[DiskFile], disk: Disk
) -> None:
    made = cache.pack(files[0])
    assert cache.pack(files[0]) == made
    with ThreadPoolExecutor(1) as other:
        waits = other.submit(cache.syncing.settle, made.name)
        with pytest.raises(TimeoutError):
            waits.result(0.05)
        disk.takes.set()
        waits.result(60)
    assert disk.begun == 1


def test_where_too_many_are_being_written_the_next_is_left_to_the_system(
    cache: DeflateCache, files: list[DiskFile], disk: Disk, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(cache.syncing._pool, "_room", 1)
    before = len(os.listdir("/proc/self/fd"))
    first, second = (cache.pack(file) for file in files)
    cache.syncing.settle(second.name)
    assert list(cache.syncing._pending) == [first.name]
    disk.takes.set()
    until(lambda: not cache.syncing._pending)
    assert disk.begun == 1
    until(lambda: len(os.listdir("/proc/self/fd")) == before)


@pytest.mark.usefixtures("files")
@pytest.mark.parametrize("options", [BundleOptions(), BundleOptions(packs=True)], ids=["undecided", "deflated"])
def test_an_archive_of_what_the_disk_does_not_take_breaks_once_and_is_stored_then(
    cache: DeflateCache, disk: Disk, tmp_path: Path, options: BundleOptions
) -> None:
    engine = open_database(tmp_path / "records.sqlite")
    catalogue = Catalogue(
        [DirectoryStore("files", tmp_path / "files")], parse_rules(rule("anyone", "**", "read bundle"))
    )
    bundles = Bundles(catalogue, engine, BundleLimits(), cache)
    record = bundles.save(BOB, [f"files/{name}" for name in NAMES], "logs.zip", options)
    plan = bundles.plan(BOB, record).plan
    assert compressed(plan) == [True, True], "it is there, if not on the disk"
    disk.fails = True
    disk.takes.set()
    until(lambda: not os.listdir(cache._folder))
    with pytest.raises(ContentChanged):
        read(plan)
    bundles.broken(f"bundles/{record.id}/logs.zip")
    assert compressed(bundles.plan(BOB, record).plan) == [False, False]
    disk.fails = False
    again = bundles.save(BOB, [f"files/{name}" for name in NAMES], "logs.zip", BundleOptions(packs=True))
    assert compressed(bundles.plan(BOB, again).plan) == [True, True]
    bundles.close()
    engine.dispose()


def test_what_the_disk_does_not_take_in_the_background_is_not_recorded(
    cache: DeflateCache, files: list[DiskFile], disk: Disk, tmp_path: Path
) -> None:
    engine = open_database(tmp_path / "records.sqlite")
    behind = BackgroundDeflater(engine, cache)

    def recorded() -> list[str]:
        with engine.connect() as connection:
            return sorted(known_deflated(connection, ["first", "second"]))

    disk.fails = True
    disk.takes.set()
    behind.ask([(files[0], "first")])
    until(lambda: disk.failed == 1)
    disk.fails = False
    behind.ask([(files[1], "second")])
    until(lambda: "second" in recorded())
    behind.close()
    assert recorded() == ["second"]
    engine.dispose()


def test_who_waits_for_a_disk_that_hangs_may_go(
    cache: DeflateCache, files: list[DiskFile], disk: Disk, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(syncing, "_LOOKS", 0.001)
    engine = open_database(tmp_path / "records.sqlite")
    catalogue = Catalogue(
        [DirectoryStore("files", tmp_path / "files")], parse_rules(rule("anyone", "**", "read bundle"))
    )
    bundles = Bundles(catalogue, engine, BundleLimits(), cache)
    record = bundles.save(BOB, ["files/0.log"], "logs.zip", BundleOptions())
    cache.syncing._has_failed = True
    with pytest.raises(NobodyWaits):
        bundles.plan(BOB, record, ends=lambda: disk.begun > 0)

    def leaves() -> None:
        raise NobodyWaits

    made = cache.pack(files[0])  # which lies there, and is not on the disk yet
    assert made.file is not None
    with pytest.raises(NobodyWaits):
        cache.find(made.name, made.file.size, leaves)
    behind = BackgroundDeflater(engine, cache)
    behind.ask([(files[1], "second")])
    until(lambda: disk.begun == 2)
    behind.close()
    bundles.close()
    with engine.connect() as connection:
        assert known_deflated(connection, ["second"]) == {}
    engine.dispose()


def test_what_cannot_be_given_its_name_keeps_nobody_waiting(
    cache: DeflateCache, files: list[DiskFile], disk: Disk, monkeypatch: pytest.MonkeyPatch
) -> None:
    name = DeflateCache(cache._folder.with_name("other"), 1 << 30, 1).pack(files[0]).name
    until(lambda: disk.begun == 1)
    with monkeypatch.context() as patched:
        patched.setattr(os, "replace", mock.Mock(side_effect=OSError(errno.EIO, "Input/output error")))
        with pytest.raises(OSError, match="Input/output"):
            cache.pack(files[0])
    with pytest.raises(OSError, match="Input/output"):
        cache.syncing.settle(name)
    assert cache.pack(files[0]).name == name
    disk.takes.set()
    cache.syncing.settle(name)

"""Reading files over time: one that grows is read as it was found, one that is written anew is not."""

from __future__ import annotations

import asyncio
import errno
import os
from collections.abc import AsyncIterator
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from invio.core.addresses import Address
from invio.core.files import Caller
from invio.core.readable import ContentChanged
from invio.delivery.archives.deflate_cache import DeflateCache
from invio.stores.sources import (
    PIECE,
    BlockingFile,
    DiskFile,
    Made,
    Recipe,
    Samples,
    SpooledFile,
    opened_unaltered,
    read_through,
    read_unaltered,
)

SIZE = 3 * PIECE + 100


@pytest.fixture
def path(tmp_path: Path) -> Path:
    path = tmp_path / "dump.sql"
    path.write_bytes(b"a" * SIZE)
    os.utime(path, (1.6e9, 1.6e9))
    return path


def found(path: Path) -> DiskFile:
    return DiskFile.of(os.fsencode(path), path.stat())


def overwrite(path: Path, at: int, data: bytes) -> None:
    with path.open("r+b") as file:
        file.seek(at)
        file.write(data)


def test_a_file_that_grows_while_it_is_read_through_is_read_as_it_was(path: Path) -> None:
    pieces = []
    for piece in read_through(found(path)):
        pieces.append(piece)
        with path.open("ab") as file:
            file.write(b"more")
    assert b"".join(pieces) == b"a" * SIZE


@pytest.mark.parametrize("at", [0, SIZE // 2, SIZE - 64])
def test_a_file_that_is_written_anew_while_it_is_read_through_is_not_what_was_found(path: Path, at: int) -> None:
    def read() -> None:
        for number, _ in enumerate(read_through(found(path))):
            if not number:
                overwrite(path, at, b"b" * (SIZE - at + 1))

    with pytest.raises(ContentChanged, match="written anew"):
        read()


def test_a_file_that_is_cut_while_it_is_read_is_not_what_was_found(path: Path) -> None:
    def read(size: int) -> None:
        with opened_unaltered(found(path)):
            os.truncate(path, size)

    for size in (SIZE - 1, 0):
        with pytest.raises(ContentChanged, match="altered"):
            read(size)
        path.write_bytes(b"a" * SIZE)


def test_nothing_is_deflated_of_what_is_written_anew_meanwhile(path: Path, tmp_path: Path) -> None:
    cache = DeflateCache(tmp_path / "cache", 10**9)
    with pytest.raises(ContentChanged, match="written anew"):
        cache.pack(found(path), on_read=lambda _: overwrite(path, 0, b"b" * (SIZE + 1)))
    assert not any((tmp_path / "cache").iterdir())
    cache.close()


@given(st.integers(0, 10**7), st.integers(1, 10**7))
def test_samples_are_of_what_is_still_to_be_read(start: int, length: int) -> None:
    with open(os.devnull, "rb") as nothing:
        places = Samples.of(nothing.fileno(), start, start + length).places
    count = min(32, 1 + length // (256 * 1024))
    assert count <= len(places) <= count + 1
    assert min(places) >= start
    assert max(places) == max(start, start + length - 64)


@pytest.mark.parametrize(("size", "says"), [(SIZE - 1, "ended before"), (SIZE, None), (SIZE + 1, "anew")])
def test_samples_tell_only_of_what_is_longer(path: Path, size: int, says: str | None) -> None:
    source = found(path)
    with path.open("rb") as file:
        samples = Samples.of(file.fileno(), 0, SIZE)
        path.write_bytes(b"b" * size)
        if says is None:
            samples.check(source, file.fileno())  # the time tells, when the file is read to its end
            assert not source.is_at(file.fileno())
            return
        with pytest.raises(ContentChanged, match=says):
            samples.check(source, file.fileno())


def test_what_was_read_is_of_the_file_that_was_found_or_refused(path: Path) -> None:
    source = found(path)
    with path.open("rb") as file:
        assert read_unaltered(source, file.fileno(), 3, SIZE - 3) == b"aaa"
        os.utime(path, (1.7e9, 1.7e9))
        with pytest.raises(ContentChanged, match="altered while it was sent"):
            read_unaltered(source, file.fileno(), 3, 0)


def test_a_content_without_a_name_is_read_again_and_again_and_holds_one_descriptor(path: Path) -> None:
    spooled = SpooledFile(os.open(path, os.O_RDONLY), SIZE)
    before = len(os.listdir("/proc/self/fd"))
    for at in range(50):
        assert spooled.read(at, 10) == b"a" * 10
    assert len(os.listdir("/proc/self/fd")) == before


class Elsewhere:
    """Another system, which has one content."""

    unaltered = True

    def read(self, source: BlockingFile, offset: int, count: int) -> bytes:
        return f"{source.address} {offset} {count}".encode()

    async def pieces(self, source: BlockingFile, offset: int, count: int) -> AsyncIterator[bytes]:
        yield self.read(source, offset, count)

    def is_unaltered(self, _: BlockingFile) -> bool:
        return self.unaltered


def test_what_another_system_has_is_read_and_looked_at_there() -> None:
    there: Any = Elsewhere()
    source = BlockingFile(there, Address("objects", "a"), 10, "t")
    assert source.read(2, 3) == b"objects/a 2 3"

    async def pieces() -> list[bytes]:
        return [piece async for piece in source.pieces(4, 5)]

    assert asyncio.run(pieces()) == [b"objects/a 4 5"]
    assert source.is_unaltered()
    there.unaltered = False
    assert not source.is_unaltered()


def test_what_was_altered_elsewhere_while_it_was_read_through_is_told_at_the_end() -> None:
    there: Any = Elsewhere()
    source = BlockingFile(there, Address("objects", "a"), 10, "t")
    assert list(read_through(source)) == [b"objects/a 0 10"]
    there.unaltered = False
    with pytest.raises(ContentChanged, match="altered while it was read"):
        list(read_through(source))


def test_what_is_looked_at_when_it_is_read_needs_no_further_look(path: Path) -> None:
    spooled = SpooledFile(os.open(path, os.O_RDONLY), SIZE)
    assert spooled.is_unaltered()
    assert list(read_through(spooled))[-1] == b"a" * 100


def test_a_disk_that_fails_is_no_file_that_was_replaced(path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    def fails(*_: object) -> bytes:
        raise OSError(errno.EIO, "the disk is broken")

    source = found(path)
    monkeypatch.setattr(os, "pread", fails)
    with pytest.raises(OSError, match="the disk is broken"):
        source.read(0, 10)
    path.write_bytes(b"")
    with pytest.raises(ContentChanged, match="replaced or altered"):
        source.read(0, 10)


def test_what_is_personal_alone_is_made_for_whoever_asks() -> None:
    ann = Caller("ann", frozenset())

    def made(*, personal: bool) -> Made:
        recipe = Recipe(lambda caller: lambda: iter([str(caller.recipient).encode()]), personal=personal)
        return Made(lambda: iter([b"nobody"]), recipe=recipe)

    shared, plain = made(personal=False), Made(lambda: iter([b"nobody"]))
    assert shared.of(ann) is shared
    assert plain.of(ann) is plain
    assert list(made(personal=True).of(ann).chunks()) == [b"ann"]  # type: ignore[arg-type]


@pytest.mark.parametrize("looks", [1, 5, 6])
def test_a_file_that_is_appended_to_at_this_moment_is_what_was_found(
    path: Path, monkeypatch: pytest.MonkeyPatch, looks: int
) -> None:
    """The system has set its time, and will set its length in a moment."""
    source, looked = found(path), list[float]()
    os.utime(path)

    def sleep(seconds: float) -> None:
        looked.append(seconds)
        if len(looked) == looks:
            with path.open("ab") as file:
                file.write(b"more")

    monkeypatch.setattr("invio.stores.sources.time.sleep", sleep)
    with path.open("rb") as file:
        assert source.is_at(file.fileno()) is (looks <= 5)
    assert len(looked) == min(looks, 5)
    assert sum(looked) < 0.01, "nobody else waits for long"


@pytest.mark.parametrize("moment", [1.7e9, 4e9])
def test_a_file_that_was_altered_is_not_waited_for(path: Path, monkeypatch: pytest.MonkeyPatch, moment: float) -> None:
    source = found(path)
    os.utime(path, (moment, moment))
    monkeypatch.setattr("invio.stores.sources.time.sleep", lambda _: pytest.fail("it was waited for"))
    with path.open("rb") as file:
        assert not source.is_at(file.fileno())


def test_no_descriptor_is_left_of_what_was_refused_or_let_go(path: Path) -> None:
    source, before = found(path), len(os.listdir("/proc/self/fd"))
    SpooledFile(os.open(path, os.O_RDONLY), SIZE)  # which nobody holds
    os.utime(path, (1.7e9, 1.7e9))
    for _ in range(10):
        with pytest.raises(ContentChanged, match="replaced or altered"):
            source.open()
    assert len(os.listdir("/proc/self/fd")) == before

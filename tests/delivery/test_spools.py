"""What is made for an archive: bounded in time, size and room, and small contents in one file."""

from __future__ import annotations

import gc
import io
import os
import threading
import time
import zipfile
import zlib
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest

from invio.core.addresses import Address
from invio.core.archive.plan import RUN
from invio.core.archive.zip_layout import Entry, ZipLayout
from invio.core.files import FileFacts
from invio.core.http.replies import Slice
from invio.delivery.archives.plan import Plan
from invio.delivery.archives.spools import SMALL, Spool, SpooledPart, Spools
from invio.delivery.sending.errors import NobodyWaits
from invio.producers.failures import NotProduced
from invio.producers.room import Room
from invio.stores.sources import Made, SpooledFile
from invio.workers.pool import Pool
from tests.running import until

POOL = Pool("tests", 2, waiting=8)


def made(*pieces: bytes) -> Made:
    return Made(lambda: iter(pieces), POOL)


def address(number: int) -> Address:
    return Address("tables", f"{number}.csv")


def open_in(folder: Path) -> int:
    """How many files of a folder are open; what other tests leave behind is closed at some time or other."""
    gc.collect()
    there = [Path("/proc/self/fd", name) for name in os.listdir("/proc/self/fd")]
    return sum(os.readlink(one).startswith(f"{folder}/") for one in there if one.is_symlink())


def test_small_contents_of_a_bundle_share_a_file_and_give_all_back(tmp_path: Path) -> None:
    elsewhere = Room(tmp_path)
    elsewhere.take(7)
    spools = Spools(2, elsewhere)
    room = spools.room
    some = [spools.take("b1", address(number), made(b"%d," % number, b"metres")) for number in range(40)]
    assert [one.file.read(0, one.file.size) for one in some] == [b"%d,metres" % number for number in range(40)]
    assert some[17].file.read(3, 2) == b"me"
    assert [one.crc for one in some] == [zlib.crc32(b"%d,metres" % number) for number in range(40)]
    assert open_in(tmp_path) == 1
    assert room.used == sum(one.file.size for one in some)
    del some
    assert open_in(tmp_path) == 1, "two are kept for another plan of the bundle"
    spools.close()
    assert (open_in(tmp_path), room.used) == (0, 0)


def test_a_bundle_that_is_planned_again_has_the_same_content_and_another_one_its_own(tmp_path: Path) -> None:
    spools, runs = Spools(8, Room(tmp_path)), iter(range(9))
    anew = Made(lambda: iter([b"%d" % next(runs)]), POOL)
    first, again, other = (spools.take(bundle, address(1), anew) for bundle in ("b1", "b1", "b2"))
    assert first is again
    assert [one.file.read(0, 1) for one in (first, other)] == [b"0", b"1"]
    assert abs(first.made - time.time()) < 60


@pytest.mark.parametrize("size", [SMALL, SMALL + 1])
def test_a_large_content_has_a_file_of_its_own_which_takes_room_for_as_long(tmp_path: Path, size: int) -> None:
    spools, content = Spools(0, Room(tmp_path)), os.urandom(size)
    room = spools.room
    one = spools.take("b1", address(1), made(content[:9], content[9:]))
    assert (one.file.size, one.crc, one.file.read(5, size - 5)) == (size, zlib.crc32(content), content[5:])
    assert isinstance(one.file, SpooledFile) == (size > SMALL)
    assert room.used == size
    del one
    gc.collect()
    assert room.used == 0


def test_of_many_large_contents_a_few_have_files_of_their_own(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("invio.delivery.archives.spools.OWN_FILES", 2)
    contents = [os.urandom(SMALL + 1 + number) for number in range(5)]
    spools, plan = Spools(9, Room(tmp_path)), Plan(ZipLayout())
    for number, content in enumerate(contents):
        one = spools.take("b1", address(number), made(content))
        facts = FileFacts(address(number), one.file.size, None, None)
        plan.add(facts, one.file, Entry(f"{number}.csv", one.file.size, one.crc, None))
    plan.end()
    assert open_in(tmp_path) == 1 + 2 * 2, "of each of these also the one that it was made into"
    assert spools.room.used == sum(map(len, contents))
    parts = list(plan.content.cut(0, plan.content.size))
    whole = b"".join(
        part.source.read(part.offset, part.length) if isinstance(part, Slice) else part  # type: ignore[misc]
        for part in parts
    )
    with zipfile.ZipFile(io.BytesIO(whole)) as archive:
        assert [archive.read(name) for name in archive.namelist()] == contents
    longest = [part.length for part in parts if isinstance(part, Slice) and isinstance(part.source, SpooledPart)]
    assert max(longest) <= RUN, "what no descriptor is of is read a little at a time"


@pytest.mark.parametrize(
    ("room", "says"),
    [
        (Room(bytes=99), "it is larger than 99 bytes"),
        (Room(all_bytes=99), "as much is being made at present"),
    ],
)
def test_what_is_too_much_is_not_made(room: Room, says: str) -> None:
    spools = Spools(8, room)
    with pytest.raises(NotProduced, match=says):
        spools.take("b1", address(1), made(b"x" * 60, b"x" * 60))
    until(lambda: gc.collect() >= 0 and spools.room.used == 0)  # when the producer's thread has let go of it


def test_one_caller_s_archives_leave_half_of_the_threads_that_make_and_have_all_of_the_room() -> None:
    pool, hold, began = Pool("made", 2, waiting=8), threading.Event(), threading.Semaphore(0)

    def slow() -> Iterator[bytes]:
        began.release()
        hold.wait(20)
        yield bytes(size)

    size = SMALL + 1  # which has a file of its own
    spools, source = Spools(8, Room(all_bytes=2 * size, bytes=size)), Made(slow, pool)
    with ThreadPoolExecutor(2) as threads:
        taken = [threads.submit(spools.take, f"b{number}", address(number), source, whose="bob") for number in range(2)]
        assert began.acquire(timeout=10)
        assert pool.submit(int, "7", whose="ann").result(10) == 7
        hold.set()
        assert [one.result(20).file.size for one in taken] == [size, size]
    assert spools.room.used == 2 * size


def test_archives_that_nobody_obtains_make_room_for_new_ones() -> None:
    held: list[Spool] = []

    def gives_room() -> bool:
        if not held:
            return False
        held.clear()
        return True

    spools = Spools(0, Room(all_bytes=250), gives_room)
    held += [spools.take("b1", address(number), made(b"x" * 50)) for number in range(2)]
    assert spools.take("b2", address(1), made(b"y" * 120)).file.read(0, 3) == b"yyy"
    assert held == []
    with pytest.raises(NotProduced) as raised:
        spools.take("b3", address(1), made(b"z" * 251))
    assert raised.value.word == "busy"


def test_a_full_pool_makes_no_archive_be_forgotten() -> None:
    goes_on, pool = threading.Event(), Pool("full", 1)
    pool.submit(goes_on.wait, 5)
    spools = Spools(8, Room(), lambda: pytest.fail("there is room"))
    with pytest.raises(NotProduced) as raised:
        spools.take("b1", address(1), Made(lambda: iter([b"x"]), pool))
    goes_on.set()
    assert raised.value.word == "busy"


class Blocked:
    """A producer that does not give its first piece before it is let."""

    def __init__(self) -> None:
        self.goes_on, self.was_cancelled = threading.Event(), False

    def __iter__(self) -> Iterator[bytes]:
        return self

    def __next__(self) -> bytes:
        self.goes_on.wait(5)
        raise StopIteration

    def cancel(self) -> None:
        self.was_cancelled = True
        self.goes_on.set()


def test_what_takes_too_long_is_cancelled() -> None:
    blocked = Blocked()
    with pytest.raises(NotProduced, match=r"it took longer than 0\.01 seconds"):
        Spools(8, Room(seconds=0.01)).take("b1", address(1), Made(lambda: iter(blocked), POOL))
    assert blocked.was_cancelled


def test_what_nobody_waits_for_is_cancelled() -> None:
    blocked, asked = Blocked(), []

    def check() -> None:
        asked.append(1)
        if len(asked) > 1:
            raise NobodyWaits

    with pytest.raises(NobodyWaits):
        Spools(8, Room()).take("b1", address(1), Made(lambda: iter(blocked), POOL), check)
    assert blocked.was_cancelled

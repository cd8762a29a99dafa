"""Productions: one run for all who read, bounded, and stopped when nobody does."""

from __future__ import annotations

import asyncio
import gc
import hashlib
import os
import threading
from collections.abc import Iterator
from pathlib import Path
from unittest import mock

import pytest

from invio.producers import spooling
from invio.producers.failures import NoRoom, NotProduced
from invio.producers.room import Room
from invio.producers.spooling import Production
from invio.workers.pool import Pool
from tests.running import until

WAIT = 10  # seconds that are never reached


class Steps:
    """Pieces that come when they are let, and tell what became of them."""

    def __init__(self, *pieces: bytes, error: BaseException | None = None) -> None:
        self.pieces, self.error = pieces, error
        self.runs, self.taken = 0, 0
        self.may, self.closed, self.cancelled = threading.Semaphore(0), threading.Event(), threading.Event()

    def __call__(self) -> Iterator[bytes]:
        self.runs += 1
        return self

    def __iter__(self) -> Iterator[bytes]:
        return self

    def __next__(self) -> bytes:
        while not self.may.acquire(timeout=0.02):
            if self.cancelled.is_set():
                raise RuntimeError("interrupted")
        if self.taken == len(self.pieces):
            raise self.error or StopIteration
        self.taken += 1
        return self.pieces[self.taken - 1]

    def cancel(self) -> None:
        self.cancelled.set()

    def close(self) -> None:
        self.closed.set()


def production(steps: Steps, spool: Room | None = None, pool: Pool | None = None) -> Production:
    return Production(steps, pool or Pool("test", 2), spool or Room())


def whole(one: Production) -> None:
    one.start()
    one.reach(0, whole=True)


def ended(pool: Pool) -> None:
    """Returns when no thread holds what was made any more: they have ended, or wait for something else."""
    for thread in threading.enumerate():
        if thread.name == "production":
            thread.join(WAIT)
    until(lambda: len(pool._idle) == pool._threads)


def made_of_eight_bytes(spool: Room) -> Production:
    """One that is whole, and that nobody else holds."""
    steps = Steps(b"12345678")
    one = production(steps, spool)
    for _ in range(2):
        steps.may.release()
    whole(one)
    assert steps.closed.wait(WAIT)
    ended(one._pool)
    return one


async def read(one: Production) -> bytes:
    return b"".join([piece async for piece in one.pieces()])


def test_a_hundred_readers_have_one_run_and_each_piece_as_it_comes() -> None:
    steps = Steps(b"a" * 10, b"b" * 300_000, b"c")
    one = production(steps)

    async def all_read() -> list[bytes]:
        first = one.pieces()
        steps.may.release()
        assert await anext(first) == b"a" * 10, "it is there before the rest is made"
        readers = [asyncio.ensure_future(read(one)) for _ in range(100)]
        for _ in range(3):
            steps.may.release()
        contents = await asyncio.gather(*readers)
        return [*contents, b"a" * 10 + b"".join([piece async for piece in first])]

    content = b"a" * 10 + b"b" * 300_000 + b"c"
    assert asyncio.run(all_read()) == [content] * 101
    assert steps.runs == 1
    assert (one.whole, one.length, one.sha256) == (True, len(content), hashlib.sha256(content).digest())
    assert steps.closed.wait(WAIT)
    descriptor = one.descriptor()
    assert os.pread(descriptor, 5, 8) == b"aabbb"
    os.close(descriptor)


@pytest.mark.parametrize("late", [False, True])
def test_what_fails_is_told_to_everybody_who_reads(late: bool) -> None:
    steps = Steps(*([b"begun"] if late else []), error=ValueError("no such gauge"))
    one = production(steps)

    async def both() -> list[object]:
        readers = [asyncio.ensure_future(read(one)) for _ in range(2)]
        for _ in range(2):
            steps.may.release()
        return list(await asyncio.gather(*readers, return_exceptions=True))

    for error in asyncio.run(both()):
        assert isinstance(error, NotProduced)
        assert str(error) == "the content could not be made (ValueError)"
    assert steps.closed.wait(WAIT) or not late


def test_what_nobody_reads_any_more_is_stopped_and_closed(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(spooling, "LINGERS", 0.0)
    steps = Steps(b"a", b"b")
    one = production(steps)

    async def leave() -> None:
        pieces = one.pieces()
        steps.may.release()
        await anext(pieces)
        await pieces.aclose()  # type: ignore[attr-defined]

    asyncio.run(leave())
    assert steps.cancelled.wait(WAIT)
    assert steps.closed.wait(WAIT)
    assert one.failed is not None


def test_who_waits_for_a_part_of_it_is_a_reader(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(spooling, "LINGERS", 0.0)
    monkeypatch.setattr(spooling, "_LOOKED_EVERY", 0.01)
    steps = Steps(b"abc", b"def")
    one = production(steps)

    async def wait() -> None:
        waiting = asyncio.ensure_future(one.reach_async(4, whole=False))
        await asyncio.sleep(0)
        one.start()
        steps.may.release()
        await asyncio.sleep(0.1)  # in which the watch looks several times
        assert (waiting.done(), one.readers, one.ends) == (False, 1, False)
        steps.may.release()
        await asyncio.wait_for(waiting, WAIT)

    asyncio.run(wait())
    assert (one.length, one.readers) == (6, 0)


def test_one_who_leaves_does_not_stop_it_for_the_others(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(spooling, "LINGERS", 0.0)
    steps = Steps(b"a", b"b")
    one = production(steps)

    async def leave() -> bytes:
        stays, leaves = asyncio.ensure_future(read(one)), one.pieces()
        steps.may.release()
        await anext(leaves)
        await leaves.aclose()  # type: ignore[attr-defined]
        for _ in range(2):
            steps.may.release()
        return await stays

    assert asyncio.run(leave()) == b"ab"


@pytest.mark.parametrize(
    ("spool", "word", "says"),
    [
        (Room(bytes=5), "not-made", "larger than 5 bytes"),
        (Room(all_bytes=5), "busy", "as much is being made at present as there is room for"),
        (Room(seconds=0.2), "not-made", "longer than 0.2 seconds"),
    ],
)
def test_what_is_made_is_bounded(spool: Room, word: str, says: str) -> None:
    steps = Steps(b"abc", b"def")
    one = production(steps, spool)
    steps.may.release()
    if not spool.seconds < 1:
        steps.may.release()
    with pytest.raises(NotProduced, match=says) as caught:
        whole(one)
    assert caught.value.word == word


def test_the_room_is_given_back_with_the_last_who_holds_it() -> None:
    spool = Room(all_bytes=10)
    one = made_of_eight_bytes(spool)
    assert spool.used == 8
    del one
    gc.collect()
    assert spool.used == 0


def test_one_caller_has_half_of_the_room_and_always_enough_for_one_content() -> None:
    spool = Room(bytes=4, all_bytes=10)
    spool.take(5, "bob")
    with pytest.raises(NoRoom) as bobs:
        spool.take(1, "bob")
    spool.take(4, "ann")
    with pytest.raises(NoRoom) as alls:
        spool.take(2)
    assert (bobs.value.whose, alls.value.whose, bobs.value.word) == ("bob", None, "busy")
    spool.give_back(5, "bob")
    spool.take(2, "bob")
    assert spool.used == 6
    Room(bytes=8, all_bytes=10).take(8, "bob")


def test_what_can_be_missed_is_dropped_until_there_is_room() -> None:
    spool, missed = Room(bytes=4, all_bytes=10), [("bob", 3), (None, 2), (None, 2)]

    def drop(whose: str | None) -> bool:
        for place, (theirs, count) in enumerate(missed):
            if whose in (None, theirs):
                del missed[place]
                spool.give_back(count, theirs)
                return True
        return False

    for whose, count in missed:
        spool.take(count, whose)
    spool.gives_room = drop
    spool.take(2, "bob")
    assert missed == [("bob", 3), (None, 2), (None, 2)], "there was room"
    spool.take(1, "bob")
    assert missed == [(None, 2), (None, 2)], "it was bob's part of the room that was taken"
    spool.take(4)
    assert missed == [(None, 2)]
    with pytest.raises(NoRoom):
        spool.take(9)
    assert (spool.used, missed) == (7, [])


def test_who_waits_for_all_of_it_has_it_made() -> None:
    steps = Steps(b"abc", b"def")
    for _ in range(3):
        steps.may.release()
    one = production(steps)
    asyncio.run(asyncio.wait_for(one.all(), WAIT))
    assert (one.whole, one.part(0, 10), one.readers) == (True, b"abcdef", 0)


def test_a_part_is_there_when_its_last_byte_is() -> None:
    steps = Steps(b"abc", b"def")
    one = production(steps)
    one.start()
    steps.may.release()
    asyncio.run(asyncio.wait_for(one.reach_async(3, whole=False), WAIT))
    assert one.part(1, 10) == b"bc"
    assert not one.ends


def test_who_makes_it_watches_it_and_returns_when_it_is_whole() -> None:
    steps, checks = Steps(b"abc"), []
    one = production(steps)

    def check() -> None:
        checks.append(one.readers)
        steps.may.release()

    one.make(check)
    assert (one.whole, one.length, one.readers) == (True, 3, 0)
    assert checks[0] == 1, "the maker is a reader"


def test_what_failed_takes_no_place_on_the_disk_and_none_of_the_room() -> None:
    spool = Room(bytes=5)
    steps = Steps(b"abc", b"def")
    one = production(steps, spool)
    for _ in range(2):
        steps.may.release()
    with pytest.raises(NotProduced):
        whole(one)
    descriptor = one.descriptor()
    until(lambda: os.fstat(descriptor).st_size == 0)
    os.close(descriptor)
    until(lambda: spool.used == 0)


def test_what_is_written_while_the_run_is_stopped_takes_none_of_the_room() -> None:
    spool, steps = Room(), Steps(b"abc")
    one = production(steps, spool)
    take = spool.take

    def stopped_meanwhile(count: int, whose: str | None) -> None:
        one._stop(NotProduced("nobody waits for it any more"))
        take(count, whose)

    with mock.patch.object(Room, "take", side_effect=stopped_meanwhile):
        one.start()
        steps.may.release()
        assert steps.closed.wait(WAIT)
    assert spool.used == 0


class Collecting(int):
    """A count of bytes that has garbage collected where it is counted: while the lock of the room is held."""

    def __radd__(self, other: int) -> int:
        gc.collect()
        return other + int(self)


def test_garbage_that_is_collected_while_room_is_taken_stops_nobody() -> None:
    spool = Room(all_bytes=100)
    one = made_of_eight_bytes(spool)
    one.itself = one  # type: ignore[attr-defined]  # a circle, as the traceback of an error makes one
    del one
    taking = threading.Thread(target=spool.take, args=(Collecting(5),), daemon=True)
    taking.start()
    taking.join(WAIT)
    assert not taking.is_alive()
    assert spool.used == 5


def test_more_than_may_be_made_at_once_is_refused() -> None:
    pool, steps = Pool("one", 1), Steps(b"a")
    first, second = production(steps, pool=pool), production(Steps(b"b"), pool=pool)
    first.start()
    with pytest.raises(NotProduced, match="too much of this is being made at once") as caught:
        second.start()
    assert caught.value.word == "busy"
    for _ in range(2):
        steps.may.release()
    whole(first)


def test_without_a_thread_nothing_is_made_and_it_is_told() -> None:
    pool, steps = Pool("one", 1), Steps(b"a")
    one = production(steps, pool=pool)
    with (
        mock.patch.object(threading.Thread, "start", side_effect=RuntimeError("no thread")),
        pytest.raises(NotProduced, match="too much of this is being made at once") as caught,
    ):
        one.start()
    assert caught.value.word == "busy"
    assert (one.ends, pool.taken) == (True, 0)


def test_a_full_disk_is_told_as_what_it_is() -> None:
    if not Path("/dev/full").exists():
        pytest.skip("this system has no device that is always full")
    steps = Steps(b"x" * 100_000)
    one = production(steps)
    with open("/dev/full", "wb") as full:
        os.dup2(full.fileno(), one._file.fileno())
    for _ in range(2):
        steps.may.release()
    with pytest.raises(NotProduced, match="the disk is full") as caught:
        whole(one)
    assert caught.value.word == "no-space"

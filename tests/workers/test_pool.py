"""Pools: as many calls as may, each answered or given up, and no call in another's way."""

from __future__ import annotations

import asyncio
import random
import threading
from collections import Counter
from collections.abc import AsyncIterator, Iterator
from concurrent.futures import Future, wait
from contextlib import asynccontextmanager, nullcontext
from contextvars import ContextVar
from functools import partial
from typing import Any
from unittest import mock

import pytest

from invio.workers import pool as pools
from invio.workers.pool import DeadlinePassed, Pool, PoolBusy, PoolsByName
from tests.running import until

NAME: ContextVar[str] = ContextVar("NAME", default="none")


def test_calls_beyond_what_may_run_and_wait_are_refused_at_once() -> None:
    pool, hold = Pool("seals", 2, waiting=1), threading.Event()
    held = [pool.submit(hold.wait, 10) for _ in range(3)]
    with pytest.raises(PoolBusy, match="seals: 3 calls"):
        pool.submit(int)
    hold.set()
    wait(held)
    assert pool.submit(int, "7").result(10) == 7


def test_a_second_call_does_not_wait_for_a_first_that_hangs() -> None:
    pool, hold = Pool("two", 2), threading.Event()
    pool.submit(int).result(10)  # one thread is idle now
    hanging = pool.submit(hold.wait, 20)
    try:
        assert pool.submit(int, "1").result(5) == 1
    finally:
        hold.set()
    hanging.result(10)


def test_what_hangs_by_one_name_keeps_nothing_by_another_waiting() -> None:
    named, hold = PoolsByName("kinds", 1), threading.Event()
    hanging = named.of("far").submit(hold.wait, 20)
    assert named.of("near").submit(int, "1").result(5) == 1
    assert (named.of("far").name, named.of("far").taken) == ("kinds-far", 1)
    with pytest.raises(PoolBusy):
        named.of("far").submit(int)
    hold.set()
    hanging.result(10)


def test_one_asker_has_half_of_the_threads_and_the_others_go_ahead_of_what_waits() -> None:
    pool, hold, began = Pool("fair", 4, waiting=8), threading.Event(), threading.Semaphore(0)

    def held() -> None:
        began.release()
        hold.wait(20)

    greedy = [pool.submit(held, whose="bob") for _ in range(6)]
    assert began.acquire(timeout=10)
    assert began.acquire(timeout=10)
    assert pool.submit(int, "1", whose="ann").result(10) == 1
    assert pool.submit(int, "2").result(10) == 2, "what is nobody's in particular has all of the threads"
    assert not began.acquire(blocking=False), "the third of one asker waits"
    hold.set()
    wait(greedy)
    assert began.acquire(timeout=10)
    assert pool.submit(int, "3", whose="bob").result(10) == 3


def test_one_asker_has_half_of_the_places_to_wait_too() -> None:
    pool, hold = Pool("fair", 4, waiting=8), threading.Event()
    greedy = [pool.submit(hold.wait, 20, whose="bob") for _ in range(6)]
    with pytest.raises(PoolBusy, match="fair: 6 calls of bob"):
        pool.submit(int, whose="bob")
    others = [pool.submit(hold.wait, 20, whose=name) for name in ("ann", "cem", "dee") for _ in range(2)]
    with pytest.raises(PoolBusy, match="fair: 12 calls run or wait"):
        pool.submit(int, whose="eve")
    greedy[-1].cancel()
    assert pool.submit(int, "7", whose="ann").cancel(), "a call that was given up leaves its place to others"
    hold.set()
    wait([*greedy, *others])
    until(lambda: pool.taken == 0)  # a call that ended is counted until its thread has told so
    assert pool.submit(int, "8", whose="bob").result(10) == 8


def test_calls_that_were_given_up_do_not_pile_up_behind_those_that_hang() -> None:
    pool, hold = Pool("fair", 2, waiting=4, deadline=0.01), threading.Event()
    hanging = pool.submit(hold.wait, 20, whose="bob")
    for _ in range(20):
        with pytest.raises(DeadlinePassed):
            pool.call(int, whose="bob")
    assert (pool.taken, len(pool._queue)) == (1, 0)
    hold.set()
    assert hanging.result(10)


def test_whoever_asks_every_call_is_made_and_no_more_of_one_at_once_than_may_be() -> None:
    pool, lock, chance = Pool("fair", 5, waiting=1000), threading.Lock(), random.Random(7)
    running: Counter[str] = Counter()
    most: Counter[str] = Counter()

    def work(whose: str, number: int) -> int:
        with lock:
            running[whose] += 1
            most[whose] = max(most[whose], running[whose])
        threading.Event().wait(0.001)
        with lock:
            running[whose] -= 1
        return number

    asked = [chance.choice("aaaab") for _ in range(400)]
    calls = [pool.submit(work, whose, number, whose=whose) for number, whose in enumerate(asked)]
    assert [call.result(30) for call in calls] == list(range(400))
    assert set(most) == {"a", "b"}
    assert max(most.values()) <= 3


def test_after_threads_have_ended_there_are_no_more_than_may_be(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(pools, "IDLE", 0.01)
    pool, hold, begun = Pool("rests", 1, waiting=1), threading.Event(), threading.Event()
    for _ in range(2):
        pool.submit(int).result(10)
        for thread in threading.enumerate():
            if thread.name == "rests-1":
                thread.join(10)
    held, waits = pool.submit(hold.wait, 20), pool.submit(begun.set)
    assert not begun.wait(0.1), "one runs at a time"
    hold.set()
    assert (held.result(10), waits.result(10)) == (True, None)
    assert begun.is_set()


def test_a_system_that_gives_no_thread_makes_no_pool_smaller() -> None:
    pool, hold = Pool("starved", 2, waiting=1), threading.Event()
    no_threads = partial(mock.patch.object, threading.Thread, "start", side_effect=RuntimeError("no thread"))
    with no_threads():
        for _ in range(4):  # more than there is room for: nothing is left of what was refused
            with pytest.raises(PoolBusy, match="starved: no thread could be started: no thread"):
                pool.submit(int)
    assert pool.taken == 0
    held = pool.submit(hold.wait, 20)
    with no_threads():
        waits = pool.submit(int, "5")  # for the one thread there is
    assert pool.submit(int, "6").result(10) == 6  # a second one can be had again
    hold.set()
    assert (held.result(10), waits.result(10)) == (True, 5)


def test_what_takes_longer_than_the_deadline_is_given_up_and_counted_until_it_returns() -> None:
    pool, begun, hold = Pool("slow", 1, deadline=0.02), threading.Event(), threading.Event()

    def work() -> None:
        begun.set()
        hold.wait(10)

    while not begun.is_set():  # a busy machine may take longer than that to begin: such a call is not made
        with pytest.raises(DeadlinePassed, match=r"slow: no answer within 0\.02 seconds"):
            pool.call(work)
    with pytest.raises(PoolBusy):
        pool.call(int)
    hold.set()


def test_a_call_that_was_given_up_before_it_began_is_not_made() -> None:
    pool, hold, made = Pool("one", 1, waiting=1), threading.Event(), threading.Event()
    first = pool.submit(hold.wait, 10)
    second = pool.submit(made.set)
    assert second.cancel()
    hold.set()
    first.result(10)
    assert pool.submit(made.is_set).result(10) is False


def test_errors_and_contexts_are_those_of_who_asked() -> None:
    pool = Pool("own", 1)
    NAME.set("asker")
    assert pool.call(NAME.get) == "asker"
    with pytest.raises(ValueError, match="invalid literal"):
        pool.call(int, "x")
    with pytest.raises(TimeoutError, match="its own"):
        pool.call(_times_out)

    async def on_a_loop() -> str:
        NAME.set("task")
        return await pool.run(NAME.get)

    assert asyncio.run(on_a_loop()) == "task"


def _times_out() -> None:
    raise TimeoutError("its own")


def test_idle_threads_end(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(pools, "IDLE", 0.001)
    pool = Pool("brief", 3)
    for _ in range(50):
        assert pool.call(int, "3") == 3
    for thread in threading.enumerate():
        if thread.name.startswith("brief"):
            thread.join(10)
            assert not thread.is_alive()


@pytest.mark.parametrize("fails", [False, True])
@pytest.mark.parametrize("waits", [True, False], ids=["awaited", "called"])
def test_a_call_that_ends_in_the_moment_of_its_deadline_has_ended(
    monkeypatch: pytest.MonkeyPatch, fails: bool, waits: bool
) -> None:
    pool, go = Pool("asking", 1, deadline=0.01), threading.Event()

    def work() -> str:
        assert go.wait(10)
        if fails:
            raise ValueError("its own fault")
        return "its answer"

    def end() -> None:
        """Has the call end, after its deadline has passed and before anybody looks."""
        go.set()
        while pool.taken:
            pass

    @asynccontextmanager
    async def timeout(seconds: float, real: Any = asyncio.timeout) -> AsyncIterator[None]:
        try:
            async with real(seconds):
                yield
        except TimeoutError:
            end()
            raise

    def result(future: Future[str], within: float | None = None, real: Any = Future.result) -> str:
        try:
            given: str = real(future, within)
        except TimeoutError:
            end()
            raise
        return given

    monkeypatch.setattr(asyncio, "timeout", timeout)
    monkeypatch.setattr(Future, "result", result)
    with pytest.raises(ValueError, match="its own fault") if fails else nullcontext():
        assert (asyncio.run(pool.run(work)) if waits else pool.call(work)) == "its answer"


def test_a_timeout_of_the_work_s_own_is_handed_on() -> None:
    def work() -> None:
        raise TimeoutError("somebody else did not answer")

    pool = Pool("asking", 1, deadline=10)
    with pytest.raises(TimeoutError, match="somebody else"):
        asyncio.run(pool.run(work))
    with pytest.raises(TimeoutError, match="somebody else"):
        pool.call(work)


@pytest.fixture
def full() -> Iterator[tuple[Pool, threading.Event]]:
    """A pool with one thread that is taken until the event is set."""
    pool, hold = Pool("full", 1), threading.Event()
    taken = pool.submit(hold.wait, 60)
    yield pool, hold
    hold.set()
    taken.result(60)


def test_who_waits_for_room_has_it_in_the_order_of_asking_and_tries_only_then(
    full: tuple[Pool, threading.Event], monkeypatch: pytest.MonkeyPatch
) -> None:
    """Two thousand who looked for it fifty times a second kept the event loop from everything else."""
    pool, hold = full
    tries, order, submit = Counter[str](), list[int](), pool.submit
    monkeypatch.setattr(pool, "submit", lambda *given: tries.update(["all"]) or submit(*given))

    async def work() -> None:
        waiting = [asyncio.ensure_future(pool.run_in_turn(partial(order.append, one), 60)) for one in range(200)]
        await asyncio.sleep(0)
        hold.set()
        await asyncio.gather(*waiting)

    asyncio.run(work())
    assert order == sorted(order)
    assert len(order) == 200
    assert tries["all"] <= 3 * 200
    assert not pool._for_room


def test_who_is_told_of_room_and_gives_up_tells_the_next(full: tuple[Pool, threading.Event]) -> None:
    pool, hold = full

    async def work() -> int:
        first, second = (asyncio.ensure_future(pool.run_in_turn(partial(int, one), 60)) for one in ("1", "2"))
        await asyncio.sleep(0)
        await asyncio.sleep(0)
        assert len(pool._for_room) == 2
        hold.set()
        until(lambda: len(pool._for_room) == 1)  # the first is told, and does not know it yet
        first.cancel()
        return await asyncio.wait_for(second, 60)

    assert asyncio.run(work()) == 2
    assert not pool._for_room


def test_nobody_waits_for_room_longer_than_they_may(full: tuple[Pool, threading.Event]) -> None:
    pool, _ = full
    with pytest.raises(PoolBusy):
        asyncio.run(pool.run_in_turn(int, 0.01))
    with pytest.raises(PoolBusy):
        pool.call_in_turn(int, 0.01)
    assert not pool._for_room


def test_threads_wait_for_room_as_well(full: tuple[Pool, threading.Event]) -> None:
    pool, hold = full
    others = Pool("others", 20)
    waiting = [others.submit(pool.call_in_turn, partial(int, str(one)), 60) for one in range(20)]
    until(lambda: len(pool._for_room) == 20)
    hold.set()
    assert [one.result(60) for one in waiting] == list(range(20))


@pytest.mark.parametrize("by_thread", [True, False])
def test_where_no_thread_can_be_started_it_is_tried_again(*, by_thread: bool, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(pools, "_AGAIN", 0.0)
    pool, start, fails = Pool("none", 1), threading.Thread.start, [True] * 3

    def started(thread: threading.Thread) -> None:
        if thread.name.startswith("none") and fails:
            fails.pop()
            raise RuntimeError("can't start new thread")
        start(thread)

    monkeypatch.setattr(threading.Thread, "start", started)
    seven = partial(int, "7")
    assert (pool.call_in_turn(seven, 60) if by_thread else asyncio.run(pool.run_in_turn(seven, 60))) == 7
    assert not fails

"""The feed: how transfers go in several processes, without any."""

from __future__ import annotations

import asyncio
from collections.abc import Collection, Iterable
from contextlib import ExitStack
from dataclasses import replace
from itertools import pairwise
from typing import Any

from invio.core.progress import Coverage
from invio.delivery.transfers.feed import HERE, TICK, Feed, Parts
from invio.delivery.transfers.live import LiveTransfer, LiveTransfers
from invio.delivery.transfers.states import Entries, TransferState, united, view
from invio.records.rows import BROKEN_OFF, COMPLETE, PARTIAL, RUNNING, TransferRow, new_transfer_id
from tests.clocks import run


def state(*coverage: tuple[int, int], tag: str | None = None, rate: float | None = None, **given: Any) -> TransferState:
    row = TransferRow(
        id=given.pop("id", "t1"), who="ann|mark", address="files/a", recipient="ann", link_id=None, via=None, tag=tag,
        network=None, etag="e", size=given.pop("size", 100), coverage=coverage,
        covered=sum(stop - start for start, stop in coverage), **given,
    )  # fmt: skip
    return TransferState(row, rate, rate)


def test_what_several_processes_send_of_a_file_is_united() -> None:
    whole = united([state((0, 40), rate=10.0), state((30, 60), (80, 90), rate=5.0, requests=3)])
    assert (whole.row.coverage, whole.row.covered, whole.rate, whole.row.requests) == ([(0, 60), (80, 90)], 70, 15, 3)
    assert view(whole)["seconds_left"] == 2.0
    assert united([state((0, 40))]).rate is None


def test_a_transfer_runs_as_long_as_it_does_anywhere_and_is_complete_when_its_parts_are_the_whole() -> None:
    runs = united([state((0, 50), state=PARTIAL), state((50, 60))])
    assert runs.row.state == RUNNING
    done = united([state((0, 50), state=PARTIAL), state((50, 100), state=BROKEN_OFF, reason="gone", updated=5.0)])
    assert (done.row.state, done.row.reason) == (COMPLETE, None)
    less = united([state((0, 50), state=PARTIAL), state((50, 99), state=BROKEN_OFF, reason="gone", updated=5.0)])
    assert (less.row.state, less.row.reason) == (BROKEN_OFF, "gone")


def test_a_state_is_the_same_when_it_has_been_sent_to_another_process() -> None:
    one = replace(state((0, 5), (7, 9), tag="t", rate=3.5), entries=Entries(3, 1, "b.txt"), estimate=12)
    again = TransferState.unpacked(one.packed())
    assert view(again) == view(one)
    assert again.changes == one.changes
    assert TransferState.unpacked(state().packed()).entries is None


def test_parts_are_kept_until_the_last_has_ended() -> None:
    parts = Parts()
    assert parts.runs(1, state((0, 10))).row.covered == 10
    assert parts.runs(2, state((50, 60))).row.covered == 20
    assert parts.ends(1, state((0, 50), state=PARTIAL)).row.state == RUNNING
    assert parts.ends(2, state((50, 100), state=PARTIAL)).row.state == COMPLETE
    assert parts._parts == {}


def test_what_a_dead_process_sent_is_lost_unless_another_one_goes_on() -> None:
    parts = Parts()
    parts.runs(1, state((0, 10)))
    parts.runs(2, state((50, 60)))
    assert not parts.loses(1, "t1"), "the other one goes on"
    assert parts.loses(2, "t1")
    assert parts.loses(2, "nobody-knows-it")
    assert parts._parts == {}


class Others:
    """Other processes, as a test has them."""

    def __init__(self) -> None:
        self.connected = 0
        self.states: list[tuple[int, TransferState]] = []
        self.ended: list[tuple[int, TransferState]] = []
        self.lost: list[tuple[int, str]] = []

    async def connect(self) -> None:
        self.connected += 1

    async def disconnect(self) -> None:
        self.connected -= 1

    def running(self) -> Iterable[tuple[int, TransferState]]:
        return list(self.states)

    def take_ended(self) -> Collection[tuple[int, TransferState]]:
        ended, self.ended = self.ended, []
        return ended

    def take_lost(self) -> Collection[tuple[int, str]]:
        lost, self.lost = self.lost, []
        return lost


def feed_of(rows: dict[str, TransferRow] | None = None) -> tuple[Feed, Others]:
    async def look_up(ids: Collection[str]) -> list[TransferRow]:
        return [row for one, row in (rows or {}).items() if one in ids]

    feed, others = Feed(LiveTransfers(), look_up), Others()
    feed.peers = others
    return feed, others


def test_each_watcher_is_handed_the_newest_of_what_concerns_it() -> None:
    async def work() -> None:
        feed, others = feed_of()
        others.states = [(2, state((0, 10), tag="one")), (2, state((0, 5), tag="two", id="t2"))]
        with feed.watching() as everything, feed.watching("one") as tagged:
            await feed.begun()
            assert sorted(change.row.id for change in everything.take()) == ["t1", "t2"]
            assert [change.shown["bytes"] for change in tagged.take()] == [10]
            assert feed.runs("t1")
            others.states[0] = (2, state((0, 20), tag="one"))
            await asyncio.sleep(TICK)
            others.states[0] = (2, state((0, 30), tag="one"))
            await asyncio.sleep(2 * TICK)
            assert [change.shown["bytes"] for change in tagged.take()] == [30], "the newest alone, to who was away"
            assert len(everything.take()) == 1, "of what has not changed nothing is told"
            others.states, others.ended = [], [(2, state((0, 100), tag="one", state=COMPLETE))]
            await asyncio.sleep(2 * TICK)
            assert [change.shown["state"] for change in tagged.take()] == ["complete"]
            assert not feed.runs("t1")
        assert others.connected == 1
        await asyncio.sleep(2 * TICK)
        assert (others.connected, feed.watched) == (0, 0), "while nobody watches, nobody is asked"

    run(work())


def test_what_a_dead_process_was_sending_is_told_of_once_the_records_say_how_it_ended() -> None:
    async def work() -> None:
        rows = {"t1": state((0, 10)).row}
        feed, others = feed_of(rows)
        others.states = [(2, state((0, 10)))]
        with feed.watching() as watcher:
            await feed.begun()
            watcher.take()
            others.states, others.lost = [], [(2, "t1")]
            await asyncio.sleep(8 * TICK)
            assert watcher.take() == [], "the records have it as running still"
            rows["t1"] = state((0, 10), state=BROKEN_OFF, reason="the process ended").row
            for _ in range(200):
                await asyncio.sleep(TICK)
                if watcher.pending:
                    break
            [change] = watcher.take()
            assert (change.shown["state"], change.shown["reason"]) == (BROKEN_OFF, "the process ended")
            assert feed._lost == {}

    run(work())


def test_of_more_ends_than_are_kept_each_is_told_by_the_records() -> None:
    async def work() -> None:
        rows = {"t1": state((0, 100), state=COMPLETE).row}
        feed, _ = feed_of(rows)
        live = LiveTransfer(state((0, 10)).row, ("ann", "files/a", "e", None), Coverage([(0, 10)]), [], durable=True)
        feed._board.add(live)
        with feed.watching() as watcher:
            await feed.begun()
            assert [change.shown["state"] for change in watcher.take()] == [RUNNING]
            feed._board.drop(live)  # as when its end is no longer among those that are kept
            feed._board._looked = 0.0
            await asyncio.sleep(8 * TICK)
            assert [change.shown["state"] for change in watcher.take()] == [COMPLETE]
            assert not feed.runs("t1")

    run(work())


def test_a_transfer_that_ends_and_goes_on_between_two_looks_runs() -> None:
    async def work() -> None:
        feed, others = feed_of()
        with feed.watching() as watcher:
            await feed.begun()
            others.ended, others.states = [(2, state((0, 10), state=PARTIAL))], [(2, state((0, 12)))]
            await asyncio.sleep(2 * TICK)
            assert [change.shown["state"] for change in watcher.take()] == [RUNNING]

    run(work())


def test_a_watcher_is_woken_by_what_is_new_and_now_and_then_all_the_same() -> None:
    async def work() -> None:
        feed, others = feed_of()
        with feed.watching("x") as watcher:
            await feed.begun()
            watcher.take()
            loop = asyncio.get_running_loop()
            begun = loop.time()
            await watcher.wait()
            assert 0.5 <= loop.time() - begun <= 1.5
            assert watcher.take() == []
            others.states = [(HERE + 1, state((0, 1), tag="x", id=new_transfer_id(1.7e9)))]
            begun = loop.time()
            await watcher.wait()
            assert loop.time() - begun <= 2 * TICK
            assert len(watcher.take()) == 1

    run(work())


def test_however_many_watch_each_may_look_in_time_whether_it_still_may() -> None:
    async def longest(watchers: int) -> float:
        feed, _ = feed_of()
        with ExitStack() as stack:
            watcher, *_ = [stack.enter_context(feed.watching("x")) for _ in range(watchers)]
            await feed.begun()
            loop = asyncio.get_running_loop()
            woken = [loop.time()]
            while woken[-1] < woken[0] + 20:
                await watcher.wait()
                watcher.take()
                woken.append(loop.time())
        return max(later - before for before, later in pairwise(woken))

    assert max(run(longest(watchers)) for watchers in (1, 40, 100, 110, 140, 1000)) <= 1.5


def test_many_who_watch_are_told_less_often_and_at_least_once_a_second() -> None:
    async def looks(watchers: int) -> float:
        feed, others = feed_of()
        with ExitStack() as stack:
            watching = [stack.enter_context(feed.watching("x")) for _ in range(watchers)]
            await feed.begun()
            loop, told, count = asyncio.get_running_loop(), 0, 0
            begun = loop.time()
            while loop.time() - begun < 20:
                count += 1
                others.states = [(2, state((0, count), tag="x", size=10**9))]
                await asyncio.sleep(TICK / 5)
                told += len(watching[0].take())
            return told / 20

    assert 3.5 <= run(looks(1)) <= 4
    assert 3.5 <= run(looks(35)) <= 4
    assert 1.3 <= run(looks(100)) <= 1.6
    assert 0.9 <= run(looks(3000)) <= 1.1

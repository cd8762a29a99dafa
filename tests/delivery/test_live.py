"""Live transfers: what is shown of those that run and of those that have just ended."""

from __future__ import annotations

from typing import Any

import pytest

from invio.core.progress import Coverage
from invio.delivery.sending.meter import Meter
from invio.delivery.transfers import live as module
from invio.delivery.transfers.live import LiveTransfer, LiveTransfers, RequestProgress
from invio.delivery.transfers.states import TransferState, view
from invio.records.rows import BROKEN_OFF, COMPLETE, HANDED_OFF, PARTIAL, TransferRow, new_transfer_id
from invio.workers.shared import SharedTable
from tests.core.test_archive import archive_of, entry


class Clock:
    """A clock that the test sets."""

    now = 100.0

    def monotonic(self) -> float:
        return self.now

    def time(self) -> float:
        return 1.7e9 + self.now


@pytest.fixture
def clock(monkeypatch: pytest.MonkeyPatch) -> Clock:
    clock = Clock()
    monkeypatch.setattr(module, "time", clock)
    return clock


def transfer(address: str = "files/a", **changes: Any) -> LiveTransfer:
    row = TransferRow(
        id=new_transfer_id(1.7e9), who="ann", address=address, recipient="ann", link_id=None, via=None, tag=None,
        network="192.0.2.7", etag="e", size=1000, **changes,
    )  # fmt: skip
    return LiveTransfer(row, (row.who, address, "e", None), Coverage(), [], requests=1)


def request(start: int, length: int) -> RequestProgress:
    return RequestProgress(Meter(None), ((0, start, length),))


def everything(_: TransferRow) -> bool:
    return True


def test_what_runs_is_shown_with_what_has_arrived_and_how_fast(clock: Clock) -> None:
    board, one, two = LiveTransfers(), transfer(), transfer("files/b")
    first, second = request(0, 500), request(600, 100)
    for live, progress in ((one, first), (one, second), (two, request(0, 10))):
        board.add(live)
        board.join(live, progress)
    one.durable = True
    assert (board.requests, board.under_way()) == (3, [one])
    assert board.find(("ann", "files/a", "e", None)) is one
    first.meter.counted = 100
    [shown] = map(view, board.running(lambda row: row.address == "files/a"))
    assert (shown["bytes"], shown["percent"], shown["rate"], shown["requests"]) == (100, 10, None, 1)
    clock.now += 2
    first.meter.counted, second.meter.counted = 300, 100
    [shown] = map(view, board.running(lambda row: row.address == "files/a"))
    assert (shown["bytes"], shown["rate"], shown["seconds_left"], shown["state"]) == (400, 150, 4.0, "running")
    assert one.row.coverage == [(0, 300), (600, 700)]
    board.leave(one, first)
    assert board.requests == 2
    assert board.addresses() == {"files/a", "files/b"}


def test_one_look_a_moment_serves_all_who_watch(clock: Clock) -> None:
    board, one = LiveTransfers(), transfer()
    progress = request(0, 500)
    board.add(one)
    assert board.snapshot() == [], "the records do not know of it"
    one.durable = True
    clock.now += 0.3
    board.join(one, progress)
    progress.meter.counted = 100
    assert [state.row.covered for state in board.snapshot()] == [100]
    progress.meter.counted = 200
    clock.now += 0.1
    assert [state.row.covered for state in board.snapshot()] == [100]
    clock.now += 0.2
    assert [state.row.covered for state in board.snapshot()] == [200]


def test_what_has_ended_is_told_once_by_its_number_and_rests_a_while_when_something_is_missing(clock: Clock) -> None:
    board = LiveTransfers()
    with board.watching():
        done, part = transfer(), transfer("files/b")
        for live in (done, part):
            board.add(live)
        done.row.state, part.row.state = COMPLETE, PARTIAL
        board.end(done, done.row)
        seen = board.count
        board.end(part, part.row)
        assert (seen, board.count) == (1, 2)
        assert [state.row.address for state in board.ended_since(0)] == ["files/a", "files/b"]
        assert [state.row.address for state in board.ended_since(seen)] == ["files/b"]
        assert board.running(everything) == []
        assert board.addresses() == {"files/a", "files/b"}
        assert board.paused(done.key) is None
        assert board.paused(part.key) is part
        clock.now += 2.0
        board.forget_rested()
        assert board.resume(part.key) is part
        assert (part.row.state, board.find(part.key)) == ("running", part)
        assert [state.row.state for state in board.ended_since(seen)] == ["partial"], "as it ended"
        assert board.resume(part.key) is None, "it does not rest any more"
        part.row.state = PARTIAL
        board.end(part, part.row)
        clock.now += 2.1
        assert board.paused(part.key) is None
        board.forget_rested()
        assert board._resting == {}
        again, other = transfer("files/c"), transfer("files/d")
        for live in (again, other, again):
            live.row.state = PARTIAL
            board.end(live, live.row)
            clock.now += 1.5
        board.forget_rested()
        assert list(board._resting) == [again.key], "it ended once more, after the other"


def test_what_ends_while_nobody_watches_is_counted_and_not_kept() -> None:
    board, one, two = LiveTransfers(), transfer(), transfer("files/b")
    board.end(one, one.row)
    assert (board.count, board.ended_since(0), board.addresses()) == (1, [], set())
    with board.watching():
        with board.watching():
            board.end(two, two.row)
        assert [state.row.address for state in board.ended_since(1)] == ["files/b"], "one watches still"
    assert board.ended_since(0) == [], "nobody will ask for it"


def test_a_transfer_may_go_on_under_another_row(clock: Clock) -> None:
    board, one, other = LiveTransfers(), transfer(), transfer()
    board.add(one)
    board.rename(one, other.row)
    assert one.row is other.row
    assert [state.row.id for state in board.running(everything)] == [other.row.id]
    newer = transfer()
    board.add(newer)
    board.drop(one)
    assert board.find(one.key) is newer, "the place of a newer one is its own"
    board.drop(newer)
    assert board.find(one.key) is None


@pytest.mark.parametrize(
    ("state", "covered", "size", "percent"),
    [
        (COMPLETE, 1000, 1000, 100),
        (COMPLETE, 7, None, 100),
        (BROKEN_OFF, 999, 1000, 99),
        (HANDED_OFF, 0, 1000, None),
        (PARTIAL, 5, None, None),
    ],
)
def test_a_hundred_per_cent_are_shown_of_what_is_complete(
    state: str, covered: int, size: int | None, percent: int | None
) -> None:
    row = transfer(state=state, covered=covered).row
    row.size = size
    shown = view(TransferState(row, 12.6, 12.6))
    assert (shown["percent"], shown["rate"], shown["seconds_left"]) == (percent, 13, None)
    assert (shown["entries"], shown["entry"]) == (None, None)


def test_what_arrives_of_several_ranges_counts_from_the_first_on() -> None:
    several = RequestProgress(Meter(None), ((10, 0, 5), (20, 50, 10)))
    for arrived, ranges in ((9, []), (13, [(0, 3)]), (24, [(0, 5), (50, 54)]), (99, [(0, 5), (50, 60)])):
        several.meter.counted = arrived
        coverage = Coverage()
        several.add_to(coverage)
        assert coverage.ranges == ranges
        assert several.extent(1000) == (0, 15, coverage.total)


def test_two_requests_meet_where_they_send_the_same_bytes() -> None:
    one = request(100, 50)
    assert one.meets(((0, 149, 1),))
    assert one.meets(((0, 0, 101),))
    assert one.meets(((0, 0, 1000),))
    assert not one.meets(((0, 150, 10),))
    assert not one.meets(((0, 0, 100), (200, 300, 10)))


def test_of_an_archive_it_is_shown_which_entry_is_next() -> None:
    archive = archive_of([entry(str(number), b"x" * 100) for number in range(3)])
    ends = [archive.places.at(number) for number in range(4)]
    for coverage, done, following in (
        ([], 0, "0"),
        ([(0, ends[1])], 1, "1"),
        ([(0, ends[1] - 1)], 0, "0"),
        ([(0, ends[3])], 3, None),
        ([(ends[1], ends[2])], 1, "0"),
        ([(0, ends[1]), (ends[2], ends[3])], 2, "1"),
    ):
        live = transfer(coverage=coverage)
        live.archive, live.arrived = archive, Coverage(coverage)
        shown = view(live.state(100.0))
        assert (shown["entries"], shown["entries_done"], shown["entry"]) == (3, done, following), coverage


def test_requests_are_counted_over_all_processes() -> None:
    table = SharedTable(2)
    here, there = (LiveTransfers(table.of(place)) for place in range(2))
    one, first, second = transfer(), request(0, 500), request(600, 100)
    here.join(one, first)
    there.join(transfer("files/b"), request(0, 10))
    assert (here.requests, here.requests_everywhere, there.requests_everywhere) == (1, 2, 2)
    here.join(one, second)
    here.leave(one, first)
    here.leave(one, second)
    assert (here.requests, here.requests_everywhere, there.requests_everywhere) == (0, 1, 1)
    assert one.segments == []

"""Admission and settlement: what is fast does as what is thorough does, whatever comes."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Iterator
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import pytest
import sqlalchemy as sa
from hypothesis import given, settings
from hypothesis import strategies as st

from invio.core.addresses import parse_address
from invio.core.http.replies import FROM_THE_START, Reply
from invio.core.links.seals import link_target, make_link, parse_link
from invio.core.reasons import Refusal
from invio.core.rules.quotas import Quota
from invio.delivery.sending.meter import Meter
from invio.delivery.transfers import admission, settlement
from invio.delivery.transfers.exhausted import EndedLinks
from invio.delivery.transfers.keys import TransferKey
from invio.delivery.transfers.limits import Limits
from invio.delivery.transfers.live import LiveTransfer, RequestProgress
from invio.delivery.transfers.transfers import Transfers
from invio.records.database import open_database, write
from invio.records.journal import Journal
from invio.records.tables import links, quota_uses, transfers
from invio.records.transfer_requests import requests_of
from invio.workers.pool import Pool

FILES = Quota("three files", 3, None, 3600)
BYTES = Quota("some bytes", None, 450, 3600)
KEY = bytes(range(32))


@dataclass(frozen=True)
class Get:
    """A GET of a whole file: by whom, by which link, against which quotas, and how much of it arrives."""

    recipient: str | None
    link: tuple[tuple[tuple[str, str], ...], tuple[tuple[str, str], ...]] | None  # before and after its key
    quotas: tuple[Quota, ...]
    size: int
    arrives: int  # hundredths

    def key(self) -> TransferKey:
        link = None
        if self.link is not None:
            target = link_target(make_link(parse_address("files/a"), "k1", KEY, *self.link))
            path, _, query = target.removeprefix("/get/").partition("?")
            link = parse_link(f"{path}?{query}")
        principal = f"recipient:{self.recipient}" if self.recipient else "network:192.0.2.7"
        who = principal if link is None else f"{principal}|{link.mark}"
        quotas = dict.fromkeys(self.quotas, 1)
        return TransferKey(who, "files/a", self.recipient, "192.0.2.7", link, quotas, principal=principal)


REQUESTS = st.builds(
    Get,
    recipient=st.sampled_from(["ann", "bob", None]),
    link=st.sampled_from(
        [
            None,
            ((), ()),
            ((("id", "L1"),), ()),
            ((("id", "L2"),), (("uses", "2"),)),
            ((("to", "bob"),), (("tag", "t"),)),
        ]
    ),
    quotas=st.sampled_from([(), (FILES,), (BYTES,), (FILES, BYTES)]),
    size=st.sampled_from([100, 200]),
    arrives=st.sampled_from([0, 50, 100]),
)


@pytest.fixture(scope="module")
def engines(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[sa.Engine, sa.Engine]]:
    folder: Path = tmp_path_factory.mktemp("admission")
    both = open_database(folder / "one.sqlite"), open_database(folder / "other.sqlite")
    yield both
    for engine in both:
        engine.dispose()


def account(engine: sa.Engine) -> list[list[tuple[Any, ...]]]:
    """What the records hold, but for ids and times; of quotas the sums, for uses of one moment are merged."""
    uses = quota_uses.c
    kept = (
        sa.select(*[column for column in transfers.c if column.name not in ("id", "started", "updated")]),
        sa.select(links.c.id, links.c.used),
        sa.select(
            uses.quota, uses.who, sa.func.sum(uses.files), sa.func.sum(uses.taken), sa.func.sum(uses.reserved)
        ).group_by(uses.quota, uses.who),
    )
    with engine.connect() as connection:
        return [sorted(map(tuple, connection.execute(what)), key=repr) for what in kept]


async def delivered(engine: sa.Engine, requests: list[Get], limits: Limits, fast: bool) -> list[str]:
    """Admits and settles requests one after the other; what each came to."""
    journal = Journal(engine)
    transfers_here = Transfers(engine, journal, limits)
    outcomes = []
    for request in requests:
        key, reply = request.key(), Reply(200, [], [bytes(request.size)], request.size)
        meter = Meter(None)
        try:
            if fast:
                live, progress = await _admitted(transfers_here, key, reply, meter)
            else:
                live, progress = await transfers_here.admission.admit(
                    key, reply, meter=meter, etag="etag", size=request.size, earlier=None
                )
        except Refusal as refusal:
            # The moment at which more is available is another one for each of the two.
            outcomes.append(f"{refusal.reason.word}: {refusal.detail.partition('; more is available')[0]}")
            continue
        meter.counted = request.size * request.arrives // 100
        transfers_here.settlement.settle(live, progress, None if request.arrives == 100 else "the client went away")
        await transfers_here.recorded()
        outcomes.append("sent")
    await journal.stop()
    return outcomes


async def _admitted(here: Transfers, key: TransferKey, reply: Reply, meter: Meter) -> Any:
    done = asyncio.get_running_loop().create_future()

    def told(live: LiveTransfer, progress: RequestProgress, error: BaseException | None) -> None:
        if error is None:
            done.set_result((live, progress))
        else:
            done.set_exception(error)

    here.admission.admit_whole(key, reply, meter, "etag", told)
    return await done


@settings(max_examples=60, deadline=None)
@given(st.lists(REQUESTS, min_size=1, max_size=6), st.sampled_from([None, 1, 3]))
def test_a_whole_file_is_accounted_for_alike_by_the_fast_and_the_thorough_way(
    engines: tuple[sa.Engine, sa.Engine], requests: list[Get], at_once: int | None
) -> None:
    limits = Limits(recipient_transfers=at_once)
    outcomes = []
    for engine, fast in zip(engines, (True, False), strict=True):
        with write(engine).begin() as connection:
            for table in (transfers, links, quota_uses):
                connection.execute(sa.delete(table))
        outcomes.append(asyncio.run(delivered(engine, requests, limits, fast)))
    fast_account, thorough_account = map(account, engines)
    assert outcomes[0] == outcomes[1]
    assert fast_account == thorough_account


class Delivering:
    """One process: ranges of a file of ten bytes, each of which the test ends when it likes."""

    def __init__(self, engine: sa.Engine, limits: Limits | None = None, link: str | None = None) -> None:
        self.engine = engine
        with write(engine).begin() as connection:
            for table in (transfers, links, quota_uses):
                connection.execute(sa.delete(table))
        self.journal = Journal(engine)
        self.here = Transfers(engine, self.journal, limits or Limits())
        sealed = None if link is None else parse_link(link.removeprefix("/get/"))
        self.key = TransferKey("recipient:ann", "files/a", "ann", "192.0.2.7", sealed, principal="recipient:ann")

    async def begin(
        self, start: int, stop: int, key: TransferKey | None = None
    ) -> tuple[LiveTransfer, RequestProgress]:
        asking = key or self.key
        whole = (start, stop) == (0, 10)
        spans = FROM_THE_START if whole else ((0, start, stop - start),)
        reply = Reply(200 if whole else 206, [], [bytes(stop - start)], stop - start, spans)
        earlier = None if whole else await self.here.admission.earlier(asking, "etag")
        return await self.here.admission.admit(asking, reply, meter=Meter(None), etag="etag", size=10, earlier=earlier)

    def end(self, begun: tuple[LiveTransfer, RequestProgress], arrived: int, broken: str | None = None) -> None:
        begun[1].meter.counted = arrived
        self.here.settlement.settle(*begun, broken)

    def rows(self) -> list[tuple[Any, ...]]:
        known = transfers.c
        with self.engine.connect() as connection:
            query = sa.select(known.state, known.covered, known.requests, known.reason).order_by(known.started)
            return [tuple(row) for row in connection.execute(query)]


def test_ranges_that_follow_at_once_go_on_without_asking_the_records(engines: tuple[sa.Engine, sa.Engine]) -> None:
    async def work() -> None:
        one = Delivering(engines[0])
        first = await one.begin(0, 4)
        both = await one.begin(2, 6)
        assert both[0] is first[0], "two at once are one transfer"
        one.end(first, 4)
        assert one.here.live.requests == 1
        one.end(both, 4)
        assert one.rows() == [("running", 0, 1, None)], "what was left partial is told a little later"
        third = await one.begin(6, 8)
        assert third[0].row.id == first[0].row.id
        one.here.settlement.tell()
        await one.journal.call(lambda _: None)
        assert one.rows()[0][0] == "running", "for it goes on"
        one.end(third, 2)
        await one.here.recorded()
        assert one.rows() == [("partial", 8, 3, None)]
        last = await one.begin(8, 10)
        one.end(last, 2)
        await one.journal.call(lambda _: None)
        assert one.rows() == [("complete", 10, 4, None)], "what is complete is told at once"
        assert one.here.live.running(lambda _: True) == []
        await one.journal.stop()

    asyncio.run(work())


def test_what_has_arrived_is_recorded_by_its_bytes(engines: tuple[sa.Engine, sa.Engine]) -> None:
    async def work() -> None:
        one = Delivering(engines[0])
        one.end(await one.begin(0, 10), 10)
        assert one.here.live.running(lambda _: True) == []
        other = replace(one.key, address="files/b")
        one.end(await one.begin(2, 5, other), 3)
        one.end(await one.begin(7, 9, other), 2)
        await one.here.recorded()
        with one.engine.connect() as connection:
            coverage = connection.execute(sa.select(transfers.c.coverage).order_by(transfers.c.started)).scalars().all()
        assert coverage == [[[0, 10]], [[2, 5], [7, 9]]]
        await one.journal.stop()

    asyncio.run(work())


def test_a_range_that_breaks_off_says_why_and_a_further_one_goes_on(engines: tuple[sa.Engine, sa.Engine]) -> None:
    async def work() -> None:
        one = Delivering(engines[0])
        one.end(await one.begin(0, 6), 3, "the client went away")
        await one.here.recorded()
        assert one.rows() == [("broken-off", 3, 1, "the client went away")]
        one.end(await one.begin(3, 10), 7)
        await one.here.recorded()
        assert one.rows() == [("complete", 10, 2, None)]
        await one.journal.stop()

    asyncio.run(work())


def test_what_is_refused_is_not_among_the_live_ones(engines: tuple[sa.Engine, sa.Engine]) -> None:
    async def work() -> None:
        one = Delivering(engines[0], Limits(recipient_transfers=1))
        other = replace(one.key, address="files/b")
        first = await one.begin(0, 10)
        for span in ((0, 10), (0, 5)):
            with pytest.raises(Refusal) as refused:
                await one.begin(*span, other)
            assert (refused.value.reason.word, refused.value.retry_after) == ("too-many", 5)
        assert [state.row.address for state in one.here.live.running(lambda _: True)] == ["files/a"]
        assert one.here.live.requests == 1
        one.end(first, 10)
        one.end(await one.begin(0, 5, other), 5)
        await one.here.recorded()
        assert [row[:2] for row in one.rows()] == [("complete", 10), ("partial", 5)]
        await one.journal.stop()

    asyncio.run(work())


def test_a_further_range_reserves_its_bytes_and_no_file(engines: tuple[sa.Engine, sa.Engine]) -> None:
    async def work() -> None:
        one = Delivering(engines[0])
        one.key = replace(one.key, quotas={BYTES: 1})
        for span in ((0, 4), (4, 10)):
            await one.begin(*span)
        with engines[0].connect() as connection:
            uses = connection.execute(sa.select(quota_uses.c.files, quota_uses.c.reserved)).all()
        assert [tuple(use) for use in uses] == [(1, 10)]
        await one.journal.stop()

    asyncio.run(work())


def test_two_whole_files_at_once_are_two_transfers(engines: tuple[sa.Engine, sa.Engine]) -> None:
    async def work() -> None:
        one = Delivering(engines[0])
        assert (await one.begin(0, 10))[0] is not (await one.begin(0, 10))[0]
        await one.journal.stop()

    asyncio.run(work())


def test_what_has_arrived_by_now_is_looked_at_where_it_counts(
    engines: tuple[sa.Engine, sa.Engine], monkeypatch: pytest.MonkeyPatch
) -> None:
    async def looks(limits: Limits, link: str | None, *spans: tuple[int, int]) -> int:
        one, counted = Delivering(engines[0], limits, link), list[None]()
        monkeypatch.setattr(one.here.admission._watch, "look_for_arrivals", lambda: counted.append(None))
        for span in spans:
            with contextlib.suppress(Refusal):
                await one.begin(*span)
        await one.journal.stop()
        return len(counted)

    def by(limits: Limits, link: str | None, *spans: tuple[int, int]) -> int:
        return asyncio.run(looks(limits, link, *spans))

    link = link_target(make_link(parse_address("files/a"), "k1", KEY, [("to", "ann")]))
    assert by(Limits(), None, (0, 10), (0, 4)) == 0
    assert by(Limits(recipient_transfers=5), None, (0, 10), (0, 4)) == 2
    assert by(Limits(), link, (0, 10)) == 0
    assert by(Limits(), link, (0, 4)) == 1
    assert by(Limits(requests=1), None, (0, 10), (0, 10)) == 1


def test_what_the_records_know_of_is_shown_to_those_who_watch(engines: tuple[sa.Engine, sa.Engine]) -> None:
    async def work() -> None:
        one = Delivering(engines[0])
        reply, meter = Reply(200, [], [bytes(10)], 10), Meter(None)
        begun = await _admitted(one.here, one.key, reply, meter)
        assert [state.row.address for state in one.here.live.snapshot()] == ["files/a"]
        assert one.rows() == [("running", 0, 0, None)], "nobody counts its requests before it has ended"
        one.end(begun, 4, "the client went away")
        await one.here.recorded()
        other = Transfers(one.engine, one.journal, Limits())  # which knows of it by the records alone
        earlier = await other.admission.earlier(one.key, "etag")
        assert earlier is not None
        spans = ((0, 4, 6),)
        live, _ = await other.admission.admit(
            one.key, Reply(206, [], [bytes(6)], 6, spans), meter=meter, etag="etag", size=10, earlier=earlier
        )
        assert [state.row.id for state in other.live.snapshot()] == [earlier.id] == [live.row.id]
        await one.journal.stop()

    asyncio.run(work())


def test_records_that_cannot_be_written_refuse_a_download(
    engines: tuple[sa.Engine, sa.Engine], monkeypatch: pytest.MonkeyPatch
) -> None:
    async def work() -> None:
        one = Delivering(engines[0])

        async def locked(_: object) -> None:
            raise sa.exc.OperationalError("INSERT", {}, Exception("database is locked"))

        monkeypatch.setattr(one.journal, "begin", locked)
        with pytest.raises(Refusal, match="cannot be written at present") as refused:
            await one.begin(0, 10)
        assert refused.value.reason.word == "unavailable"
        assert one.here.live.running(lambda _: True) == []
        await one.journal.stop()

    asyncio.run(work())


def test_what_goes_on_after_a_rest_counts_among_those_that_run_at_once(engines: tuple[sa.Engine, sa.Engine]) -> None:
    async def work() -> None:
        one = Delivering(engines[0], Limits(recipient_transfers=1))
        one.end(await one.begin(0, 4), 4)
        await one.here.recorded()
        other = await one.begin(0, 10, replace(one.key, address="files/b"))
        with pytest.raises(Refusal) as refused:
            await one.begin(4, 10)
        assert refused.value.reason.word == "too-many"
        one.end(other, 10)
        third = await one.begin(4, 8)
        one.end(await one.begin(8, 10), 2)  # of what runs already, a further request is no further transfer
        one.end(third, 4)
        await one.here.recorded()
        assert [row[:3] for row in one.rows()] == [("complete", 10, 3), ("complete", 10, 1)]
        await one.journal.stop()

    asyncio.run(work())


def test_a_process_delivers_no_more_at_once_than_it_may(engines: tuple[sa.Engine, sa.Engine]) -> None:
    async def work() -> None:
        one = Delivering(engines[0], Limits(requests=1))
        first = await one.begin(0, 10)
        with pytest.raises(Refusal) as refused:
            await one.begin(0, 10, replace(one.key, address="files/b"))
        assert (refused.value.reason.word, refused.value.retry_after) == ("busy", 5)
        one.end(first, 10)
        one.end(await one.begin(0, 10), 10)
        await one.journal.stop()

    asyncio.run(work())


def test_ranges_that_come_together_by_a_link_of_one_use_are_one_use(engines: tuple[sa.Engine, sa.Engine]) -> None:
    async def work() -> None:
        address = parse_address("files/a")
        link = link_target(make_link(address, "k1", KEY, [("id", "L1")], [("uses", "1")]))
        one = Delivering(engines[0], link=link)
        begun = await asyncio.gather(one.begin(0, 3), one.begin(3, 6), one.begin(6, 10))
        assert len({live.row.id for live, _ in begun}) == 1
        for each, arrived in zip(begun, (3, 3, 4), strict=True):
            one.end(each, arrived)
        await one.here.recorded()
        assert one.rows() == [("complete", 10, 3, None)]
        with engines[0].connect() as connection:
            assert connection.execute(sa.select(links.c.used)).scalars().all() == [1]
        with pytest.raises(Refusal) as refused:
            await one.begin(0, 10)
        assert refused.value.reason.word == "used-up"
        with pytest.raises(Refusal):
            await EndedLinks(engines[0], Pool("links", 1)).check_link(one.key.link)  # type: ignore[arg-type]
        assert one.here.live.requests == 0
        await one.journal.stop()

    asyncio.run(work())


def test_half_of_a_file_may_come_again_by_a_link_of_one_use_and_all_of_it_by_one_without(
    engines: tuple[sa.Engine, sa.Engine],
) -> None:
    async def work(link: str) -> list[str]:
        one, came = Delivering(engines[0], link=link), []
        for span in ((0, 8), (0, 4), (0, 4)):
            try:
                one.end(await one.begin(*span), span[1])
                came.append("sent")
            except Refusal as refusal:
                came.append(refusal.reason.word)
            await one.here.recorded()
        await one.journal.stop()
        return came

    address = parse_address("files/a")
    once = link_target(make_link(address, "k1", KEY, [("id", "L1")], [("uses", "1")]))
    assert asyncio.run(work(once)) == ["sent", "sent", "used-up"]
    assert asyncio.run(work(link_target(make_link(address, "k1", KEY, [("id", "L1")])))) == ["sent"] * 3


def test_whole_files_that_run_count_for_a_limit_of_how_many_run(engines: tuple[sa.Engine, sa.Engine]) -> None:
    async def work() -> None:
        one, reply = Delivering(engines[0], Limits(recipient_transfers=1)), Reply(200, [], [b"0123456789"], 10)
        live, progress = await _admitted(one.here, one.key, reply, Meter(None))
        assert one.rows() == [("running", 0, 1, None)]
        assert [state.row for state in one.here.live.running(lambda _: True)] == [live.row]
        with pytest.raises(Refusal) as refused:
            await _admitted(one.here, replace(one.key, address="files/b"), reply, Meter(None))
        assert refused.value.reason.word == "too-many"
        one.end((live, progress), 10)
        await _admitted(one.here, replace(one.key, address="files/b"), reply, Meter(None))
        await one.journal.stop()

    asyncio.run(work())


@pytest.mark.parametrize("counted", ["link", "quota", "limit"])
def test_where_the_records_have_a_say_what_is_left_partial_is_told_at_once(
    engines: tuple[sa.Engine, sa.Engine], counted: str
) -> None:
    async def work() -> None:
        link = link_target(make_link(parse_address("files/a"), "k1", KEY, [("id", "L1")]))
        limits = Limits(recipient_transfers=5) if counted == "limit" else None
        one = Delivering(engines[0], limits, link if counted == "link" else None)
        if counted == "quota":
            one.key = replace(one.key, quotas={FILES: 1})
        one.end(await one.begin(0, 3), 3)
        await one.journal.call(lambda _: None)
        assert one.rows() == [("partial", 3, 1, None)]
        one.end(await one.begin(3, 10), 7)
        await one.journal.call(lambda _: None)
        assert one.rows() == [("complete", 10, 2, None)]
        await one.journal.stop()

    asyncio.run(work())


def test_what_somebody_else_sends_is_handed_off_and_counts_whole(engines: tuple[sa.Engine, sa.Engine]) -> None:
    async def work() -> None:
        one = Delivering(engines[0])
        one.key = replace(one.key, quotas={BYTES: 1})
        one.here.settlement.hand_off(*await one.begin(0, 10))
        await one.here.recorded()
        assert one.rows() == [("handed-off", 0, 1, None)]
        with engines[0].connect() as connection:
            uses = list(map(tuple, connection.execute(sa.select(quota_uses.c.taken, quota_uses.c.reserved))))
        assert uses == [(10, 0)]
        assert one.here.live.running(lambda _: True) == []
        await one.journal.stop()

    asyncio.run(work())


def test_the_whole_goes_on_with_what_broke_off_and_with_nothing_else(engines: tuple[sa.Engine, sa.Engine]) -> None:
    async def work() -> None:
        one = Delivering(engines[0])

        async def goes_on() -> tuple[bool, bool]:
            """Whether it does in this process, and in one that knows of it by the records alone."""
            other = Transfers(one.engine, one.journal, Limits())
            here, there = [
                await some.admission.earlier(one.key, "etag", whole=True) is not None for some in (one.here, other)
            ]
            return here, there

        assert await goes_on() == (False, False)
        running = await one.begin(0, 10)
        assert await goes_on() == (False, False)
        one.end(running, 3, "the client went away")
        await one.here.recorded()
        assert await goes_on() == (True, True)
        one.end(await one.begin(3, 5), 2)
        await one.here.recorded()
        assert one.rows() == [("partial", 5, 2, None)]
        assert await goes_on() == (False, False), "a range that arrived did not break off"
        one.here.settlement.hand_off(*await one.begin(5, 10))
        await one.here.recorded()
        assert one.rows()[0][0] == "handed-off"
        assert await goes_on() == (False, False), "of what a front server sends nothing broke off here"
        await one.journal.stop()

    asyncio.run(work())


def test_a_transfer_that_goes_on_from_elsewhere_tells_of_both_places(engines: tuple[sa.Engine, sa.Engine]) -> None:
    async def work() -> None:
        one = Delivering(engines[0])
        one.end(await one.begin(0, 4), 4)
        elsewhere = replace(one.key, network="198.51.100.9", credential="token b")
        one.end(await one.begin(4, 10, elsewhere), 6)
        await one.here.recorded()
        with engines[0].connect() as connection:
            [(network, credential)] = connection.execute(sa.select(transfers.c.network, transfers.c.credential))
        assert "192.0.2.7" in network
        assert "198.51.100.9" in network
        assert credential == "token b"
        again = replace(one.key, address="files/b")
        one.end(await one.begin(0, 4, again), 4)
        await one.here.recorded()
        other = Transfers(one.engine, one.journal, Limits())
        elsewhere = replace(again, network="203.0.113.4")
        earlier = await other.admission.earlier(elsewhere, "etag")
        reply, meter = Reply(206, [], [bytes(6)], 6, ((0, 4, 6),)), Meter(None)
        await other.admission.admit(elsewhere, reply, meter=meter, etag="etag", size=10, earlier=earlier)
        await one.journal.call(lambda _: None)
        with engines[0].connect() as connection:
            networks = connection.execute(sa.select(transfers.c.network).where(transfers.c.address == "files/b"))
            assert "203.0.113.4" in networks.scalar_one()
        await one.journal.stop()

    asyncio.run(work())


def test_of_what_was_reserved_what_did_not_arrive_is_given_back(engines: tuple[sa.Engine, sa.Engine]) -> None:
    async def work() -> None:
        one = Delivering(engines[0])
        one.key = replace(one.key, quotas={BYTES: 1})
        one.end(await one.begin(0, 10), 4, "the client went away")
        one.end(await one.begin(4, 10), 6)
        await one.here.recorded()
        assert one.rows() == [("complete", 10, 2, None)]
        with engines[0].connect() as connection:
            uses = list(map(tuple, connection.execute(sa.select(quota_uses.c.taken, quota_uses.c.reserved))))
        assert uses == [(10, 0)]
        await one.journal.stop()

    asyncio.run(work())


def test_what_was_sent_and_not_taken_is_broken_off_and_what_was_made_has_its_length(
    engines: tuple[sa.Engine, sa.Engine],
) -> None:
    async def work() -> None:
        one = Delivering(engines[0])
        begun = await one.begin(0, 10)
        begun[1].meter = Sent(10, 6)  # type: ignore[assignment]
        one.here.settlement.settle(*begun, None)
        await one.here.recorded()
        assert one.rows() == [("broken-off", 6, 1, "the client left before it had taken everything")]
        made = Reply(200, [], [], None)
        key = replace(one.key, address="files/made")
        for broken in (None, "the client went away"):
            live, progress = await one.here.admission.admit(
                key, made, meter=Meter(None), etag=None, size=None, earlier=None
            )
            one.end((live, progress), 7, broken)
        await one.here.recorded()
        assert one.rows()[1:] == [("complete", 7, 1, None), ("broken-off", 7, 1, "the client went away")]
        await one.journal.stop()

    asyncio.run(work())


@dataclass
class Sent:
    """A meter of what was handed over, of which less has arrived."""

    sent: int
    arrived: int

    @property
    def at_most(self) -> int:
        return self.arrived


async def part(here: Transfers, key: TransferKey, start: int, length: int) -> None:
    """Asks for a range of a file of 12 bytes, and has it arrive."""
    reply, meter = Reply(206, [], [bytes(length)], length, ((0, start, length),)), Meter(None)
    earlier = await here.admission.earlier(key, "etag")
    live, progress = await here.admission.admit(key, reply, meter=meter, etag="etag", size=12, earlier=earlier)
    meter.counted = length
    here.settlement.settle(live, progress, None)
    await here.recorded()


@pytest.mark.parametrize("elsewhere", [False, True], ids=["in one process", "completed by another"])
def test_what_has_arrived_whole_is_begun_anew_and_counts_as_that(engine: sa.Engine, elsewhere: bool) -> None:
    """A part, the whole, and a part again within two seconds: of the link, the last is another use."""
    key = Get("ann", ((("id", "L1"),), (("uses", "2"),)), (FILES,), 12, 100).key()

    async def asked() -> None:
        journals = [Journal(engine, held_by=number) for number in (1, 2)]
        one, other = [Transfers(engine, journal, Limits()) for journal in journals]
        await part(one, key, 0, 1)
        await part(other if elsewhere else one, key, 0, 12)
        await part(one, key, 0, 1)
        await part(one, key, 4, 1)
        for journal in journals:
            await journal.stop()

    asyncio.run(asked())
    with engine.connect() as connection:
        rows = connection.execute(sa.select(transfers.c.state, transfers.c.coverage).order_by(transfers.c.id)).all()
        assert [tuple(row) for row in rows] == [("complete", [[0, 12]]), ("partial", [[0, 1], [4, 5]])]
        assert connection.execute(sa.select(links.c.used)).scalar_one() == 2
        assert connection.execute(sa.select(sa.func.sum(quota_uses.c.files))).scalar_one() == 2


def test_what_another_process_has_brought_by_then_is_known_to_who_joins_it(engine: sa.Engine) -> None:
    """Both look for an earlier transfer before either has begun one."""
    key = Get("ann", None, (), 12, 100).key()

    def asked(start: int, length: int) -> tuple[Reply, Meter]:
        return Reply(206, [], [bytes(length)], length, ((0, start, length),)), Meter(None)

    async def work() -> None:
        journals = [Journal(engine, held_by=number) for number in (1, 2)]
        one, other = [Transfers(engine, journal, Limits()) for journal in journals]
        await part(one, key, 0, 4)
        reply, meter = asked(8, 4)
        live, progress = await other.admission.admit(key, reply, meter=meter, etag="etag", size=12, earlier=None)
        assert live.arrived.ranges == [(0, 4)]
        assert live.requests == 2
        meter.counted = 4
        other.settlement.settle(live, progress, None)
        await other.recorded()
        for journal in journals:
            await journal.stop()

    asyncio.run(work())
    with engine.connect() as connection:
        rows = connection.execute(sa.select(transfers.c.state, transfers.c.coverage, transfers.c.requests)).all()
    assert [tuple(row) for row in rows] == [("partial", [[0, 4], [8, 12]], 2)]


def test_requests_are_written_down_one_by_one_the_first_of_very_many(
    engine: sa.Engine, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(settlement, "KEPT", 3)
    ranges = [(0, 2), (4, 3), (8, 1), (9, 2)]

    async def work() -> str:
        journal = Journal(engine)
        here = Transfers(engine, journal, Limits())
        with here.live.watching():
            for start, length in ranges:
                await part(here, Get("ann", None, (), 12, 100).key(), start, length)
            row = here.live.ended_since(0)[0].row
        whole, reply, meter = Get("bob", None, (), 12, 100).key(), Reply(200, [], [bytes(12)], 12), Meter(None)
        live, progress = await here.admission.admit(whole, reply, meter=meter, etag="etag", size=12, earlier=None)
        meter.counted = 5
        here.settlement.settle(live, progress, "the client went away" + "!" * 300)
        await here.recorded()
        broken = live.row.id
        reply, meter = Reply(200, [], [bytes(12)], 12), Meter(None)
        counted = Get("ann", None, (BYTES,), 12, 100).key()
        live, progress = await here.admission.admit(counted, reply, meter=meter, etag="e2", size=12, earlier=None)
        meter.counted = 12
        here.settlement.settle(live, progress, None)
        await here.recorded()
        await journal.stop()
        with engine.connect() as connection:
            assert requests_of(connection, live.row.id) == [], "its own line says all of it"
            [one] = requests_of(connection, broken)
            assert (one.start, one.asked, one.arrived) == (0, 12, 5)
            assert one.reason == "the client went away" + "!" * 180
            assert 0 < one.began <= one.ended
        return row.id

    transfer = asyncio.run(work())
    with engine.connect() as connection:
        told = requests_of(connection, transfer)
    assert [(one.start, one.asked, one.arrived, one.reason) for one in told] == [
        (start, length, length, None) for start, length in ranges[:3]
    ]


class Left(Meter):
    """A meter of a client that has closed its side, and about which the sender does not know yet."""

    leaving = True


@pytest.mark.parametrize("ends", [True, False], ids=["it is gone", "it only closed its side"])
def test_who_begins_anew_waits_for_the_end_of_what_was_left(
    engine: sa.Engine, monkeypatch: pytest.MonkeyPatch, *, ends: bool
) -> None:
    monkeypatch.setattr(admission, "_LEFT_WITHIN", 10.0 if ends else 0.02)
    key = Get("ann", ((("id", "L3"),), (("uses", "1"),)), (), 10, 100).key()

    async def work() -> None:
        journal = Journal(engine)
        here = Transfers(engine, journal, Limits())
        reply, meter = Reply(200, [], [bytes(10)], 10), Left(None)
        live, progress = await here.admission.admit(key, reply, meter=meter, etag="etag", size=10, earlier=None)
        asked = asyncio.ensure_future(here.admission.earlier(key, "etag", whole=True))
        if not ends:
            assert await asked is None, "two at once of the whole are two"
        else:
            for _ in range(5):
                await asyncio.sleep(0)
            assert not asked.done()
            meter.counted = 4
            here.settlement.settle(live, progress, "the client went away")
            row = await asked
            assert row is not None
            assert row.id == live.row.id
        await here.recorded()
        await journal.stop()

    asyncio.run(work())

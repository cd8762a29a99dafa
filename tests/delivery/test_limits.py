"""What ends a link or a quota, what counts as one use, and what the history tells of refusals."""

from __future__ import annotations

import asyncio
import time

import pytest
import sqlalchemy as sa

from invio.core.addresses import parse_address
from invio.core.files import ANYONE, Caller
from invio.core.links.seals import SealedLink, make_link
from invio.core.progress import MOST_RANGES, Coverage
from invio.core.reasons import QuotaRefused, Refusal
from invio.core.rules.quotas import Quota
from invio.delivery.access.link_issuers import Makers
from invio.delivery.sending.meter import Meter
from invio.delivery.transfers import exhausted, refusal_log
from invio.delivery.transfers.ending import Endings
from invio.delivery.transfers.exhausted import EndedLinks, quota_refusal
from invio.delivery.transfers.link_reuse import OneUse
from invio.delivery.transfers.live import LiveTransfer, LiveTransfers, RequestProgress
from invio.delivery.transfers.refusal_log import RefusedRequests
from invio.records import wishes
from invio.records.database import write
from invio.records.journal import Journal
from invio.records.links import Maker, note_made, revoke
from invio.records.quotas import QuotaReached
from invio.records.recipients import save_recipient
from invio.records.rows import TransferRow, new_transfer_id
from invio.records.tables import transfers
from invio.workers.pool import Pool
from tests.clocks import SetClock

POOL = Pool("test", 2, waiting=8)


def link(**root: str) -> SealedLink:
    return make_link(parse_address("files/a"), "k1", bytes(32), root.items())


@pytest.fixture
def made(engine: sa.Engine) -> sa.Engine:
    """Records in which ann made the link `L1`, whose downloads count towards her quota."""
    with write(engine).begin() as connection:
        save_recipient(connection, "ann", "Ann", [])
        note_made(connection, link(id="L1"), "ann", ["monthly"])
        note_made(connection, link(id="L2"), None, [])
    return engine


def test_a_revoked_link_is_refused_within_a_second(made: sa.Engine, monkeypatch: pytest.MonkeyPatch) -> None:
    clock = SetClock()
    monkeypatch.setattr(exhausted, "time", clock)
    ended = EndedLinks(made, POOL)

    async def checked(*, again: bool) -> str | None:
        try:
            await ended.check("L1", 3, again=again)
        except Refusal as refusal:
            return refusal.reason.word
        return None

    async def work() -> list[str | None]:
        said = [await checked(again=False)]
        with write(made).begin() as connection:
            revoke(connection, "L1")
        said.append(await checked(again=True))  # what was known a second ago will do
        clock.now += 1.0
        said += [await checked(again=True), await checked(again=False)]
        return said

    assert asyncio.run(work()) == [None, None, "revoked", "revoked"]


def test_a_link_has_as_many_uses_as_it_says(made: sa.Engine) -> None:
    ended = EndedLinks(made, POOL)
    with write(made).begin() as connection:
        connection.execute(sa.text("UPDATE links SET used = 2 WHERE id = 'L1'"))
    asyncio.run(ended.check("L1", 3, again=False))
    asyncio.run(ended.check("L1", None, again=False))
    asyncio.run(ended.check("elsewhere", 1, again=False))
    with pytest.raises(Refusal, match="no uses left"):
        asyncio.run(ended.check("L1", 2, again=False))


def test_a_link_counts_towards_its_makers_quotas(made: sa.Engine) -> None:
    makers = Makers(made, POOL)

    async def of(*ids: str) -> list[Maker | None]:
        return [await makers.of(link(id=one)) for one in ids] + [await makers.of(link())]

    assert asyncio.run(of("L1", "L2", "unknown")) == [Maker("ann", ("monthly",)), None, None, None]


@pytest.mark.parametrize(
    ("who", "frees", "says", "wait"),
    [
        ("ann", None, "3 files in 1 hour; this file alone exceeds it", 3600),
        ("ann", 1090.5, "3 files in 1 hour; more is available at 1970-01-01 00:18:11 UTC", 91),
        ("ann", 900.0, "3 files in 1 hour; more is available at 1970-01-01 00:15:00 UTC", 1),
        ("bob", None, "downloads by this link count towards its maker's quota: 3 files", 3600),
    ],
)
def test_a_full_quota_says_what_it_is_and_when_there_is_more(
    monkeypatch: pytest.MonkeyPatch, who: str, frees: float | None, says: str, wait: int
) -> None:
    monkeypatch.setattr(exhausted, "time", SetClock(1000.0))
    reached = QuotaReached(Quota("monthly", 3, None, 3600, "Ask the desk.", "https://desk"), frees, "ann")
    refusal = quota_refusal(reached, who)
    assert isinstance(refusal, QuotaRefused)
    assert says in refusal.detail
    assert (refusal.retry_after, refusal.text, refusal.link) == (wait, "Ask the desk.", "https://desk")


def request(start: int, length: int, arrived: int = 0) -> RequestProgress:
    progress = RequestProgress(Meter(None), ((0, start, length),))
    progress.meter.counted = arrived
    return progress


def transfer(*arrived: tuple[int, int]) -> LiveTransfer:
    row = TransferRow(
        id=new_transfer_id(1.7e9), who="ann", address="files/a", recipient=None, link_id="L1", via=None, tag=None,
        network=None, etag="e", size=1000,
    )  # fmt: skip
    return LiveTransfer(row, (row.who, row.address, "e", None), Coverage(arrived), [], requests=1)


def test_half_of_a_file_may_be_had_again_and_more_is_another_use() -> None:
    uses, live = OneUse(), transfer((0, 600))
    assert uses.joined(live, None, request(600, 400), 1000) == (live, None), "what is missing"
    assert uses.joined(live, None, request(100, 300), 1000) == (live, None)
    assert uses.joined(live, None, request(400, 200), 1000) == (live, None), "500 of 1,000 again by now"
    assert uses.joined(live, None, request(0, 1), 1000) == (None, None)
    assert uses.joined(live, None, request(900, 100), 1000) == (live, None), "what is missing costs nothing still"


def test_what_only_the_records_know_of_is_gone_on_with_as_well() -> None:
    uses, earlier = OneUse(), transfer().row
    earlier.coverage = [(0, 600)]
    assert uses.joined(None, earlier, request(100, 500), 1000) == (None, earlier), "half of it again"
    assert uses.joined(None, earlier, request(0, 1), 1000) == (None, None)


def test_what_nobody_began_or_whose_size_nobody_knows_is_another_use() -> None:
    uses = OneUse()
    assert uses.joined(None, None, request(0, 10), 1000) == (None, None)
    assert uses.joined(transfer(), None, request(0, 10), None) == (None, None)
    torn = transfer(*((2 * at, 2 * at + 1) for at in range(MOST_RANGES)))
    assert uses.joined(torn, None, request(0, 1), 10**6) == (None, None), "too torn to be kept account of"


def test_what_two_transfers_got_again_is_counted_of_each() -> None:
    uses, one, other = OneUse(), transfer().row, transfer().row
    one.coverage = other.coverage = [(0, 600)]
    for earlier in (one, other):
        assert uses.joined(None, earlier, request(0, 500), 1000) == (None, earlier)


def test_what_a_request_under_way_has_brought_counts_as_arrived() -> None:
    uses, live = OneUse(), transfer()
    live.segments.append(request(0, 600, arrived=600))
    assert uses.joined(live, None, request(0, 501), 1000) == (None, None), "it has arrived, if not for long"


def test_a_file_may_come_in_so_many_pieces() -> None:
    for missing in (1, 2):
        torn = transfer(*((2 * at, 2 * at + 1) for at in range(MOST_RANGES - missing)))
        assert uses_joined(torn) is (missing == 2)


def uses_joined(live: LiveTransfer) -> bool:
    return OneUse().joined(live, None, request(10**5, 1), 10**6) == (live, None)


def test_no_byte_goes_to_two_clients_at_once(monkeypatch: pytest.MonkeyPatch) -> None:
    cut: list[tuple[Meter, str]] = []
    monkeypatch.setattr(Meter, "cut", lambda meter, why: cut.append((meter, why)))
    live, first, apart = transfer(), request(0, 500, arrived=100), request(500, 100)
    live.segments += [first, apart]
    assert OneUse().joined(live, None, request(400, 100), 1000) == (live, None)
    assert cut == [(first.meter, "another request went on with it")]


def test_of_too_many_refusals_the_history_tells_their_number(
    engine: sa.Engine, monkeypatch: pytest.MonkeyPatch, caplog: pytest.LogCaptureFixture
) -> None:
    monkeypatch.setattr(refusal_log, "_A_SECOND", 2)

    async def work() -> None:
        journal = Journal(engine)
        refused = RefusedRequests(journal)
        for number in range(5):
            refused.note(ANYONE, f"files/{number}", None, Refusal("missing", "there is no such file"))
        refused.note(ANYONE, "files/x", None, Refusal("busy", "is not told of"))
        refused.next_second()
        sealed = make_link(
            parse_address("files/a"), "k1", bytes(32), [("id", "L1"), ("to", "bob")], [("via", "v" * 150)] * 2
        )
        refused.note(Caller("ann", frozenset(), "192.0.2.7"), "a" * 5000, sealed, Refusal("expired", "it is over"))
        refused.next_second()
        await journal.stop()

    asyncio.run(work())
    with engine.connect() as connection:
        rows = {row.address: row for row in connection.execute(sa.select(transfers))}
    assert set(rows) == {"files/0", "files/1", "a" * 1000}
    of_link = rows["a" * 1000]
    assert (of_link.recipient, of_link.link_id, of_link.made_for, of_link.network) == ("ann", "L1", "bob", "192.0.2.7")
    assert of_link.reason == "expired: it is over"
    assert of_link.via == ("v" * 150 + " / " + "v" * 150)[:200]
    said = [line.fields["count"] for line in caplog.records if line.message == "history.refusals-left-out"]  # type: ignore[attr-defined]
    assert said == [3]


def test_a_transfer_is_ended_here_or_wished_ended_where_it_is(
    engine: sa.Engine, monkeypatch: pytest.MonkeyPatch
) -> None:
    cut: list[str] = []
    monkeypatch.setattr(Meter, "cut", lambda _, why: cut.append(why))

    async def work() -> list[bool]:
        journal, here = Journal(engine), LiveTransfers()
        mine, theirs = transfer(), transfer()
        mine.durable = True
        here.add(mine)
        here.join(mine, request(0, 10))
        endings = Endings(journal, here, engine, POOL)
        ended = [await endings.end(mine.row.id, "ann"), await endings.end(theirs.row.id, "bob")]
        await endings.look()
        assert cut == ["ended by ann"], "the other one is not here"
        there = LiveTransfers()
        theirs.durable = True
        there.add(theirs)
        there.join(theirs, request(0, 10))
        await Endings(journal, there, engine, POOL).look()
        await journal.stop()
        return ended

    assert asyncio.run(work()) == [True, False]
    assert cut == ["ended by ann", "ended by bob"]


def test_a_wish_is_forgotten_after_a_minute(engine: sa.Engine, monkeypatch: pytest.MonkeyPatch) -> None:
    with write(engine).begin() as connection:
        wishes.wish_ended(connection, "t1", "ann")
        assert wishes.to_be_ended(connection, ["t1", "t2"]) == {"t1": "ann"}
        monkeypatch.setattr(wishes, "time", SetClock(time.time() + 61))
        assert wishes.to_be_ended(connection, ["t1"]) == {}

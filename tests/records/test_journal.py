"""The journal: what goes on when others write, when nothing can be written, and when it begins the same as others."""

from __future__ import annotations

import asyncio
import sqlite3
import threading
from collections.abc import Iterator, Sequence
from contextlib import closing
from dataclasses import replace
from pathlib import Path
from unittest import mock

import pytest
import sqlalchemy as sa

from invio.core.rules.quotas import Claim, Quota
from invio.records import journal as module
from invio.records import statements
from invio.records.database import write
from invio.records.journal import Beginning, Joined, Journal
from invio.records.rows import BROKEN_OFF, COMPLETE, RUNNING, TransferRow
from invio.records.tables import links, quota_uses
from invio.records.transfers import ConcurrencyLimitReached, LinkExhausted
from tests.records.test_records import recorded, row

QUOTA = Quota("files a day", 5, None, 86_400)
BYTES = Quota("bytes a day", None, 1000, 86_400)


@pytest.fixture
def other(engine: sa.Engine, tmp_path: Path) -> Iterator[sqlite3.Connection]:
    """Another process, which writes to the records until it commits."""
    with closing(sqlite3.connect(tmp_path / "records.sqlite", isolation_level=None, check_same_thread=False)) as other:
        other.execute("BEGIN IMMEDIATE")
        yield other


async def stuck(engine: sa.Engine) -> tuple[Journal, asyncio.Task[None]]:
    """A journal whose first batch waits for another process, and the beginning that is in it."""
    journal = Journal(engine)
    first = asyncio.create_task(journal.begin(Beginning(row(1))))
    while not journal._in_worker:
        await asyncio.sleep(0.01)
    return journal, first


def test_what_comes_while_a_batch_waits_for_another_process_is_written_after_it(
    engine: sa.Engine, other: sqlite3.Connection
) -> None:
    async def work() -> None:
        journal, first = await stuck(engine)
        second = asyncio.create_task(journal.begin(Beginning(row(2))))
        await asyncio.sleep(0.01)
        assert not first.done()
        threading.Timer(0.05, other.execute, ["COMMIT"]).start()
        await asyncio.wait_for(asyncio.gather(first, second), 5)
        assert journal._giving_up is None, "nothing is refused any more"
        await journal.stop()

    asyncio.run(work())
    assert len(recorded(engine)) == 2


def test_nothing_is_refused_for_waiting_when_nothing_waits_for_another_process(engine: sa.Engine) -> None:
    async def work() -> None:
        journal = Journal(engine)
        begins = asyncio.create_task(journal.begin(Beginning(row(1))))
        await asyncio.sleep(0)
        journal._give_up()  # a timer that was set for a batch before
        await asyncio.wait_for(begins, 5)
        await journal.stop()

    asyncio.run(work())
    assert len(recorded(engine)) == 1


def test_what_comes_during_a_checkpoint_is_written_after_it(engine: sa.Engine, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(module, "_CHECKPOINT_LINES", 0)
    may_end, checkpoints = threading.Event(), list[int]()

    def checkpoint(journal: Journal) -> None:
        checkpoints.append(1)
        assert len(checkpoints) == 1 or may_end.wait(60)

    monkeypatch.setattr(Journal, "_checkpoint", checkpoint)

    async def work() -> None:
        journal = Journal(engine)
        await journal.begin(Beginning(row(1)))
        checkpointed = asyncio.create_task(journal.checkpoint())
        while not journal._in_worker:
            await asyncio.sleep(0)
        begins = asyncio.create_task(journal.begin(Beginning(row(2))))
        while journal._scheduled or not journal._waiting:
            await asyncio.sleep(0)
        assert not begins.done()
        may_end.set()
        await asyncio.wait_for(asyncio.gather(checkpointed, begins), 5)
        await journal.stop()

    asyncio.run(work())
    assert len(recorded(engine)) == 2


def test_what_waits_behind_a_batch_for_too_long_is_refused(
    engine: sa.Engine, other: sqlite3.Connection, monkeypatch: pytest.MonkeyPatch
) -> None:
    for name in ("_PATIENCE", "_AGAIN"):
        monkeypatch.setattr(module, name, 0.05)

    async def work() -> None:
        journal, first = await stuck(engine)
        for number in (2, 3):
            with pytest.raises(sa.exc.OperationalError, match="the records are locked"):
                await asyncio.wait_for(journal.begin(Beginning(row(number))), 5)
        assert not first.done(), "it may yet be written"
        other.execute("COMMIT")
        await asyncio.wait_for(first, 10)
        await journal.stop()

    asyncio.run(work())
    assert len(recorded(engine)) == 1


def test_what_broke_off_is_known_before_it_is_written_and_read_beside_what_breaks_nothing_off(
    engine: sa.Engine,
) -> None:
    async def work() -> None:
        journal = Journal(engine)
        one, two = row(1), row(2)
        who = one.who
        assert not await journal.any_broken_off(who)
        await journal.begin(Beginning(one))
        begins = asyncio.ensure_future(journal.begin(Beginning(two)))
        await asyncio.sleep(0)
        assert not await journal.any_broken_off(who)
        assert not begins.done(), "a beginning was not written for the question"
        await begins
        journal.write_whole(replace(two, state=COMPLETE))
        assert not await journal.any_broken_off(who)
        assert journal._waiting.whole, "nor was an ending"
        journal.write(replace(one, state=BROKEN_OFF))
        assert await journal.any_broken_off(who), "it waits to be written"
        assert not journal._waiting
        assert await journal.any_broken_off(who), "it was written"
        assert not await journal.any_broken_off("somebody else")
        await journal.stop()

    asyncio.run(work())


def test_a_question_that_cannot_be_read_at_once_waits_for_its_turn(
    engine: sa.Engine, other: sqlite3.Connection
) -> None:
    async def work() -> None:
        journal, first = await stuck(engine)
        asked = asyncio.ensure_future(journal.any_broken_off(row(1).who))
        await asyncio.sleep(0.01)
        assert not asked.done(), "what waits in the worker may have broken off"
        other.execute("COMMIT")
        await asyncio.wait_for(first, 5)
        assert not await asyncio.wait_for(asked, 5)
        broken = sa.exc.OperationalError("SELECT", None, sqlite3.OperationalError("busy"))
        with mock.patch.object(module, "any_broken_off", side_effect=[broken, True]):
            assert await journal.any_broken_off(row(1).who)
        await journal.stop()

    asyncio.run(work())


def test_records_that_cannot_be_read_are_told_as_such(engine: sa.Engine) -> None:
    async def work() -> None:
        journal = Journal(engine)
        await journal.begin(Beginning(row(1)))
        with write(engine).begin() as connection:
            connection.exec_driver_sql("ALTER TABLE transfers RENAME TO elsewhere")
        with pytest.raises(sa.exc.OperationalError, match="no such table"):
            await journal.any_broken_off(row(1).who)
        await journal.stop()

    asyncio.run(work())


def test_a_fault_is_logged_once(engine: sa.Engine, caplog: pytest.LogCaptureFixture) -> None:
    async def work() -> None:
        journal = Journal(engine)
        for error in ("no such table", "no such table", "disk I/O error"):
            journal._not_written(module._Batch(), sqlite3.OperationalError(error))
        await journal.stop()

    asyncio.run(work())
    said = [line.fields["error"] for line in caplog.records if line.message == "records.write-failed"]  # type: ignore[attr-defined]
    assert said == ["no such table", "disk I/O error"]


def test_what_cannot_be_written_is_refused_and_what_had_ended_is_written_later(
    engine: sa.Engine, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(module, "_AGAIN", 0.02)
    monkeypatch.setattr(module, "_PATIENCE", 0.1)

    def sql(statement: str) -> None:
        with sqlite3.connect(tmp_path / "records.sqlite") as other:
            other.execute(statement)
        other.close()

    async def work() -> None:
        journal = Journal(engine)
        begun = row(1)
        await journal.begin(Beginning(begun))
        sql("ALTER TABLE transfers RENAME TO elsewhere")
        journal.write(row(id=begun.id, covered=10, coverage=[[0, 10]], state=COMPLETE))
        counted = journal.call(lambda connection: connection.execute(sa.text("SELECT 1")).scalar())
        outcomes = await asyncio.gather(journal.begin(Beginning(row(2))), counted, return_exceptions=True)
        assert [isinstance(outcome, sa.exc.SQLAlchemyError) for outcome in outcomes] == [True, True]
        assert "no such table" in str(journal.fault)
        sql("ALTER TABLE elsewhere RENAME TO transfers")
        for _ in range(500):
            if recorded(engine)[0].state == COMPLETE:
                break
            await asyncio.sleep(0.01)
        assert [(kept.id, kept.state) for kept in recorded(engine)] == [(begun.id, COMPLETE)]
        assert journal.fault is None
        await journal.stop()

    asyncio.run(work())


@pytest.mark.parametrize("joins", [True, False])
def test_a_request_that_may_join_goes_on_with_what_another_process_began(engine: sa.Engine, joins: bool) -> None:
    async def work() -> None:
        here, there = Journal(engine, held_by=1), Journal(engine, held_by=2)
        begun = row(1, held_by=1)
        await here.begin(Beginning(begun))
        mine = Beginning(row(2, held_by=2), joins=joins, claims=[Claim(BYTES, 1, 300, "recipient:ann")])
        if joins:
            with pytest.raises(Joined) as joined:
                await there.begin(mine)
            assert (joined.value.row.id, joined.value.row.requests) == (begun.id, 2)
        else:
            await there.begin(mine)
        assert len(recorded(engine)) == (1 if joins else 2)
        with engine.connect() as connection:
            assert connection.scalar(sa.select(sa.func.sum(quota_uses.c.reserved))) == 300
        await here.stop()
        await there.stop()

    asyncio.run(work())


def test_a_revoked_link_goes_on_with_nothing_that_another_process_began(engine: sa.Engine) -> None:
    with write(engine).begin() as connection:
        connection.execute(sa.insert(links).values(id="a1", used=1, revoked=1.0))

    async def work() -> None:
        here, there = Journal(engine, held_by=1), Journal(engine, held_by=2)
        await here.begin(Beginning(row(1, held_by=1, link_id="a1")))
        with pytest.raises(LinkExhausted) as spent:
            await there.begin(Beginning(row(2, held_by=2, link_id="a1"), joins=True, counts="a1", limit=1))
        assert spent.value.word == "revoked"
        [kept] = recorded(engine)
        assert (kept.requests, kept.held_by) == (1, 1)
        await here.stop()
        await there.stop()

    asyncio.run(work())


def test_of_two_that_begin_at_once_the_first_counts_against_the_second(engine: sa.Engine) -> None:
    async def work() -> None:
        journal = Journal(engine)
        both = [journal.begin(Beginning(row(number), most=1)) for number in (1, 2)]
        first, second = await asyncio.gather(*both, return_exceptions=True)
        assert (first, type(second)) == (None, ConcurrencyLimitReached)
        await journal.stop()

    asyncio.run(work())
    assert len(recorded(engine)) == 1


def test_a_link_without_uses_is_said_to_be_so_before_a_quota_and_takes_nothing_of_it(engine: sa.Engine) -> None:
    with write(engine).begin() as connection:
        connection.execute(sa.insert(links).values(id="a1", used=3))

    async def work() -> None:
        journal = Journal(engine)
        full = Claim(Quota("none", 0, None, 86_400), 1, 0, "recipient:ann")
        for claim in (Claim(QUOTA, 1, 0, "recipient:ann"), full):
            with pytest.raises(LinkExhausted) as spent:
                await journal.begin(Beginning(row(link_id="a1"), counts="a1", limit=3, claims=[claim]))
            assert spent.value.word == "used-up"
        await journal.stop()

    asyncio.run(work())
    with engine.connect() as connection:
        assert connection.execute(sa.select(sa.func.count()).select_from(quota_uses)).scalar() == 0
    assert recorded(engine) == []


def test_a_stopped_journal_writes_what_waited_and_nothing_more(
    engine: sa.Engine, caplog: pytest.LogCaptureFixture
) -> None:
    async def work() -> None:
        journal = Journal(engine)
        begun = row(1)
        await journal.begin(Beginning(begun))
        journal.write(row(id=begun.id, covered=4, coverage=[[0, 4]], state=RUNNING))
        await journal.stop()
        assert recorded(engine)[0].covered == 4
        journal.write(row(id=begun.id, covered=8, coverage=[[0, 8]], state=RUNNING))
        await asyncio.sleep(module._LINGER * 2)
        assert recorded(engine)[0].covered == 4

    asyncio.run(work())
    assert not caplog.records, "no line is said to be lost"


@pytest.mark.parametrize("plain_comes", ["first", "second"])
def test_two_batches_are_plain_together_only_when_both_are(plain_comes: str) -> None:
    plain, other = module._Batch(), module._Batch()
    plain.begin(Beginning(row(1)))
    other.begin(Beginning(row(2), most=1))
    first, second = (plain, other) if plain_comes == "first" else (other, plain)
    first.followed_by(second)
    assert (len(first), first.plain) == (2, False)


def test_what_is_changed_by_further_requests_is_not_plain() -> None:
    for requests, plain in ((0, True), (1, True), (2, False)):
        batch = module._Batch()
        batch.change(row(requests=requests))
        assert batch.plain is plain


def test_a_damaged_database_is_told_in_its_own_words_and_its_connection_is_used_no_more(
    engine: sa.Engine, monkeypatch: pytest.MonkeyPatch
) -> None:
    async def work() -> None:
        journal = Journal(engine)
        begun = row(1)
        await journal.begin(Beginning(begun))
        commit, before = journal._commit, journal._connection
        damaged = sqlite3.DatabaseError("database disk image is malformed")
        monkeypatch.setattr(journal, "_commit", lambda *_: (_ for _ in ()).throw(damaged))
        journal.write(replace(begun, state=COMPLETE, covered=10))
        with pytest.raises(sa.exc.DatabaseError, match="is malformed"):
            await journal.begin(Beginning(row(2)))
        assert journal.fault == "database disk image is malformed"
        assert before is not None
        assert before.closed
        monkeypatch.setattr(journal, "_commit", commit)
        await journal.begin(Beginning(row(3)))
        assert journal.fault is None
        await journal.call(lambda _: None)
        journal.close()
        assert journal._connection is None

    asyncio.run(work())
    assert sorted(one.state for one in recorded(engine)) == [COMPLETE, RUNNING]


def test_what_a_short_transaction_keeps_out_is_written_on_the_loop_with_what_came_meanwhile(
    engine: sa.Engine, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    other = sqlite3.connect(tmp_path / "records.sqlite", isolation_level=None)
    written: list[int] = []
    rows = [row(number) for number in range(3)]
    plain = statements.write_plain

    def counting(driver: sqlite3.Connection, begun: Sequence[TransferRow], *more: Sequence[TransferRow]) -> None:
        plain(driver, begun, *more)
        written.append(len(begun))

    monkeypatch.setattr(statements, "write_plain", counting)

    async def work() -> None:
        journal = Journal(engine)
        monkeypatch.setattr(journal, "_wait_in_worker", lambda _: pytest.fail("no thread is to wait for it"))
        await journal.begin(Beginning(rows[0]))
        other.execute("BEGIN IMMEDIATE")
        first = asyncio.create_task(journal.begin(Beginning(rows[1])))
        while not journal._tries:
            await asyncio.sleep(0)
        journal.write(replace(rows[0], state=COMPLETE))
        second = asyncio.create_task(journal.begin(Beginning(rows[2])))
        await asyncio.sleep(0)
        other.execute("COMMIT")
        await asyncio.wait_for(asyncio.gather(first, second), 5)
        assert journal._tries == 0
        await journal.stop()

    asyncio.run(work())
    assert written == [1, 2], "what came while it waited went with it"
    states = {one.id: one.state for one in recorded(engine)}
    assert [states[one.id] for one in rows] == [COMPLETE, RUNNING, RUNNING]

"""The records: schema, recipients, and what one transaction may not get wrong."""

from __future__ import annotations

import asyncio
import sqlite3
import threading
import time
from collections.abc import Awaitable
from contextlib import closing
from dataclasses import replace
from pathlib import Path

import pytest
import sqlalchemy as sa
from alembic import command
from alembic.autogenerate import compare_metadata
from alembic.config import Config
from alembic.migration import MigrationContext

from invio.core.rules.quotas import Claim, Quota
from invio.records import quotas, statements, transfers
from invio.records.bundles import (
    BundleOptions,
    bundle_named,
    known_crcs,
    known_digests,
    new_bundle,
    save_bundle,
    save_crcs,
    save_digests,
)
from invio.records.database import MIGRATIONS, NewerRecords, open_database, write
from invio.records.journal import Beginning, Journal
from invio.records.recipients import (
    add_token,
    close_session,
    open_session,
    recipient_of_session,
    recipient_of_token,
    save_recipient,
)
from invio.records.rows import BROKEN_OFF, COMPLETE, RUNNING, TransferRow, new_transfer_id
from invio.records.tables import links, metadata, sessions, tokens
from invio.records.transfers import LinkExhausted

# Tables in which the records of version 0.1.0 that lie beside this file have something.
_OF_0_1 = ("recipients", "tokens", "transfers", "links", "checksums", "digests", "versions")


def row(number: int = 0, **changes: object) -> TransferRow:
    given: dict[str, object] = {
        "id": new_transfer_id(time.time() + number), "who": "recipient:ann", "recipient": "ann", "link_id": None,
        "via": None, "tag": None, "network": "127.0.0.1", "address": "files/a", "etag": "t", "size": 10, **changes,
    }  # fmt: skip
    return TransferRow(**given)  # type: ignore[arg-type]


def test_a_row_that_is_copied_says_the_same_and_is_another() -> None:
    one = row(version=2, coverage=[(0, 4)], covered=4, rendition="thumb", decided_by="line 3", held_by=7)
    other = one.copy()
    assert other == one
    other.state, other.reason = BROKEN_OFF, "gone"
    assert (one.state, one.reason) == (RUNNING, None)


def recorded(engine: sa.Engine) -> list[TransferRow]:
    with engine.connect() as connection:
        return transfers.newest(connection, 1000)


def test_the_migrations_make_the_tables_that_the_code_uses(engine: sa.Engine) -> None:
    with engine.connect() as connection:
        assert compare_metadata(MigrationContext.configure(connection), metadata) == []


def test_what_is_known_of_contents_outlives_a_change_of_its_table(engine: sa.Engine, tmp_path: Path) -> None:
    with write(engine).begin() as connection:
        save_crcs(connection, {"b": 2, "a": 1})
        save_digests(connection, {"a": bytes(32)})
    for move, revision in ((command.downgrade, "0019"), (command.upgrade, "0020")):
        config = Config()
        config.set_main_option("script_location", str(MIGRATIONS))
        with write(engine).begin() as connection:
            config.attributes["connection"] = connection
            move(config, revision)
        with engine.connect() as connection:
            assert known_crcs(connection, ["a", "b"]) == {"a": 1, "b": 2}
            assert known_digests(connection, ["a"]) == {"a": bytes(32)}


def test_records_of_the_first_version_are_brought_up_to_date_with_all_that_they_know(tmp_path: Path) -> None:
    path = tmp_path / "records.sqlite"
    with closing(sqlite3.connect(path)) as old:
        old.executescript((Path(__file__).parent / "records-0.1.0.sql").read_text())
        before = {table: old.execute(f"SELECT * FROM {table} ORDER BY 1, 2").fetchall() for table in _OF_0_1}
    engine = open_database(path)
    with engine.connect() as connection:
        assert compare_metadata(MigrationContext.configure(connection), metadata) == []
        for table, rows in before.items():
            found = connection.exec_driver_sql(f"SELECT * FROM {table} ORDER BY 1, 2").fetchall()
            assert [tuple(row)[: len(rows[0])] for row in found] == rows, table
        tern = recipient_of_token(connection, "a token of 0.1.0")
        assert tern is not None
        assert (tern.id, tern.groups) == ("tern-lab", frozenset({"researchers"}))
        [by_link, by_token] = transfers.newest(connection, 10)
        assert (by_link.state, by_link.link_id) == ("complete", "8c4f855e8c836d06")
        assert (by_token.state, by_token.recipient, by_token.covered) == ("partial", "tern-lab", 1000)
        with pytest.raises(transfers.LinkExhausted):
            transfers.check_link_use(connection, "8c4f855e8c836d06", 1)
        tag = "vf9ce38f29972534c69ca12cda7612b4b99125d44"
        assert known_crcs(connection, [tag]) == {tag: 1654804831}
        assert known_digests(connection, [tag])[tag].hex().startswith(tag[1:])
    engine.dispose()


def test_opening_twice_changes_nothing(engine: sa.Engine, tmp_path: Path) -> None:
    with write(engine).begin() as connection:
        save_recipient(connection, "ann", "Ann", ["a"])
    open_database(tmp_path / "records.sqlite").dispose()
    with engine.connect() as connection:
        assert connection.execute(sa.text("SELECT name FROM recipients")).scalar() == "Ann"


def test_records_of_a_later_version_are_refused_with_what_to_do(engine: sa.Engine, tmp_path: Path) -> None:
    with write(engine).begin() as connection:
        connection.execute(sa.text("UPDATE alembic_version SET version_num = '9999'"))
    with pytest.raises(NewerRecords, match=r"later version of Invio \(schema 9999.*another data folder"):
        open_database(tmp_path / "records.sqlite")


def test_a_token_tells_its_recipient_and_is_not_stored(engine: sa.Engine) -> None:
    with write(engine).begin() as connection:
        save_recipient(connection, "ann", "Ann", ["crew", "office"])
        token = add_token(connection, "ann", "laptop")
        found = recipient_of_token(connection, token)
        assert found is not None
        assert (found.id, found.groups) == ("ann", frozenset({"crew", "office"}))
        assert recipient_of_token(connection, token + "x") is None
        assert recipient_of_token(connection, "") is None
        stored = connection.execute(sa.select(tokens)).one()
        assert token not in str(stored)


def test_a_session_ends_by_signing_out_or_by_time(engine: sa.Engine) -> None:
    with write(engine).begin() as connection:
        save_recipient(connection, "ann", "Ann", [])
        opened = [open_session(connection, "ann") for _ in range(2)]
        first, second = [session.secret for session in opened if session is not None]
        assert open_session(connection, "ann", "a token that has ended") is None
        close_session(connection, first)
        assert recipient_of_session(connection, first) is None
        assert recipient_of_session(connection, second) is not None
        connection.execute(sa.update(sessions).values(expires=time.time() - 1))
        assert recipient_of_session(connection, second) is None


def test_a_bundle_is_remembered_until_it_is_over(engine: sa.Engine) -> None:
    with write(engine).begin() as connection:
        record = new_bundle("ann", "x.zip", ["files/a", "files/b/"], BundleOptions(sums=True))
        assert bundle_named(connection, record.id) is None
        save_bundle(connection, record)
        assert bundle_named(connection, record.id) == record
        connection.execute(sa.text("UPDATE bundles SET expires = 0"))
        assert bundle_named(connection, record.id) is None


def test_checksums_are_kept_by_tag(engine: sa.Engine) -> None:
    with write(engine).begin() as connection:
        save_crcs(connection, {f"tag-{number}": number for number in range(1200)})
        save_crcs(connection, {"tag-5": 5})
        asked = [f"tag-{number}" for number in range(1199, 1203)] + ["tag-5"]
        assert known_crcs(connection, asked) == {"tag-1199": 1199, "tag-5": 5}


@pytest.mark.parametrize("tags", [["0a", "ff"], ["a", 'quoted "one"', "back\\slash", "naïve", ""], ["é", "b"]])
def test_checksums_are_found_by_any_tag(engine: sa.Engine, tags: list[str]) -> None:
    crcs = {tag: number for number, tag in enumerate(tags)}
    with write(engine).begin() as connection:
        save_crcs(connection, crcs)
        assert known_crcs(connection, [*tags, "none"]) == crcs


def test_a_transfer_is_durable_when_begin_returns(engine: sa.Engine, tmp_path: Path) -> None:
    async def work() -> None:
        journal = Journal(engine)
        await journal.begin(Beginning(row()))
        # Another connection sees it before anything else happens here.
        with sqlite3.connect(tmp_path / "records.sqlite") as other:
            assert other.execute("SELECT state, address FROM transfers").fetchall() == [(RUNNING, "files/a")]
        journal.close()

    asyncio.run(work())


def test_what_was_written_last_counts_and_close_writes_the_rest(engine: sa.Engine) -> None:
    async def work() -> None:
        journal = Journal(engine)
        begun = row()
        await journal.begin(Beginning(begun))
        for covered, state in ((5, RUNNING), (10, COMPLETE)):
            changed = row(id=begun.id, covered=covered, coverage=[[0, covered]], state=state)
            journal.write(changed)
        journal.close()

    asyncio.run(work())
    [kept] = recorded(engine)
    assert (kept.state, kept.covered, kept.coverage) == (COMPLETE, 10, [[0, 10]])


def test_uses_of_a_link_are_never_one_too_many(engine: sa.Engine) -> None:
    async def work() -> list[BaseException | None]:
        journal = Journal(engine)
        asked = [journal.begin(Beginning(row(number, link_id="a1"), counts="a1", limit=7)) for number in range(40)]
        outcomes = await asyncio.gather(*asked, return_exceptions=True)
        journal.close()
        return outcomes

    outcomes = asyncio.run(work())
    assert sum(outcome is None for outcome in outcomes) == 7
    assert {outcome.word for outcome in outcomes if isinstance(outcome, LinkExhausted)} == {"used-up"}
    assert len(recorded(engine)) == 7


def test_a_revoked_link_is_not_used(engine: sa.Engine) -> None:
    with write(engine).begin() as connection:
        connection.execute(sa.insert(links).values(id="a1", used=0, revoked=1.0))

    async def work() -> None:
        journal = Journal(engine)
        with pytest.raises(LinkExhausted, match="revoked"):
            await journal.begin(Beginning(row(link_id="a1"), counts="a1"))
        journal.close()

    asyncio.run(work())
    assert recorded(engine) == []


def test_another_process_s_transaction_is_waited_for_beside_the_loop(engine: sa.Engine, tmp_path: Path) -> None:
    other = sqlite3.connect(tmp_path / "records.sqlite", isolation_level=None, check_same_thread=False)
    other.execute("BEGIN IMMEDIATE")
    threading.Timer(0.4, other.execute, ["COMMIT"]).start()

    async def work() -> tuple[float, int]:
        journal = Journal(engine)
        began = time.perf_counter()
        turns = 0

        async def count() -> None:
            nonlocal turns
            while True:
                await asyncio.sleep(0.01)
                turns += 1

        counting = asyncio.create_task(count())
        await asyncio.gather(*(journal.begin(Beginning(row(number))) for number in range(3)))
        waited = time.perf_counter() - began
        counting.cancel()
        journal.close()
        return waited, turns

    waited, turns = asyncio.run(work())
    assert waited > 0.3
    assert turns > 3, "the loop went on while the lines waited"
    assert len(recorded(engine)) == 3
    other.close()


def test_one_failed_piece_of_work_does_not_fail_its_neighbours(engine: sa.Engine) -> None:
    async def work() -> tuple[object, ...]:
        journal = Journal(engine)
        pieces: list[Awaitable[object]] = [
            journal.call(lambda connection: connection.execute(sa.text("SELECT no_such_column"))),
            journal.call(lambda connection: connection.execute(sa.text("SELECT 5")).scalar()),
            journal.begin(Beginning(row())),
        ]
        outcomes = await asyncio.gather(*pieces, return_exceptions=True)
        journal.close()
        return tuple(outcomes)

    failed, five, begun = asyncio.run(work())
    assert isinstance(failed, sa.exc.OperationalError)
    assert (five, begun) == (5, None)
    assert len(recorded(engine)) == 1


def test_a_range_goes_on_with_the_newest_unfinished_transfer_of_the_same_content(engine: sa.Engine) -> None:
    done, broken, other_tag, other_who = (
        row(1, state=COMPLETE), row(2, state=BROKEN_OFF), row(3, etag="u"), row(4, who="recipient:bob"),
    )  # fmt: skip
    old = row(-90_000, etag="old", state=BROKEN_OFF)
    with write(engine).begin() as connection:
        statements.insert(connection, [done, broken, other_tag, other_who, old])
        assert transfers.resumable(connection, "recipient:ann", "files/a", "old", None) is None, "it lay for too long"
        found = transfers.resumable(connection, "recipient:ann", "files/a", "t", None)
        assert found is not None
        assert found.id == broken.id
        assert transfers.resumable(connection, "recipient:ann", "files/a", "t", "a-tag") is None


def test_what_a_dead_process_left_running_is_broken_off(engine: sa.Engine) -> None:
    with write(engine).begin() as connection:
        statements.insert(connection, [row(1, state=RUNNING), row(2, state=COMPLETE)])
        assert transfers.break_off_orphans(connection, "the service ended") == 1
    states = {kept.id: (kept.state, kept.reason) for kept in recorded(engine)}
    assert sorted(states.values(), key=str) == [(BROKEN_OFF, "the service ended"), (COMPLETE, None)]


def test_ids_of_later_transfers_sort_after_earlier_ones() -> None:
    ids = [new_transfer_id(moment / 10) for moment in range(17_999_999_990, 18_000_000_010)]
    assert ids == sorted(ids)
    assert {len(name) for name in ids} == {20}


def test_a_line_that_is_written_alone_is_in_the_records_soon(engine: sa.Engine) -> None:
    async def work() -> None:
        journal = Journal(engine)
        begun = row()
        await journal.begin(Beginning(begun))
        journal.write(row(id=begun.id, covered=10, coverage=[[0, 10]], state=COMPLETE))
        end = time.monotonic() + 5
        while recorded(engine)[0].state != COMPLETE and time.monotonic() < end:
            await asyncio.sleep(0.01)
        assert recorded(engine)[0].state == COMPLETE, "and nothing else had to be written for it"
        journal.close()

    asyncio.run(work())


def test_after_a_checkpoint_the_journal_goes_on_and_its_log_is_short(
    engine: sa.Engine, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("invio.records.journal._CHECKPOINT_LINES", 0)
    wal = tmp_path / "records.sqlite-wal"

    async def work() -> None:
        journal = Journal(engine)
        for number in range(50):
            await journal.begin(Beginning(row(number)))
        await asyncio.gather(journal.checkpoint(), journal.begin(Beginning(row(50))))
        before = wal.stat().st_size
        await asyncio.wait_for(journal.begin(Beginning(row(51))), 5)
        assert wal.stat().st_size == before, "it begins anew from its start"
        journal.close()

    asyncio.run(work())
    assert len(recorded(engine)) == 52


def test_a_note_goes_by_itself_and_the_log_tells_of_one_that_failed(
    engine: sa.Engine, caplog: pytest.LogCaptureFixture
) -> None:
    async def work() -> None:
        journal = Journal(engine)
        noted = asyncio.Event()
        journal.note(lambda _: noted.set())
        await asyncio.wait_for(noted.wait(), 5)

        def fails(connection: sa.Connection) -> None:
            raise ValueError("no such thing")

        journal.note(fails)
        await journal.call(lambda _: None)
        await asyncio.sleep(0)
        journal.close()

    asyncio.run(work())
    assert [record.message for record in caplog.records] == ["records.write-failed"]


def test_a_transaction_that_fails_half_way_leaves_nothing_of_it(engine: sa.Engine) -> None:
    with write(engine).connect() as connection:
        driver = connection.connection.driver_connection
        assert driver is not None
        twice = row(1)
        with pytest.raises(sa.exc.OperationalError):
            statements.write_plain(driver, [twice, row(2), twice], [], [])
        assert not driver.in_transaction
        statements.write_plain(driver, [row(3)], [], [])
    assert len(recorded(engine)) == 1


@pytest.mark.parametrize("given", [
    {}, {"recipient": None, "who": "network:::1"}, {"tag": "t-1", "credential": "token t"},
    {"made_for": "bob", "decided_by": "seal: k1"}, {"network": None, "etag": None, "size": None},
    {"rendition": "thumb"}, {"version": 3}, {"link_id": "l-1", "via": "ann"},
])  # fmt: skip
def test_what_is_written_without_the_layers_is_what_is_written_with_them(
    engine: sa.Engine, given: dict[str, object]
) -> None:
    one = row(0, **given, requests=0)
    other = replace(one, id=new_transfer_id(time.time() + 1))
    with write(engine).begin() as connection:
        statements.insert(connection, [other])
    with write(engine).connect() as connection:
        driver = connection.connection.driver_connection
        assert driver is not None
        statements.write_plain(driver, [one], [], [])
        driver.row_factory = sqlite3.Row
        found = {line["id"]: dict(line) for line in driver.execute("SELECT * FROM transfers")}
    assert found[one.id] | {"id": ""} == found[other.id] | {"id": ""}
    assert {found[one.id][name] for name, value in given.items() if value is None} <= {None}


def test_uses_that_no_period_reaches_back_to_are_forgotten(engine: sa.Engine) -> None:
    claims = [Claim(Quota("q", 5, None, 3600), 1, 10, "recipient:ann")]
    with write(engine).begin() as connection:
        quotas.reserve(connection, "t1", claims, begins=True)
        quotas.forget(connection, time.time() - 60)
        assert quotas.used(connection, "recipient:ann", claims[0].quota) == (1, 10)
        quotas.forget(connection, time.time() + 60)
        assert quotas.used(connection, "recipient:ann", claims[0].quota) == (0, 0)

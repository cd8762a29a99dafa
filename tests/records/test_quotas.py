"""Quotas in the records: reserved, given back, taken by what died, and forgotten."""

from __future__ import annotations

import time
from collections.abc import Iterator
from pathlib import Path

import pytest
import sqlalchemy as sa

from invio.core.rules.quotas import Claim, Quota
from invio.records import quotas, statements
from invio.records.database import open_database, write
from invio.records.quotas import (
    QuotaReached,
    forget,
    frees_at,
    give_back,
    grant,
    reserve,
    reset,
    take_orphans,
    used,
)
from invio.records.tables import quota_uses
from tests.records.test_records import row

ANN = "recipient:ann"
QUOTA = Quota("crew", 3, 1000, 86_400)


@pytest.fixture
def records(tmp_path: Path) -> Iterator[sa.Connection]:
    engine = open_database(tmp_path / "records.sqlite")
    with write(engine).connect() as connection:
        yield connection
    engine.dispose()


def test_what_is_reserved_counts_until_it_is_given_back(records: sa.Connection) -> None:
    claim = Claim(QUOTA, 1, 600, ANN)
    reserve(records, "t1", [claim], begins=True)
    assert used(records, ANN, QUOTA) == (1, 600)
    with pytest.raises(QuotaReached, match=r"^crew$") as reached:
        reserve(records, "t2", [claim], begins=True)
    assert (reached.value.quota, reached.value.who) == (QUOTA, ANN)
    assert reached.value.frees == pytest.approx(time.time() + 86_400, abs=5)
    give_back(records, "t1", [claim], 100)
    assert used(records, ANN, QUOTA) == (1, 100)
    assert used(records, "recipient:bob", QUOTA) == (0, 0)


def test_a_further_request_of_a_transfer_counts_its_bytes_and_no_file(records: sa.Connection) -> None:
    first, second = Claim(QUOTA, 1, 200, ANN), Claim(QUOTA, 1, 300, ANN)
    reserve(records, "t1", [first], begins=True)
    reserve(records, "t1", [second], begins=False)
    assert used(records, ANN, QUOTA) == (1, 500)
    give_back(records, "t1", [first], 200)
    give_back(records, "t1", [second], 50)
    assert used(records, ANN, QUOTA) == (1, 250)
    # Of a transfer that began while no quota held.
    reserve(records, "t2", [second], begins=False)
    assert used(records, ANN, QUOTA) == (1, 550)


def test_a_further_request_needs_no_room_for_a_file(records: sa.Connection) -> None:
    claim = Claim(QUOTA, 1, 10, ANN)
    for name in ("t1", "t2", "t3"):
        reserve(records, name, [claim], begins=True)
    reserve(records, "t3", [claim], begins=False)
    with pytest.raises(QuotaReached):
        reserve(records, "t4", [claim], begins=True)


def test_where_one_of_several_quotas_has_no_room_none_is_touched(records: sa.Connection) -> None:
    narrow = Quota("narrow", 3, 10, 86_400)
    with pytest.raises(QuotaReached, match="narrow") as reached:
        reserve(records, "t1", [Claim(QUOTA, 1, 600, ANN), Claim(narrow, 1, 600, ANN)], begins=True)
    assert reached.value.frees is None, "it alone is more than that"
    assert used(records, ANN, QUOTA) == (0, 0)


def test_what_a_dead_process_had_reserved_is_taken(records: sa.Connection) -> None:
    dead, alive = row(1, held_by=1), row(2, held_by=2)
    statements.insert(records, [dead, alive])
    for transfer in (dead.id, alive.id):
        reserve(records, transfer, [Claim(QUOTA, 1, 300, ANN)], begins=True)
    take_orphans(records, 1, time.time() + 10)
    left = dict(map(tuple, records.execute(sa.select(quota_uses.c.transfer, quota_uses.c.reserved))))
    assert left == {dead.id: 0, alive.id: 300}
    give_back(records, dead.id, [Claim(QUOTA, 1, 300, ANN)], 0)
    assert used(records, ANN, QUOTA) == (2, 600), "whatever is given back afterwards"
    take_orphans(records)
    taken = records.execute(sa.select(sa.func.sum(quota_uses.c.taken), sa.func.sum(quota_uses.c.reserved))).one()
    assert tuple(taken) == (600, 0)


def test_what_no_period_reaches_back_to_is_forgotten(records: sa.Connection) -> None:
    reserve(records, "t1", [Claim(QUOTA, 1, 1, ANN)], begins=True)
    records.execute(sa.update(quota_uses).values(at=100.0))
    forget(records, 100.0)
    assert records.execute(sa.select(sa.func.count()).select_from(quota_uses)).scalar() == 1
    forget(records, 100.5)
    assert records.execute(sa.select(sa.func.count()).select_from(quota_uses)).scalar() == 0


def test_very_many_uses_become_few_and_count_the_same(records: sa.Connection, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(quotas, "_MOST", 10)
    wide = Quota("wide", 1000, 10_000, 86_400)
    for number in range(30):
        reserve(records, f"t{number}", [Claim(wide, 1, 7, ANN)], begins=True)
        give_back(records, f"t{number}", [Claim(wide, 1, 7, ANN)], 7)
    reserve(records, "running", [Claim(wide, 1, 5, ANN)], begins=True)
    assert used(records, ANN, wide) == (31, 215)
    assert used(records, ANN, wide) == (31, 215)
    lines = records.execute(sa.select(quota_uses.c.transfer)).scalars().all()
    assert len(lines) < 10
    assert "running" in lines, "what is under way is not merged"


@pytest.fixture
def clock(monkeypatch: pytest.MonkeyPatch) -> list[float]:
    """The moment that it is; a test moves it on."""
    moment = [100_000.0]
    monkeypatch.setattr(time, "time", lambda: moment[0])
    return moment


def test_a_use_counts_for_one_period_to_the_moment(records: sa.Connection, clock: list[float]) -> None:
    reserve(records, "t1", [Claim(QUOTA, 1, 10, ANN)], begins=True)
    assert frees_at(records, ANN, QUOTA) == clock[0] + 86_400
    clock[0] += 86_399
    assert used(records, ANN, QUOTA) == (1, 10)
    clock[0] += 1
    assert used(records, ANN, QUOTA) == (0, 0)
    assert frees_at(records, ANN, QUOTA) is None


def test_what_frees_first_is_the_oldest_that_counts_anything(records: sa.Connection, clock: list[float]) -> None:
    files = Quota("files", 10, None, 86_400)
    reserve(records, "of no byte", [Claim(files, 1, 0, ANN)], begins=True)
    clock[0] += 50
    # A further request of a transfer that no quota had counted: no file, and as much as it brings.
    reserve(records, "of no file", [Claim(files, 0, 0, ANN)], begins=False)
    reserve(records, "another", [Claim(files, 0, 1, ANN)], begins=False)
    assert frees_at(records, ANN, files) == 100_000.0 + 86_400
    records.execute(sa.delete(quota_uses).where(quota_uses.c.transfer == "of no byte"))
    assert frees_at(records, ANN, files) == 100_050.0 + 86_400
    records.execute(sa.delete(quota_uses).where(quota_uses.c.transfer == "another"))
    assert frees_at(records, ANN, files) is None, "what counts nothing frees nothing"


def test_a_quota_begins_anew_for_one_and_what_is_on_its_way_counts_once_it_arrives(records: sa.Connection) -> None:
    bob = "recipient:bob"
    for who in (ANN, bob):
        reserve(records, f"done of {who}", [Claim(QUOTA, 1, 100, who)], begins=True)
        give_back(records, f"done of {who}", [Claim(QUOTA, 1, 100, who)], 100)
    going = Claim(QUOTA, 1, 50, ANN)
    reserve(records, "going", [going], begins=True)
    reset(records, ANN, QUOTA)
    assert used(records, ANN, QUOTA) == (0, 50)
    left = records.execute(sa.select(quota_uses.c.transfer).where(quota_uses.c.who == ANN)).scalars().all()
    assert left == ["going"], "what counts no more is not kept"
    give_back(records, "going", [going], 30)
    assert used(records, ANN, QUOTA) == (0, 30)
    assert used(records, bob, QUOTA) == (1, 100)


def test_who_is_granted_more_has_that_much_more_room(records: sa.Connection, clock: list[float]) -> None:
    grant(records, ANN, QUOTA, 2, 500)
    assert used(records, ANN, QUOTA) == (-2, -500)
    reserve(records, "t1", [Claim(QUOTA, 1, 1000, ANN)], begins=True)
    assert used(records, ANN, QUOTA) == (-1, 500)
    clock[0] += 86_400
    assert used(records, ANN, QUOTA) == (0, 0)


def test_of_two_uses_in_a_part_of_the_period_one_line_is_left(
    records: sa.Connection, clock: list[float], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(quotas, "_MOST", 2)
    for name, later in (("alone", 0), ("first", 10_000), ("second", 10)):
        clock[0] += later
        reserve(records, name, [Claim(QUOTA, 1, 7, ANN)], begins=True)
        give_back(records, name, [Claim(QUOTA, 1, 7, ANN)], 7)
    assert used(records, ANN, QUOTA) == (3, 21)
    lines = list(records.execute(sa.select(quota_uses.c.transfer, quota_uses.c.at, quota_uses.c.files)).all())
    assert sorted((name[0], at, files) for name, at, files in lines) == [("a", 100_000.0, 1), ("~", 110_010.0, 2)]

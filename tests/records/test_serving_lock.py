"""Processes that serve from the same records, the records' own facts, and the clock."""

from __future__ import annotations

import fcntl
import sqlite3
import stat
from pathlib import Path

import pytest
import sqlalchemy as sa

from invio.records import database
from invio.records.database import UnusableRecords, open_database
from invio.records.facts import JUMP, look_at_clock, records_id
from invio.records.serving_lock import ServingLock, serving


def _joined(folder: Path) -> ServingLock:
    company = ServingLock(folder)
    company.joined()
    return company


def test_each_process_has_a_number_and_the_first_knows_that_it_is(tmp_path: Path) -> None:
    one, two = _joined(tmp_path), _joined(tmp_path)
    assert (one.first, two.first) == (True, False)
    assert (one.number, two.number) == (1, 2)
    assert (one.others(), two.others()) == ([2], [1])
    with one.left(2) as left:
        assert left is None  # it lives
    two.close()
    assert one.others() == []
    assert _joined(tmp_path).number == 2
    one.close()


def test_what_died_is_found_by_the_living_once(tmp_path: Path) -> None:
    living = _joined(tmp_path)
    # What a killed process leaves: a file that says since when, and nobody who holds it.
    (tmp_path / "serving" / "7.lock").write_text("1234.5")
    assert living.others() == [7]
    with living.left(7) as left:
        assert left is not None
        assert (left.number, left.since) == (7, 1234.5)
        with living.left(7) as again:
            assert again is None
    assert living.others() == []
    with living.left(7) as gone:
        assert gone is None
    living.close()


def test_a_number_that_is_given_again_tells_what_was_before(tmp_path: Path) -> None:
    (tmp_path / "serving").mkdir()
    (tmp_path / "serving" / "1.lock").write_text("99.0")
    company = ServingLock(tmp_path)
    assert company.before is not None
    assert (company.first, company.before.since) == (True, 99.0)
    company.joined()
    company.close()


def test_records_are_not_brought_up_to_date_under_a_service_that_runs(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    path, migrated = tmp_path / "records.sqlite", []
    monkeypatch.setattr(database, "migrate", lambda connection: migrated.append(connection))
    old = _joined(tmp_path)
    open_database(path).dispose()
    assert len(migrated) == 1, "of new ones there is no version before"
    with sqlite3.connect(path) as connection:
        connection.execute("CREATE TABLE alembic_version (version_num TEXT)")
        connection.execute("INSERT INTO alembic_version VALUES ('0001')")
    connection.close()
    with pytest.raises(UnusableRecords, match="a service of an earlier version of Invio runs with these records"):
        open_database(path)
    with pytest.raises(UnusableRecords):
        open_database(path, old.number + 1)
    assert len(migrated) == 1
    open_database(path, old.number).dispose()
    old.close()
    open_database(path).dispose()
    assert len(migrated) == 3


def test_who_serves_is_seen_from_outside(tmp_path: Path) -> None:
    assert serving(tmp_path) == []
    one, two = _joined(tmp_path), _joined(tmp_path)
    (tmp_path / "serving" / "7.lock").write_text("1234.5")  # of one that was killed
    assert sorted(serving(tmp_path)) == [1, 2]
    one.close()
    assert serving(tmp_path) == [2]
    two.close()
    assert (tmp_path / "serving" / "7.lock").read_text() == "1234.5", "it is put in order by who serves"


def test_processes_of_the_first_version_are_seen_as_well(tmp_path: Path) -> None:
    with open(tmp_path / "serving.lock", "w") as lock:
        assert serving(tmp_path) == [], "one that was left behind"
        fcntl.flock(lock, fcntl.LOCK_SH)
        assert serving(tmp_path) == [0]
        later = _joined(tmp_path)
        assert (later.number, later.first) == (1, False)
        later.close()


def test_the_records_have_an_id_that_stays(tmp_path: Path) -> None:
    file = tmp_path / "records.sqlite"
    for _ in range(2):
        engine = open_database(file)
        with engine.begin() as connection:
            told = records_id(connection)
            (tmp_path / "id").touch()
            known = (tmp_path / "id").read_text() or told
            (tmp_path / "id").write_text(told)
        engine.dispose()
        assert told == known
    assert len(told) == 16
    assert stat.S_IMODE(file.stat().st_mode) == 0o600


def test_after_a_jump_of_the_clock_nothing_is_forgotten_for_a_week(tmp_path: Path) -> None:
    engine = open_database(tmp_path / "records.sqlite")
    with engine.begin() as connection:
        now = 1_800_000_000.0
        assert look_at_clock(connection, now).trusted
        assert look_at_clock(connection, now + 3600).trusted
        ahead = look_at_clock(connection, now + 3600 + 3650 * 86_400)
        assert (ahead.trusted, ahead.jumped) == (False, 3650 * 86_400)
        back = look_at_clock(connection, now + 7200)
        assert (back.trusted, back.jumped < -JUMP) == (False, True)
        hours = 0
        while not look_at_clock(connection, now + 7200 + 3600 * (hours + 1)).trusted:
            hours += 1
        assert 160 < hours < 170
        assert connection.execute(sa.text("SELECT count(*) FROM facts")).scalar() == 2
    engine.dispose()

"""Webhooks in the records, by clocks that are given: what waits, who takes it, and when it is told again."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import pytest
import sqlalchemy as sa

from invio.core.webhooks import again_after
from invio.records import webhooks
from invio.records.audit import AuditLine, add_lines
from invio.records.database import open_database, write
from invio.records.rows import COMPLETE, PARTIAL, TransferRow
from invio.records.statements import insert
from invio.records.transfers import update
from invio.records.webhooks import Delivery, Webhook

HOOK = Webhook("aaaaaaaaaaaa", "https://192.0.2.1/", "", ("transfer.complete", "link.made"), 1.0, "ann")
OTHER = replace(HOOK, id="bbbbbbbbbbbb", events=("link.made",), made=2.0)
ROW = TransferRow("0" * 20, "recipient:bob", "bob", None, None, None, None, "files/a.txt", "tag", 3)


@pytest.fixture
def connection(tmp_path: Path) -> Iterator[sa.Connection]:
    engine = open_database(tmp_path / "records.sqlite")
    with write(engine).begin() as connection:
        yield connection
    engine.dispose()


def _link_made(connection: sa.Connection) -> None:
    add_lines(connection, [AuditLine(10.0, "link.made", "ann", None, None, {"link": "x"})])


def _triggers(connection: sa.Connection) -> int:
    return int(connection.exec_driver_sql("SELECT count(*) FROM sqlite_master WHERE type = 'trigger'").scalar_one())


def _events(connection: sa.Connection, hook: Webhook) -> list[tuple[str, str]]:
    return [(one.event, one.subject) for one in webhooks.page_of(connection, hook.id, None, 100)]


def test_what_happens_waits_for_those_who_asked_for_it_in_the_same_transaction(connection: sa.Connection) -> None:
    webhooks.add(connection, HOOK)
    webhooks.add(connection, OTHER)
    insert(connection, [ROW])
    update(connection, [replace(ROW, state=PARTIAL, covered=1, coverage=[[0, 1]])])
    assert _events(connection, HOOK) == []
    update(connection, [replace(ROW, state=COMPLETE, covered=3, coverage=[[0, 3]])])
    update(connection, [replace(ROW, state=COMPLETE, covered=3, coverage=[[0, 3]])])
    _link_made(connection)
    add_lines(connection, [AuditLine(11.0, "token.made", "ann", None, None, {})])
    assert _events(connection, HOOK) == [("link.made", "1"), ("transfer.complete", ROW.id)], "once, the newest first"
    assert _events(connection, OTHER) == [("link.made", "1")]
    assert webhooks.waiting(connection) == {HOOK.id: 2, OTHER.id: 1}


def test_without_webhooks_nothing_is_asked_of_the_records(connection: sa.Connection) -> None:
    assert _triggers(connection) == 0
    webhooks.add(connection, HOOK)
    webhooks.add(connection, OTHER)
    assert _triggers(connection) == 2
    assert webhooks.remove(connection, HOOK.id)
    assert _triggers(connection) == 2
    assert webhooks.remove(connection, OTHER.id)
    assert not webhooks.remove(connection, OTHER.id)
    assert _triggers(connection) == 0
    _link_made(connection)
    assert webhooks.waiting(connection) == {}


def test_numbers_are_not_given_again(connection: sa.Connection) -> None:
    webhooks.add(connection, HOOK)
    _link_made(connection)
    first = webhooks.page_of(connection, HOOK.id, None, 1)[0].id
    webhooks.remove(connection, HOOK.id)
    webhooks.add(connection, HOOK)
    _link_made(connection)
    assert webhooks.page_of(connection, HOOK.id, None, 1)[0].id == first + 1


def test_one_takes_it_and_when_that_one_is_gone_another_does(connection: sa.Connection) -> None:
    webhooks.add(connection, HOOK)
    for _ in range(5):
        _link_made(connection)
    taken = webhooks.take(connection, 100.0, each=2)
    assert [one.id for one in taken] == [1, 2], "the oldest first"
    assert [one.id for one in webhooks.take(connection, 100.0, each=9, busy=[HOOK.id])] == []
    assert [one.id for one in webhooks.take(connection, 100.0, each=9)] == [3, 4, 5]
    assert not webhooks.any_due(connection, 219.9)
    assert webhooks.any_due(connection, 220.0)
    assert [one.id for one in webhooks.take(connection, 220.0, each=9)] == [1, 2, 3, 4, 5]


def test_what_was_taken_and_not_tried_is_due_at_once(connection: sa.Connection) -> None:
    webhooks.add(connection, HOOK)
    for _ in range(2):
        _link_made(connection)
    first, second = webhooks.take(connection, 100.0, each=2)
    webhooks.settle(connection, [(first, "204 No Content", True)], [second.id], 101.0)
    assert [one.id for one in webhooks.take(connection, 101.0, each=2)] == [second.id]


def test_what_fails_is_told_again_for_most_of_a_day_and_then_given_up(connection: sa.Connection) -> None:
    webhooks.add(connection, HOOK)
    _link_made(connection)
    now, tries = 1000.0, []
    while found := webhooks.take(connection, now, each=1):
        webhooks.settle(connection, [(found[0], "x" * 1000, False)], [], now)
        one = _only(connection)
        assert one.said == "x" * 300
        tries.append(now)
        if one.state == "given-up":
            break
        assert not webhooks.any_due(connection, one.next - 0.1)
        now = one.next
    assert len(tries) == 8
    assert 20 * 3600 < tries[-1] - tries[0] < 24 * 3600
    pauses = [later - earlier for earlier, later in zip(tries, tries[1:], strict=False)]
    assert pauses == sorted(pauses) == [again_after(number) for number in range(1, 8)]
    assert again_after(8) is None
    assert webhooks.again(connection, HOOK.id, 1)
    assert not webhooks.again(connection, OTHER.id, 1), "it is another's"
    assert _only(connection).state == "waiting"
    assert webhooks.any_due(connection, now)


def test_what_was_told_is_forgotten_after_a_week_and_what_waits_is_not(connection: sa.Connection) -> None:
    webhooks.add(connection, HOOK)
    for _ in range(2):
        _link_made(connection)
    first, _ = webhooks.take(connection, 20.0, each=2)
    webhooks.settle(connection, [(first, "204 No Content", True)], [], 20.0)
    week = 7 * 86_400.0
    assert webhooks.forget(connection, 10.0 + week, most=10) == 0
    assert webhooks.forget(connection, 11.0 + week, most=10) == 1
    assert [one.id for one in webhooks.page_of(connection, HOOK.id, None, 9)] == [2]


def test_pages_go_back(connection: sa.Connection) -> None:
    webhooks.add(connection, HOOK)
    for _ in range(5):
        _link_made(connection)
    newest = webhooks.page_of(connection, HOOK.id, None, 2)
    assert [one.id for one in newest] == [5, 4]
    assert [one.id for one in webhooks.page_of(connection, HOOK.id, newest[-1].id, 9)] == [3, 2, 1]


def _only(connection: sa.Connection) -> Delivery:
    [one] = webhooks.page_of(connection, HOOK.id, None, 9)
    return one

"""What worker processes count together: a table in memory, its columns looked at one after the other."""

from __future__ import annotations

import pytest

from invio.core.throttle import Throttle
from invio.workers import shared as module
from invio.workers.shared import OwnCounts, SharedTable


def test_counts_are_the_sum_over_all_processes() -> None:
    table = SharedTable(3)
    one, two = table.of(0), table.of(1)
    one.add(("connections", "192.0.2.1"), 2)
    two.add(("connections", "192.0.2.1"), 5)
    two.add(("connections", "192.0.2.2"), 1)
    assert one.total(("connections", "192.0.2.1")) == two.total(("connections", "192.0.2.1")) == 7
    assert one.total(("connections", "192.0.2.2")) == 1
    assert one.total("nothing") == 0
    two.add(("connections", "192.0.2.1"), -5)
    assert one.total(("connections", "192.0.2.1")) == 2


def test_what_a_process_that_died_had_counted_is_taken_back() -> None:
    table = SharedTable(2)
    table.of(0).add("requests", 3)
    table.of(1).add("requests", 4)
    table.clear(1)
    assert table.of(0).total("requests") == 3


def test_a_speed_limit_holds_over_all_processes() -> None:
    table = SharedTable(2)
    one, two = (Throttle(1000, table.of(place).clock("ann")) for place in (0, 1))
    assert one.reserve(100.0, 500) == 100.0
    assert two.reserve(100.0, 500) == 100.5
    assert one.reserve(100.0, 500) == 101.0
    other = Throttle(1000, table.of(0).clock("bob"))
    assert other.reserve(100.0, 500) == 100.0, "a clock of its own"


def test_rows_that_nobody_uses_are_used_again(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(module, "_ROWS", 8)
    monkeypatch.setattr(module, "_PROBES", 8)
    counts = SharedTable(1).of(0)
    for number in range(100):
        counts.add(number, 1)
        assert counts.total(number) == 1
        counts.add(number, -1)
        assert counts.total(number) == 0


def test_without_room_a_key_is_counted_by_its_own_process(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(module, "_ROWS", 4)
    monkeypatch.setattr(module, "_PROBES", 4)
    table = SharedTable(2)
    one, two = table.of(0), table.of(1)
    for number in range(10):
        one.add(number, 1)
    assert [one.total(number) for number in range(10)] == [1] * 10
    for number in range(4):
        one.add(number, -1)
    for number in range(4, 10):
        one.add(number, 1)
        assert one.total(number) == 2, "what was counted apart is counted apart to its end"
        one.add(number, -2)
        assert one.total(number) == 0
        assert two.total(number) == 0


def test_one_process_alone_counts_for_itself() -> None:
    counts = OwnCounts()
    counts.add("a", 2)
    counts.add("a", -1)
    assert (counts.total("a"), counts.total("b")) == (1, 0)
    counts.add("a", -1)
    assert counts._counts == {}
    first, second = counts.clock("a"), counts.clock("a")
    first.at = 5.0
    assert second.at == 0.0

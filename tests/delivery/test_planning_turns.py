"""Whose turn it is to have an archive planned."""

from __future__ import annotations

import threading
from contextlib import ExitStack

import pytest

from invio.delivery.archives.planning_turns import Asking, PlanningTurns, UnderWay
from invio.workers.pool import Pool

ANN, BOB = Asking(None, "recipient:ann"), Asking(None, "recipient:bob")
WAIT = 10  # seconds that are never reached


def test_a_bundle_is_planned_by_one_at_a_time_and_who_asks_is_told_when_that_ends() -> None:
    turns = PlanningTurns()
    with turns.of("one", ANN):
        with pytest.raises(UnderWay) as other, turns.of("one", BOB):
            raise AssertionError
        with turns.of("two", ANN):
            pass
        assert not other.value.ended.cancel(), "who leaves while it waits ends it for nobody"
        assert not other.value.ended.done()
    assert other.value.ended.done()
    with turns.of("one", BOB):
        pass


def test_whoever_may_wait_waits() -> None:
    turns, began, order = PlanningTurns(), threading.Event(), []

    def second() -> None:
        began.set()
        with turns.of("one", None):
            order.append("second")

    with turns.of("one", None):
        thread = threading.Thread(target=second)
        thread.start()
        assert began.wait(WAIT)
        thread.join(0.05)
        order.append("first")
    thread.join(WAIT)
    assert order == ["first", "second"]


def test_a_turn_that_fails_is_over_too() -> None:
    turns = PlanningTurns()
    with pytest.raises(OSError, match="no disk"), turns.of("one", ANN):
        raise OSError("no disk")
    with turns.of("one", ANN):
        pass


def test_one_caller_has_six_turns_by_threads_of_one_pool() -> None:
    turns, far = PlanningTurns(), Asking(Pool("far", 8), ANN.who)
    with ExitStack() as six:
        for number in range(6):
            six.enter_context(turns.of(f"ann {number}", ANN))
        with pytest.raises(UnderWay) as first, turns.of("ann's", ANN):
            raise AssertionError
        for name, asking in (("bob's", BOB), ("far", far), ("a selection", None)):
            with turns.of(name, asking):
                pass
    assert first.value.ended.done()
    with turns.of("ann's", ANN):
        pass

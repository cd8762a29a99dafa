"""How often the client tries again, and how long it waits: without a connection and without a wait."""

from __future__ import annotations

import httpx
import pytest

from invio.client import Refused, ServiceUnreachable
from invio.client.patience import PAUSES, Attempts, Patience

LOST = httpx.ReadError("lost")


@pytest.fixture
def slept(monkeypatch: pytest.MonkeyPatch) -> list[float]:
    seconds: list[float] = []
    monkeypatch.setattr("time.sleep", seconds.append)
    return seconds


def tries(attempts: Attempts, *, begun: bool, progress_at: int = -1) -> int:
    """How many further tries there are before the attempts are given up."""
    for number in range(100):
        try:
            attempts.lost(LOST, begun=begun, progress=number == progress_at, kept="; kept")
        except ServiceUnreachable as error:
            assert str(error).endswith("lost; kept")
            return number
    raise AssertionError("it is never given up")


def test_a_lost_connection_is_tried_again_with_growing_pauses(slept: list[float]) -> None:
    assert tries(Attempts(Patience(), "http://s?seal=x"), begun=True) == len(PAUSES)
    assert slept == list(PAUSES)
    assert sum(PAUSES) > 30


def test_progress_begins_the_tries_anew(slept: list[float]) -> None:
    assert tries(Attempts(Patience(), "http://s"), begun=True, progress_at=3) == 3 + len(PAUSES)
    assert slept[3] == PAUSES[0]


def test_a_first_connection_is_tried_again_where_that_was_asked_for(slept: list[float]) -> None:
    with pytest.raises(ServiceUnreachable, match="no service answers at http://s: lost"):
        Attempts(Patience(), "http://s?seal=x").lost(LOST, begun=False)
    assert slept == []
    assert tries(Attempts(Patience(retries=2), "http://s"), begun=False) == 2
    assert tries(Attempts(Patience(retries=12), "http://s"), begun=True) == 12
    assert slept[-1] == PAUSES[-1]


def test_a_busy_service_is_waited_for_as_long_as_it_says_and_not_for_ever(slept: list[float]) -> None:
    told: list[float] = []
    busy = Refused(503, "busy", "busy", [], retry_after=60.0)
    attempts = Attempts(Patience(waiting=lambda seconds, _: told.append(seconds)), "http://s")
    for _ in PAUSES:
        attempts.busy(busy)
    with pytest.raises(Refused):
        attempts.busy(busy)
    assert slept == told == [60.0] * len(PAUSES)
    for refused in (
        Refused(503, "busy", "busy", [], retry_after=60.5),
        Refused(503, "not-made", "it failed", []),
        Refused(404, "missing", "none", [], retry_after=1.0),
    ):
        with pytest.raises(Refused):
            Attempts(Patience(), "http://s").busy(refused)
    with pytest.raises(Refused):
        Attempts(Patience(retries=0), "http://s").busy(busy)
    assert len(slept) == len(PAUSES)


def test_the_limits_of_a_request_are_those_that_were_given() -> None:
    usual = Patience(timeout=4.0).timeouts()
    assert (usual.read, usual.connect) == (4.0, 4.0)
    long = Patience().timeouts(300.0)
    assert (long.read, long.write, long.connect) == (300.0, 30.0, 10.0)

"""Work that decides and waits for nobody: how often it is done, what is asked for it, and when it is given up."""

from __future__ import annotations

import asyncio
import threading
from collections.abc import Callable, Sequence
from types import SimpleNamespace
from typing import Any, cast

import pytest
from starlette.requests import Request

from invio.core.addresses import Address, parse_address
from invio.core.files import Caller
from invio.core.reasons import Refusal
from invio.service import deciding, mounting
from invio.service.assembly import Parts
from invio.service.deciding import Key, decided, work_at_hand
from invio.service.transfers import TransferVisibility
from invio.workers.pool import Pool
from tests.clocks import SetClock


class Office:
    """Answers everything with what the question ends with, and notes what it was asked together."""

    def __init__(self) -> None:
        self.asked: list[tuple[str, list[int]]] = []

    async def ask_all(self, about: Any, questions: Sequence[Any]) -> dict[Key, object]:
        self.asked.append((about, list(questions)))
        return {(about, question): f"{about} {question}" for question in questions}

    def answer(self, about: str, question: int) -> object:
        work = work_at_hand()
        assert work is not None
        if (about, question) in work.answers:
            return work.answers[about, question]
        work.note((about, question), self)
        return None


def done(work: Callable[[], Any], pool: Pool | None = None) -> Any:
    return asyncio.run(decided(pool or Pool("listing", 1), work))


def test_work_that_asks_nothing_is_done_once_by_a_thread_of_the_pool() -> None:
    runs: list[str] = []
    assert done(lambda: runs.append(threading.current_thread().name)) is None
    assert runs == ["listing-1"]
    assert work_at_hand() is None
    with pytest.raises(ZeroDivisionError):
        done(lambda: 1 / 0)


def test_what_was_noted_is_asked_together_and_the_work_done_again() -> None:
    office, other = Office(), Office()

    def work() -> list[object]:
        return [office.answer("a", 1), office.answer("a", 2), office.answer("b", 1), other.answer("c", 1)]

    assert done(work) == ["a 1", "a 2", "b 1", "c 1"]
    assert office.asked == [("a", [1, 2]), ("b", [1])]
    assert other.asked == [("c", [1])]


def test_what_comes_of_answers_is_asked_in_turn() -> None:
    office = Office()

    def work() -> object:
        return office.answer("second", 1) if office.answer("first", 1) else None

    assert done(work) == "second 1"
    assert [about for about, _ in office.asked] == ["first", "second"]


def test_many_questions_break_a_run_off_and_what_it_raises_without_answers_is_not_told() -> None:
    office, runs = Office(), []

    def work() -> int:
        runs.append(0)
        for number in range(300):
            runs[-1] += 1
            if office.answer("a", number) is None and number == 299:
                raise Refusal("missing", "nothing is known of the last one")
        return sum(runs)

    assert done(work) == 256 + 300 + 300
    assert [len(questions) for _, questions in office.asked] == [256, 44]


def test_work_is_given_up_after_half_a_minute(monkeypatch: pytest.MonkeyPatch) -> None:
    clock, office = SetClock(), Office()
    monkeypatch.setattr(deciding, "time", clock)

    def work() -> object:
        clock.now += 10
        return office.answer("a", int(clock.now))

    with pytest.raises(Refusal) as refused:
        done(work)
    assert (refused.value.reason.word, refused.value.retry_after) == ("busy", 5)
    assert len(office.asked) == 3, "at thirty seconds it is still tried"


def test_whoever_else_fails_is_heard() -> None:
    class Broken(Office):
        async def ask_all(self, *_: object) -> dict[Key, object]:
            raise OSError("the office is closed")

    with pytest.raises(OSError, match="is closed"):
        done(lambda: Broken().answer("a", 1))
    assert work_at_hand() is None


def test_what_follows_the_work_in_a_request_may_wait_again() -> None:
    async def request() -> list[object]:
        office = Office()
        given = await decided(Pool("listing", 1), office.answer, "a", 1)
        return [given, work_at_hand()]

    assert asyncio.run(request()) == ["a 1", None]


@pytest.mark.parametrize(
    ("answers", "longest", "raises"), [("never", 0.05, Refusal), ("with an error", 60.0, TimeoutError)]
)
def test_a_thread_waits_for_an_applications_function_only_so_long(
    monkeypatch: pytest.MonkeyPatch, answers: str, longest: float, raises: type[Exception]
) -> None:
    monkeypatch.setattr(mounting, "_LONGEST", longest)

    async def authorize(*_: object) -> bool:
        if answers == "never":
            await asyncio.Event().wait()
        raise TimeoutError("of its own")

    async def planned() -> None:
        decider = mounting._AppDecider(authorize, asyncio.get_running_loop())
        caller = Caller("ann", context=mounting._Context(cast(Request, None)))
        await asyncio.to_thread(decider.allows, caller, "read", parse_address("files/a"))

    with pytest.raises(raises, match="'read' of files/a" if answers == "never" else "of its own"):
        asyncio.run(planned())


class Slow:
    """Rules for which somebody is asked about each address; `most` is how many questions were open together."""

    now = most = 0

    async def prefetch(self, *_: object) -> None:
        self.now += 1
        self.most = max(self.most, self.now)
        await asyncio.sleep(0)
        self.now -= 1

    def allows(self, _: Caller, action: str, address: Address) -> bool:
        return address.name != "7" and action == "manage"

    def administers(self, _: Caller) -> bool:
        return False


def test_transfers_that_somebody_is_asked_about_are_asked_about_some_at_a_time() -> None:
    rules = Slow()
    sight = TransferVisibility(cast(Parts, SimpleNamespace(rules=rules)), Caller("ann"))
    asyncio.run(sight.prefetch({*(f"files/{number}" for number in range(20)), "no address"}))
    assert rules.most == 8
    assert {address for address, may in sight._manages.items() if not may} == {"files/7", "no address"}
    assert len(sight._manages) == 21

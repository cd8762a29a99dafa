"""External checks: what counts as an answer, and for how long it is believed."""

from __future__ import annotations

import asyncio
import json
import sys
import threading
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path
from types import ModuleType

import httpx
import pytest

from invio.core.reasons import Refusal
from invio.core.rules.external_checks import CheckRequest, CheckResult, ExternalCheck
from invio.core.rules.file import BadRules, parse_rules
from invio.service import deciding
from invio.service import external_checks as module
from invio.service.deciding import decided
from invio.service.external_checks import Outside
from invio.workers.pool import Pool
from tests.clocks import SetClock

RULE = '[[rule]]\neffect = "allow"\nwho = ["anyone"]\nwhat = ["**"]\nactions = ["read"]\nask = { %s }\n'
URL = "http://127.0.0.1:9/check"
BY_HTTP, BY_FUNCTION = ExternalCheck(url=URL), ExternalCheck(function="office:check")
QUESTION = CheckRequest("rule", "ann", frozenset({"crew", "admins"}), "read", "files/a", "192.0.2.7")

Check = Callable[[CheckRequest], object]


@pytest.fixture
def clock(monkeypatch: pytest.MonkeyPatch) -> SetClock:
    clock = SetClock()
    for those in (module, deciding):
        monkeypatch.setattr(those, "time", clock)
    return clock


@pytest.fixture
def office(monkeypatch: pytest.MonkeyPatch) -> ModuleType:
    """The application's module; a test sets its function `check`."""
    office = ModuleType("office")
    monkeypatch.setitem(sys.modules, "office", office)
    return office


def by_function(office: ModuleType, check: Check) -> Outside:
    office.check = check  # type: ignore[attr-defined]
    outside = Outside()
    outside.use(parse_rules(RULE % 'function = "office:check"'), Path("rules.toml"))
    return outside


def by_http(monkeypatch: pytest.MonkeyPatch, answer: Callable[[httpx.Request], httpx.Response]) -> Outside:
    monkeypatch.setattr(httpx, "Client", partial(httpx.Client, transport=httpx.MockTransport(answer)))
    outside = Outside()
    outside.use(parse_rules(RULE % f'url = "{URL}"'), Path("rules.toml"))
    return outside


def said(caplog: pytest.LogCaptureFixture) -> str:
    return " ".join(line.fields["error"] for line in caplog.records if line.message == "rule.no-answer")  # type: ignore[attr-defined]


def test_a_rule_that_asks_a_function_that_is_not_there_is_refused_with_its_line(office: ModuleType) -> None:
    with pytest.raises(BadRules, match=r"rules\.toml:1: function 'office:elsewhere'"):
        Outside().use(parse_rules(RULE % 'function = "office:elsewhere"'), Path("rules.toml"))


@pytest.mark.parametrize(("given", "applies"), [(True, True), (False, False), (CheckResult(True, 9, "so"), True)])
def test_a_function_says_whether_a_rule_applies(office: ModuleType, given: object, applies: bool) -> None:
    answer = by_function(office, lambda _: given).answer(BY_FUNCTION, QUESTION)
    assert answer is not None
    assert answer.applies is applies


def test_what_a_function_raises_or_gives_otherwise_is_no_answer(
    office: ModuleType, caplog: pytest.LogCaptureFixture
) -> None:
    def fails(_: CheckRequest) -> bool:
        raise KeyError("who")

    assert by_function(office, fails).answer(BY_FUNCTION, QUESTION) is None
    assert by_function(office, lambda _: "yes").answer(BY_FUNCTION, QUESTION) is None
    assert "KeyError: 'who'" in said(caplog)
    assert "it gave str" in said(caplog)


def test_an_answer_is_believed_for_as_long_as_it_says(office: ModuleType, clock: SetClock) -> None:
    asked: list[CheckRequest] = []

    def check(question: CheckRequest) -> CheckResult:
        asked.append(question)
        return CheckResult(True, 60.0)

    outside = by_function(office, check)
    for later, times in ((0, 1), (59.9, 1), (0.2, 2)):
        clock.now += later
        outside.answer(BY_FUNCTION, QUESTION)
        assert len(asked) == times
    outside.use(parse_rules(RULE % 'function = "office:check"'), Path("rules.toml"))
    outside.answer(BY_FUNCTION, QUESTION)
    assert len(asked) == 3, "other rules, other answers"


def test_one_request_has_one_answer_however_short_it_is_good_for(office: ModuleType, clock: SetClock) -> None:
    said = [True, False, True]
    outside = by_function(office, lambda _: said.pop(0))
    first = outside.answer(BY_FUNCTION, QUESTION)
    clock.now += 4.9
    assert outside.answer(BY_FUNCTION, QUESTION) is first
    clock.now += 0.2
    assert outside.answer(BY_FUNCTION, QUESTION) == CheckResult(False)
    asyncio.run(outside.prefetch([(BY_FUNCTION, QUESTION)]))
    assert said == [], "the next request asks anew"


def test_an_answer_that_says_nothing_of_its_time_is_good_for_this_request(
    monkeypatch: pytest.MonkeyPatch, clock: SetClock
) -> None:
    got = by_http(monkeypatch, lambda _: httpx.Response(200, json={"applies": True})).answer(BY_HTTP, QUESTION)
    assert got == CheckResult(True, 0.0, "")


def test_on_the_event_loop_nothing_is_asked(office: ModuleType) -> None:
    outside = by_function(office, lambda _: True)

    async def work() -> list[CheckResult | None]:
        before = outside.answer(BY_FUNCTION, QUESTION)
        await outside.prefetch([(BY_FUNCTION, QUESTION)])
        return [before, outside.answer(BY_FUNCTION, QUESTION)]

    assert asyncio.run(work()) == [None, CheckResult(True)]


def test_whoever_gave_no_answer_is_not_asked_again_for_a_second(office: ModuleType, clock: SetClock) -> None:
    asked: list[CheckRequest] = []

    def fails(question: CheckRequest) -> bool:
        asked.append(question)
        raise OSError

    outside = by_function(office, fails)
    for later in (0, 0.9, 0.2):
        clock.now += later
        asyncio.run(outside.prefetch([(BY_FUNCTION, QUESTION)]))
    assert len(asked) == 2


def in_a_thread(outside: Outside, ask: ExternalCheck) -> None:
    assert outside.answer(ask, QUESTION) is None


def on_the_event_loop(outside: Outside, ask: ExternalCheck) -> None:
    asyncio.run(outside.prefetch([(ask, QUESTION)]))


@pytest.mark.parametrize("asks", [in_a_thread, on_the_event_loop])
def test_who_hangs_is_waited_for_once(
    office: ModuleType,
    clock: SetClock,
    caplog: pytest.LogCaptureFixture,
    asks: Callable[[Outside, ExternalCheck], None],
) -> None:
    asked: list[CheckRequest] = []
    goes_on = threading.Event()

    def hangs(question: CheckRequest) -> bool:
        asked.append(question)
        goes_on.wait(10)
        raise OSError

    impatient = ExternalCheck(function="office:check", timeout=0.05)
    outside = by_function(office, hangs)
    for _ in range(3):
        asks(outside, impatient)
    assert len(asked) == 1, "nor is whoever hangs asked again for a second"
    assert "no answer within 0.05 seconds" in said(caplog)
    goes_on.set()
    clock.now += 5  # and what one request has for an answer, it has for so long
    asks(outside, impatient)
    assert len(asked) == 2


def test_by_http_the_question_is_posted_and_the_answer_read(monkeypatch: pytest.MonkeyPatch) -> None:
    posted: list[object] = []

    def answer(request: httpx.Request) -> httpx.Response:
        posted.append(json.loads(request.content))
        return httpx.Response(200, json={"applies": True, "seconds": 10**9, "because": "x" * 1000})

    got = by_http(monkeypatch, answer).answer(BY_HTTP, QUESTION)
    assert got == CheckResult(True, 3600.0, "x" * 300)
    assert posted == [
        {
            "rule": "rule", "recipient": "ann", "groups": ["admins", "crew"], "action": "read", "address": "files/a",
            "network": "192.0.2.7",
        }
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("answer", "says"),
    [
        (httpx.Response(500), "it answered 500"),
        (httpx.Response(302, headers={"location": "http://127.0.0.1:1/"}), "it answered 302"),
        (httpx.Response(200, content=b"yes"), "JSONDecodeError"),
        (httpx.Response(200, json=[True]), "no 'applies'"),
        (httpx.Response(200, json={"applies": 1}), "no 'applies'"),
        (httpx.Response(200, json={"applies": True, "seconds": -1}), "'seconds' of its answer is -1"),
        (httpx.Response(200, json={"applies": True, "seconds": True}), "'seconds' of its answer is True"),
        (httpx.Response(200, content=b'{"applies": true, "seconds": Infinity}'), "'seconds' of its answer is inf"),
        (httpx.Response(200, content=b" " * 65537), "longer than 65536 bytes"),
    ],
)
def test_anything_else_is_no_answer(
    monkeypatch: pytest.MonkeyPatch, caplog: pytest.LogCaptureFixture, answer: httpx.Response, says: str
) -> None:
    assert by_http(monkeypatch, lambda _: answer).answer(BY_HTTP, QUESTION) is None
    assert says in said(caplog)


def test_all_of_an_answer_has_one_deadline(
    monkeypatch: pytest.MonkeyPatch, caplog: pytest.LogCaptureFixture, clock: SetClock
) -> None:
    class Slow(httpx.SyncByteStream):
        def __iter__(self) -> Iterator[bytes]:
            for _ in range(5):
                clock.now += 0.5
                yield b" "

    assert by_http(monkeypatch, lambda _: httpx.Response(200, stream=Slow())).answer(BY_HTTP, QUESTION) is None
    assert "took longer than 2 seconds" in said(caplog)


def about(number: int, recipient: str = "ann") -> CheckRequest:
    return CheckRequest("rule", recipient, frozenset(), "list", f"files/{number}", "192.0.2.7")


def listed(outside: Outside, count: int, runs: list[int]) -> Callable[[], list[int]]:
    """Work that decides of so many files which are shown, and notes each of its runs."""

    def work() -> list[int]:
        runs.append(count)
        answers = [outside.answer(BY_FUNCTION, about(number)) for number in range(count)]
        return [number for number, answer in enumerate(answers) if answer is not None and answer.applies]

    return work


@pytest.mark.parametrize(("count", "runs"), [(20, 2), (600, 4)])
def test_work_that_lists_waits_for_nobody_and_is_done_again_with_the_answers(
    office: ModuleType, count: int, runs: int
) -> None:
    by: set[str] = set()

    def check(question: CheckRequest) -> bool:
        by.add(threading.current_thread().name.partition("-")[0])
        return question.address.endswith("7")

    done: list[int] = []
    shown = asyncio.run(decided(Pool("listing", 1), listed(by_function(office, check), count, done)))
    assert shown == list(range(7, count, 10))
    assert by == {"asking"}
    assert len(done) == runs


def test_a_refusal_for_want_of_an_answer_is_none(office: ModuleType) -> None:
    outside = by_function(office, lambda _: True)

    def work() -> str:
        if outside.answer(BY_FUNCTION, QUESTION) is None:
            raise Refusal("not-allowed", "it is not allowed")
        return "allowed"

    assert asyncio.run(decided(Pool("listing", 1), work)) == "allowed"
    office.check = lambda _: 1 / 0  # type: ignore[attr-defined]
    outside.use(parse_rules(RULE % 'function = "office:check"'), Path("rules.toml"))
    with pytest.raises(Refusal) as refused:
        asyncio.run(decided(Pool("listing", 1), work))
    assert refused.value.reason.word == "not-allowed"


def test_an_answer_holds_for_all_runs_of_one_work(office: ModuleType, clock: SetClock) -> None:
    asked: list[str] = []

    def check(question: CheckRequest) -> bool:
        clock.now += 4
        asked.append(question.address)
        return True

    assert asyncio.run(decided(Pool("listing", 1), listed(by_function(office, check), 3, []))) == [0, 1, 2]
    assert sorted(asked) == ["files/0", "files/1", "files/2"]


@pytest.mark.parametrize(("takes", "asked"), [(2.0, 8), (0.0, 50)])
def test_of_whoever_answers_nothing_in_time_the_rest_is_not_asked(
    office: ModuleType, clock: SetClock, takes: float, asked: int
) -> None:
    seen: list[str] = []

    def fails(question: CheckRequest) -> bool:
        seen.append(question.address)
        clock.now += takes
        raise OSError

    assert asyncio.run(decided(Pool("listing", 1), listed(by_function(office, fails), 50, []))) == []
    assert len(seen) == asked, "what is answered wrongly at once is asked to its end"


def test_work_that_never_has_all_its_answers_is_given_up(office: ModuleType, clock: SetClock) -> None:
    outside, runs = by_function(office, lambda _: True), [0]

    def work() -> None:
        runs[0] += 1
        clock.now += 4
        outside.answer(BY_FUNCTION, about(runs[0]))

    with pytest.raises(Refusal, match="takes too long") as refused:
        asyncio.run(decided(Pool("listing", 1), work))
    assert refused.value.reason.word == "busy"
    assert runs == [8]


def test_a_caller_whose_questions_are_not_answered_in_time_has_no_more_of_them_asked_for_a_second(
    office: ModuleType, clock: SetClock
) -> None:
    seen: list[str] = []

    def hangs(question: CheckRequest) -> bool:
        seen.append(f"{question.recipient} {question.address}")
        clock.now += 2
        raise TimeoutError

    outside = by_function(office, hangs)
    for number in range(6):
        assert outside.answer(BY_FUNCTION, about(number)) is None
    assert seen == ["ann files/0", "ann files/1", "ann files/2"]
    outside.answer(BY_FUNCTION, about(9, "bob"))
    assert seen[-1] == "bob files/9", "another caller's are asked"
    outside.answer(BY_FUNCTION, about(9))
    assert seen[-1] == "ann files/9", "a second later, one is tried"
    office.check = lambda _: True  # type: ignore[attr-defined]
    outside.use(parse_rules(RULE % 'function = "office:check"'), Path("rules.toml"))
    clock.now += 1
    assert [outside.answer(BY_FUNCTION, about(number)) for number in range(4)] == [CheckResult(True)] * 4


def test_many_questions_at_once_wait_for_their_turn(office: ModuleType) -> None:
    together = threading.Barrier(8)

    def check(_: CheckRequest) -> bool:
        together.wait(20)  # eight are asked at a time
        return True

    patient = ExternalCheck(function="office:check", timeout=20.0)
    outside = by_function(office, check)

    async def ask() -> list[CheckResult | None]:
        questions = [(patient, about(number)) for number in range(40)]
        await outside.prefetch(questions)
        return [outside.answer(*question) for question in questions]

    assert asyncio.run(ask()) == [CheckResult(True)] * 40


def test_one_caller_s_questions_leave_the_others_half_of_the_turns(office: ModuleType) -> None:
    hold = threading.Event()

    def check(question: CheckRequest) -> bool:
        return question.recipient == "bob" or hold.wait(20)

    patient = ExternalCheck(function="office:check", timeout=10.0)
    outside = by_function(office, check)

    async def ask() -> CheckResult | None:
        asked = [(patient, about(number)) for number in range(40)]
        anns = [asyncio.create_task(outside.prefetch([question])) for question in asked]
        await asyncio.sleep(0.1)
        bobs = (patient, about(0, "bob"))
        await asyncio.wait_for(outside.prefetch([bobs]), 5)
        hold.set()
        await asyncio.gather(*anns)
        assert [outside.answer(*question) for question in asked] == [CheckResult(True)] * 40
        return outside.answer(*bobs)

    assert asyncio.run(ask()) == CheckResult(True)


def test_an_application_that_is_slow_and_answers_is_asked_on(office: ModuleType, clock: SetClock) -> None:
    seen: list[str] = []

    def slow(question: CheckRequest) -> bool:
        seen.append(question.address)
        clock.now += 2
        return True

    outside = by_function(office, slow)
    assert [outside.answer(BY_FUNCTION, about(number)) for number in range(6)] == [CheckResult(True)] * 6
    assert len(seen) == 6


def test_rules_that_ask_nobody_stand_beside_those_that_do(office: ModuleType) -> None:
    office.check = lambda _: True  # type: ignore[attr-defined]
    plain = (RULE % "X").replace("ask = { X }\n", "")
    rules = Outside().use(parse_rules(plain + RULE % 'function = "office:check"'), Path("rules.toml"))
    assert len(rules.rules) == 2

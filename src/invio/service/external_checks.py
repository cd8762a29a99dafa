"""External checks: the developer's own application says whether a rule applies, by HTTP or by a Python function.

By HTTP, the question is posted as JSON: `rule`, `recipient` (null for somebody who did not sign in),
`groups`, `action`, `address`, `network`. The answer is a JSON object with `applies`, true or false,
and, if it likes, `seconds`, for which that is good, and `because`. Anything else is no answer.
A function gets the question and gives a bool or an `invio.CheckResult`.

Who waits for an application, so that one that hangs stops nothing else:
- On the event loop nobody waits: what one decision will need is awaited before it (`Outside.prefetch`).
- Threads that list files, of which there are few for everybody, do not wait either: see `deciding`.
- Other threads wait, for as long as the rule says. After some questions of one caller that were not answered in time,
  that caller's further ones are not asked for a moment: a selection of many files would wait for each of them.
"""

from __future__ import annotations

import asyncio
import json
import logging
import threading
import time
from collections.abc import Callable, Iterable, Sequence
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any, cast

from invio.core.files import Caller
from invio.core.memory import Memory
from invio.core.rules.decisions import RuleSet
from invio.core.rules.external_checks import CheckRequest, CheckResult, ExternalCheck
from invio.core.rules.file import BadRules
from invio.producers.producer import ProducerFault, function_named
from invio.service.deciding import work_at_hand
from invio.service.foreign_answers import body_within
from invio.workers.pool import DeadlinePassed, Pool, PoolBusy

log = logging.getLogger("invio.service")

# One request comes back to an answer several times. However short it is good for, it is for that. Seconds.
_OF_ONE_REQUEST = 5.0
_SILENT_FOR = 1.0  # seconds for which somebody who gave no answer is not asked again
_LONGEST = 3600.0  # seconds for which an answer is believed
_LONGEST_ANSWER = 64 * 1024  # bytes
_AT_ONCE = 16  # questions to one application
_OF_ONE = 8  # of them of one caller: what `Pool` lets run of one asker
_WAITING = 1000  # that wait for their turn, each no longer than the rule waits for an answer
_ANSWERS = 4096  # that are kept
_PATIENCE = 3  # questions of one caller in a row that may go unanswered before further ones are not asked
_Key = tuple[ExternalCheck, CheckRequest]
_Asking = tuple[ExternalCheck, str | None, str | None]  # who is asked, for which recipient, of which network


@dataclass(frozen=True, slots=True)
class _Kept:
    answer: CheckResult | None
    asked: float

    def is_fresh(self, now: float) -> bool:
        return now - self.asked < (_SILENT_FOR if self.answer is None else self.answer.seconds)

    def is_usable(self, now: float) -> bool:
        return self.is_fresh(now) or now - self.asked < _OF_ONE_REQUEST


def functions_of(rules: RuleSet, file: Path) -> dict[str, Callable[[CheckRequest], bool | CheckResult]]:
    """The functions that rules ask, by their names. Raises BadRules: a rule names one that is not there."""
    found = {}
    for rule in rules.rules:
        ask = rule.conditions.ask
        if ask is not None and ask.function is not None:
            try:
                found[ask.function] = function_named(ask.function)
            except ProducerFault as error:
                raise BadRules.at(str(file), rule.line, str(error)) from None
    return found


class Outside:
    """Asks, and remembers what was answered for as long as it is good."""

    def __init__(self) -> None:
        self._kept: Memory[_Key, _Kept] = Memory(_ANSWERS)
        self._unanswered: Memory[_Asking, tuple[int, float]] = Memory(_ANSWERS)  # how many in a row, and when the last
        self._lock = threading.Lock()
        self._client: Any = None
        self._pools: dict[ExternalCheck, Pool] = {}
        self._functions: dict[str, Callable[[CheckRequest], bool | CheckResult]] = {}

    def use(self, rules: RuleSet, file: Path) -> RuleSet:
        """The same rules, asked by these means; what was answered for others is forgotten.

        Raises:
            BadRules: a rule names a function that is not there.
        """
        for rule in rules.rules:
            ask = rule.conditions.ask
            if ask is not None and ask.url is not None:
                self._make_client()  # it takes longer than some answers may
        self._functions |= functions_of(rules, file)
        with self._lock:
            self._kept.clear()
        return rules.under(answers=self)

    def answer(self, ask: ExternalCheck, question: CheckRequest) -> CheckResult | None:
        """The cached answer, or a new one; on the event loop, and in work that `decided` runs, only the cached one."""
        key, work = (ask, question), work_at_hand()
        if work is not None and key in work.answers:
            return cast(CheckResult | None, work.answers[key])
        kept = self._kept.get(key)
        if kept is not None and kept.is_usable(time.monotonic()):
            return kept.answer
        if work is not None:
            work.note(key, self)
            return None
        try:
            asyncio.get_running_loop()
        except RuntimeError:
            return self._asked(ask, question)
        return None

    async def prefetch(self, questions: Iterable[_Key]) -> None:
        """Asks what is not known."""
        now = time.monotonic()
        asking: dict[ExternalCheck, list[CheckRequest]] = {}
        for ask, question in questions:
            kept = self._kept.get((ask, question))
            if kept is None or not kept.is_fresh(now):
                asking.setdefault(ask, []).append(question)
        if asking:
            await asyncio.gather(*(self.ask_all(ask, some) for ask, some in asking.items()))

    async def ask_all(self, ask: ExternalCheck, questions: Sequence[CheckRequest]) -> dict[_Key, CheckResult | None]:
        """The answers to many questions, asked some at a time, so that others have their turn in between.

        When none of those is answered in time, the rest is not asked.
        """
        found: dict[_Key, CheckResult | None] = {(ask, question): None for question in questions}
        for at in range(0, len(questions), _OF_ONE):
            some, began = questions[at : at + _OF_ONE], time.monotonic()
            answers = await asyncio.gather(*(self._asked_async(ask, question) for question in some))
            found |= {(ask, question): answer for question, answer in zip(some, answers, strict=True)}
            if not any(answers) and _took_too_long(ask, began):
                break
        return found

    def _pool(self, ask: ExternalCheck) -> Pool:
        """The threads that ask somebody: who hangs keeps nobody else from being asked."""
        with self._lock:
            pool = self._pools.get(ask)
            if pool is None:
                pool = self._pools[ask] = Pool("asking", _AT_ONCE, waiting=_WAITING, deadline=ask.timeout)
            return pool

    async def _asked_async(self, ask: ExternalCheck, question: CheckRequest) -> CheckResult | None:
        try:
            answer = await self._pool(ask).run(self._answer_of, ask, question, whose=_whose(question))
            return self._keep(ask, question, answer)
        except (PoolBusy, DeadlinePassed) as error:
            return self._silent(ask, question, error)

    def _asked(self, ask: ExternalCheck, question: CheckRequest) -> CheckResult | None:
        who, began = (ask, question.recipient, question.network), time.monotonic()
        times, last = self._unanswered.get(who, (0, 0.0))
        if times >= _PATIENCE and began - last < _SILENT_FOR:
            return None
        try:
            answer = self._pool(ask).call(self._answer_of, ask, question, whose=_whose(question))
            answer = self._keep(ask, question, answer)
        except (PoolBusy, DeadlinePassed) as error:
            answer = self._silent(ask, question, error)
        late = answer is None and _took_too_long(ask, began)
        if late or times:
            with self._lock:
                self._unanswered.keep(who, (times + 1 if late else 0, time.monotonic()))
        return answer

    def _answer_of(self, ask: ExternalCheck, question: CheckRequest) -> CheckResult | None:
        try:
            return self._by_http(ask, question) if ask.url is not None else self._by_function(ask, question)
        except Exception as error:  # it is somebody else's code, or network, and may fail in any way
            self._log(ask, question, error)
            return None

    @staticmethod
    def _log(ask: ExternalCheck, question: CheckRequest, error: BaseException) -> None:
        said = {"rule": question.rule, "asked": str(ask), "error": f"{type(error).__name__}: {error}"}
        log.warning("rule.no-answer", extra={"fields": said})

    def _silent(self, ask: ExternalCheck, question: CheckRequest, error: BaseException) -> CheckResult | None:
        self._log(ask, question, error)
        return self._keep(ask, question, None)

    def _keep(self, ask: ExternalCheck, question: CheckRequest, answer: CheckResult | None) -> CheckResult | None:
        with self._lock:
            self._kept.keep((ask, question), _Kept(answer, time.monotonic()))
        return answer

    def _by_function(self, ask: ExternalCheck, question: CheckRequest) -> CheckResult:
        said = self._functions[str(ask.function)](question)
        if isinstance(said, CheckResult):
            return said
        if not isinstance(said, bool):
            raise TypeError(f"it gave {type(said).__name__}; expected True, False or an invio.CheckResult")
        return CheckResult(said)

    def _make_client(self) -> None:
        import httpx  # loaded where a rule asks

        if self._client is None:
            self._client = httpx.Client(follow_redirects=False, trust_env=False)

    def _by_http(self, ask: ExternalCheck, question: CheckRequest) -> CheckResult:
        posted = {**asdict(question), "groups": sorted(question.groups)}
        began = time.monotonic()
        with self._client.stream("POST", str(ask.url), json=posted, timeout=ask.timeout) as response:
            if response.status_code != 200:
                raise ValueError(f"it answered {response.status_code}")
            body = body_within(response, _LONGEST_ANSWER, ask.timeout, began, time.monotonic)
        said = json.loads(body)
        if not isinstance(said, dict) or not isinstance(said.get("applies"), bool):
            raise ValueError("its answer has no 'applies' that is true or false")
        seconds = said.get("seconds", 0)
        if type(seconds) not in (int, float) or not 0 <= seconds < float("inf"):
            raise ValueError(f"'seconds' of its answer is {seconds!r}")
        return CheckResult(said["applies"], min(float(seconds), _LONGEST), str(said.get("because", ""))[:300])


def _whose(question: CheckRequest) -> str | None:
    return Caller(question.recipient, network=question.network).principal


def _took_too_long(ask: ExternalCheck, began: float) -> bool:
    """Whether what was asked then was not answered, rather than answered with what is no answer."""
    return time.monotonic() - began >= 0.9 * ask.timeout

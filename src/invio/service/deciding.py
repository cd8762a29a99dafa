"""Work of threads that decides by what others answer, and waits for none of them.

A listing decides about each of its files, and an application may have to be asked: by a rule's `ask`, or by the
function that decides in the place of rules. The threads that list are few and for everybody, so that one application
that hangs would stop all listings. What such work would have to ask is noted instead, asked on the event loop, some
questions at a time, and the work is done again with the answers.

- The answers hold for all runs of one work, however long it takes.
- A run that has noted many questions is broken off, so that what they are for need not be gone through in vain.
- What a run gives, or raises, counts only if it noted nothing.
"""

from __future__ import annotations

import asyncio
import time
from collections.abc import Callable, Hashable, Mapping, Sequence
from contextvars import ContextVar
from dataclasses import dataclass, field
from typing import Any, Protocol, TypeVar

from invio.core.reasons import Refusal
from invio.delivery.sending.eager import in_pool
from invio.workers.pool import Pool

T = TypeVar("T")
Key = tuple[Any, Any]  # whom a question goes to or is about, and the question; both hashable

_NOTED = 256  # questions of one run
_LONGEST = 30.0  # seconds for all runs


class Asker(Protocol, Hashable):
    """Whoever knows how to ask."""

    async def ask_all(self, about: Any, questions: Sequence[Any]) -> Mapping[Key, object]:
        """The answers to many questions that have the first half of their keys in common."""
        ...


class _AskFirst(Exception):
    """Enough questions are noted: they are asked before the work goes on."""


@dataclass(slots=True)
class Work:
    """What some work has noted, and what was answered so far."""

    answers: dict[Key, object] = field(default_factory=dict)
    noted: dict[Key, Asker] = field(default_factory=dict)

    def note(self, key: Key, asker: Asker) -> None:
        """Has a question be asked before the next run. Raises _AskFirst."""
        self.noted[key] = asker
        if len(self.noted) >= _NOTED:
            raise _AskFirst

    async def ask(self) -> None:
        """Asks what was noted."""
        asked: dict[tuple[Asker, Any], list[Any]] = {}
        for (about, question), asker in self.noted.items():
            asked.setdefault((asker, about), []).append(question)
        self.noted = {}
        found = await asyncio.gather(*(asker.ask_all(about, some) for (asker, about), some in asked.items()))
        for answers in found:
            self.answers |= answers


_work: ContextVar[Work | None] = ContextVar("work", default=None)


def work_at_hand() -> Work | None:
    """The work that the calling thread does and that must not wait; None where it may."""
    return _work.get()


async def decided(pool: Pool, work: Callable[..., T], *given: Any, whose: str | None = None) -> T:
    """Runs work that decides something by a thread of `pool`, as `in_pool`, and asks what it has to know.

    The work may be run several times, so it only reads.

    Raises:
        Refusal: `busy`, when the answers take too long; and whatever `work`, or whoever is asked, raises.
    """
    asking, end = Work(), time.monotonic() + _LONGEST
    token = _work.set(asking)
    try:
        while True:
            try:
                result = await in_pool(pool, work, *given, whose=whose)
            except _AskFirst:
                pass
            except Exception:
                if not asking.noted:
                    raise
            else:
                if not asking.noted:
                    return result
            if time.monotonic() > end:
                raise Refusal(
                    "busy", "another system is asked about each of these files, and it takes too long; try again "
                    "later, or ask for less", retry_after=5,
                )  # fmt: skip
            await asking.ask()
    finally:
        _work.reset(token)

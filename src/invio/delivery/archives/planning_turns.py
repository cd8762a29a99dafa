"""Whose turn it is to have an archive planned: one plan of a bundle at a time, and so many of one caller.

Without it, one link to an archive that takes minutes to plan, requested eight times, would hold the eight threads that
plan: one would make the plan and the others wait for it, and with them everybody else's archives.

Invariants:
- A bundle is planned by one thread at a time, and looked through for a caller by one.
- Whoever asks for an archive over HTTP holds no thread while it waits: it is told whose end to wait for, without one,
  and asks again. So it can be another's turn once more; what was planned meanwhile is there at once.
- Of the threads of one pool, one caller has no more than `_OF_ONE`.
"""

from __future__ import annotations

import threading
from collections.abc import Hashable, Iterator
from concurrent.futures import Future, wait
from contextlib import contextmanager
from typing import NamedTuple

from invio.workers.pool import Pool

_OF_ONE = 6  # of the eight threads that plan archives


class Asking(NamedTuple):
    """Who asks for an archive, and by a thread of which pool; None: of that for everything else."""

    by: Pool | None
    who: str


class UnderWay(Exception):
    """It is another's turn, until `ended`."""

    def __init__(self, ended: Future[None]) -> None:
        super().__init__("another thread plans")
        self.ended = ended


class PlanningTurns:
    """The plans, or the looks through them, that are under way."""

    def __init__(self) -> None:
        self._under_way: dict[Hashable, tuple[Future[None], Asking | None]] = {}
        self._lock = threading.Lock()

    @contextmanager
    def of(self, what: Hashable, asking: Asking | None) -> Iterator[None]:
        """The turn to plan something, which this thread waits for unless it is told who is `asking`.

        Raises:
            UnderWay: with `asking`, it is another's turn, or theirs already as often as may be.
        """
        while (ends := self._take(what, asking)) is not None:
            if asking is not None:
                raise UnderWay(ends)
            wait([ends])
        try:
            yield
        finally:
            with self._lock:
                ended, _ = self._under_way.pop(what)
            ended.set_result(None)

    def _take(self, what: Hashable, asking: Asking | None) -> Future[None] | None:
        """Takes the turn; or gives what ends before it can be taken."""
        with self._lock:
            if what in self._under_way:
                return self._under_way[what][0]
            theirs = [ends for ends, other in self._under_way.values() if other == asking]
            if asking is not None and len(theirs) >= _OF_ONE:
                return theirs[0]
            ends: Future[None] = Future()
            ends.set_running_or_notify_cancel()  # whoever waits for it and leaves does not cancel it for the others
            self._under_way[what] = ends, asking
            return None

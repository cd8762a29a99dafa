"""The requests whose answers took longest to begin: what an operator looks at first when somebody complains."""

from __future__ import annotations

import time
from dataclasses import dataclass
from typing import Any

_HOUR = 3600.0
_MOST = 20
_PATH = 200  # characters


@dataclass(frozen=True, slots=True)
class Slow:
    """One of them; `at` in Unix seconds."""

    method: str
    path: str
    status: int
    seconds: float
    at: float


class SlowRequests:
    """The slowest of the last hour, of this process."""

    def __init__(self) -> None:
        self._known: list[Slow] = []  # the slowest first

    def note(self, slow: Slow) -> None:
        """One more request was answered."""
        if len(self._known) == _MOST and slow.seconds <= self._known[-1].seconds:
            if self._known[-1].at > slow.at - _HOUR:
                return
            self._forget(slow.at)
        self._known.append(slow)
        self._known.sort(key=lambda one: -one.seconds)
        del self._known[_MOST:]

    def slowest(self, now: float) -> list[Slow]:
        """Those of the hour before `now`, the slowest first."""
        self._forget(now)
        return list(self._known)

    def _forget(self, now: float) -> None:
        self._known = [one for one in self._known if one.at > now - _HOUR]

    async def timed(self, app: Any, scope: Any, receive: Any, send: Any) -> None:
        """Has an application answer, and notes how long that took to begin. A stream may go on for hours."""
        began = time.monotonic()

        async def watched(message: Any) -> None:
            if message["type"] == "http.response.start":
                path = scope["path"][:_PATH]
                self.note(Slow(scope["method"], path, message["status"], time.monotonic() - began, time.time()))
            await send(message)

        await app(scope, receive, watched)

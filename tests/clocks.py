"""An event loop in which no time is spent on waiting: when nothing else is to be done, its clock goes on."""

from __future__ import annotations

import asyncio
import selectors
from collections.abc import Coroutine
from typing import Any, TypeVar

T = TypeVar("T")


class _Selector(selectors.DefaultSelector):
    """Looks at sockets without waiting, and puts the clock forward instead."""

    def __init__(self) -> None:
        super().__init__()
        self.now = 1000.0

    def select(self, timeout: float | None = None) -> list[tuple[selectors.SelectorKey, int]]:
        ready = super().select(0 if timeout is not None else None)
        if not ready and timeout is not None:
            self.now += timeout
        return ready


class _Loop(asyncio.SelectorEventLoop):
    def __init__(self, selector: _Selector) -> None:
        self._clock = selector
        super().__init__(selector)

    def time(self) -> float:
        return self._clock.now


def run(work: Coroutine[Any, Any, T]) -> T:
    """Runs a coroutine by such a clock; `asyncio.sleep` takes no time in it."""
    with asyncio.Runner(loop_factory=lambda: _Loop(_Selector())) as runner:
        return runner.run(work)


class SetClock:
    """What a module takes for `time`, with one clock that the test sets."""

    def __init__(self, now: float = 1.7e9) -> None:
        self.now = now

    def time(self) -> float:
        return self.now

    def monotonic(self) -> float:
        return self.now

    def sleep(self, seconds: float) -> None:
        self.now += seconds

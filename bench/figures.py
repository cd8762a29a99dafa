"""One line of the report, and how two measurements are compared."""

from __future__ import annotations

import statistics
from collections.abc import Callable
from dataclasses import dataclass


@dataclass(frozen=True)
class Figure:
    """One line of the report. `aim` is what `ratio` is to reach, or with `at_most` not to exceed."""

    what: str
    measured: str
    against: str
    ratio: float
    aim: float
    at_most: bool = False

    @property
    def reached(self) -> bool:
        return self.ratio <= self.aim if self.at_most else self.ratio >= self.aim


def alternating(first: Callable[[], float], second: Callable[[], float], rounds: int) -> tuple[float, float, float]:
    """Medians of two measurements made in turn, and the median of their ratios pair by pair."""
    first(), second()  # the first of each warms up
    pairs: list[tuple[float, float]] = []
    for place in range(2 * rounds):
        # Either is the first of a pair as often: a machine that grows slower meanwhile is unkind to both.
        if place % 2:
            other = second()
            pair = first(), other
        else:
            pair = first(), second()
        # A shared machine may stand still for seconds; what was measured then is of the machine.
        if min(pair) > 0:
            pairs.append(pair)
        if len(pairs) == rounds:
            break
    if not pairs:
        raise RuntimeError("this machine is too busy to measure anything")
    ratio = statistics.median(a / b for a, b in pairs)
    return statistics.median(a for a, _ in pairs), statistics.median(b for _, b in pairs), ratio

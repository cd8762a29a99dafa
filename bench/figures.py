"""One line of the report."""

from __future__ import annotations

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

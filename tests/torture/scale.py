"""How often each of these tests tries: a few times among all tests, and as often as was promised by `make torture`."""

from __future__ import annotations

import functools
import os
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import ParamSpec

P = ParamSpec("P")
WHOLE = bool(os.environ.get("INVIO_TORTURE"))


def times(short: int, whole: int) -> int:
    """`whole` in `make torture`, `short` among all tests."""
    return whole if WHOLE else short


def report(what: str, tried: int, lost: int = 0, cases: Sequence[str] = ()) -> None:
    """Notes what was tried, for the summary that `make torture` prints at its end; of what was lost, a few `cases`."""
    place = os.environ.get("INVIO_TORTURE_REPORT")
    if place:
        with Path(place).open("a", encoding="utf-8") as file:
            file.write(f"{tried:>9,}  {what}; lost or let through: {lost}\n")
            file.writelines(f"           {case}\n" for case in cases[:5])


class Late(AssertionError):
    """Somebody waited for too long."""


def _taken_away() -> tuple[int, int]:
    """What of this machine's time others had, who share it, and all of it: in ticks, of all its processors."""
    spent = [int(ticks) for ticks in Path("/proc/stat").read_text().split("\n", 1)[0].split()[1:9]]
    return spent[7], sum(spent)


def with_the_machine_to_itself(test: Callable[P, None]) -> Callable[P, None]:
    """Repeats a test that was late while others had a tenth of the machine, which is then no measure of the service.

    The bounds stay what they are, and the fourth time counts, whoever has the machine.
    """

    @functools.wraps(test)
    def tried(*given: P.args, **named: P.kwargs) -> None:
        for _ in range(3):
            stolen, spent = _taken_away()
            try:
                return test(*given, **named)
            except Late as late:
                now_stolen, now_spent = _taken_away()
                share = (now_stolen - stolen) / max(1, now_spent - spent)
                if share < 0.1:
                    raise
                report(f"trial made again: {late}, while others had {share:.0%} of the machine", 1)
        return test(*given, **named)

    return tried

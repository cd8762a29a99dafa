"""`invio check`: what is wrong with a service, on its own machine."""

from __future__ import annotations

import time
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING

import click
from rich.text import Text

from invio.cli.options import gives_json, has_settings, print_json
from invio.cli.output import print_table, say

if TYPE_CHECKING:
    from invio.service.checking import Seen

_MARKS = {"ok": Text("✓", "green"), "warning": Text("!", "bold yellow"), "fault": Text("✗", "bold red")}


@click.command()
@has_settings
@gives_json
def check(*, settings: Path, as_json: bool) -> None:
    """Find what is wrong with a service before it hurts: settings, rights, records, disks, stores, rules.

    The service may run or not, and nothing is changed. Exit status 1 when there is a fault (✗), with which something
    does not work; a warning (!) is worth a look. 'invio verify' reads all that is stored as well.
    """
    from invio.service.checking import look_over

    seen = list(look_over(settings, time.time()))
    faults, warnings = (sum(one.grade == grade for one in seen) for grade in ("fault", "warning"))
    if as_json:
        print_json({"faults": faults, "warnings": warnings, "seen": [asdict(one) for one in seen]})
    else:
        print_table([("", "left"), ("part", "left"), ("", "left")], [_row(one) for one in seen])
        say(f"{_counted(faults, 'fault')}, {_counted(warnings, 'warning')}")
    if faults:
        raise click.exceptions.Exit(1)


def _row(one: Seen) -> tuple[str | Text, ...]:
    return _MARKS[one.grade].copy(), one.part, one.said


def _counted(count: int, what: str) -> str:
    return f"{count or 'no'} {what}{'s' * (count != 1)}"

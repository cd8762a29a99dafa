"""`invio rules check` and `invio rules compare`: test rules before they take effect."""

from __future__ import annotations

import csv
import sys
import time
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import click
from rich.progress import Progress, SpinnerColumn, TextColumn, TimeElapsedColumn
from rich.text import Text

from invio.cli.options import gives_json, has_settings, print_json
from invio.cli.output import console, json_text, print_table, say
from invio.core.files import FileFacts
from invio.core.rules.proofs import Change, Checked, check, compare

_TABLE_ROWS = 500  # of a comparison; --csv and --json give all
_COLUMNS = ("who", "address", "action", "would_be", "rule", "line", "terms")


@click.group()
def rules() -> None:
    """Test the rules, and show what a change of them would change."""


@rules.command(name="check")
@click.argument("file", type=click.Path(path_type=Path), required=False)
@has_settings
@gives_json
def check_rules(*, file: Path | None, settings: Path, as_json: bool) -> None:
    """Check the rules, or FILE instead of them, against each [[expect]] in it.

    Exit status 1 when the file cannot be used, or an expectation is not met.
    """
    from invio.service.proving import prove
    from invio.service.settings import read_settings

    proving = prove(read_settings(settings))
    path = file or proving.rules_path
    read = proving.read(path)
    checked = check(read, proving.groups_of, proving.facts_of)
    failed = [one for one in checked if not one.met]
    if as_json:
        print_json({"file": str(path), "rules": len(read.rules), "expectations": [_as_json(one) for one in checked]})
    else:
        if checked:
            columns = [("", "left"), ("line", "right"), ("who", "left"), ("action", "left"), ("address", "left")]
            print_table([*columns, ("expected", "left"), ("because", "left")], [_row(one) for one in checked])
        say(f"{_from_here(path)}: {len(read.rules)} rules, {len(checked)} expectations, {len(failed)} not met")
    for said in proving.doubts(read):
        say(f"{_from_here(path)}: {said}", err=True)
    if failed:
        raise click.exceptions.Exit(1)


def _from_here(path: Path) -> Path:
    here = Path.cwd()
    return path.relative_to(here) if path.is_relative_to(here) else path


def _as_json(one: Checked) -> dict[str, Any]:
    expected = one.expectation
    return {
        "line": expected.line,
        "who": expected.who,
        "action": expected.action,
        "address": str(expected.address),
        "version": expected.version,
        "expected": expected.outcome,
        "met": one.met,
        "because": one.because,
    }


def _row(one: Checked) -> tuple[str | Text, ...]:
    expected = one.expectation
    mark = Text("✓ met", "green") if one.met else Text("✗ not met", "bold red")
    address = str(expected.address) + ("" if expected.version is None else f" ({expected.version})")
    return mark, str(expected.line), expected.who, expected.action, address, expected.outcome, one.because


@rules.command(name="compare")
@click.argument("new", type=click.Path(path_type=Path))
@has_settings
@click.option("--csv", "as_csv", is_flag=True, help="Print the changes as CSV.")
@gives_json
def compare_rules(*, new: Path, settings: Path, as_csv: bool, as_json: bool) -> None:
    """Show what would change if NEW were the rules: for whom, which file, which action, by which rule.

    That is who may do what, and of what they may have the speed, quotas, disposition, caching and link times.

    Asked for are anyone, everybody in the records, and somebody of each group that the rules name; for every
    file that the stores hold, as of now. Exit status 1 when anything would change, 0 when nothing would.
    """
    from invio.service.proving import prove
    from invio.service.settings import read_settings

    if as_csv and as_json:
        raise click.UsageError("give --csv or --json, not both")
    proving = prove(read_settings(settings))
    old, changed = proving.read(proving.rules_path), proving.read(new)
    callers = proving.callers(old, changed)
    counted = _Counted(proving.files())
    found = compare(old, changed, callers, counted, time.time())
    if as_csv or as_json:
        count = (_print_csv if as_csv else _print_json)(_watched(found, counted, quiet=sys.stdout.isatty()))
    else:
        rows, count = _rows_of(_watched(found, counted))
        _print_table(rows, count)
    for name, fault in proving.silent.items():
        say(f"{name}: its files were not compared, because the store did not answer ({fault})", err=True)
    if not (as_csv or as_json):
        say(f"{counted.count} files, {len(callers)} callers: {count or 'no'} outcomes would change")
    if count:
        raise click.exceptions.Exit(1)


@dataclass
class _Counted:
    """Files on their way, and how many there were."""

    files: Iterable[FileFacts]
    tell: Callable[[int], object] = field(default=lambda _: None)
    count: int = 0

    def __iter__(self) -> Iterator[FileFacts]:
        for facts in self.files:
            self.count += 1
            if self.count % 100 == 0:
                self.tell(self.count)
            yield facts


def _watched(changes: Iterator[Change], counted: _Counted, *, quiet: bool = False) -> Iterator[Change]:
    """The changes, while a line on standard error tells how many files were compared; `quiet`: without it."""
    columns = (SpinnerColumn(), TextColumn("{task.fields[files]} files compared"), TimeElapsedColumn())
    hidden = quiet or not sys.stderr.isatty()
    with Progress(*columns, console=console(stderr=True), transient=True, disable=hidden) as progress:
        task = progress.add_task("", total=None, files=0)
        counted.tell = lambda count: progress.update(task, files=count)
        yield from changes


def _line(change: Change) -> tuple[str, str, str, str, str, int, str]:
    would_be = "allowed" if change.allowed else "refused"
    return change.who, str(change.address), change.action, would_be, change.rule, change.line, change.terms


def _print_csv(changes: Iterable[Change]) -> int:
    writer, count = csv.writer(sys.stdout), 0
    writer.writerow(_COLUMNS)
    for count, change in enumerate(changes, 1):  # noqa: B007
        writer.writerow(_line(change))
    return count


def _print_json(changes: Iterable[Change]) -> int:
    """One document, written as its parts are found."""
    count = 0
    say('{"changes": [', nl=False)
    for count, change in enumerate(changes, 1):
        entry = json_text(dict(zip(_COLUMNS, _line(change), strict=True)))
        say(("," if count > 1 else "") + "\n  " + entry, nl=False)
    say(f'{chr(10) if count else ""}], "count": {count}}}')
    return count


def _rows_of(changes: Iterable[Change]) -> tuple[list[tuple[str | Text, ...]], int]:
    """What a table shows of the changes, and how many there are."""
    rows: list[tuple[str | Text, ...]] = []
    count = 0
    for count, change in enumerate(changes, 1):
        if count <= _TABLE_ROWS:
            who, address, action, would_be, rule, line, terms = _line(change)
            outcome = Text(("+ " if change.allowed else "− ") + would_be, "green" if change.allowed else "red")
            if terms:
                outcome = Text(f"~ {terms}", "yellow")
            rows.append((who, address, action, outcome, f"{rule} (line {line})"))
    return rows, count


def _print_table(rows: list[tuple[str | Text, ...]], count: int) -> None:
    if rows:
        columns = [("who", "left"), ("file", "left"), ("action", "left"), ("would be", "left"), ("by the rule", "left")]
        print_table(columns, rows)
    if count > _TABLE_ROWS:
        say(f"… and {count - _TABLE_ROWS} more; --csv gives them all")

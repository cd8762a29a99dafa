"""`invio rules check` and `invio rules compare`: whether the rules say what was meant, before they hold."""

from __future__ import annotations

import csv
import sys
import time
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import click
from rich.progress import Progress, SpinnerColumn, TextColumn, TimeElapsedColumn
from rich.text import Text

from invio.cli.options import gives_json, print_json
from invio.cli.output import console, print_table
from invio.core.files import FileFacts
from invio.core.rule_proofs import Change, Checked, check, compare

_TABLE_ROWS = 500  # of a comparison; --csv and --json give all
_COLUMNS = ("who", "address", "action", "would_be", "rule", "line")

_SETTINGS = click.option(
    "--settings", type=click.Path(path_type=Path), default=Path("invio.toml"), show_default=True,
    envvar="INVIO_SETTINGS", show_envvar=True, help="The service's settings: its stores and its records.",
)  # fmt: skip


@click.group()
def rules() -> None:
    """Prove the rules: what they say, and what a change of them would change."""


@rules.command(name="check")
@click.argument("file", type=click.Path(path_type=Path), required=False)
@_SETTINGS
@gives_json
def check_rules(file: Path | None, settings: Path, as_json: bool) -> None:
    """Read the rules, or FILE instead of them, and put each of its [[expect]] to them.

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
        print_json({"file": str(path), "rules": len(read.rules), "expectations": [_told(one) for one in checked]})
    else:
        if checked:
            columns = [("", "left"), ("line", "right"), ("who", "left"), ("action", "left"), ("address", "left")]
            print_table([*columns, ("expected", "left"), ("because", "left")], [_row(one) for one in checked])
        click.echo(f"{path}: {len(read.rules)} rules, {len(checked)} expectations, {len(failed)} not met")
    if failed:
        raise click.exceptions.Exit(1)


def _told(one: Checked) -> dict[str, Any]:
    expected = one.expectation
    return {
        "line": expected.line,
        "who": expected.recipient or "anyone",
        "action": expected.action,
        "address": str(expected.address),
        "expected": expected.outcome,
        "met": one.met,
        "because": _because(one),
    }


def _row(one: Checked) -> tuple[str | Text, ...]:
    expected = one.expectation
    mark = Text("✓ met", "green") if one.met else Text("✗ not met", "bold red")
    who = expected.recipient or "anyone"
    outcome = expected.outcome
    return mark, str(expected.line), who, expected.action, str(expected.address), outcome, _because(one)


def _because(one: Checked) -> str:
    """The rule that decided; where none spoke, the one that nearly did."""
    reasons = one.decision.reasons
    spoke = [reason for reason in reasons if reason.spoke]
    if spoke:
        deciding = spoke[0]
        return f"{deciding.effect}: {deciding.rule} (line {deciding.line})"
    return "no rule speaks about it"


@rules.command(name="compare")
@click.argument("new", type=click.Path(path_type=Path))
@_SETTINGS
@click.option("--csv", "as_csv", is_flag=True, help="Print the changes as CSV.")
@gives_json
def compare_rules(new: Path, settings: Path, as_csv: bool, as_json: bool) -> None:
    """Tell what would change if NEW were the rules: for whom, which file, which action, by which rule.

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
    with _progress() as progress:
        task = progress.add_task("", total=None, files=0)
        counted = _Counted(proving.files(), lambda count: progress.update(task, files=count))
        found = compare(old, changed, callers, counted, time.time())
        count = (_print_csv if as_csv else _print_json if as_json else _print_table)(found)
    for name, fault in proving.silent.items():
        click.echo(f"{name}: its files were not compared, for the store did not answer ({fault})", err=True)
    if not (as_csv or as_json):
        click.echo(f"{counted.count} files, {len(callers)} callers: {count or 'no'} outcomes would change")
    if count:
        raise click.exceptions.Exit(1)


@dataclass
class _Counted:
    """Files on their way, how many there were, and who is told of it."""

    files: Iterable[FileFacts]
    tell: Callable[[int], None]
    count: int = 0

    def __iter__(self) -> Iterator[FileFacts]:
        for facts in self.files:
            self.count += 1
            if self.count % 100 == 0:
                self.tell(self.count)
            yield facts


def _progress() -> Progress:
    columns = (SpinnerColumn(), TextColumn("{task.fields[files]} files compared"), TimeElapsedColumn())
    return Progress(*columns, console=console(stderr=True), transient=True, disable=not sys.stderr.isatty())


def _line(change: Change) -> tuple[str, str, str, str, str, int]:
    would_be = "allowed" if change.allowed else "refused"
    return change.who, str(change.address), change.action, would_be, change.rule, change.line


def _print_csv(changes: Iterable[Change]) -> int:
    writer, count = csv.writer(sys.stdout), 0
    writer.writerow(_COLUMNS)
    for count, change in enumerate(changes, 1):  # noqa: B007
        writer.writerow(_line(change))
    return count


def _print_json(changes: Iterable[Change]) -> int:
    """One document, written as its parts are found."""
    import json

    count = 0
    click.echo('{"changes": [', nl=False)
    for count, change in enumerate(changes, 1):
        entry = json.dumps(dict(zip(_COLUMNS, _line(change), strict=True)), ensure_ascii=False)
        click.echo(("," if count > 1 else "") + "\n  " + entry, nl=False)
    click.echo(f'{chr(10) if count else ""}], "count": {count}}}')
    return count


def _print_table(changes: Iterable[Change]) -> int:
    rows, count = [], 0
    for count, change in enumerate(changes, 1):
        if count <= _TABLE_ROWS:
            who, address, action, would_be, rule, line = _line(change)
            colour = "green" if change.allowed else "red"
            mark = "+ " if change.allowed else "− "
            rows.append((who, address, action, Text(mark + would_be, colour), f"{rule} (line {line})"))
    if rows:
        columns = [("who", "left"), ("file", "left"), ("action", "left"), ("would be", "left"), ("by the rule", "left")]
        print_table(columns, rows)
    if count > _TABLE_ROWS:
        click.echo(f"… and {count - _TABLE_ROWS} more; --csv gives them all")
    return count

"""What the commands print: results to standard output, everything else to standard error."""

from __future__ import annotations

import json
import sys
from collections.abc import Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, Any

import click

from invio.cli.commands import speaks_utf8
from invio.core.shown import shown

if TYPE_CHECKING:  # loaded where something is drawn: the service would keep it as long as it runs
    from rich.console import Console
    from rich.table import Table
    from rich.text import Text

# The states of a transfer: a mark that needs no colour, and a colour.
STATES = {
    "running": ("…", "cyan"),
    "complete": ("✓", "green"),
    "partial": ("◐", "yellow"),
    "broken-off": ("✗", "red"),
    "handed-off": ("→", "green"),
    "refused": ("∅", "magenta"),
}


def plain_table(columns: Sequence[tuple[str, str]], rows: Iterable[Sequence[str | Text]]) -> Table:
    """A plain table; `columns` are (title, `left` or `right`)."""
    from rich.table import Table

    table = Table(box=None, pad_edge=False, header_style="bold", padding=(0, 2, 0, 0))
    for title, side in columns:
        table.add_column(title, justify=side, overflow="fold", no_wrap=side == "right")  # type: ignore[arg-type]
    for row in rows:
        table.add_row(*map(_cell, row))
    return table


def _cell(value: str | Text) -> str | Text:
    """Names and labels come from anybody; nothing in them is an order to the terminal."""
    if isinstance(value, str):
        return shown(value, keep="\n")
    value.plain = shown(value.plain, keep="\n") if shown(value.plain, keep="\n") != value.plain else value.plain
    return value


def print_table(columns: Sequence[tuple[str, str]], rows: Iterable[Sequence[str | Text]]) -> None:
    """Prints rows under their headings; `columns` are pairs of a heading and how it is aligned."""
    console().print(plain_table(columns, rows))


def file_text(told: Mapping[str, Any]) -> str:
    """Of which file a transfer is, with its version and rendition where there is one."""
    version, rendition = told.get("version"), told.get("rendition")
    which = [f"version {version}"] if version is not None else []
    which += [f"rendition {rendition}"] if rendition is not None else []
    return f"{told['address']}  ({', '.join(which)})" if which else str(told["address"])


def json_text(value: Any, indent: int | None = None) -> str:
    """A value as JSON; in ASCII alone where names in it are orders to a terminal, or the output is not UTF-8."""
    text = json.dumps(value, indent=indent, ensure_ascii=False)
    if shown(text, keep="\n") != text or not speaks_utf8(sys.stdout):
        return json.dumps(value, indent=indent)
    return text


def say(text: object, *, err: bool = False, nl: bool = True) -> None:
    """Prints a line; names in it come from anybody, and are no orders to the terminal."""
    click.echo(shown(str(text), keep="\n\t\r"), err=err, nl=nl)


def console(*, stderr: bool = False) -> Console:
    """A console whose lines are never cut when they go into a file or a pipe."""
    from rich.console import Console

    found = Console(stderr=stderr, highlight=False)
    return found if found.is_terminal else Console(stderr=stderr, highlight=False, width=10_000)


def state_text(state: str) -> Text:
    """A transfer's state with its mark and its colour."""
    from rich.text import Text

    mark, colour = STATES[state]
    return Text(f"{mark} {state}", style=colour)

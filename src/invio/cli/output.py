"""What the commands print: results to standard output, everything else to standard error."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence

from rich.console import Console
from rich.table import Table
from rich.text import Text

_UNITS = ("B", "KiB", "MiB", "GiB", "TiB")

# The states of a transfer: a mark that needs no colour, and a colour.
STATES = {
    "running": ("…", "cyan"),
    "complete": ("✓", "green"),
    "partial": ("◐", "yellow"),
    "broken-off": ("✗", "red"),
    "handed-off": ("→", "green"),
    "refused": ("∅", "magenta"),
}


def size_text(size: float | None) -> str:
    """Bytes for people: `283 MiB`; a dash for what is not known."""
    if size is None:
        return "–"
    power = 0 if size < 1024 else min(len(_UNITS) - 1, int(math.log(size, 1024)))
    number = size / 1024**power
    return f"{number:.0f} {_UNITS[power]}" if power == 0 or number >= 100 else f"{number:.1f} {_UNITS[power]}"


def duration_text(seconds: float | None) -> str:
    """Seconds for people: `1:05` or `2:03:10`; a dash for what is not known."""
    if seconds is None:
        return "–"
    whole = math.ceil(seconds)
    hours, minutes = divmod(whole // 60, 60)
    return f"{hours}:{minutes:02}:{whole % 60:02}" if hours else f"{minutes}:{whole % 60:02}"


def table(columns: Sequence[tuple[str, str]], rows: Iterable[Sequence[str | Text]]) -> Table:
    """A plain table; `columns` are (title, `left` or `right`)."""
    shown = Table(box=None, pad_edge=False, header_style="bold", padding=(0, 2, 0, 0))
    for title, side in columns:
        shown.add_column(title, justify=side, overflow="fold", no_wrap=side == "right")  # type: ignore[arg-type]
    for row in rows:
        shown.add_row(*row)
    return shown


def print_table(columns: Sequence[tuple[str, str]], rows: Iterable[Sequence[str | Text]]) -> None:
    console().print(table(columns, rows))


def console(stderr: bool = False) -> Console:
    """A console whose lines are never cut when they go into a file or a pipe."""
    found = Console(stderr=stderr, highlight=False)
    return found if found.is_terminal else Console(stderr=stderr, highlight=False, width=10_000)


def state_text(state: str) -> Text:
    mark, colour = STATES[state]
    return Text(f"{mark} {state}", style=colour)

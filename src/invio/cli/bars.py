"""Progress bars of downloads and uploads, on standard error."""

from __future__ import annotations

from bisect import bisect_right
from collections import deque
from typing import Any

from rich.progress import BarColumn, Progress, TextColumn
from rich.progress import TaskID as Line

from invio.cli.output import console
from invio.client import Progress as Done
from invio.core.figures import left_text, size_text

_KEPT = 8  # bars that are seen at once: each is drawn anew whenever one of them moves


class Bars:
    """A bar for each of the last few downloads; a terminal sees them move, a file only how they ended.

    `of` is how many there will be, and `quiet`: nobody sees any.
    """

    def __init__(self, *, of: int = 1, quiet: bool = False) -> None:
        self._progress = Progress(
            TextColumn("{task.fields[name]}"),
            BarColumn(bar_width=30, complete_style="cyan", finished_style="green"),
            TextColumn("{task.fields[percent]:>6}"),
            TextColumn("{task.fields[done]}"),
            TextColumn("{task.fields[rate]}"),
            TextColumn("{task.fields[left]}"),
            console=console(stderr=True),
            refresh_per_second=8,
        )
        self._quiet = quiet
        self._shown = False
        self._line: Line | None = None
        self._lines: deque[Line] = deque()
        self._of, self._number = of, 0
        self._ends: list[int] = []
        self._addresses: list[str] = []
        self._count = 0

    def __enter__(self) -> Bars:
        return self

    def __exit__(self, *_: object) -> None:
        if self._shown:
            self._progress.stop()

    def begin(self) -> None:
        """The next file follows."""
        self._line = None
        self._number += 1

    def _add(self, name: str, total: int | None, shown: dict[str, Any]) -> Line:
        if not self._shown and not self._quiet:  # what is refused at once leaves no empty line
            self._progress.start()
            self._shown = True
        if len(self._lines) == _KEPT:
            self._progress.remove_task(self._lines.popleft())
        self._lines.append(self._progress.add_task(name, total=total, **shown))
        return self._lines[-1]

    def prepare(self, name: str, files: int, read: int) -> None:
        """Shows how far an archive is planned."""
        shown: dict[str, Any] = {"name": name, "percent": "", "rate": ""}
        shown["left"] = f"{size_text(read)} read" if read else ""
        shown["done"] = f"preparing, {files:,} files"
        if self._line is None:
            self._line = self._add("", None, shown)
        self._progress.update(self._line, **shown)

    def hold(self, entries: list[dict[str, Any]], count: int) -> None:
        """From now on tells which of an archive's `count` entries is on its way; `entries` are the first of them."""
        if self._line is not None:
            self._progress.remove_task(self._line)
            self._lines.remove(self._line)
        self._line = None
        self._ends = [entry["ends"] for entry in entries]
        self._addresses = [entry["address"] or "" for entry in entries]
        self._count = count

    def _entry(self, done: int) -> str:
        place = bisect_right(self._ends, done)
        if place >= len(self._addresses):
            return ""
        return f"{place + 1:,} of {self._count:,}: {self._addresses[place]}"

    def report(self, done: Done) -> None:
        """Shows how far the present download is."""
        shown: dict[str, Any] = {
            "name": f"{self._number:,} of {self._of:,}: {done.name}" if self._of > 1 else done.name,
            "percent": "" if done.percent is None else f"{done.percent} %",
            "done": f"{size_text(done.done)} of {size_text(done.size)}" if done.size else size_text(done.done),
            "rate": f"{size_text(done.rate)}/s" if done.rate else "",
            "left": left_text(done.seconds_left),
        }
        if self._ends:
            shown["left"] = "   ".join(part for part in (shown["left"], self._entry(done.done)) if part)
        if self._line is None:
            self._line = self._add("", done.size or None, shown)
        self._progress.update(self._line, completed=done.done, **shown)

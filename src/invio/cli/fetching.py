"""`invio fetch` and `invio bundle`: downloads with a progress bar."""

from __future__ import annotations

from bisect import bisect_right
from pathlib import Path
from typing import Any

import click
from rich.progress import BarColumn, Progress, TextColumn
from rich.progress import TaskID as Line

from invio.cli.options import gives_json, print_json, talks_to_service
from invio.cli.output import console, duration_text, say, size_text
from invio.client import Client, Fetched
from invio.client import Progress as Done


class Bars:
    """A bar for each download, on standard error; a terminal sees them move, a file only how they ended."""

    def __init__(self) -> None:
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
        self._line: Line | None = None
        self._ends: list[int] = []
        self._addresses: list[str] = []
        self._count = 0

    def __enter__(self) -> Bars:
        self._progress.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._progress.stop()

    def begin(self) -> None:
        self._line = None

    def prepare(self, name: str, files: int, read: int) -> None:
        """Shows how far an archive is planned."""
        shown: dict[str, Any] = {"name": name, "percent": "", "rate": ""}
        shown["left"] = f"{size_text(read)} read" if read else ""
        shown["done"] = f"preparing, {files:,} files"
        if self._line is None:
            self._line = self._progress.add_task("", total=None, **shown)
        self._progress.update(self._line, **shown)

    def hold(self, entries: list[dict[str, Any]], count: int) -> None:
        """From now on tells which of an archive's `count` entries is on its way; `entries` are the first of them."""
        if self._line is not None:
            self._progress.remove_task(self._line)
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
            "name": done.name,
            "percent": "" if done.percent is None else f"{done.percent:.1f} %",
            "done": f"{size_text(done.done)} of {size_text(done.size)}" if done.size else size_text(done.done),
            "rate": f"{size_text(done.rate)}/s" if done.rate else "",
            "left": f"{duration_text(done.seconds_left)} left" if done.seconds_left else "",
        }
        if self._ends:
            shown["left"] = "   ".join(part for part in (shown["left"], self._entry(done.done)) if part)
        if self._line is None:
            self._line = self._progress.add_task("", total=done.size or None, **shown)
        self._progress.update(self._line, completed=done.done, **shown)


@click.command()
@click.argument("sources", nargs=-1, required=True, metavar="ADDRESS-OR-URL…")
@click.option("-o", "--output", type=click.Path(path_type=Path), help="A file, or an existing folder, to save to.")
@click.option("--version", type=click.IntRange(min=1), help="This version of the one file that is named.")
@gives_json
@talks_to_service
def fetch(*, client: Client, sources: tuple[str, ...], output: Path | None, version: int | None, as_json: bool) -> None:
    """Download files, with progress; resume where an earlier download stopped.

    What has arrived is kept as NAME.part until it is whole. A sealed link needs no token.
    """
    folder, target = _where(output)
    if target is not None and len(sources) > 1:
        raise click.UsageError("several files need a folder: give an existing one with -o")
    if version is not None and (len(sources) > 1 or "://" in sources[0]):
        raise click.UsageError("--version is of one file, named by its address")
    for source in sources:
        client.url_of(source)  # a wrong address is refused before anything is fetched
    fetched = []
    with Bars() as bars:
        for source in sources:
            bars.begin()
            fetched.append(client.fetch(source, target=target, folder=folder, report=bars.report, version=version))
    _tell(fetched, as_json=as_json)


@click.command()
@click.argument("addresses", nargs=-1, required=True, metavar="ADDRESS…")
@click.option("-o", "--output", type=click.Path(path_type=Path), help="A file, or an existing folder, to save to.")
@click.option("--name", help="The archive's name; one that ends in .tar is a TAR archive.")
@click.option("--flatten", is_flag=True, help="Put all files into one folder.")
@click.option("--sums", is_flag=True, help="Add the entry SHA256SUMS, for sha256sum -c.")
@click.option(
    "--leave-out", is_flag=True, help="Leave out files that cannot be included, and list them in LEFT-OUT.txt."
)
@gives_json
@talks_to_service
def bundle(
    *,
    client: Client,
    addresses: tuple[str, ...],
    output: Path | None,
    name: str | None,
    flatten: bool,
    sums: bool,
    leave_out: bool,
    as_json: bool,
) -> None:
    """Download a selection of files and folders (store/folder/) as one archive, ZIP or TAR.

    What breaks off is gone on with by repeating the command, unless a file has changed.
    """
    folder, target = _where(output)
    options = {
        "folders": "flatten" if flatten else "keep",
        "sums": sums,
        "on_problem": "leave-out" if leave_out else "refuse",
    }
    with Bars() as bars:
        label = name or (target.name if target else "archive")
        made = client.bundle(
            addresses,
            name or (target.name if target else None),
            prepared=lambda files, read: bars.prepare(label, files, read),
            **options,
        )
        bars.hold(client.bundle_entries(made["id"]), made["entries"])
        fetched = client.fetch(made["url"], target=target, folder=folder, report=bars.report)
    if as_json:
        print_json({**made, "path": str(fetched.path), "resumed": fetched.resumed})
        return
    entries = "1 file" if made["entries"] == 1 else f"{made['entries']:,} files"
    say(f"{fetched.path}: {entries}, {size_text(fetched.size)}{_resumed(fetched)}")
    for one in made["left_out"]:
        say(f"left out: {one['address']} ({one['reason']})")


def _where(output: Path | None) -> tuple[Path, Path | None]:
    """(folder for names that the service gives, the one target that was named)."""
    if output is None:
        return Path(), None
    if output.is_dir():
        return output, None
    if output.exists():
        raise FileExistsError(f"{output} is there already; move it away, or name another with -o")
    if not output.parent.is_dir():
        raise click.UsageError(f"there is no folder {output.parent}")
    return output.parent, output


def _tell(fetched: list[Fetched], *, as_json: bool) -> None:
    if as_json:
        files = [
            {
                "path": str(item.path),
                "size": item.size,
                "resumed": item.resumed,
                "seconds": round(item.seconds, 3),
                "verified": item.verified,
            }
            for item in fetched
        ]
        print_json({"files": files})
        return
    for item in fetched:
        verified = ", SHA-256 verified" if item.verified else ""
        say(f"{item.path}: {size_text(item.size)}{_resumed(item)}{verified}")


def _resumed(item: Fetched) -> str:
    return f", of which {size_text(item.resumed)} were there already" if item.resumed else ""

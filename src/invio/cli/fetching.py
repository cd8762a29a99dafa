"""`invio fetch` and `invio bundle`: downloads with a progress bar."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click
from rich.progress import BarColumn, Progress, TextColumn
from rich.progress import TaskID as Line

from invio.cli.options import gives_json, print_json, talks_to_service
from invio.cli.output import console, duration_text, size_text
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

    def __enter__(self) -> Bars:
        self._progress.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._progress.stop()

    def begin(self) -> None:
        self._line = None

    def report(self, done: Done) -> None:
        """Shows how far the present download is."""
        shown: dict[str, Any] = {
            "name": done.name,
            "percent": "" if done.percent is None else f"{done.percent:.1f} %",
            "done": f"{size_text(done.done)} of {size_text(done.size)}" if done.size else size_text(done.done),
            "rate": f"{size_text(done.rate)}/s" if done.rate else "",
            "left": f"{duration_text(done.seconds_left)} left" if done.seconds_left else "",
        }
        if self._line is None:
            self._line = self._progress.add_task("", total=done.size or None, **shown)
        self._progress.update(self._line, completed=done.done, **shown)


@click.command()
@click.argument("sources", nargs=-1, required=True, metavar="ADDRESS-OR-URL…")
@click.option("-o", "--output", type=click.Path(path_type=Path), help="A file, or an existing folder, to save to.")
@gives_json
@talks_to_service
def fetch(client: Client, sources: tuple[str, ...], output: Path | None, as_json: bool) -> None:
    """Download files, with progress; go on where an earlier download broke off.

    What has arrived is kept as NAME.part until it is whole. A sealed link needs no token.
    """
    folder, target = _where(output)
    if target is not None and len(sources) > 1:
        raise click.UsageError("several files need a folder: give an existing one with -o")
    for source in sources:
        client.url_of(source)  # a wrong address is refused before anything is fetched
    fetched = []
    with Bars() as bars:
        for source in sources:
            bars.begin()
            fetched.append(client.fetch(source, target=target, folder=folder, report=bars.report))
    _tell(fetched, as_json)


@click.command()
@click.argument("addresses", nargs=-1, required=True, metavar="ADDRESS…")
@click.option("-o", "--output", type=click.Path(path_type=Path), help="A file, or an existing folder, to save to.")
@click.option("--name", help="The archive's name.")
@gives_json
@talks_to_service
def bundle(client: Client, addresses: tuple[str, ...], output: Path | None, name: str | None, as_json: bool) -> None:
    """Download a selection of files and folders (store/folder/) as one ZIP archive."""
    folder, target = _where(output)
    made = client.bundle(addresses, name or (target.name if target else None))
    with Bars() as bars:
        fetched = client.fetch(made["url"], target=target, folder=folder, report=bars.report)
    if as_json:
        print_json({**made, "path": str(fetched.path)})
    else:
        entries = "1 file" if made["entries"] == 1 else f"{made['entries']} files"
        click.echo(f"{fetched.path}: {entries}, {size_text(fetched.size)}")


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


def _tell(fetched: list[Fetched], as_json: bool) -> None:
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
        resumed = f", of which {size_text(item.resumed)} were there already" if item.resumed else ""
        verified = ", SHA-256 verified" if item.verified else ""
        click.echo(f"{item.path}: {size_text(item.size)}{resumed}{verified}")

"""`invio fetch` and `invio bundle`: downloads."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

import click

from invio.cli.bars import Bars
from invio.cli.each import each
from invio.cli.options import ADDRESS, gives_json, keeps_trying, print_json, talks_to_service
from invio.cli.output import say
from invio.client import Client, Fetched
from invio.client.partial import Existing
from invio.core.figures import size_text

_STANDARD_OUTPUT = "-"


def _saves(command: Any) -> Any:
    """Adds where a download is saved, and what becomes of a file that is there already."""
    for option in (
        click.option("--skip", is_flag=True, help="Leave a file that is there already as it is."),
        click.option("--overwrite", is_flag=True, help="Replace a file that is there, once the new one is whole."),
        click.option("-o", "--output", metavar="PATH",
                     help="A file, or a folder, to save to; FOLDER/ is created, and - is standard output."),
    ):  # fmt: skip
        command = option(command)
    return command


@click.command()
@click.argument("sources", nargs=-1, type=ADDRESS, required=True, metavar="ADDRESS-OR-URL…")
@_saves
@click.option("--version", type=click.IntRange(min=1), help="This version of the one file that is named.")
@click.option("--rendition", metavar="NAME", help="This rendition of images, as the service's settings name them.")
@keeps_trying
@gives_json
@talks_to_service
def fetch(
    *,
    client: Client,
    sources: tuple[str, ...],
    output: str | None,
    version: int | None,
    rendition: str | None,
    quiet: bool,
    as_json: bool,
    **given: bool,
) -> None:
    """Download files, with progress; resume where an earlier download stopped.

    What has arrived is kept as NAME.part until it is whole. A sealed link needs no token. Of several files, those that
    are refused are named, and the others are fetched all the same.
    """
    if version is not None and (len(sources) > 1 or "://" in sources[0]):
        raise click.UsageError("--version is of one file, named by its address")
    if rendition is not None and any("://" in source for source in sources):
        raise click.UsageError("--rendition is of files named by their addresses; a link says itself what it opens")
    which: dict[str, Any] = {"version": version, "rendition": rendition}
    for source in sources:
        client.url_of(source)  # a wrong address is refused before anything is fetched
    if output == _STANDARD_OUTPUT:
        _write_out(client, sources, which, quiet=quiet, as_json=as_json)
        return
    existing = _existing(**given)
    folder, target = _where(output, existing)
    if target is not None and len(sources) > 1:
        raise click.UsageError("several files need a folder: give one with -o FOLDER/")
    with Bars(of=len(sources), quiet=quiet) as bars:

        def fetch_one(source: str) -> Fetched:
            bars.begin()
            return client.fetch(source, target=target, folder=folder, report=bars.report, existing=existing, **which)

        results = each(sources, fetch_one)
    results.tell(_fetched_text, _fetched_json, quiet=quiet, as_json=as_json)


def _write_out(client: Client, sources: tuple[str, ...], which: dict[str, Any], *, quiet: bool, as_json: bool) -> None:
    if as_json or len(sources) > 1:
        raise click.UsageError("-o - writes one file to standard output, and nothing else")
    with Bars(quiet=quiet or sys.stdout.isatty()) as bars:
        client.stream(sources[0], sys.stdout.buffer, report=bars.report, **which)


@click.command()
@click.argument("addresses", nargs=-1, type=ADDRESS, required=True, metavar="ADDRESS…")
@_saves
@click.option("--name", help="The archive's name; one that ends in .tar is a TAR archive.")
@click.option("--flatten", is_flag=True, help="Put all files into one folder.")
@click.option("--sums", is_flag=True, help="Add the entry SHA256SUMS, for sha256sum -c.")
@click.option("--rendition", metavar="NAME", help="Include images as this rendition.")
@click.option(
    "--leave-out", is_flag=True, help="Leave out files that cannot be included, and list them in LEFT-OUT.txt."
)
@keeps_trying
@gives_json
@talks_to_service
def bundle(
    *,
    client: Client,
    addresses: tuple[str, ...],
    output: str | None,
    name: str | None,
    flatten: bool,
    sums: bool,
    rendition: str | None,
    leave_out: bool,
    quiet: bool,
    as_json: bool,
    **given: bool,
) -> None:
    """Download a selection of files and folders (store/folder/) as one archive, ZIP or TAR.

    An archive whose download broke off is resumed by repeating the command, unless a file has changed.
    """
    to_stream = output == _STANDARD_OUTPUT
    if to_stream and as_json:
        raise click.UsageError("-o - writes the archive to standard output, and nothing else")
    existing = _existing(**given)
    folder, target = (Path(), None) if to_stream else _where(output, existing)
    options = {
        "folders": "flatten" if flatten else "keep",
        "sums": sums,
        "rendition": rendition,
        "on_problem": "leave-out" if leave_out else "refuse",
    }
    with Bars(quiet=quiet or (to_stream and sys.stdout.isatty())) as bars:
        label = name or (target.name if target else "archive")
        made = client.bundle(
            addresses,
            name or (target.name if target else None),
            prepared=lambda files, read: bars.prepare(label, files, read),
            **options,
        )
        bars.hold(client.bundle_entries(made["id"]), made["entries"])
        if to_stream:
            fetched = client.stream(made["url"], sys.stdout.buffer, report=bars.report)
        else:
            fetched = client.fetch(made["url"], target=target, folder=folder, report=bars.report, existing=existing)
    if as_json:
        print_json({**made, "path": str(fetched.path), "resumed": fetched.resumed, "skipped": fetched.skipped})
        return
    if not quiet and not to_stream:
        entries = "1 file" if made["entries"] == 1 else f"{made['entries']:,} files"
        how = "is there already, and was left as it is" if fetched.skipped else f"{entries}, {size_text(fetched.size)}"
        say(f"{fetched.path}: {how}{_resumed(fetched)}")
    for one in made["left_out"]:
        say(f"left out: {one['address']} ({one['reason']})", err=quiet or to_stream)


def _existing(*, overwrite: bool, skip: bool) -> Existing:
    if overwrite and skip:
        raise click.UsageError("give --overwrite or --skip, not both")
    return "overwrite" if overwrite else "skip" if skip else "refuse"


def _where(output: str | None, existing: Existing) -> tuple[Path, Path | None]:
    """(folder for names that the service gives, the one target that was named)."""
    if output is None:
        return Path(), None
    path = Path(output)
    if output.endswith("/"):
        path.mkdir(parents=True, exist_ok=True)
        return path, None
    if path.is_dir():
        return path, None
    if path.exists() and existing == "refuse":
        raise FileExistsError(f"{path} is there already; give --overwrite or --skip, or name another with -o")
    if not path.parent.is_dir():
        raise click.UsageError(f"there is no folder {path.parent}; {path.parent}/ with a slash at its end creates one")
    return path.parent, path


def _fetched_json(source: str, item: Fetched) -> dict[str, Any]:
    return {
        "source": source,
        "path": str(item.path),
        "size": item.size,
        "resumed": item.resumed,
        "seconds": round(item.seconds, 3),
        "verified": item.verified,
        "skipped": item.skipped,
    }


def _fetched_text(item: Fetched) -> str:
    if item.skipped:
        return f"{item.path}: is there already, and was left as it is"
    verified = ", SHA-256 verified" if item.verified else ""
    return f"{item.path}: {size_text(item.size)}{_resumed(item)}{verified}"


def _resumed(item: Fetched) -> str:
    return f", of which {size_text(item.resumed)} were there already" if item.resumed else ""

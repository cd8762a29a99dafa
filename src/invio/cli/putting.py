"""`invio put` and `invio remove`: files into a store, and out of it."""

from __future__ import annotations

import sys
from pathlib import Path

import click

from invio.cli.fetching import Bars
from invio.cli.options import gives_json, print_json, talks_to_service
from invio.cli.output import say, size_text
from invio.client import Client
from invio.core.addresses import parse_file_address


@click.command()
@click.argument(
    "files", nargs=-1, required=True, metavar="FILE…", type=click.Path(exists=True, allow_dash=True, path_type=Path)
)
@click.argument("address")
@click.option("--type", "media_type", help="The media type, where the file's name does not tell it.")
@click.option("--only-new", is_flag=True, help="Fail if the file already exists.")
@gives_json
@talks_to_service
def put(
    *, client: Client, files: tuple[Path, ...], address: str, media_type: str | None, only_new: bool, as_json: bool
) -> None:
    """Add FILE (- for standard input) as ADDRESS, or a new version of it. For store/folder/ its own name is taken.

    Of a folder, everything below it is added to store/folder/; what it holds stays where it is. The file there is as
    it was until all has arrived. What is the same as the newest version makes no new one.
    """
    pairs = [pair for file in files for pair in _pairs(file, address)]
    if len(pairs) > 1 and not address.endswith("/"):
        raise click.UsageError(f"several files need a folder: {address}/")
    for _, target in pairs:
        parse_file_address(target)  # a wrong address is refused before anything is put
    put_now = []
    with Bars() as bars:
        for source, target in pairs:
            bars.begin()
            put_now.append(
                client.put(source, target, media_type=media_type, only_new=only_new, report=bars.report)
                if isinstance(source, Path)
                else client.put(sys.stdin.buffer, target, media_type=media_type, only_new=only_new, report=bars.report)
            )
    if as_json:
        print_json(put_now[0] if len(pairs) == 1 and not files[0].is_dir() else {"files": put_now})
        return
    for facts in put_now:
        which = "" if facts["version"] is None else f", version {facts['version']}"
        say(f"{facts['address']}: {size_text(facts['size'])}{which}")


def _pairs(file: Path, address: str) -> list[tuple[Path | None, str]]:
    """What to put where; None is standard input."""
    if str(file) == "-":
        if address.endswith("/"):
            raise click.UsageError(f"{address} is a folder, and standard input has no name: give the file's address")
        return [(None, address)]
    if not file.is_dir():
        return [(file, address + file.name if address.endswith("/") else address)]
    if not address.endswith("/"):
        raise click.UsageError(f"{file} is a folder: what is in it needs one, {address}/")
    below = sorted(path for path in file.rglob("*") if path.is_file())
    if not below:
        raise click.UsageError(f"{file} holds no file")
    return [(path, address + path.relative_to(file).as_posix()) for path in below]


@click.command()
@click.argument("address")
@click.option(
    "--version", type=click.IntRange(min=1), help="Only this version; without it, the file with all its versions."
)
@gives_json
@talks_to_service
def remove(*, client: Client, address: str, version: int | None, as_json: bool) -> None:
    """Remove a file, or one version of it, for good. Downloads that are under way go on."""
    parse_file_address(address)
    client.remove(address, version)
    if as_json:
        print_json({"removed": address, "version": version})
        return
    say(f"removed {address}" + ("" if version is None else f", version {version}"))

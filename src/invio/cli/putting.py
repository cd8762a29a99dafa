"""`invio put` and `invio remove`: files into a store, and out of it."""

from __future__ import annotations

import sys
from pathlib import Path

import click

from invio.cli.fetching import Bars
from invio.cli.options import gives_json, print_json, talks_to_service
from invio.cli.output import size_text
from invio.client import Client
from invio.core.addresses import parse_file_address


@click.command()
@click.argument("file", type=click.Path(exists=True, dir_okay=False, allow_dash=True, path_type=Path))
@click.argument("address")
@click.option("--type", "media_type", help="The media type, where the file's name does not tell it.")
@click.option("--only-new", is_flag=True, help="Not in the place of a file that is there.")
@gives_json
@talks_to_service
def put(client: Client, file: Path, address: str, media_type: str | None, only_new: bool, as_json: bool) -> None:
    """Add FILE (- for standard input) as ADDRESS, or a new version of it. For store/folder/ its own name is taken.

    The file there is as it was until all has arrived. What is the same as the newest version makes no new one.
    """
    reads = str(file) == "-"
    if address.endswith("/"):
        if reads:
            raise click.UsageError(f"{address} is a folder, and standard input has no name: give the file's address")
        address += file.name
    source = sys.stdin.buffer if reads else file
    with Bars() as bars:
        facts = client.put(source, address, media_type=media_type, only_new=only_new, report=bars.report)
    if as_json:
        print_json(facts)
        return
    which = "" if facts["version"] is None else f", version {facts['version']}"
    click.echo(f"{facts['address']}: {size_text(facts['size'])}{which}")


@click.command()
@click.argument("address")
@click.option(
    "--version", type=click.IntRange(min=1), help="This version alone; without it, the file with all of them."
)
@gives_json
@talks_to_service
def remove(client: Client, address: str, version: int | None, as_json: bool) -> None:
    """Remove a file, or one version of it, for good. Downloads that are under way go on."""
    parse_file_address(address)
    client.remove(address, version)
    if as_json:
        print_json({"removed": address, "version": version})
        return
    click.echo(f"removed {address}" + ("" if version is None else f", version {version}"))

"""`invio put` and `invio remove`: files into a store, and out of it."""

from __future__ import annotations

import sys
import unicodedata
from pathlib import Path
from typing import Any

import click

from invio.cli.bars import Bars
from invio.cli.each import each
from invio.cli.options import ADDRESS, gives_json, keeps_trying, print_json, talks_to_service
from invio.cli.output import say
from invio.client import Client
from invio.core.addresses import BadAddress, parse_file_address
from invio.core.figures import size_text


@click.command()
@click.argument(
    "files", nargs=-1, required=True, metavar="FILE…", type=click.Path(exists=True, allow_dash=True, path_type=Path)
)
@click.argument("address", type=ADDRESS)
@click.option("--type", "media_type", help="The media type, where the file's name does not tell it.")
@click.option("--description", help="What it is about, in a few words; managed stores and tables keep it.")
@click.option("--only-new", is_flag=True, help="Fail if the file already exists.")
@keeps_trying
@gives_json
@talks_to_service
def put(
    *,
    client: Client,
    files: tuple[Path, ...],
    address: str,
    media_type: str | None,
    description: str | None,
    only_new: bool,
    quiet: bool,
    as_json: bool,
) -> None:
    """Add FILE (- for standard input) as ADDRESS, or a new version of it. For store/folder/ its own name is taken.

    Of a folder, every file below it is added to store/folder/, but no links; existing files stay. An existing file
    stays unchanged until everything has arrived. A content equal to the newest version makes no new one. Of a file
    that grows meanwhile, the content at the start is added; a pipe is read to its end.
    """
    # Some systems, and keyboards, write one letter in two characters; addresses have one form of it.
    pairs = [
        (source, unicodedata.normalize("NFC", target)) for file in files for source, target in _pairs(file, address)
    ]
    if len(pairs) > 1 and not address.endswith("/"):
        raise click.UsageError(f"several files need a folder: {address}/")
    taken: dict[str, Path | None] = {}
    for source, target in pairs:  # a wrong address is refused before anything is put
        try:
            parse_file_address(target)
        except BadAddress as error:
            raise click.UsageError(f"{source or '-'}: it cannot be put as {target!r}: {error}") from None
        if target in taken:
            raise click.UsageError(f"{taken[target] or '-'} and {source or '-'} would both be put as {target!r}")
        taken[target] = source
    with Bars(of=len(pairs), quiet=quiet) as bars:

        def put_one(pair: tuple[Path | None, str]) -> dict[str, Any]:
            bars.begin()
            source, target = pair
            content = sys.stdin.buffer if source is None else source
            return client.put(
                content, target, media_type=media_type, description=description, only_new=only_new, report=bars.report
            )

        results = each(pairs, put_one, lambda pair: pair[1])
    if as_json and len(pairs) == 1 and not files[0].is_dir() and isinstance(results.done[0][1], dict):
        print_json(results.done[0][1])
        return
    results.tell(_put_text, lambda _, facts: facts, quiet=quiet, as_json=as_json)


def _put_text(facts: dict[str, Any]) -> str:
    which = "" if facts["version"] is None else f", version {facts['version']}"
    return f"{facts['address']}: {size_text(facts['size'])}{which}"


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
    entries = sorted(file.rglob("*"))
    # What a link leads to lies elsewhere, and whoever made it need not have been whoever gives it away here.
    below = [path for path in entries if path.is_file() and not path.is_symlink()]
    if not below:
        raise click.UsageError(f"{file} holds no file")
    for path in entries:
        if path.is_symlink() or not (path.is_file() or path.is_dir()):
            say(f"left out: {path}, which is {'a link' if path.is_symlink() else 'no regular file'}", err=True)
    return [(path, address + path.relative_to(file).as_posix()) for path in below]


@click.command()
@click.argument("address", type=ADDRESS)
@click.option("--version", type=click.IntRange(min=1), required=True, help="The earlier version.")
@gives_json
@talks_to_service
def renew(*, client: Client, address: str, version: int, as_json: bool) -> None:
    """Make an earlier version of ADDRESS the newest again. It becomes a further version; none is lost."""
    facts = client.renew(address, version)
    if as_json:
        print_json(facts)
        return
    say(_put_text(facts))


@click.command()
@click.argument("addresses", nargs=-1, type=ADDRESS, required=True, metavar="ADDRESS…")
@click.option(
    "--version", type=click.IntRange(min=1), help="Only this version of the one file; without it, all its versions."
)
@gives_json
@talks_to_service
def remove(*, client: Client, addresses: tuple[str, ...], version: int | None, as_json: bool) -> None:
    """Remove files, or one version of a file, for good. Downloads that are under way go on."""
    if version is not None and len(addresses) > 1:
        raise click.UsageError("--version is of one file: give its address alone")
    for address in addresses:
        parse_file_address(address)

    def remove_one(address: str) -> dict[str, Any]:
        client.remove(address, version)
        return {"removed": address, "version": version}

    results = each(addresses, remove_one)
    if as_json and len(addresses) == 1 and isinstance(results.done[0][1], dict):
        print_json(results.done[0][1])
        return
    results.tell(_removed_text, lambda _, facts: facts, quiet=False, as_json=as_json)


def _removed_text(facts: dict[str, Any]) -> str:
    return f"removed {facts['removed']}" + ("" if facts["version"] is None else f", version {facts['version']}")

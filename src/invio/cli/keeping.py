"""`invio scan` and `invio verify`: on the service's own machine, with its settings."""

from __future__ import annotations

import sys
from dataclasses import asdict
from pathlib import Path

import click

from invio.cli.options import gives_json, has_settings, print_json
from invio.cli.output import say
from invio.core.figures import size_text

_NAMED = 20  # files that are named, at most


def _shown(done: int, size: int) -> None:
    """How far it is, on standard error where that is a terminal."""
    if sys.stderr.isatty():
        say(f"\r{done:,} files, {size_text(size)} read", err=True, nl=False)


def _ended() -> None:
    if sys.stderr.isatty():
        say("", err=True)


def _name(paths: list[str], how: str) -> None:
    for path in paths[:_NAMED]:
        say(how.format(path))
    if len(paths) > _NAMED:
        say(f"and {len(paths) - _NAMED} more")


@click.command()
@click.argument("stores", nargs=-1, metavar="[STORE]…")
@has_settings
@gives_json
def scan(*, stores: tuple[str, ...], settings: Path, as_json: bool) -> None:
    """Compute digests and checksums of all files of STORE ahead; without STORE, of all directories.

    Known files are not read again; files that change later are read anew. The service may run.
    """
    from invio.service.scanning import scan as work
    from invio.service.settings import read_settings

    read = read_settings(settings)
    names = [name.rstrip("/") for name in stores]
    for name in names:
        if name not in read.stores:
            raise click.UsageError(f"there is no store {name!r}; stores are {', '.join(read.stores)}")
    done = work(read, names, _shown)
    _ended()
    if as_json:
        print_json(asdict(done))
        return
    say(f"{done.files:,} files; {done.read:,} of them were read, {size_text(done.size)}")
    _name(done.left, "left for the next time: {} (it changes, or cannot be read)")
    _name(done.unnamed, "not served: {} (no address can hold the name; rename it)")


@click.command()
@has_settings
@gives_json
def verify(*, settings: Path, as_json: bool) -> None:
    """Read everything that the service stores again: records, contents of managed stores, caches.

    Exit status 1 if something is damaged. Damaged files of a cache are removed, and made again when needed; damaged
    files of a store are named and kept. The service may run.
    """
    from invio.service.scanning import verify as work
    from invio.service.settings import read_settings

    done = work(read_settings(settings), _shown)
    _ended()
    if as_json:
        print_json({"contents": done.contents, "size": done.size, "damaged": done.damaged})
    else:
        for said in done.damaged:
            say(f"damaged: {said}", err=True)
        what = f"{len(done.damaged)} damaged" if done.damaged else "all are what they were"
        say(f"{done.contents:,} contents, {size_text(done.size)}: {what}")
    if done.damaged:
        raise SystemExit(1)

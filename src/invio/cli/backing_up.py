"""`invio backup` and `invio restore`: a service's records and contents, kept and put back."""

from __future__ import annotations

import signal
import sys
from pathlib import Path

import click

from invio.cli.options import gives_json, has_settings, print_json
from invio.cli.output import say
from invio.core.figures import size_text


def _shown(_: str, done: int, of: int) -> None:
    """How far it is, on standard error, a hundred times at most."""
    if done == of or done % max(1, of // 100) == 0:
        say(f"\r{done} of {of} contents", err=True, nl=done == of)


def _leave_nothing_behind() -> None:
    """Has SIGTERM end the command as Ctrl-C does: what is not finished is removed."""
    signal.signal(signal.SIGTERM, lambda number, _: sys.exit(128 + number))


@click.command()
@click.argument("file", type=click.Path(path_type=Path))
@has_settings
@gives_json
def backup(*, file: Path, settings: Path, as_json: bool) -> None:
    """Write a backup to FILE: settings, keys, records, and the contents of managed stores. The service may run.

    Files of directories are not in it. FILE holds the keys: only its owner can read it.
    """
    from invio.service.backup import back_up
    from invio.service.settings import read_settings

    _leave_nothing_behind()
    made = back_up(read_settings(settings), file, _shown)
    if as_json:
        print_json({"path": str(made.path), "size": made.size, "contents": made.contents, "left_out": made.left_out})
        return
    said = f"; {made.left_out} were removed meanwhile" if made.left_out else ""
    say(f"{made.path}: {size_text(made.size)}, the records and {made.contents} contents{said}")


@click.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--dir", "folder", type=click.Path(path_type=Path), required=True, help="A new or empty folder.")
@gives_json
def restore(*, file: Path, folder: Path, as_json: bool) -> None:
    """Restore the backup FILE into a folder of its own, after checking all of it.

    Version numbers that may have been given since the backup was made are passed over.
    """
    from invio.service import backup as backups

    _leave_nothing_behind()
    settings = backups.restore(file, folder, _shown)
    if as_json:
        print_json({"settings": str(settings.file)})
        return
    say(f"Restored into {folder}; start it with: invio serve --settings {settings.file}")

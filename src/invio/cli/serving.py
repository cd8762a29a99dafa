"""`invio init`, `invio serve` and `invio demo`: making a service, and running one."""

from __future__ import annotations

import os
import re
from pathlib import Path
from typing import Any

import click

from invio.cli.commands import CommandFailed
from invio.cli.options import gives_json, has_settings, print_json
from invio.cli.output import say
from invio.core.links.keys import new_keys
from invio.service.configuration import write_keys
from invio.workers.heap import nothing_collected

# The service itself is imported by the commands that run it: the others shall not wait for it.

_SETTINGS = """\
# Settings of this service. Paths are relative to this file's folder.

[service]
host = "127.0.0.1"
port = 8480
data = "data"
keys = "keys.json"
rules = "rules.toml"

# A store is a named place that files come from. This one is a directory.
[stores.files]
kind = "directory"
root = "files"
"""

_RULES = """\
# Who may have what. Without a rule that allows, the answer is no; a deny wins; order does not matter.
#
#   who      "anyone", "signed-in", "recipient:ID", "group:NAME"
#   what     store/path; * within a name, ** across folders
#   actions  "list", "read", "bundle", "link", "put", "manage"; and for the whole service (what = ["**"]) "administer"

[[rule]]
name = "administrators have everything"
effect = "allow"
who = ["group:administrators"]
what = ["**"]
actions = ["list", "read", "bundle", "link", "put", "manage", "administer"]
"""


@click.command()
@click.option(
    "--dir",
    "folder",
    type=click.Path(path_type=Path),
    default=Path(),
    help="The folder to create it in; the current one when not given.",
)
@click.option("--admin", default="admin", show_default=True, metavar="ID", help="The first administrator.")
@gives_json
def init(*, folder: Path, admin: str, as_json: bool) -> None:
    """Make a new service: settings, rules, a key, a folder for files, and an administrator."""
    from invio.records.database import open_database, write
    from invio.records.recipients import add_token, save_recipient

    os.umask(0o077)  # keys, tokens' hashes and settings are their owner's
    names = {"settings": "invio.toml", "rules": "rules.toml", "keys": "keys.json"}
    there = [name for name in names.values() if (folder / name).exists()]
    if there:
        raise CommandFailed(f"{folder / there[0]} exists already; nothing was changed")
    if not re.fullmatch(r"[A-Za-z0-9._@-]{1,64}", admin) or admin in ("anyone", "signed-in"):
        raise click.UsageError(f"--admin {admin!r}: an id has 1 to 64 of A-Z a-z 0-9 . _ @ -, and is not 'anyone'")
    (folder / "files").mkdir(parents=True, exist_ok=True)
    (folder / "data").mkdir(exist_ok=True)
    # The settings come last: a service that was made in part is made again.
    write_keys(new_keys(), folder / "keys.json")
    (folder / "rules.toml").write_text(_RULES, "utf-8")
    (folder / "invio.toml").write_text(_SETTINGS, "utf-8")
    engine = open_database(folder / "data" / "records.sqlite")
    with write(engine).begin() as connection:
        save_recipient(connection, admin, admin, ["administrators"])
        token = add_token(connection, admin, "first")
    engine.dispose()
    if as_json:
        print_json({**{key: str(folder / name) for key, name in names.items()}, "administrator": admin, "token": token})
        return
    say(f"Made {', '.join(str(folder / name) for name in names.values())}.")
    say(f"The token of {admin} is shown only once: {token}")
    say(f"Put files into {folder / 'files'}, then: invio serve --settings {folder / 'invio.toml'}")


@click.command()
@has_settings
@click.option("--host", help="Instead of the settings' host.")
@click.option("--port", type=click.IntRange(0, 65535), help="Instead of the settings' port.")
@click.option("--socket", "path", type=click.Path(path_type=Path), metavar="PATH",
              help="Listen on a Unix socket instead, for a front server on this machine.")  # fmt: skip
@click.option("--workers", type=click.IntRange(1, 128), metavar="N",
              help="Processes that serve; instead of the settings' number, which is 1 when not given.")  # fmt: skip
def serve(*, settings: Path, host: str | None, port: int | None, path: Path | None, workers: int | None) -> None:
    """Run the service, until Ctrl-C or SIGTERM."""
    with nothing_collected():
        from invio.service import supervising
        from invio.service.run import listening_socket, unix_socket
        from invio.service.settings import read_settings

    if path is not None and (host is not None or port is not None):
        raise click.UsageError("give --socket, or --host and --port, not both")
    read = read_settings(settings)
    if path is None:
        listener = listening_socket(host or read.service.host, read.service.port if port is None else port)
    else:
        listener = unix_socket(path)
    try:
        with listener:
            supervising.serve(read, listener, _announce, workers or read.service.workers)
    finally:
        if path is not None:
            path.unlink(missing_ok=True)


@click.command()
@click.option("--port", type=click.IntRange(0, 65535), default=8480, show_default=True)
@click.option("--data", type=click.Path(path_type=Path), default=Path("demo-data"), show_default=True,
              help="Where the demo's files are made.")  # fmt: skip
@click.option("--fresh", is_flag=True, help="Create them again.")
def demo(*, port: int, data: Path, fresh: bool) -> None:
    """Run the service with made-up data: the Brackwater Sound Survey."""
    with nothing_collected():
        from invio.service.run import listening_socket, run, url_of
        from invio.service.settings import read_settings

    os.umask(0o077)  # as for any service: settings, keys and records are their owner's
    scenario = _scenario()
    # The port is taken first: making data for a service that cannot start would be in vain.
    with listening_socket("127.0.0.1", port) as listener:
        tokens = scenario.prepare(data, fresh=fresh, say=lambda step: say(f"making {step} …", err=True))
        scenario.write_card(data, url_of(listener), tokens)
        with scenario.other_system(data):
            run(read_settings(data / "invio.toml"), listener, _announce)


def _scenario() -> Any:
    try:
        from invio.demo import scenario
    except ImportError as error:
        raise CommandFailed(f"the demo draws its charts with a package that is missing ({error}); "
                     "install it with: pip install 'invio[demo]'") from None  # fmt: skip
    return scenario


def _announce(url: str) -> None:
    say(f"ready: {url}")

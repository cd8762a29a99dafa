"""`invio receipt`: signed statements that a transfer arrived, and checking them without the service."""

from __future__ import annotations

import hashlib
import json
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from invio.cli.commands import CommandFailed
from invio.cli.options import gives_json, has_settings, print_json, talks_to_service
from invio.cli.output import file_text, say
from invio.client import Client
from invio.core.figures import size_text
from invio.core.moments import timestamp

if TYPE_CHECKING:
    from invio.core.receipts import Receipt

_FILE = click.Path(exists=True, dir_okay=False, path_type=Path)


class _TransferOrCommand(click.Group):
    """What is none of the commands is a transfer's id: `invio receipt TRANSFER`."""

    def resolve_command(self, ctx: click.Context, args: list[str]) -> Any:
        if args[0] not in self.commands:
            args = ["of", *args]
        return super().resolve_command(ctx, args)


@click.group(cls=_TransferOrCommand, subcommand_metavar="TRANSFER | check FILE | keys | new-key | withdraw-key KEY")
def receipt() -> None:
    """Print a signed statement that TRANSFER arrived, and check such statements.

    `invio transfers` and `invio history --json` show the ids of transfers.
    """


@receipt.command("of", hidden=True)
@click.argument("transfer")
@click.option("-o", "--output", type=click.Path(dir_okay=False, path_type=Path), help="Write it to this new file.")
@talks_to_service
def of(*, client: Client, transfer: str, output: Path | None) -> None:
    """Print the receipt of TRANSFER: a JWS (RFC 7515), which `invio receipt check` reads."""
    _write(client.receipt(transfer), output)


@receipt.command("keys")
@click.option("-o", "--output", type=click.Path(dir_okay=False, path_type=Path), help="Write them to this new file.")
@talks_to_service
def keys(*, client: Client, output: Path | None) -> None:
    """Print the public keys that prove receipts, to keep beside them: a JWK Set (RFC 7517)."""
    _write(json.dumps(client.public_keys(), indent=2), output)


@receipt.command("new-key")
@has_settings
@gives_json
def new_key(*, settings: Path, as_json: bool) -> None:
    """Make another key that signs receipts and webhooks, on the service's own machine.

    What earlier keys signed is still proved by the public keys. The service may run; it takes the key within seconds.
    """
    from invio.service import offline

    made = offline.make_signing_key(settings)
    if as_json:
        print_json(made)
        return
    proved = f"; what {', '.join(made['earlier'])} signed is still proved" if made["earlier"] else ""
    say(f"{made['id']} signs from now on{proved}")


@receipt.command("withdraw-key")
@click.argument("key")
@has_settings
@gives_json
def withdraw_key(*, key: str, settings: Path, as_json: bool) -> None:
    """Withdraw the key of the id KEY, as when somebody else has it: nothing that it signed is proved any more.

    'invio receipt keys' shows the ids (kid); one that begins with - is given after --. Who keeps a copy of the public
    keys has to fetch them anew.
    """
    from invio.service import offline

    offline.withdraw_signing_key(settings, key)
    if as_json:
        print_json({"withdrawn": key})
        return
    say(f"{key} is withdrawn; what it signed is no longer proved by the service's public keys")


@receipt.command("check")
@click.argument("file", type=_FILE)
@click.option("--keys", "keys_file", type=_FILE, help="The public keys; without it the service is asked for them.")
@click.option("--content", type=_FILE, help="What was downloaded: compare it with the digest in the receipt.")
@gives_json
@talks_to_service
def check(*, client: Client, file: Path, keys_file: Path | None, content: Path | None, as_json: bool) -> None:
    """Check the receipt in FILE: who signed it, and what it states. With --keys no service is asked."""
    from invio.core.receipts import BadReceipt
    from invio.core.receipts import check as checked

    public = client.public_keys() if keys_file is None else _read_keys(keys_file)
    try:
        stated = checked(file.read_text("ascii", "replace"), public)
    except BadReceipt as error:
        raise CommandFailed(f"{file}: {error}") from None
    if content is not None:
        _compare(content, stated)
    if as_json:
        print_json(asdict(stated))
        return
    for line in _lines(stated):
        say(line)
    if content is not None:
        say(f"{content} is that content")


def _write(text: str, output: Path | None) -> None:
    if output is None:
        say(text)
        return
    try:
        with open(output, "x", encoding="utf-8") as file:
            file.write(text + "\n")
    except FileExistsError:
        raise CommandFailed(f"{output} is there already; name another file") from None


def _read_keys(path: Path) -> dict[str, Any]:
    try:
        keys = json.loads(path.read_bytes())
    except ValueError:
        keys = None
    if not isinstance(keys, dict):
        raise CommandFailed(f"{path}: these are no public keys; 'invio receipt keys' writes them")
    return keys


def _compare(content: Path, stated: Receipt) -> None:
    if stated.sha256 is None:
        raise CommandFailed("the receipt tells no digest, so no content can be compared with it")
    with open(content, "rb") as file:
        if hashlib.file_digest(file, "sha256").hexdigest() != stated.sha256:
            raise CommandFailed(f"{content} is another content than the one that the receipt is for")


def _lines(stated: Receipt) -> list[str]:
    """What a receipt states, for people."""
    who = stated.recipient or (f"somebody with a link for {stated.made_for}" if stated.made_for else "somebody")
    size = "" if stated.size is None else f", {size_text(stated.size)}"
    lines = [
        f"{who} obtained {file_text(asdict(stated))}{size}",
        f"began {timestamp(stated.began)}, arrived {timestamp(stated.arrived)}",
        f"signed by {stated.service} at {timestamp(stated.signed)}",
    ]
    if stated.link:
        lines.append(f"by the link {stated.link}")
    if stated.sha256:
        lines.append(f"SHA-256 {stated.sha256}")
    return lines

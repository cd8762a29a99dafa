"""`invio recipients` and `invio keys`: recipients, and the keys that seal links."""

from __future__ import annotations

import re
import time
from pathlib import Path
from typing import Any

import click
from rich.text import Text

from invio.cli.commands import CommandFailed
from invio.cli.links import KEYS, WHEN
from invio.cli.options import gives_json, print_json, talks_to_service
from invio.cli.output import print_table, say
from invio.client import Client, Refused
from invio.core.links.keys import KeyRing, is_key_id
from invio.service.configuration import read_keys, write_keys


@click.group()
def recipients() -> None:
    """Add, list and disable recipients, and manage their tokens and passwords. For administrators."""


def _recipient_id(context: click.Context, parameter: click.Parameter, value: str) -> str:  # noqa: ARG001
    if not re.fullmatch(r"[A-Za-z0-9._@-]{1,64}", value):
        raise click.BadParameter(f"{value!r} is no id of a recipient; it is 1 to 64 of A-Z a-z 0-9 . _ @ -")
    return value


_RECIPIENT = click.argument("recipient", callback=_recipient_id)
_OFFLINE = click.option(
    "--settings", type=click.Path(path_type=Path), metavar="FILE",
    help="Work on the records of the service with these settings, on this machine, without asking it.",
)  # fmt: skip


@recipients.command(name="add")
@_RECIPIENT
@click.option("--name", help="The display name; the id when not given.")
@click.option("--group", "groups", multiple=True, help="A group that they are in; may be given several times.")
@_OFFLINE
@gives_json
@talks_to_service
def add_recipient(
    *,
    client: Client,
    recipient: str,
    name: str | None,
    groups: tuple[str, ...],
    settings: Path | None,
    as_json: bool,
) -> None:
    """Add RECIPIENT. For a token: 'invio recipients token'; for a change: 'invio recipients change'.

    With --settings, on the service's own machine, it needs neither a running service nor a token: so a first
    administrator is made.
    """
    if settings is not None:
        from invio.service import offline

        _say_recipient(offline.add_recipient(settings, recipient, name, groups), as_json=as_json)
        return
    try:
        made = client.save_recipient(recipient, name, groups, only_new=True)
    except Refused as refused:
        if refused.reason != "precondition":
            raise
        raise CommandFailed(
            f"there is a recipient {recipient} already, and nothing was changed; "
            f"use 'invio recipients change {recipient}' with --name, --add-group or --remove-group"
        ) from None
    _say_recipient(made, as_json=as_json)


@recipients.command(name="change")
@_RECIPIENT
@click.option("--name", help="The new display name.")
@click.option("--add-group", "added", multiple=True, metavar="GROUP", help="Add to this group; others stay.")
@click.option("--remove-group", "removed", multiple=True, metavar="GROUP", help="Take out of this group; others stay.")
@gives_json
@talks_to_service
def change_recipient(
    *,
    client: Client,
    recipient: str,
    name: str | None,
    added: tuple[str, ...],
    removed: tuple[str, ...],
    as_json: bool,
) -> None:
    """Change the name of RECIPIENT, or single groups; what is not named stays."""
    if name is None and not added and not removed:
        raise click.UsageError("give --name, --add-group or --remove-group")
    _say_recipient(
        client.change_recipient(recipient, name=name, add_groups=added, remove_groups=removed), as_json=as_json
    )


def _say_recipient(shown: dict[str, Any], *, as_json: bool) -> None:
    if as_json:
        print_json(shown)
        return
    groups = f" in {', '.join(shown['groups'])}" if shown["groups"] else ", in no group"
    say(f"{shown['id']}: {shown['name']}{groups}")


@recipients.command(name="list")
@gives_json
@talks_to_service
def list_recipients(*, client: Client, as_json: bool) -> None:
    """List everybody, with their tokens."""
    listed = client.recipients()
    if as_json:
        print_json({"recipients": listed})
        return
    rows: list[tuple[str | Text, ...]] = []
    for one in listed:
        state = Text("disabled", "red") if one["disabled"] else Text("enabled", "green")
        tokens = [
            (token["id"], token["label"], _day(token["expires"]) or "never", _day(token["used"]) or "never")
            for token in one["tokens"]
        ]
        first, *more = tokens or [("", "", "", "")]
        rows.append((one["id"], one["name"], ", ".join(one["groups"]), state, *first))
        rows += [("", "", "", "", *token) for token in more]
    columns = ("recipient", "name", "groups", "state", "token", "label", "ends", "last used (UTC)")
    print_table([(column, "left") for column in columns], rows)


@recipients.command(name="remove")
@_RECIPIENT
@gives_json
@talks_to_service
def remove_recipient(*, client: Client, recipient: str, as_json: bool) -> None:
    """Remove RECIPIENT with their personal data; the history of what they obtained stays, by the id."""
    client.remove_recipient(recipient)
    if as_json:
        print_json({"removed": recipient})
        return
    say(f"{recipient} is removed; links that they had made are revoked, and the history names only the id")


@recipients.command(name="token")
@_RECIPIENT
@click.option("--label", default="", help="What it is for.")
@click.option(
    "--until", type=WHEN, metavar="WHEN", help="When it expires: Unix seconds, 2026-12-24T18:00Z, or a span as 90d."
)
@click.option("--end", metavar="TOKEN", help="End the token of this id instead of making one.")
@_OFFLINE
@gives_json
@talks_to_service
def make_token(
    *,
    client: Client,
    recipient: str,
    label: str,
    until: int | None,
    end: str | None,
    settings: Path | None,
    as_json: bool,
) -> None:
    """Create a token for RECIPIENT and show it, once.

    With --settings, on the service's own machine, it needs neither a running service nor a token: so an administrator
    who lost theirs gets another.
    """
    if end is not None:
        client.end_token(recipient, end)
        print_json({"id": end}) if as_json else say(f"the token {end} of {recipient} is revoked")
        return
    seconds = None if until is None else until - int(time.time())
    if seconds is not None and seconds < 1:
        raise click.UsageError("--until is in the past, so the token would never hold; name a later end")
    if settings is not None:
        from invio.service import offline

        made = offline.make_token(settings, recipient, label, until)
    else:
        made = client.add_token(recipient, label, seconds)
    if as_json:
        print_json(made)
        return
    say(f"The token {made['id']} of {recipient} is shown only once: {made['token']}")


@recipients.command(name="password")
@_RECIPIENT
@click.option("--none", "without", is_flag=True, help="Remove the password.")
@click.option("--own", "known", is_flag=True, help="Change your own: the password that you have now is asked for, too.")
@gives_json
@talks_to_service
def set_password(*, client: Client, recipient: str, without: bool, known: bool, as_json: bool) -> None:
    """Set RECIPIENT's password for the console; you are asked for it. Their sessions end."""
    password, current = None, None
    if known:
        current = click.prompt("Password now", hide_input=True, err=True)
    if not without:
        password = click.prompt("Password", hide_input=True, confirmation_prompt=True, err=True)
    client.set_password(recipient, password, current)
    if as_json:
        print_json({"id": recipient, "password": password is not None})
        return
    say(f"{recipient} signs in with " + ("a token alone" if without else "the new password, or a token"))


@recipients.command(name="disable")
@_RECIPIENT
@click.option("--undo", is_flag=True, help="Enable the recipient again.")
@gives_json
@talks_to_service
def disable_recipient(*, client: Client, recipient: str, undo: bool, as_json: bool) -> None:
    """Disable RECIPIENT: their tokens and sessions are refused."""
    changed = client.disable(recipient, disabled=not undo)
    if as_json:
        print_json(changed)
        return
    say(f"{recipient} " + ("is enabled" if undo else "is disabled; their tokens and sessions are refused"))


def _day(moment: str | None) -> str:
    return (moment or "")[:16].replace("T", " ")


@click.group()
def keys() -> None:
    """Make, list and retire the keys that seal links. Works on the key file; a running service reads it again."""


@keys.command(name="list")
@KEYS
@gives_json
def list_keys(*, keys: Path, as_json: bool) -> None:
    """List the keys by their ids; the keys themselves are not shown."""
    ring = read_keys(keys)
    shown = [{"id": name, "current": name == ring.current} for name in ring.keys]
    if as_json:
        print_json({"keys": shown})
        return
    rows = [(one["id"], "seals new links" if one["current"] else "opens links that it sealed") for one in shown]
    print_table([("key", "left"), ("", "left")], [(str(name), str(said)) for name, said in rows])


@keys.command(name="new")
@click.argument("name", required=False)
@KEYS
@gives_json
def new_key(*, name: str | None, keys: Path, as_json: bool) -> None:
    """Make a key, called NAME, that seals new links; links sealed with the other keys stay valid.

    A key file that is not there is created.
    """
    ring = read_keys(keys) if keys.exists() else KeyRing({}, "")
    if name is not None and not is_key_id(name):
        raise CommandFailed(f"key id {name!r} must be 1 to 32 characters of A-Z a-z 0-9 _ -; nothing was changed")
    if name in ring.keys:
        raise CommandFailed(f"{keys}: the key {name!r} exists already; nothing was changed")
    write_keys(ring.with_new(name), keys)
    made = read_keys(keys).current
    _say(
        {"id": made, "current": True},
        f"{made} seals new links now" + (f"; links of {', '.join(ring.keys)} still open" if ring.keys else ""),
        as_json=as_json,
    )


@keys.command(name="retire")
@click.argument("name")
@KEYS
@gives_json
def retire_key(*, name: str, keys: Path, as_json: bool) -> None:
    """Retire the key NAME: every link that it sealed is refused."""
    ring = read_keys(keys)
    if name not in ring.keys:
        raise CommandFailed(f"{keys}: there is no key {name!r}; keys are {', '.join(ring.keys)}")
    if name == ring.current:
        raise CommandFailed(f"{keys}: {name!r} seals new links; create another first, with 'invio keys new'")
    write_keys(ring.without(name), keys)
    _say({"id": name, "retired": True}, f"links that {name} sealed are refused now", as_json=as_json)


def _say(shown: dict[str, Any], said: str, *, as_json: bool) -> None:
    if as_json:
        print_json(shown)
    else:
        say(said)

"""Options that several commands share."""

from __future__ import annotations

import functools
import os
import unicodedata
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from invio.cli.commands import CommandFailed
from invio.core.shown import shown

if TYPE_CHECKING:
    from invio.client import Refused

Command = TypeVar("Command", bound=Callable[..., Any])


class AddressText(click.ParamType[str]):
    """An address as somebody types it: some systems and keyboards write one letter in two characters.

    Addresses have one form of it (Unicode's NFC).
    """

    name = "text"

    def convert(self, value: str, param: click.Parameter | None, ctx: click.Context | None) -> str:  # noqa: ARG002
        """The text in that form."""
        return unicodedata.normalize("NFC", value)


ADDRESS = AddressText()

# Of what works on the service's own machine, with its settings.
has_settings = click.option(
    "--settings", type=click.Path(path_type=Path), envvar="INVIO_SETTINGS", default=Path("invio.toml"),
    show_default=True, show_envvar=True, help="The settings file.",
)  # fmt: skip


def talks_to_service(command: Command) -> Command:
    """Adds --url and --token, and gives the command a `client`."""

    @click.option(
        "--url",
        envvar="INVIO_URL",
        default="http://127.0.0.1:8480",
        show_default=True,
        show_envvar=True,
        help="The service.",
    )
    @click.option("--token", envvar="INVIO_TOKEN", show_envvar=True, help="Your access token.")
    @functools.wraps(command)
    def wrapped(
        *args: Any,
        url: str,
        token: str | None,
        timeout: float = 30.0,
        retries: int | None = None,
        longest_wait: float = 60.0,
        **kwargs: Any,
    ) -> Any:
        from invio.client import Client, ClientError, Patience, Refused

        if token == "" or (token is None and os.environ.get("INVIO_TOKEN") == ""):
            raise click.UsageError(
                "the token is empty; give one in INVIO_TOKEN or --token, or neither to ask as anybody"
            )
        quiet = bool(kwargs.get("quiet"))
        patience = Patience(timeout, retries, longest_wait, None if quiet else _say_wait)
        try:
            client = Client(url, token, patience)
        except ValueError as error:
            raise click.UsageError(str(error)) from None
        try:
            with client:
                return command(*args, client=client, **kwargs)
        except Refused as error:
            raise CommandFailed(refusal_text(error)) from None
        except ClientError as error:
            raise CommandFailed(str(error)) from None

    return wrapped  # type: ignore[return-value]


def _say_wait(seconds: float, refused: Refused) -> None:
    click.echo(shown(f"{refused.detail} ({refused.reason}); waiting {seconds:g} s, as the service asks"), err=True)


def refusal_text(refused: Refused, about: str = "") -> str:
    """A refusal in words: of what, why, and what the operator has to say to it."""
    said = f"{about}: {refused.detail}" if about and about not in refused.detail else refused.detail
    lines = [f"{said} ({refused.reason})", refused.text, refused.link]
    if refused.contact and (refused.text or refused.status in (403, 429)):
        lines.append(f"Contact: {refused.contact}")
    return "\n".join(line for line in lines if line)


def keeps_trying(command: Command) -> Command:
    """Adds --retries, --timeout, --wait and --quiet, for commands that move files."""
    for option in (
        click.option("-q", "--quiet", is_flag=True, help="Print nothing but errors."),
        click.option("--wait", "longest_wait", type=click.FloatRange(min=0), default=60.0, show_default=True,
                     metavar="SECONDS", help="Wait this long, at most, when the service asks to come back later."),
        click.option("--timeout", type=click.FloatRange(min=0, min_open=True), default=30.0, show_default=True,
                     metavar="SECONDS", help="Give up a connection on which nothing comes for this long."),
        click.option("--retries", type=click.IntRange(min=0), metavar="N",
                     help="Try a connection N times again; without it, one that was lost is, for half a minute."),
    ):  # fmt: skip
        command = option(command)
    return command


def gives_json(command: Command) -> Command:
    """Adds --json."""
    return click.option("--json", "as_json", is_flag=True, help="Print the result as JSON.")(command)


def print_json(result: Any) -> None:
    """Prints a result for programs: JSON, indented."""
    from invio.cli.output import json_text

    click.echo(json_text(result, indent=2))

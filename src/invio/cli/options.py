"""Options that several commands share."""

from __future__ import annotations

import functools
import json
from collections.abc import Callable
from typing import Any, TypeVar

import click

from invio.cli.commands import CommandFailed
from invio.core.shown import shown

Command = TypeVar("Command", bound=Callable[..., Any])


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
    def wrapped(*args: Any, url: str, token: str | None, **kwargs: Any) -> Any:
        from invio.client import Client, ClientError, Refused

        try:
            with Client(url, token) as client:
                return command(*args, client=client, **kwargs)
        except Refused as error:
            raise CommandFailed(f"{error.detail} ({error.reason})") from None
        except ClientError as error:
            raise CommandFailed(str(error)) from None

    return wrapped  # type: ignore[return-value]


def gives_json(command: Command) -> Command:
    """Adds --json."""
    return click.option("--json", "as_json", is_flag=True, help="Print the result as JSON.")(command)


def print_json(result: Any) -> None:
    """Prints a result for programs: JSON, indented."""
    text = json.dumps(result, indent=2, ensure_ascii=False)
    if shown(text, keep="\n") != text:  # names that strangers wrote, with orders to a terminal in them
        text = json.dumps(result, indent=2)
    click.echo(text)

"""Options that several commands share, and the end that a command comes to when something is wrong."""

from __future__ import annotations

import functools
from collections.abc import Callable
from typing import Any, TypeVar

import click

from invio.client import Client, ClientError, Refused
from invio.core.addresses import BadAddress
from invio.core.errors import Unusable

Command = TypeVar("Command", bound=Callable[..., Any])


class SaidNo(click.ClickException):
    """The service or the file said no: exit status 1."""

    exit_code = 1


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
        with Client(url, token) as client:
            return command(*args, client=client, **kwargs)

    return wrapped  # type: ignore[return-value]


def gives_json(command: Command) -> Command:
    """Adds --json."""
    return click.option("--json", "as_json", is_flag=True, help="Print the result as JSON.")(command)


class Commands(click.Group):
    """A group whose commands end with a message and status 1, not a traceback, when something says no."""

    def invoke(self, context: click.Context) -> Any:
        try:
            return super().invoke(context)
        except Refused as error:
            raise SaidNo(f"{error.detail} ({error.reason})") from None
        except BadAddress as error:
            raise click.UsageError(f"not an address: {error}") from None
        except (Unusable, ClientError, FileExistsError) as error:
            raise SaidNo(str(error)) from None
        except OSError as error:
            raise SaidNo(f"{error.filename}: {error.strerror}" if error.filename else str(error)) from None

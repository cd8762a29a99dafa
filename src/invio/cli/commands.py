"""The group of all commands: each is imported when it is called for, and ends with a message, not a traceback."""

from __future__ import annotations

import io
import os
import sys
from importlib import import_module
from typing import Any, TextIO

import click

from invio.core.addresses import BadAddress
from invio.core.errors import ConfigurationError
from invio.core.shown import shown


class CommandFailed(click.ClickException):
    """The service or the file said no: exit status 1."""

    exit_code = 1

    def format_message(self) -> str:
        """The message, without orders to the terminal that somebody wrote into a name."""
        return shown(self.message, keep="\n\t")


def speaks_utf8(stream: TextIO) -> bool:
    """Whether what is written there is encoded in UTF-8."""
    return (stream.encoding or "").lower().replace("-", "") in ("utf8", "utf8sig")


class Commands(click.Group):
    """`places` tells by name in which module each command is.

    A service that runs for months shall not hold in memory what draws progress bars.
    """

    def __init__(self, *given: Any, places: dict[str, str] | None = None, **named: Any) -> None:
        super().__init__(*given, **named)
        self._places = places or {}

    def list_commands(self, ctx: click.Context) -> list[str]:
        """The names of the commands, in the order in which help lists them."""
        return list(self._places)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        """A command, loaded when it is asked for; None where there is none of that name."""
        place = self._places.get(cmd_name)
        return None if place is None else getattr(import_module(place), cmd_name)

    def main(self, *given: Any, **named: Any) -> Any:
        """As of every group; what the terminal's encoding cannot hold is written as an escape."""
        for stream in (sys.stdout, sys.stderr):
            if isinstance(stream, io.TextIOWrapper) and not speaks_utf8(stream):
                stream.reconfigure(errors="backslashreplace")
        return super().main(*given, **named)

    def invoke(self, ctx: click.Context) -> Any:
        """Runs a command; what goes wrong is said in one line, with the exit status that goes with it."""
        try:
            return super().invoke(ctx)
        except BadAddress as error:
            raise click.UsageError(f"not an address: {error}") from None
        except UnicodeEncodeError as error:  # of an argument: what is printed is written in any encoding
            raise click.UsageError(f"{shown(repr(error.object)[:200])}: it holds bytes that are not UTF-8") from None
        except (ConfigurationError, FileExistsError) as error:
            raise CommandFailed(str(error)) from None
        except BrokenPipeError:
            # Whoever reads has enough, as `head` has; the rest is written to nobody.
            os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
            raise click.exceptions.Exit(0) from None
        except OSError as error:
            raise CommandFailed(f"{error.filename}: {error.strerror}" if error.filename else str(error)) from None

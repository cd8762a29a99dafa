"""Several files in one command: each is tried, and each one's result is told, whatever became of the others."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from typing import Any, Generic, TypeVar

import click

from invio.cli.options import print_json, refusal_text
from invio.cli.output import say
from invio.client import ClientError, Refused, ServiceUnreachable

Item = TypeVar("Item")
Result = TypeVar("Result")


_NAMED = 5  # that were not tried, at most


class NotTried(Exception):
    """What comes after the service has gone."""

    def __str__(self) -> str:
        return "not tried, because the service did not answer before"


@dataclass(frozen=True, slots=True)
class Results(Generic[Result]):
    """What became of each item, in their order: a result, or an error."""

    done: list[tuple[str, Result | Exception]] = field(default_factory=list)

    def tell(
        self,
        text: Callable[[Result], str],
        facts: Callable[[str, Result], dict[str, Any]],
        *,
        quiet: bool,
        as_json: bool,
    ) -> None:
        """Prints all of them; `text` and `facts` are a result in words and as JSON. Exit status 1 after an error."""
        if as_json:
            print_json({"files": [self._as_json(name, result, facts) for name, result in self.done]})
        left = sum(isinstance(result, NotTried) for _, result in self.done)
        for name, result in self.done:
            if isinstance(result, NotTried) and left > _NAMED:
                continue
            if isinstance(result, Exception):
                say(f"Error: {_error_text(name, result)}", err=True)
            elif not as_json and not quiet:
                say(text(result))
        if left > _NAMED:
            say(f"Error: {left:,} more were {NotTried()}", err=True)
        if any(isinstance(result, Exception) for _, result in self.done):
            raise click.exceptions.Exit(1)

    @staticmethod
    def _as_json(
        name: str, result: Result | Exception, facts: Callable[[str, Result], dict[str, Any]]
    ) -> dict[str, Any]:
        if not isinstance(result, Exception):
            return facts(name, result)
        error: dict[str, Any] = {"reason": type(result).__name__, "detail": _error_text(name, result)}
        if isinstance(result, Refused):
            error = {"reason": result.reason, "status": result.status, "detail": result.detail}
        return {"source": name, "error": error}


def each(items: Iterable[Item], work: Callable[[Item], Result], called: Callable[[Item], str] = str) -> Results[Result]:
    """Does `work` with each item; `called` is what an item is called. A service that is gone ends it for the rest."""
    results: Results[Result] = Results()
    gone: NotTried | None = None
    for item in items:
        try:
            results.done.append((called(item), gone or work(item)))
        except ServiceUnreachable as error:
            results.done.append((called(item), error))
            gone = NotTried()
        except (ClientError, OSError) as error:
            results.done.append((called(item), error))
    return results


def _error_text(name: str, error: Exception) -> str:
    if isinstance(error, Refused):
        return refusal_text(error, name)
    if isinstance(error, OSError) and error.filename:
        return f"{error.filename}: {error.strerror}"
    said = str(error)
    return said if name in said else f"{name}: {said}"

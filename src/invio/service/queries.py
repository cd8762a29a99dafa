"""What the query of a request to the API may hold: nothing that nobody reads.

A parameter that is misspelt and left aside is worse than an error: it lists everything where something was looked for,
and removes a file with all its versions where one of them was meant.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from fastapi import Request

from invio.core.reasons import Refusal
from invio.core.toml import did_you_mean

_API = "/api/"
_LOOKED_AT = 50  # parameters that the route does not have
_SHOWN = 80  # characters


async def only_what_is_known(request: Request) -> None:
    """For every route of the API. Raises Refusal (`bad-request`), for a parameter that the route does not have.

    Pages are left alone: a link to one that was sent in a letter comes with what others add to it.
    """
    _check(request, foreign=False)


async def nothing_misspelt(request: Request) -> None:
    """The same inside an application, which may read parameters of its own: of those that look like one of ours."""
    _check(request, foreign=True)


def _check(request: Request, *, foreign: bool) -> None:
    route = request.scope.get("route")
    if not request.scope["query_string"] or route is None or not route.path.startswith(_API):
        return
    known = list(dict.fromkeys(_names(route.dependant)))
    unknown = [name[:_SHOWN] for name in request.query_params if name not in known]
    for name in unknown[:_LOOKED_AT]:  # in a query of 64 KiB there may be thousands
        meant = did_you_mean(name, known)
        if meant or not foreign:
            takes = f"it takes {', '.join(known)}" if known else "it takes none"
            said = f"{request.method} {route.path_format} has no query parameter {name!r}{meant}; {takes}"
            raise Refusal("bad-request", said)


def _names(dependant: Any) -> Iterator[str]:
    for field in dependant.query_params:
        fields = getattr(field.field_info.annotation, "model_fields", None)
        if fields is None:
            yield field.alias
        else:
            yield from (one.alias or name for name, one in fields.items())
    for other in dependant.dependencies:
        yield from _names(other)

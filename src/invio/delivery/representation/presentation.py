"""How a file is offered: what `?as=`, `?name=`, `?version=` and `?rendition=` of an address, or a link, ask for."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache

from invio.core.links.seals import parse_query
from invio.core.links.terms import ROOT, VALUE_LIMIT
from invio.core.reasons import Refusal

_NAMES = ("as", "name", "version", "rendition")


@dataclass(frozen=True, slots=True)
class Presentation:
    """`disposition` is `attachment` or `inline`, `name` the file name to save under, `rendition` one of an image."""

    disposition: str | None = None
    name: str | None = None
    version: int | None = None
    sealed: bool = False
    rendition: str | None = None

    def __hash__(self) -> int:
        # Nearly all are one of two; equality looks at every field.
        return hash(self.name)


_PLAIN = Presentation()
_KEPT_UP_TO = 200  # characters


def read_presentation(query: str) -> Presentation:
    """Reads the query of an address without a seal; what it does not know it leaves alone.

    Raises:
        Refusal: `malformed`, for a value that is not one, or a name that comes twice.
    """
    if not query:
        return _PLAIN
    return _read(query) if len(query) > _KEPT_UP_TO else _kept(query)


def _read(query: str) -> Presentation:
    ours = [pair for pair in query.split("&") if pair.partition("=")[0] in _NAMES]
    if not ours:
        return _PLAIN
    given: dict[str, str] = {}
    for name, value in parse_query("&".join(ours)):
        if name in given:
            raise Refusal("malformed", f"{name} comes twice")
        if not 1 <= len(value) <= VALUE_LIMIT or not ROOT[name](value):
            raise Refusal("malformed", f"{name}={value[:40]!r} is not a value that {name} can have")
        given[name] = value
    return presented(given.get)


# The same few are asked for again and again: a page has the same rendition of all its images.
_kept = lru_cache(maxsize=1024)(_read)


def presented(says: Callable[[str], str | None], *, sealed: bool = False) -> Presentation:
    """What values that were found good say of how a file is offered."""
    version = says("version")
    return Presentation(says("as"), says("name"), None if version is None else int(version), sealed, says("rendition"))

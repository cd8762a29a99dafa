"""File facts: what is known about a file without opening it, and who is asking for it."""

from __future__ import annotations

from dataclasses import dataclass, field
from operator import index
from typing import NamedTuple

from invio.core.addresses import Address, is_proper
from invio.core.http.media_types import essence
from invio.core.moments import FIRST_DATE, LAST_MOMENT
from invio.core.networks import principal


class FileFacts(NamedTuple):
    """What is known of a file. A tuple, because every file of an archive or a listing gets one.

    `size` in bytes, None for a file that is made as it is sent; `modified` in Unix seconds.

    `tag` is the opaque part of a strong entity tag (no quotes): it differs whenever the content may differ, and is None
    when nothing known would show a difference. `media_type` is what the store knows better than the name does, else
    None. `version` counts from 1, None in a store that keeps none; `current` is whether it is the newest. `name` is
    what the file is saved under, where that is not the end of its address; `sha256` the content's digest, where the
    store knows it; `description` a short text on what it is about, and `about` further facts, by name.
    """

    address: Address
    size: int | None
    modified: float | None
    tag: str | None
    media_type: str | None = None
    version: int | None = None
    current: bool = True
    name: str | None = None
    sha256: bytes | None = None
    description: str | None = None
    about: tuple[tuple[str, str], ...] = ()


# The longest content that databases and archives can count.
_LONGEST = 2**63 - 1  # bytes
_TEXT = 2000  # characters of a text that is told of a file


def bounded(facts: FileFacts) -> FileFacts:
    """Facts that come from outside, as far as others can be told of them.

    A time that no calendar has, and a media type that is none, are left out; texts are texts, and not too long. A row
    of somebody's table, a letter or another system may say anything.

    Raises:
        ValueError: the size is no number of bytes, or no address names it.
    """
    if not is_proper(facts.address):
        raise ValueError(f"{str(facts.address)[:200]!r} is no address")
    modified, media_type = facts.modified, facts.media_type
    try:
        size = index(facts.size)  # type: ignore[arg-type]  # it may be any kind of whole number, or none
    except TypeError:
        size = -1
    if not 0 <= size <= _LONGEST:
        raise ValueError(f"{facts.address} is said to have a size of {str(facts.size)[:40]} bytes")
    if size is not facts.size:
        facts = facts._replace(size=size)
    # NaN, which is no number, lies between no others.
    if modified is not None and not (isinstance(modified, int | float) and FIRST_DATE <= modified <= LAST_MOMENT):
        facts = facts._replace(modified=None)
    if media_type is not None and (proper := essence(str(media_type))) != media_type:
        facts = facts._replace(media_type=proper)
    if not (_is_told(facts.name) and _is_told(facts.description)):
        facts = facts._replace(name=_told(facts.name), description=_told(facts.description))
    if not all(_is_told(text) for one in facts.about for text in one):
        facts = facts._replace(about=tuple((_told(name) or "", _told(text) or "") for name, text in facts.about))
    return facts


def _is_told(text: object) -> bool:
    """Whether a text can be told as it is, as nearly all can."""
    return text is None or (isinstance(text, str) and text.isprintable() and len(text) <= _TEXT)


def _told(text: object) -> str | None:
    """A text as it can be told: halves of characters (surrogates), which no encoding has, are told as `?`."""
    return None if text is None else str(text)[:_TEXT].encode("utf-8", "replace").decode()


@dataclass(frozen=True, slots=True)
class Caller:
    """Who is asking now. `recipient` is None for somebody who did not sign in.

    `network` is the address the request came from; `session` says that a browser's cookie, not a
    token, told who it is, and `credential`, in words for the history, which of either did. `context` is
    for whoever decides: what the application that Invio is part of knows of the request.
    """

    recipient: str | None = None
    groups: frozenset[str] = frozenset()
    network: str | None = None
    agent: str = ""
    session: bool = False
    credential: str | None = field(default=None, compare=False)
    context: object = field(default=None, compare=False, repr=False)

    @property
    def principal(self) -> str | None:
        """Whose limits hold, and whose share of what many wait for; None where one cannot be told from another."""
        known = self.recipient is not None or self.network is not None
        return principal(self.recipient, self.network) if known else None


ANYONE = Caller()

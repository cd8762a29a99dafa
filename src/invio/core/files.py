"""File facts: what is known about a file without opening it, and who is asking for it."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import NamedTuple

from invio.core.addresses import Address


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


ANYONE = Caller()

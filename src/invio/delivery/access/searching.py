"""Searching and sorting what a folder lists: by names and descriptions, by size and by time."""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from typing import Any

from invio.core.addresses import Address
from invio.core.http.media_types import media_type_by_name
from invio.core.reasons import Refusal
from invio.stores.store import Found, Missing, SearchableStore, Store

# How many files can be sorted by size or time: each takes a disk access or a query.
_MOST_SORTED = 50_000
_SEARCHES_FOR = 3.0  # seconds; a longer search returns what it has found so far


def search(
    store: Store,
    folder: Address,
    text: str,
    enters: Callable[[Address], bool],
    now: Callable[[], float] = time.monotonic,
) -> list[Address]:
    """The files and folders below a folder of whose names `text` is a part, whatever the case, the nearest first.

    Of a store that keeps descriptions, those whose descriptions have it as well. `enters` says which folders are
    looked into.

    Raises:
        Missing, StoreFault.
    """
    wanted, end = text.casefold(), now() + _SEARCHES_FOR
    found: dict[Address, None] = {}
    if isinstance(store, SearchableStore):
        found = dict.fromkeys(store.search(folder, text))
    waiting = deque([folder])
    while waiting and now() < end:
        here = waiting.popleft()
        try:
            listed = store.list(here)
        except Missing:
            if here == folder:
                raise
            continue  # it vanished meanwhile
        cut = len(here.path)
        for address in listed:
            if wanted in address.path[cut:].casefold():
                found[address] = None
            if address.folder and enters(address):
                waiting.append(address)
    return sorted(found, key=lambda address: (not address.folder, str(address)))


def in_order(addresses: Sequence[Address], by: str, facts: Callable[[Address], Found | None]) -> list[Address]:
    """Addresses in another order than that of their names; folders stay first, and what has no size or time last.

    `type` is the media type, as far as it is known without reading.

    Raises:
        Refusal: `too-large`, when there are too many.
    """
    backwards, what = by.startswith("-"), by.lstrip("-")
    folders = [address for address in addresses if address.folder]
    files = [address for address in addresses if not address.folder]
    if what == "name":
        return [*folders[::-1], *files[::-1]] if backwards else [*folders, *files]
    if len(files) > _MOST_SORTED:
        said = f"there are {len(files)} files; at most {_MOST_SORTED} are sorted by {what}"
        raise Refusal("too-large", f"{said}; search for a part of them first")
    known = dict(_known(files, what, facts))
    sized = sorted((one for one in files if one in known), key=lambda one: known[one], reverse=backwards)
    return [*folders, *sized, *(one for one in files if one not in known)]


def _known(
    files: Sequence[Address], what: str, facts: Callable[[Address], Found | None]
) -> Iterator[tuple[Address, Any]]:
    for address in files:
        found = facts(address)
        if found is None:
            continue
        if what == "type":
            yield address, found.facts.media_type or media_type_by_name(address.name) or ""
        elif (value := getattr(found.facts, what)) is not None:
            yield address, value

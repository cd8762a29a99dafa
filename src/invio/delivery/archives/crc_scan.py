"""The CRC scan: CRC-32s of all files of directories, computed in the background before an archive needs them."""

from __future__ import annotations

import logging
import time
from collections.abc import Callable, Iterable, Iterator
from itertools import islice

import sqlalchemy as sa

from invio.core.addresses import Address
from invio.core.reasons import Refusal
from invio.delivery.archives.checksums import crc_of
from invio.records.bundles import known_crcs, save_crcs
from invio.records.database import write
from invio.stores.sources import is_settled
from invio.stores.store import Found, Missing, Store, WalkableStore

log = logging.getLogger("invio.delivery")
_AT_ONCE = 500  # files that are looked up together
_REST = 1.0  # it pauses this many times as long as it has worked


def scan(engine: sa.Engine, stores: Iterable[Store], ends: Callable[[], bool]) -> int:
    """Computes what is not known yet, until `ends` returns true; returns the number of files read."""
    files, read = _files(stores), 0
    while not ends() and (some := list(islice(files, _AT_ONCE))):
        began = time.monotonic()
        with engine.connect() as connection:
            known = known_crcs(connection, [str(found.facts.tag) for found in some])
        fresh: dict[str, int] = {}
        for found in some:
            tag = str(found.facts.tag)
            if tag not in known and not ends():
                crc = _crc(found)
                if crc is not None:
                    fresh[tag] = crc
        if fresh:
            with write(engine).begin() as connection:
                save_crcs(connection, fresh)
            read += len(fresh)
            time.sleep(min(5.0, (time.monotonic() - began) * _REST))
    return read


def _files(stores: Iterable[Store]) -> Iterator[Found]:
    for store in stores:
        if isinstance(store, WalkableStore):
            try:
                yield from store.walk(Address(store.name, ""))
            except Missing:
                log.warning("scan.no-root", extra={"fields": {"store": store.name}})


def _crc(found: Found) -> int | None:
    """None for a file that is changing; the next scan takes it."""
    facts, file = found.facts, found.on_disk
    if file is None or not is_settled(facts.modified):
        return None
    try:
        return crc_of(file, str(facts.address))
    except Refusal:
        return None

"""Retention: earlier versions of managed stores go when there are too many, or when they are too old.

The newest version never goes, and none that a running transfer, an unexpired link made by this service, or a planned
bundle needs. A link that was made elsewhere with the key file is not known here: whoever makes links to versions
elsewhere keeps versions for longer than their links.
"""

from __future__ import annotations

import logging
import time
from collections.abc import Iterable

import sqlalchemy as sa

from invio.core.addresses import Address, parse_address
from invio.core.http.request_head import RequestHead
from invio.core.versions import Putting
from invio.records.retention import needed_versions
from invio.records.versions import VersionRecords
from invio.service.settings import Settings
from invio.service.store_settings import ManagedSettings
from invio.stores.store import Missing, Store, WritableStore

log = logging.getLogger("invio.service")

_DAY = 86400.0


def drop_surplus(settings: Settings, engine: sa.Engine, stores: Iterable[Store]) -> int:
    """Removes versions that the settings no longer keep; returns how many. Call it in a thread."""
    dropped = 0
    for store in stores:
        given = settings.stores.get(store.name)
        if not isinstance(given, ManagedSettings) or not isinstance(store, WritableStore):
            continue
        if given.keep_versions is None and given.keep_days is None:
            continue
        before = None if given.keep_days is None else time.time() - given.keep_days * _DAY
        surplus = list(VersionRecords(engine, store.name).surplus(given.keep_versions, before))
        if not surplus:
            continue
        with engine.connect() as connection:
            needed = needed_versions(connection, store.name)
        for path, number in surplus:
            if (path, number) not in needed and _dropped(store, parse_address(f"{store.name}/{path}"), number):
                dropped += 1
    return dropped


def _dropped(store: WritableStore, address: Address, number: int) -> bool:
    try:
        store.remove(address, number, Putting(RequestHead("DELETE", []), lambda _: None))
    except Missing:
        return False  # removed by another process meanwhile
    log.info("version.dropped", extra={"fields": {"address": str(address), "version": number}})
    return True

"""The stores that the settings name, opened: each kind's library is loaded where there is such a store."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from invio.core.addresses import Address
from invio.core.exclusions import read_exclusions
from invio.producers.producer import ProducerFault, database_engine
from invio.producers.room import Room
from invio.service.made_files import making_folder, tables_store
from invio.service.settings import Settings
from invio.service.store_settings import (
    CustomSettings,
    DirectorySettings,
    ManagedSettings,
    RemoteSettings,
    TableStoreSettings,
)
from invio.stores.directory import DirectoryStore
from invio.stores.disk_cache import DiskCache
from invio.stores.store import Missing, Store, StoreFault

if TYPE_CHECKING:
    from invio.stores.blocking import BlockingStore

_NOBODY = "no-such-file-is-here.invio"  # what stores are asked for, to see whether they answer


def open_stores(settings: Settings, engine: sa.Engine | None) -> list[Store]:
    """The stores that the settings name; without records (None) there is nothing yet in those that need them.

    Raises:
        BadSettings.
    """
    return [store for name in settings.stores if (store := open_store(settings, engine, name)) is not None]


def fault_of(store: Store) -> str | None:
    """Why a store cannot be asked; None when it can."""
    if isinstance(store, DirectoryStore):
        return store.fault()
    try:
        store.locate(Address(store.name, _NOBODY))
    except Missing:
        return None
    except StoreFault as fault:
        return str(fault)
    except Exception as error:  # a store of somebody's own may raise anything
        return f"{type(error).__name__}: {error}"
    return None


def spool_of(settings: Settings, *, alone: bool) -> Room:
    """Where contents lie while they are made. `alone`: what is there was left by a process that died.

    Raises:
        BadSettings: the folder cannot be created.
    """
    folder, given = making_folder(settings), settings.making
    try:
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    except OSError as error:
        raise settings.fault(("service", "data"), f"{folder} cannot be created: {error.strerror}") from None
    for left in folder.iterdir() if alone else ():
        left.unlink(missing_ok=True)
    return Room(folder, given.bytes, given.disk_bytes, given.seconds)


def open_store(settings: Settings, engine: sa.Engine | None, name: str) -> Store | None:
    """The store of a name, opened; None for a managed one without records (`engine`).

    Raises:
        BadSettings.
    """
    given, place = settings.stores[name], ("stores", name)
    try:
        if isinstance(given, DirectorySettings):
            if given.writable:
                from invio.stores.writable import WritableDirectoryStore

                return WritableDirectoryStore(name, settings.path(given.root), **_directory_options(given))
            return DirectoryStore(name, settings.path(given.root), **_directory_options(given))
        if isinstance(given, ManagedSettings):
            from invio.records.versions import VersionRecords
            from invio.stores.managed import ManagedStore

            index = None if engine is None else VersionRecords(engine, name)
            return None if index is None else ManagedStore(name, settings.path(given.root), index, given.folder_bytes)
        if isinstance(given, RemoteSettings):
            return _remote(settings, name, given)
        if isinstance(given, TableStoreSettings):
            return _table(settings, name, given)
        if isinstance(given, CustomSettings):
            from invio.stores.custom import custom_store

            return custom_store(name, given.class_, given.options)
        return tables_store(settings, name, given)
    except StoreFault as error:
        raise settings.fault(place, str(error)) from None


def _remote(settings: Settings, name: str, given: RemoteSettings) -> Store:
    """Raises StoreFault, BadSettings. The library for it is loaded where there is such a store."""
    store: BlockingStore
    if given.url.startswith(("http://", "https://")):
        from invio.stores.origin import OriginStore

        if given.redirect is not None:
            raise StoreFault(f"store {name!r}: a web server makes no addresses; leave 'redirect' out")
        store = OriginStore(name, given.url, given.options, timeout=given.timeout, fresh=given.fresh)
    else:
        from invio.stores.remote import RemoteStore

        store = RemoteStore(name, given.url, given.options, given.redirect, timeout=given.timeout, fresh=given.fresh)
    if given.cache_bytes:
        from invio.stores.cached import ContentCache

        cache = DiskCache(settings.path(settings.service.data) / "contents" / name, given.cache_bytes)
        # Not the limits of what is made: fetching a large file may take hours.
        fetched = replace(spool_of(settings, alone=False), bytes=cache.limit, all_bytes=cache.limit, seconds=math.inf)
        store.cache = ContentCache(name, cache, fetched)
    return store


def _directory_options(given: DirectorySettings) -> dict[str, Any]:
    return {
        "precompressed": given.precompressed,
        "exclusions": read_exclusions(given.leave_out, hidden=not given.hidden),
        "follows_links": given.links == "inside",
    }


def _table(settings: Settings, name: str, given: TableStoreSettings) -> Store:
    from invio.stores.table import Columns, TableStore
    from invio.stores.writable_table import WritableTableStore

    try:
        engine = database_engine(given.database, settings.folder, given.connections)
    except ProducerFault as error:
        raise settings.fault(("stores", name, "database"), str(error)) from None
    columns = Columns(**{**given.columns.model_dump(), "facts": tuple(given.columns.facts)})
    kind = WritableTableStore if given.writable else TableStore
    return kind(name, engine, given.table, columns, timeout=given.timeout)

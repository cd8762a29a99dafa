"""Assembly: settings → the parts of a running service, wired together."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING

import sqlalchemy as sa

from invio.core.addresses import BadAddress, parse_file_address
from invio.core.cross_origin import CrossOrigin
from invio.core.forwarded import read_networks
from invio.core.keys import KeyRing, read_keys
from invio.core.quotas import LONGEST
from invio.core.rules import RuleSet
from invio.core.rules_file import read_rules
from invio.delivery.answers import Way
from invio.delivery.bundles import Bundles
from invio.delivery.catalogue import Catalogue, Decider
from invio.delivery.digests import Digests
from invio.delivery.front import Front
from invio.delivery.identify import Identifier, Identifies
from invio.delivery.limits import BundleLimits, Limits
from invio.delivery.makers import Makers
from invio.delivery.offering import Offering
from invio.delivery.refusals import Pages
from invio.delivery.transfers import Transfers
from invio.delivery.way import Delivery
from invio.producers.producer import ProducerFault, Rows, function_rows, query_rows
from invio.records import quotas as quota_records
from invio.records import transfers as transfer_records
from invio.records.company import Company
from invio.records.database import open_database, patient
from invio.records.journal import Journal
from invio.service.attempts import Attempts
from invio.service.settings import (
    BadSettings,
    DirectorySettings,
    ManagedSettings,
    RemoteSettings,
    Settings,
    TableSettings,
    TablesSettings,
)
from invio.service.watched import Watched
from invio.stores.directory import DirectoryStore
from invio.stores.store import Store, StoreFault, Sweeps
from invio.stores.tables import TablesStore

if TYPE_CHECKING:
    from invio.service.outside import Outside


@dataclass(slots=True, eq=False)
class Parts:
    """Everything that the service's own pages and the delivery share."""

    settings: Settings
    keys: KeyRing
    engine: sa.Engine
    journal: Journal
    catalogue: Catalogue
    identifier: Identifies
    transfers: Transfers
    bundles: Bundles
    digests: Digests
    way: Way
    delivery: Delivery
    rules_file: Watched[RuleSet] | None  # None where the application decides
    keys_file: Watched[KeyRing] | None
    company: Company
    attempts: Attempts = field(default_factory=Attempts)
    stopping: Callable[[], bool] = field(default=lambda: False)

    @property
    def rules(self) -> Decider:
        return self.catalogue.rules

    def decide_by(self, rules: RuleSet) -> None:
        """From now on these rules are in force."""
        self.catalogue.rules = rules

    def seal_by(self, keys: KeyRing) -> None:
        """From now on these keys open links, and one of them seals new ones."""
        self.keys, self.way.keys = keys, keys.keys

    def close(self) -> None:
        self.digests.close()
        self.journal.close()
        self.bundles.close()
        self.engine.dispose()
        self.company.close()


def assemble(settings: Settings, decider: Decider | None = None, identifier: Identifies | None = None) -> Parts:
    """Opens the records and the stores that the settings name.

    Without a `decider` the settings' rules decide; with one they are not read, and a key file need not be there.

    Raises:
        BadSettings, BadRules, BadKeyFile: with what is wrong and where.
    """
    rules_file, keys_file, keys, rules = None, None, KeyRing({}, ""), decider
    if decider is None:
        rules_file = Watched("rules", settings.path(settings.service.rules), _reads_rules(settings))
        rules = rules_file.value
    if decider is None or settings.path(settings.service.keys).exists():
        keys_file = Watched("keys", settings.path(settings.service.keys), read_keys)
        keys = keys_file.value
    assert rules is not None
    settings.database.parent.mkdir(parents=True, exist_ok=True)
    engine = open_database(settings.database)
    stores = open_stores(settings, engine)
    company = Company(settings.database.parent)
    if company.first:
        with patient(engine).begin() as connection:
            quota_records.give_back_orphans(connection)
            transfer_records.break_off_orphans(connection, "the service ended before the transfer did")
            quota_records.forget(connection, time.time() - LONGEST)
        for store in stores:
            if isinstance(store, Sweeps):
                store.sweep()
    company.joined()
    journal = Journal(engine)
    catalogue = Catalogue(stores, rules)
    provider = None
    if settings.identity is not None:
        from invio.service.provider import Provider  # each is loaded where the settings have it

        provider = Provider(settings.identity, settings.folder)
    identifier = identifier or Identifier(engine, provider)
    limits = Limits(**settings.limits.model_dump(exclude={"put_bytes"}))
    transfers = Transfers(engine, journal, limits)
    bundles = _bundles(settings, catalogue, engine, company.first)
    digests = Digests(engine)
    cross_origin = _cross_origin(settings)
    offering = Offering(catalogue.locate, digests, cross_origin, settings.service.digests == "always")
    grace = settings.service.link_grace
    way = Way(
        catalogue,
        identifier,
        transfers,
        bundles,
        offering,
        Makers(engine),
        keys.keys,
        grace,
        limits,
        cross_origin,
        _front(settings),
    )
    way.pages = Pages(contact=settings.service.contact, contact_link=settings.service.contact_link)
    if decider is not None:
        way.pages = replace(way.pages, sign_in=None)  # the application has its own page for that
    delivery = Delivery(way)
    return Parts(
        settings,
        keys,
        engine,
        journal,
        catalogue,
        identifier,
        transfers,
        bundles,
        digests,
        way,
        delivery,
        rules_file,
        keys_file,
        company,
    )


def open_stores(settings: Settings, engine: sa.Engine | None) -> list[Store]:
    """The stores that the settings name; without records (None) there is nothing yet in those that need them.

    Raises:
        BadSettings.
    """
    return [store for name in settings.stores if (store := _store(settings, engine, name)) is not None]


def _reads_rules(settings: Settings) -> Callable[[Path], RuleSet]:
    """Reads rules, and has those that ask somebody outside be answered."""
    outside: list[Outside] = []  # one for all that are read, once any of them asks

    def read(path: Path) -> RuleSet:
        rules = read_rules(path, settings.stores)
        if not rules.asks:
            return rules
        if not outside:
            from invio.service.outside import Outside

            outside.append(Outside())
        return outside[0].use(rules, path)

    return read


def _bundles(settings: Settings, catalogue: Catalogue, engine: sa.Engine, alone: bool) -> Bundles:
    given = settings.bundles
    limits = BundleLimits(given.entries, given.bytes, given.seconds, wait_for=given.wait_for)
    packing = None
    if given.cache_bytes:
        from invio.delivery.packing import Packing

        packing = Packing(settings.path(settings.service.data) / "deflated", given.cache_bytes)
        if alone:
            packing.sweep()
    return Bundles(catalogue, engine, limits, packing)


def _cross_origin(settings: Settings) -> CrossOrigin:
    given = settings.cors
    return CrossOrigin(frozenset(given.origins), given.credentials, given.seconds, given.resource_policy)


def _front(settings: Settings) -> Front:
    given = settings.front
    prefixes = {
        name: store.front
        for name, store in settings.stores.items()
        if isinstance(store, DirectorySettings) and store.front is not None
    }
    return Front(read_networks(given.networks), given.redirect_header, given.rate_header, prefixes)


def _store(settings: Settings, engine: sa.Engine | None, name: str) -> Store | None:
    given = settings.stores[name]
    try:
        if isinstance(given, DirectorySettings):
            if given.writable:
                from invio.stores.writable import WritableDirectoryStore

                return WritableDirectoryStore(name, settings.path(given.root), given.precompressed)
            return DirectoryStore(name, settings.path(given.root), given.precompressed)
        if isinstance(given, ManagedSettings):
            from invio.records.versions import VersionRecords
            from invio.stores.managed import ManagedStore

            index = None if engine is None else VersionRecords(engine, name)
            return None if index is None else ManagedStore(name, settings.path(given.root), index)
        if isinstance(given, RemoteSettings):
            from invio.stores.remote import RemoteStore  # the library for it is loaded where there is such a store

            return RemoteStore(name, given.url, given.options, given.redirect)
        return _tables(settings, name, given)
    except (StoreFault, ProducerFault) as error:
        raise BadSettings(f"{settings.folder}: {error}") from None


def _tables(settings: Settings, name: str, given: TablesSettings) -> TablesStore:
    tables: dict[str, Callable[[], Rows]] = {}
    for table in given.file:
        try:
            parse_file_address(f"{name}/{table.path}")
        except BadAddress as error:
            raise StoreFault(f"store {name!r}: path {table.path!r}: {error}") from None
        tables[table.path] = _rows(settings, table)
    return TablesStore(name, tables)


def _rows(settings: Settings, table: TableSettings) -> Callable[[], Rows]:
    if table.function is not None:
        return function_rows(table.function)
    return query_rows(str(table.database), str(table.query), settings.folder)

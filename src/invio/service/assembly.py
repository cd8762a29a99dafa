"""Assembly: settings → the parts of a running service, wired together."""

from __future__ import annotations

import logging
import os
import time
from collections.abc import Callable, Collection
from dataclasses import dataclass, field, replace
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

import sqlalchemy as sa

from invio.core.links.keys import KeyRing
from invio.core.rules.decisions import RuleSet
from invio.core.rules.doubts import groups_without_members
from invio.delivery.access.authentication import Authenticator, Identifier, ReadsTokens
from invio.delivery.access.catalogue import AccessPolicy, Catalogue
from invio.delivery.access.link_issuers import Makers
from invio.delivery.archives.bundles import Bundles
from invio.delivery.endpoint import Delivery
from invio.delivery.planner import DeliveryServices
from invio.delivery.representation.digests import Digests
from invio.delivery.representation.made_once import Productions
from invio.delivery.representation.negotiation import Negotiator
from invio.delivery.sending.eager import in_pool
from invio.delivery.transfers.ending import Endings
from invio.delivery.transfers.exhausted import EndedLinks
from invio.delivery.transfers.feed import Feed
from invio.delivery.transfers.limits import Limits
from invio.delivery.transfers.transfers import Transfers
from invio.records import quotas as quota_records
from invio.records import recipients as recipient_records
from invio.records import transfers as transfer_records
from invio.records.database import open_database, write
from invio.records.digests import RecordedDigests
from invio.records.journal import Journal
from invio.records.rows import TransferRow
from invio.records.serving_lock import ServingLock
from invio.service.audit import Audit
from invio.service.behind import Behind
from invio.service.configuration import read_keys, read_rules
from invio.service.health import Health
from invio.service.open_stores import open_stores, spool_of
from invio.service.parts_of_settings import (
    bundles_of,
    cross_origin_of,
    front_of,
    pages_of,
    renditions_of,
    streams_of,
)
from invio.service.peers import SocketPeers
from invio.service.planners import Planners
from invio.service.reloading import Watched
from invio.service.settings import Settings
from invio.service.signing import SigningKeys
from invio.service.slow_requests import SlowRequests
from invio.service.store_settings import (
    DirectorySettings,
    ManagedSettings,
)
from invio.service.streams import Streams
from invio.stores.store import Store, SweepableStore
from invio.workers.pool import Pool
from invio.workers.shared import Sharing

if TYPE_CHECKING:
    from invio.service.external_checks import Outside


log = logging.getLogger("invio.service")

_DELIVERY_LIMITS = ("rate", "recipient_rate", "requests", "recipient_transfers", "idle")


@dataclass(frozen=True, slots=True)
class Pools:
    """Threads of their own for work that anybody can cause, so that it never stands in the way of other work."""

    identification: Pool = field(default_factory=lambda: Pool("identification", 4, waiting=2000, deadline=30.0))
    # Tokens of an identity provider, whose keys may have to be fetched.
    provider: Pool = field(default_factory=lambda: Pool("provider", 4, waiting=2000, deadline=30.0))
    # Each hash takes 19 MiB and most of a core.
    passwords: Pool = field(default_factory=lambda: Pool("passwords", 2, waiting=16, deadline=30.0))
    planning: Pool = field(default_factory=lambda: Pool("planning", 4, waiting=124))
    history: Pool = field(default_factory=lambda: Pool("history", 2, waiting=60, deadline=60.0))
    links: Pool = field(default_factory=lambda: Pool("links", 4, waiting=2000, deadline=30.0))
    following: Pool = field(default_factory=lambda: Pool("following", 2, waiting=2000, deadline=30.0))
    files: Pool = field(default_factory=lambda: Pool("looks", 1, waiting=100, deadline=10.0))
    scanning: Pool = field(default_factory=lambda: Pool("scanning", 1, waiting=1))
    webhooks: Pool = field(default_factory=lambda: Pool("webhooks", 8, waiting=200))
    proving: Pool = field(default_factory=lambda: Pool("proving", 1, waiting=2, deadline=60.0))


@dataclass(slots=True, eq=False)
class Parts:
    """Everything that the service's own pages and the delivery share."""

    settings: Settings
    keys: KeyRing
    engine: sa.Engine
    journal: Journal
    catalogue: Catalogue
    identifier: Authenticator
    transfers: Transfers
    bundles: Bundles
    digests: Digests
    way: DeliveryServices
    delivery: Delivery
    rules_file: Watched[RuleSet] | None  # None where the application decides
    keys_file: Watched[KeyRing] | None
    company: ServingLock
    streams: Streams
    records_identity: tuple[int, int]
    audit: Audit
    behind: Behind
    feed: Feed
    endings: Endings
    signing_keys: SigningKeys
    health: Health = field(default_factory=Health)
    planners: Planners = field(default_factory=Planners)
    pools: Pools = field(default_factory=Pools)
    slow: SlowRequests = field(default_factory=SlowRequests)
    since: float = field(default_factory=time.time)
    stopping: Callable[[], bool] = field(default=lambda: False)

    @property
    def rules(self) -> AccessPolicy:
        """Who decides: the rules in force, or the application."""
        return self.catalogue.rules

    def decide_by(self, rules: RuleSet) -> None:
        """From now on these rules are in force."""
        self.catalogue.rules = rules

    def seal_by(self, keys: KeyRing) -> None:
        """From now on these keys open links, and one of them seals new ones."""
        self.keys, self.way.keys = keys, keys.keys

    def close(self) -> None:
        """Lets go of everything; the journal is to be stopped before."""
        self.digests.close()
        self.bundles.close()
        self.way.renditions.close()
        self.engine.dispose()
        self.company.close()


def assemble(
    settings: Settings,
    decider: AccessPolicy | None = None,
    identifier: Authenticator | None = None,
    sharing: Sharing | None = None,
) -> Parts:
    """Opens the records and the stores that the settings name.

    Without a `decider` the settings' rules decide; with one they are not read, and a key file need not be there.
    `sharing` is what worker processes count together.

    Raises:
        BadSettings, BadRules, BadKeyFile: with what is wrong and where.
    """
    audit = Audit()
    in_force = _in_force(settings, decider, audit)
    check_roots(settings)
    opened = _opened(settings)
    engine, company = opened.engine, opened.company
    if isinstance(in_force.rules, RuleSet):
        _tell_doubts(settings, in_force.rules, engine)
    pools, journal, digests = Pools(), Journal(engine, company.number), Digests(RecordedDigests(engine))
    identifier = identifier or Identifier(engine, provider_of(settings), pools.identification, pools.provider)
    limits = Limits(**settings.limits.model_dump(include=set(_DELIVERY_LIMITS)))
    transfers = Transfers(engine, journal, limits, sharing)
    way = _services(
        settings, opened, in_force, identifier=identifier, transfers=transfers, digests=digests, by=pools.links
    )
    way.limits, way.sharing, way.pages = limits, sharing, pages_of(settings)
    if decider is not None:
        way.pages = replace(way.pages, sign_in=None)  # the application has its own page for that
    status = os.stat(settings.database)
    return Parts(
        settings,
        in_force.keys,
        engine,
        journal,
        way.catalogue,
        identifier,
        transfers,
        way.archives,
        digests,
        way,
        Delivery(way),
        in_force.rules_file,
        in_force.keys_file,
        company,
        streams_of(settings, sharing),
        (status.st_dev, status.st_ino),
        audit,
        Behind(settings, way.front),
        _feed(engine, transfers, pools, company),
        Endings(journal, transfers.live, engine, pools.following),
        SigningKeys(engine, journal, pools.history),
        pools=pools,
    )


@dataclass(frozen=True, slots=True)
class _InForce:
    """What decides and what seals, with the files they are read from; None without a file."""

    rules: AccessPolicy
    keys: KeyRing
    rules_file: Watched[RuleSet] | None
    keys_file: Watched[KeyRing] | None


def _in_force(settings: Settings, decider: AccessPolicy | None, audit: Audit) -> _InForce:
    """Reads rules, unless there is a `decider`, and keys. Raises BadRules, BadKeyFile."""
    reader, keys_file = Pool("reading", 2), None
    keys_path = settings.path(settings.service.keys)
    rules_file = None
    if decider is None:
        rules_file = Watched("rules", settings.path(settings.service.rules), _reads_rules(settings), audit, reader)
        decider = rules_file.value
        keys_file = Watched("keys", keys_path, read_keys, audit, reader)
    elif keys_path.exists():
        keys_file = Watched("keys", keys_path, read_keys, audit, reader)
    return _InForce(decider, KeyRing({}, "") if keys_file is None else keys_file.value, rules_file, keys_file)


@dataclass(frozen=True, slots=True)
class _Opened:
    """The records and stores, opened, and this process's place among those that serve from them."""

    company: ServingLock
    engine: sa.Engine
    stores: list[Store]


def _opened(settings: Settings) -> _Opened:
    """Opens records and stores, and cleans up what dead processes left. Raises BadSettings."""
    company = _joined(settings)
    try:
        engine = open_database(settings.database, company.number)
        _put_in_order(engine, company)
        stores = open_stores(settings, engine)
        for store in stores:
            if isinstance(store, SweepableStore):
                store.sweep(alone=company.first)
    except BaseException:
        company.close()
        raise
    company.joined()
    return _Opened(company, engine, stores)


def provider_of(settings: Settings) -> ReadsTokens | None:
    """The identity provider of the settings, if they name one. Raises BadSettings."""
    if settings.identity is None:
        return None
    from invio.service.provider import Provider  # loaded where the settings have it

    _require_key_set(settings, settings.identity.keys)
    return Provider(settings.identity, settings.folder)


def _services(
    settings: Settings,
    opened: _Opened,
    in_force: _InForce,
    *,
    identifier: Authenticator,
    transfers: Transfers,
    digests: Digests,
    by: Pool,
) -> DeliveryServices:
    """What a delivery needs; `by` are the threads that look up links. Raises BadSettings."""
    engine, alone = opened.engine, opened.company.first
    catalogue = Catalogue(opened.stores, in_force.rules)
    renditions, room = renditions_of(settings, alone=alone), spool_of(settings, alone=alone)
    negotiator = Negotiator(
        catalogue.locate,
        digests,
        cross_origin_of(settings),
        always_digest=settings.service.digests == "always",
        productions=Productions(room),
    )
    return DeliveryServices(
        catalogue,
        identifier,
        transfers,
        bundles_of(settings, catalogue, engine, renditions, room, alone=alone),
        negotiator,
        Makers(engine, by),
        EndedLinks(engine, by),
        in_force.keys.keys,
        settings.service.link_grace,
        renditions,
        cross_origin=cross_origin_of(settings),
        front=front_of(settings),
    )


def _feed(engine: sa.Engine, transfers: Transfers, pools: Pools, company: ServingLock) -> Feed:
    def look_up(ids: Collection[str]) -> list[TransferRow]:
        with engine.connect() as connection:
            return transfer_records.with_ids(connection, list(ids))

    feed = Feed(transfers.live, partial(in_pool, pools.following, look_up))
    feed.peers = SocketPeers(company)
    return feed


def check_roots(settings: Settings) -> None:
    """Refuses roots that hold what is the service's own, or lie within each other so that stores share files.

    Raises BadSettings.
    """
    roots = {
        name: settings.path(store.root).resolve()
        for name, store in settings.stores.items()
        if isinstance(store, DirectorySettings | ManagedSettings)
    }
    own = {
        "data": settings.path(settings.service.data).resolve(),
        "keys": settings.path(settings.service.keys).resolve(),
        "rules": settings.path(settings.service.rules).resolve(),
    }
    if settings.file is not None:
        own["settings"] = settings.file.resolve()
    for name, root in roots.items():
        for what, path in own.items():
            if path.is_relative_to(root):
                said = f"the folder {root} holds the service's own {what} ({path}), which the store would hand out"
                raise settings.fault(("stores", name, "root"), f"{said}; give the store another folder")
        for other, its_root in roots.items():
            managed = isinstance(settings.stores[name], ManagedSettings)
            if managed and other != name and (its_root.is_relative_to(root) or root.is_relative_to(its_root)):
                said = f"{root} is where this store keeps versions, and store {other!r} has its files in {its_root}"
                place = ("stores", name, "root")
                raise settings.fault(place, f"{said}; a managed store's folder is its own, so give one another")


def _tell_doubts(settings: Settings, rules: RuleSet, engine: sa.Engine) -> None:
    """Writes into the log which groups of the rules nobody is in; a provider may put somebody in any."""
    if settings.identity is not None and settings.identity.groups_claim is not None:
        return
    with engine.connect() as connection:
        known = {group for one in recipient_records.all_recipients(connection) for group in one.groups}
    for said in groups_without_members(rules, known):
        file = str(settings.path(settings.service.rules))
        log.warning("rules.group-without-members", extra={"fields": {"file": file, "doubt": said}})


def _require_key_set(settings: Settings, keys: str) -> None:
    """Refuses a file of the identity provider's keys that is not there: every one of its tokens would be refused."""
    if not keys.startswith(("http://", "https://")) and not settings.path(Path(keys)).is_file():
        said = f"there is no file {settings.path(Path(keys))}; save the provider's JWK Set there, or give its address"
        raise settings.fault(("identity", "keys"), said)


def _joined(settings: Settings) -> ServingLock:
    """The process among those that serve. Raises BadSettings."""
    folder = settings.database.parent
    try:
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        return ServingLock(folder)
    except OSError as error:
        said = f"{folder} cannot be used as the data folder: {error.strerror}; give another, or correct its rights"
        if isinstance(error, FileExistsError | NotADirectoryError):
            said = f"{folder} cannot be used as the data folder, because a file stands in its way; give another"
        raise settings.fault(("service", "data"), said) from None


def _put_in_order(engine: sa.Engine, company: ServingLock) -> None:
    """Ends what processes left that died: all of it where nobody else lives, else what this one's number left."""
    with write(engine).begin() as connection:
        if company.first:
            quota_records.take_orphans(connection)
            transfer_records.break_off_orphans(connection, "the service ended before the transfer did")
        elif (left := company.before) is not None:
            quota_records.take_orphans(connection, left.number, left.since)
            said = "the process that sent it ended before the transfer did"
            transfer_records.break_off_orphans(connection, said, left.number, left.since)


def _reads_rules(settings: Settings) -> Callable[[Path], RuleSet]:
    """Reads rules, and has those that ask somebody outside be answered."""
    outside: list[Outside] = []  # one for all that are read, once any of them asks

    def read(path: Path) -> RuleSet:
        rules = read_rules(path, settings.stores)
        if not rules.asks:
            return rules
        if not outside:
            from invio.service.external_checks import Outside

            outside.append(Outside())
        return outside[0].use(rules, path)

    return read

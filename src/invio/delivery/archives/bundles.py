"""Bundles: a selection → the plan of an archive, of which nothing is ever written.

A bundle is planned once, and the plan is cached as long as there is room. Planned again, by this or another process,
the same selection of the same contents gives the same bytes. Files made on demand are made once per bundle and kept in
unnamed files.
"""

from __future__ import annotations

import asyncio
import logging
import threading
import time
from collections import Counter, OrderedDict
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import Future, wait
from contextlib import nullcontext
from dataclasses import dataclass, field, replace
from functools import partial
from types import MappingProxyType
from typing import TYPE_CHECKING, NamedTuple

import sqlalchemy as sa

from invio.core.addresses import Address
from invio.core.archive.plan import ENDINGS
from invio.core.files import Caller, FileFacts
from invio.core.http.names import safe_name
from invio.core.http.replies import Representation
from invio.core.memory import Memory
from invio.core.networks import principal
from invio.core.reasons import Refusal
from invio.core.rules.quotas import Quota
from invio.delivery.access.catalogue import Catalogue
from invio.delivery.archives.plan import Plan, Preparing
from invio.delivery.archives.planning_pools import PlanningPools
from invio.delivery.archives.planning_turns import Asking, PlanningTurns, UnderWay
from invio.delivery.archives.selection import Selection, Skipped, still_may
from invio.delivery.archives.spools import Spools
from invio.delivery.transfers.limits import BundleLimits
from invio.records.archives import note_archive
from invio.records.bundles import (
    BundleOptions,
    BundleRecord,
    bundle_named,
    decide_packs,
    drop_bundle,
    keep_until,
    new_bundle,
    pin_versions,
    save_bundle,
)
from invio.records.database import write
from invio.records.recipients import recipient_named
from invio.workers.heap import give_back_memory
from invio.workers.pool import Pool, PoolBusy

if TYPE_CHECKING:
    from invio.delivery.archives.background_deflate import BackgroundDeflater
    from invio.delivery.archives.builder import Planning
    from invio.delivery.archives.deflate_cache import DeflateCache
    from invio.delivery.representation.renditions import Renditions
    from invio.producers.room import Room
    from invio.stores.sources import DiskFile
    from invio.stores.urls import Urls

log = logging.getLogger("invio.delivery")

_ENDS_WITHIN = 3.0  # seconds
STORE = "bundles"  # what stands where an address has its store
# For how long what was found is taken to be so. Seconds.
_FRESH = 2.0
_FEW = 500  # files, which are looked at each time
_PLANS = 64  # cached plans
_CALLERS = 64  # for whom a plan is known to be good
_REFUSED = 256  # refusals of bundles that nobody waited for
_KEPT_ENTRIES = 400_000  # of all of them, but for the newest
_MANY_ENTRIES = 5_000  # of a plan that took much memory to make, and to record


@dataclass(slots=True)
class _Kept:
    """A plan, the callers it was approved for, and what it counts towards their quotas."""

    plan: Plan
    left_out: list[Skipped]
    noted: Future[None]  # that the history knows what is in it: no byte leaves before
    good_for: Memory[object, tuple[float, Mapping[Quota, int]]] = field(default_factory=partial(Memory, _CALLERS))

    def counted(self, key: object | None) -> Mapping[Quota, int] | None:
        """What it counts for a caller for whom it was approved just now."""
        at, counts = self.good_for.get(key, (0.0, None))
        return counts if time.monotonic() - at < _FRESH else None


@dataclass(frozen=True, slots=True)
class Made:
    """A bundle and its plan; `left_out` is what was selected and is not in it."""

    record: BundleRecord
    plan: Plan
    left_out: list[Skipped]
    noted: Future[None]  # see `_Kept`


class Represented(NamedTuple):
    """A bundle's archive, as a request gets it.

    `quotas` are those that hold for what is in it, with how many of its files each is about, and `owner` the recipient
    whose they are. `rendition` is what its images are in it.
    """

    representation: Representation
    quotas: Mapping[Quota, int]
    owner: str | None
    rendition: str | None


class Bundles:
    """Makes bundles from selections, and representations from bundles."""

    def __init__(
        self,
        catalogue: Catalogue,
        engine: sa.Engine,
        limits: BundleLimits,
        packing: DeflateCache | None,
        *,
        renditions: Renditions | None = None,
        urls: Urls | None = None,
        room: Room | None = None,
    ) -> None:
        """`packing` keeps deflated contents; None: all is stored as it is.

        `renditions` are for images in a bundle, `urls` for files of other origins; `room` is where files lie that are
        made for one, and how much may.
        """
        self._renditions, self._urls = renditions, urls
        self._catalogue = catalogue
        self._engine = engine
        self._limits = limits
        self._packing = packing
        self._behind: BackgroundDeflater | None = None
        self._spools = Spools(limits.spools, room, self._forget_oldest)
        self._plans: OrderedDict[str, _Kept] = OrderedDict()
        self._preparing: dict[str, Preparing] = {}
        self._refused: OrderedDict[str, Refusal] = OrderedDict()  # by id
        self._drafts: set[str] = set()  # ids of what is not written down yet
        self.pools = PlanningPools(catalogue.stores)
        self._notes = Pool("archives-noted", 1, waiting=20)  # which records what is in them
        self._turns, self._looks = PlanningTurns(), PlanningTurns()  # to plan a bundle, and to look who may have it
        self._lock = threading.Lock()

    def save(
        self,
        caller: Caller,
        files: Sequence[str],
        name: str | None,
        options: BundleOptions,
        *,
        kind: str | None = None,
        versions: Mapping[str, int] = MappingProxyType({}),
        keep: bool = True,
    ) -> BundleRecord:
        """A selection as a bundle, which is not planned yet; `kind` is `zip`, `tar`, or what the name says.

        `versions` are those wanted of some files, by address. With `keep` false it is written down only once it was
        planned: what is refused takes no room.

        Raises:
            Refusal: `no-selection`.
        """
        if not files:
            raise Refusal("no-selection", 'the selection is empty; give "files": ["store/path", "store/folder/"]')
        files = list(dict.fromkeys(files))
        record = new_bundle(caller.recipient, _archive_name(name, files, kind), files, options, versions)
        if keep:
            with write(self._engine).begin() as connection:
                save_bundle(connection, record)
        else:
            self._drafts.add(record.id)
        self.pools.look(record)
        return record

    def drop(self, record: BundleRecord) -> None:
        """Forgets a bundle that was refused."""
        self._drafts.discard(record.id)
        self.forget(record.id)
        with write(self._engine).begin() as connection:
            drop_bundle(connection, record.id)

    def keep_refusal(self, record: BundleRecord, refusal: Refusal) -> None:
        """Drops a bundle that was refused in the background, and keeps the reason for its maker for a while."""
        with self._lock:
            self._refused[record.id] = refusal
            while len(self._refused) > _REFUSED:
                self._refused.popitem(last=False)
        self.drop(record)  # afterwards, so that a request in between does not get `missing`

    def plan(
        self,
        caller: Caller,
        record: BundleRecord,
        ends: Callable[[], bool] = lambda: False,
        *,
        asking: Asking | None = None,
    ) -> Made:
        """The archive's plan, made now if it has to be; or found good for the caller as the rules are now.

        `ends` tells whether nobody waits for it any more. `asking` is who asks, where nothing is to be waited for.

        Raises:
            UnderWay: with `asking`, when it is another's turn.
            NobodyWaits: see `invio.delivery.sending.errors`.
            Refusal: `bad-selection`, naming every address that is unknown or not allowed; `no-selection`,
                when nothing is left; `too-large`.
        """
        key = self._counted_for(caller)
        kept = self._kept(record.id)
        if kept is None or kept.counted(key) is None:
            # Who is known by the same key is not looked at twice at the same time; others are nobody's to wait for.
            with nullcontext() if key is None else self._looks.of((record.id, key), asking):
                kept = self._kept(record.id)
                if kept is None or self._good_for(caller, record, kept.plan) is None:
                    kept = self._planned_once(caller, record, ends, asking)
        return Made(record, kept.plan, kept.left_out, kept.noted)

    def _planned_once(
        self, caller: Caller, record: BundleRecord, ends: Callable[[], bool], asking: Asking | None
    ) -> _Kept:
        with self._turns.of(record.id, asking):
            kept = self._kept(record.id)  # another may have been faster
            if kept is not None and self._good_for(caller, record, kept.plan) is not None:
                return kept
            self.forget(record.id)
            return self._planned(caller, record, ends)

    def named(self, caller: Caller, bundle_id: str) -> BundleRecord:
        """A bundle of the caller's. Raises Refusal (`missing`, or why it was refused while nobody waited)."""
        with self._engine.connect() as connection:
            record = bundle_named(connection, bundle_id)
        refused = self._refused.get(bundle_id)  # afterwards: it was kept before the record was dropped
        if refused is not None:
            raise refused
        if record is None or record.recipient not in (None, caller.recipient):
            raise Refusal("missing", "there is no such bundle for you; it may have expired; select the files again")
        self.pools.look(record)
        return record

    def announce(self, record: BundleRecord) -> None:
        """Announces that a bundle is about to be planned."""
        self._preparing[record.id] = Preparing()

    def preparing(self, bundle_id: str) -> Preparing | None:
        """The progress of a bundle's plan that is being made."""
        return self._preparing.get(bundle_id)

    async def represented(self, caller: Caller, address: Address, *, sealed: bool, resumes: bool) -> Represented:
        """As `represent`, by a thread of the pool that the bundle's files are for; none waits for another's plan."""
        work = partial(self.represent, caller, address, sealed=sealed, resumes=resumes, waits=False)
        while True:
            try:
                return await self.pools.run(work)
            except UnderWay as other:
                await asyncio.wrap_future(other.ended)

    def represent(
        self,
        caller: Caller,
        address: Address,
        *,
        sealed: bool,
        resumes: bool,
        waits: bool = True,
        by: Pool | None = None,
    ) -> Represented:
        """The archive at `bundles/<id>/<name>`, with the rights to every entry checked again.

        `sealed`: by a valid link, so the rights of the bundle's maker count, as they are now. `resumes`: continues with
        the known plan, if there is one. `waits`: for a plan that another thread makes. `by` is the pool whose thread
        calls it.

        Raises:
            AnotherPool: another pool is for such files.
            UnderWay: it is another's turn, and it is not to be waited for.
            Refusal: `missing`, when there is no such bundle or it is another's; or as `plan`.
        """
        bundle_id, _, name = address.path.partition("/")
        asking = None if waits else Asking(by, principal(caller.recipient, caller.network))
        with self._engine.connect() as connection:
            record = bundle_named(connection, bundle_id)
            if record is not None and sealed:
                caller = self._maker(connection, record, caller)
        if record is None or name != record.name or record.recipient not in (None, caller.recipient):
            raise Refusal("missing", "there is no such bundle for you; it may have expired; select the files again")
        self.pools.require(record, by)
        kept = self._kept(record.id)
        if kept is not None and _is_looked_at(kept.plan, resumes=resumes) and not kept.plan.holds():
            self.forget(record.id)
        made = self.plan(caller, record, asking=asking)
        quotas = self._good_for(caller, record, made.plan)
        if quotas is None:  # the rules have changed: the new plan is refused or leaves something out
            self.forget(record.id)
            made = self.plan(caller, record, asking=asking)
            quotas = self._good_for(caller, record, made.plan) or {}
        try:
            made.noted.result()
        except BaseException:
            self.forget(record.id)  # and it is recorded with the next plan
            raise
        content = made.plan.content
        representation = Representation(
            content=content,
            size=content.size,
            tag=content.tag,
            modified=None,
            media_type=content.media_type,
            name=record.name,
            sealed=sealed,
            by_tag_alone=record.options.tag not in (None, content.tag),
        )
        return Represented(representation, quotas, caller.recipient, record.options.rendition)

    def broken(self, address: str) -> None:
        """Notes that an archive could not be sent whole."""
        store, _, path = address.partition("/")
        if store == STORE:
            self.forget(path.partition("/")[0])

    def files(self, caller: Caller, record: BundleRecord) -> Iterator[FileFacts]:
        """The files of a bundle, but for what it adds itself."""
        plan = self.plan(caller, record).plan
        for number in range(len(plan)):
            facts = plan.facts(number)
            if facts is not None:
                yield facts

    def forget(self, bundle_id: str) -> None:
        """Drops a bundle's plan because something in it has changed; the next request plans it anew."""
        with self._lock:
            self._plans.pop(bundle_id, None)

    def _forget_oldest(self) -> bool:
        """Drops the plan that was used least; whether there was one."""
        with self._lock:
            if not self._plans:
                return False
            self._plans.popitem(last=False)
            return True

    def extend(self, bundle_id: str, moment: float) -> None:
        """Keeps a bundle at least until a moment, in Unix seconds."""
        with write(self._engine).begin() as connection:
            keep_until(connection, bundle_id, moment)

    def close(self) -> None:
        """Forgets all plans and the files made for them, and ends what deflates. Records are written to their end."""
        with self._lock:
            noted = [kept.noted for kept in self._plans.values()]
        wait(noted, _ENDS_WITHIN)
        self._plans.clear()
        self._spools.close()
        if self._behind is not None:
            self._behind.close()
        if self._packing is not None:
            self._packing.close()

    @staticmethod
    def _maker(connection: sa.Connection, record: BundleRecord, caller: Caller) -> Caller:
        """The bundle's maker, with the caller's network."""
        if record.recipient is None:
            return Caller(None, frozenset(), caller.network, caller.agent)
        maker = recipient_named(connection, record.recipient)
        if maker is None:  # one known only to the identity provider, whose groups are in its own token
            return Caller(record.recipient, frozenset(), caller.network, caller.agent)
        if maker.disabled:
            raise Refusal("missing", "the recipient who made this bundle can no longer sign in")
        return Caller(maker.id, maker.groups, caller.network, caller.agent)

    def _kept(self, bundle_id: str) -> _Kept | None:
        with self._lock:
            kept = self._plans.get(bundle_id)
            if kept is not None and kept.plan.broken:
                del self._plans[bundle_id]
                kept = None
            if kept is not None:
                self._plans.move_to_end(bundle_id)
            return kept

    def _pack_later(self, packing: DeflateCache, some: list[tuple[DiskFile, str]]) -> None:
        from invio.delivery.archives.background_deflate import BackgroundDeflater

        with self._lock:
            if self._behind is None:
                self._behind = BackgroundDeflater(self._engine, packing)
        self._behind.ask(some)

    def _deflated_or_not(
        self, planning: Planning, choosing: Selection, *, packs: bool, waits: bool
    ) -> tuple[Plan, bool]:
        """A plan, and whether contents are deflated in it: what cannot be deflated first is, in the background."""
        from invio.delivery.archives.deflating import NotDeflatedFirst

        try:
            return planning.plan(choosing, packs=packs, waits=waits), packs
        except NotDeflatedFirst:
            planning.later = []
            choosing.left_out.clear()
            plan = planning.plan(choosing, packs=False, waits=False)
            if self._packing is not None:
                self._pack_later(self._packing, planning.later)
            return plan, False

    def _planned(self, caller: Caller, record: BundleRecord, ends: Callable[[], bool]) -> _Kept:
        # What only archives need is loaded with the first one.
        from invio.delivery.archives.builder import Planning

        choosing = Selection(self._catalogue, caller, record.versions, urls=self._urls)
        if self._renditions is not None and record.options.rendition is not None:
            choosing.shown = partial(self._renditions.of_images, name=record.options.rendition)
        preparing = self._preparing[record.id] = Preparing()
        planning = Planning(
            self._engine, self._limits, self._packing, self._spools, record=record, preparing=preparing, ends=ends
        )
        packs = self._packing is not None and record.options.packs is not False and planning.deflates
        try:
            plan, packs = self._deflated_or_not(planning, choosing, packs=packs, waits=record.options.packs is None)
        finally:
            self._preparing.pop(record.id, None)
        versions = plan.versions()
        if record.id in self._drafts:
            settled = replace(
                record, options=replace(record.options, packs=packs, tag=plan.places.tag), versions=versions
            )
            with write(self._engine).begin() as connection:
                save_bundle(connection, settled)
            self._drafts.discard(record.id)
            choosing.versions = versions
        elif record.options.packs is None or versions.keys() - record.versions.keys():
            with write(self._engine).begin() as connection:
                decided = decide_packs(connection, record.id, packs=packs) if record.options.packs is None else packs
                choosing.versions = pin_versions(connection, record.id, versions)
            if decided is not packs or not versions.items() <= choosing.versions.items():
                # Another process was faster, and all must send the same bytes.
                choosing.left_out.clear()
                plan, _ = self._deflated_or_not(planning, choosing, packs=decided, waits=False)
        left_out = list(choosing.left_out)
        del planning, choosing  # before its memory is given back
        kept = _Kept(plan, left_out, self._noted(plan))
        with self._lock:
            self._plans[record.id] = kept
            while len(self._plans) > _PLANS or (
                len(self._plans) > 1 and sum(len(one.plan) for one in self._plans.values()) > _KEPT_ENTRIES
            ):
                self._plans.popitem(last=False)
        return kept

    def _noted(self, plan: Plan) -> Future[None]:
        """Has the files of an archive be recorded, while whoever selected them is told of it and asks for it."""
        try:
            return self._notes.submit(self._note, plan)
        except PoolBusy:
            self._note(plan)
            done: Future[None] = Future()
            done.set_result(None)
            return done

    def _note(self, plan: Plan) -> None:
        note_archive(self._engine, plan.places.tag, _entries(plan))
        if len(plan) > _MANY_ENTRIES:
            give_back_memory()

    def _good_for(self, caller: Caller, record: BundleRecord, plan: Plan) -> Mapping[Quota, int] | None:
        """What the entries count for a caller who may have all of them; None for one who may not."""
        kept, rules, key = self._plans.get(record.id), self._catalogue.rules, self._counted_for(caller)
        known = None if kept is None else kept.counted(key)
        if known is not None:
            return known
        now = time.monotonic()
        if not still_may(self._catalogue, caller, record.files, plan):
            return None
        counts: Counter[Quota] = Counter()
        if rules.has_quotas:
            for number in range(len(plan)):
                facts = plan.facts(number)
                if facts is not None:
                    counts.update(rules.terms(caller, "read", facts.address, facts).quotas)
        if kept is not None and key is not None:
            kept.good_for.keep(key, (now, counts))
        return counts

    def _counted_for(self, caller: Caller) -> object | None:
        """For whom what is in an archive was counted; None for one whose next request tells nothing of this one."""
        if caller.context is not None:  # an application decides, by its own request
            return None
        return self._catalogue.rules, caller.recipient, caller.groups, caller.network


def _entries(plan: Plan) -> Iterator[tuple[str, int, int]]:
    """The files of a plan, with where the content of each begins in the archive and where it ends."""
    for address, (begins, ends) in zip(plan.addresses(), plan.places.spans, strict=True):
        if address is not None:
            yield address, begins, ends


def _is_looked_at(plan: Plan, *, resumes: bool) -> bool:
    """Whether all files of a plan are checked before it is sent, instead of each in its turn."""
    if len(plan) <= _FEW:
        return True
    return not resumes and time.monotonic() - plan.looked > _FRESH


def _archive_name(name: str | None, files: Sequence[str], kind: str | None) -> str:
    """What was asked for, else the name of the one folder or file, else `files`; it ends in `.tar` or `.zip`."""
    if not name:
        name = files[0].rstrip("/").rpartition("/")[2] if len(files) == 1 else "files"
    name = safe_name(name, "files")
    ending = next((ending for ending in ENDINGS if name.lower().endswith(ending)), None)
    if ending is not None and kind in (None, ending[1:]):
        return name
    stem = name if ending is None else name[: -len(ending)]
    return safe_name(f"{stem}.{kind or 'zip'}")

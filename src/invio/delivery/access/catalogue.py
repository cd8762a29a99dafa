"""The catalogue: all stores by name, and what of them a caller may see."""

from __future__ import annotations

import time
from bisect import bisect_right
from collections.abc import Collection, Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Protocol

from invio.core.addresses import Address, BadAddress, parse_address
from invio.core.files import Caller, FileFacts
from invio.core.memory import ExpiringMemory
from invio.core.reasons import Refusal, RulesRefused
from invio.core.rules.decisions import Decision, Reason
from invio.core.rules.quotas import Quota
from invio.core.rules.terms import Terms
from invio.delivery.access import searching
from invio.stores.store import Found, GlancingStore, Missing, PagedStore, Store, VersionedStore, WalkableStore
from invio.workers.pool import Pool, PoolsByName

_LISTINGS = 16  # folders whose listing is kept for the next page
_LISTED_FOR = 10.0  # seconds
_LONG = 200  # files and folders; shorter ones are read anew


class AccessPolicy(Protocol):
    """Decides on access: the rules of a service, or the application that Invio is part of.

    `looks_at_files` says that the outcome may depend on the file's facts. Without them, `allows` tells
    whether it may come to a yes.
    """

    @property
    def looks_at_files(self) -> bool:
        """Whether the outcome may depend on a file's facts."""
        ...

    @property
    def has_reasons(self) -> bool:
        """Whether `explain` has more to say than the outcome, and may be called anywhere."""
        ...

    @property
    def sure_below(self) -> bool:
        """Whether `allows_below` is true of each file without asking about it."""
        ...

    @property
    def has_quotas(self) -> bool:
        """Whether terms may hold quotas."""
        ...

    def allows(self, caller: Caller, action: str, address: Address, facts: FileFacts | None = None) -> bool:
        """Whether the caller may do this with the file."""
        ...

    def decide_with_rules(
        self, caller: Caller, action: str, address: Address, facts: FileFacts | None = None
    ) -> tuple[bool, str]:
        """Like `allows`, and in words for the history who or what decided."""
        ...

    def terms(self, caller: Caller, action: str, address: Address, facts: FileFacts | None = None) -> Terms:
        """How the file is delivered to a caller who may have it."""
        ...

    def quotas_named(self, names: Collection[str], address: Address) -> tuple[Quota, ...]:
        """Those of some quotas, by name, that count what is had of an address."""
        ...

    def reached_by(self, caller: Caller, action: str) -> frozenset[str] | None:
        """The stores in which the caller may do this with something; None: perhaps in any."""
        ...

    def administers(self, caller: Caller) -> bool:
        """Whether the caller may do what concerns the whole service."""
        ...

    def may_enter(self, caller: Caller, folder: Address) -> bool:
        """Whether the caller may list the folder."""
        ...

    def allows_below(self, caller: Caller, action: str, folder: Address) -> bool:
        """Whether the caller may do this with everything below the folder."""
        ...

    def explain(self, caller: Caller, action: str, address: Address, facts: FileFacts | None = None) -> Decision:
        """The outcome and its reasons."""
        ...

    async def prefetch(self, caller: Caller, action: str, address: Address) -> None:
        """Fetches answers where waiting is allowed, before `allows` is called where it is not."""
        ...


@dataclass(frozen=True, slots=True)
class Listed:
    """One line of a listing. `found` is None for a folder or a store."""

    address: Address
    found: Found | None


@dataclass(frozen=True, slots=True)
class Page:
    """Part of a listing; `after` is the address to go on after, None at the end."""

    files: list[Listed]
    after: str | None


_Listed = tuple[Address, str | None, str]  # a folder, what was searched for, and the order


def _place(address: Address) -> tuple[bool, str]:
    """What listings are in the order of: folders first, then by name."""
    return not address.folder, str(address)


def _read(after: str) -> Address:
    try:
        return parse_address(after)
    except BadAddress as error:
        raise Refusal("bad-request", f"after={after[:200]!r} is none of a listing's addresses: {error}") from None


def no_file(address: Address) -> str:
    """The refusal for a missing file, and for one whose existence the caller may not know: the same."""
    return f"there is no file {address} that you have access to"


class Catalogue:
    """Stores and the rules that hold for them."""

    def __init__(self, stores: Iterable[Store], rules: AccessPolicy) -> None:
        self.stores = {store.name: store for store in stores}
        self.rules = rules
        # Long listings, cached for the next page.
        self._listings: ExpiringMemory[_Listed, Sequence[Address]] = ExpiringMemory(_LISTINGS, _LISTED_FOR)
        # Listing and finding have their own threads, and each store that may block has others.
        self._pool, self._pools = Pool("listing", 8, waiting=200), PoolsByName("listing", 8, waiting=200)
        # So have uploads, and what else changes a store.
        self._writing, self._writing_of = Pool("putting", 16, waiting=5000), PoolsByName("putting", 8, waiting=200)

    def pool_of(self, address: Address | None) -> Pool:
        """The threads that find and list what is in a store; None: the stores themselves."""
        return self._pool if address is None or not self.waits(address) else self._pools.of(address.store)

    def writing_pool_of(self, address: Address) -> Pool:
        """The threads that change what is in a store."""
        return self._writing_of.of(address.store) if self.waits(address) else self._writing

    def locate(self, address: Address, version: int | None = None) -> Found:
        """Finds a file, or one version of it. Raises Missing."""
        store = self.stores.get(address.store)
        if store is None:
            raise Missing(str(address))
        if version is None:
            return store.locate(address)
        if not isinstance(store, VersionedStore):
            raise Missing(f"{address} in versions")
        return store.locate_version(address, version)

    def waits(self, address: Address) -> bool:
        """Whether finding it may take as long as a network does, and is for a worker thread."""
        store = self.stores.get(address.store)
        return store is not None and store.waits

    async def prefetch(self, caller: Caller, action: str, address: Address) -> None:
        """Await it before `require` on the event loop: the policy may have to ask another system."""
        await self.rules.prefetch(caller, action, address)

    def require(self, caller: Caller, action: str, address: Address, facts: FileFacts | None = None) -> str:
        """Returns when the caller may do this, with what decided so in words for the history.

        Raises:
            Refusal: `sign-in`, when that might help; `not-allowed`, when the caller may at least
                see the file; else `missing`, which says nothing of whether there is one.
        """
        allowed, by = self.rules.decide_with_rules(caller, action, address, facts)
        if allowed:
            return by
        if caller.recipient is None and caller.context is None:
            raise RulesRefused("sign-in", f"{address} is not open to everyone", decided_by=by)
        reasons: tuple[Reason, ...] = ()
        if self.rules.has_reasons and self.rules.allows(caller, "manage", address, facts):
            reasons = self.rules.explain(caller, action, address, facts).reasons
        if self.rules.allows(caller, "list", address, facts):
            who = caller.recipient or "you"
            said = f"the rules do not let {who} {action} {address}"
            raise RulesRefused("not-allowed", said, reasons=reasons, decided_by=by)
        raise RulesRefused("missing", no_file(address), reasons=reasons, decided_by=by)

    def obtain(self, caller: Caller, action: str, address: Address, version: int | None = None) -> Found:
        """Decides, then finds: a file without access is refused alike whether or not it exists.

        Raises:
            Refusal: as `require`; or `missing`.
        """
        return self.obtain_by(caller, action, address, version)[0]

    def obtain_by(self, caller: Caller, action: str, address: Address, version: int | None = None) -> tuple[Found, str]:
        """Like `obtain`, with what decided in words for the history."""
        by = self.require(caller, action, address)
        found = self.located(address, version)
        if self.rules.looks_at_files:
            by = self.require(caller, action, address, found.facts)
        return found, by

    def located(self, address: Address, version: int | None = None) -> Found:
        """Like `locate`. Raises Refusal (`missing`)."""
        try:
            return self.locate(address, version)
        except Missing:
            raise Refusal("missing", no_file(address)) from None

    def facts(self, address: Address, version: int | None = None) -> FileFacts | None:
        """A file's facts, where the rules look at them and there is such a file."""
        if not self.rules.looks_at_files or address.folder:
            return None
        try:
            return self.locate(address, version).facts
        except Missing:
            return None

    def page(
        self,
        caller: Caller,
        folder: Address | None,
        after: str | None,
        limit: int,
        *,
        search: str | None = None,
        sort: str = "name",
    ) -> Page:
        """What the caller may see in a folder (None: the stores), folders first.

        `search` is a part of the names below it that are wanted. `sort` is `name`, `size` or `modified`; with `-`
        before it, the other way round.

        Raises:
            Refusal: `missing`, `sign-in`, or `too-large` to be sorted.
        """
        if folder is not None and sort == "name" and not search:
            store = self.stores.get(folder.store)
            if isinstance(store, PagedStore):
                return self._paged(caller, store, folder, after, limit)
        listed: list[Listed] = []
        addresses = self._addresses(caller, folder, search, sort, goes_on=after is not None)
        # Found by its place in the order: the file that ended the last page may be gone.
        if after is None:
            begin = 0
        elif sort == "name":
            begin = bisect_right(addresses, _place(_read(after)), key=_place)
        else:
            known = _read(after)
            begin = next((place + 1 for place, one in enumerate(addresses) if one == known), len(addresses))
        for number in range(begin, len(addresses)):
            line = self._line(caller, addresses[number])
            if line is None:
                continue
            if len(listed) == limit:
                return Page(listed, str(listed[-1].address))
            listed.append(line)
        return Page(listed, None)

    def _paged(self, caller: Caller, store: PagedStore, folder: Address, after: str | None, limit: int) -> Page:
        """As `page`, of a store that lists page by page."""
        self._require_entry(caller, folder)
        listed: list[Listed] = []
        last = None if after is None else _read(after)
        while True:
            try:
                some = store.page(folder, last, limit + 1)
            except Missing:
                raise Refusal("missing", f"there is no folder {folder} that you have access to") from None
            for address in some:
                line = self._line(caller, address)
                if line is not None and len(listed) == limit:
                    return Page(listed, str(listed[-1].address))
                if line is not None:
                    listed.append(line)
            if len(some) <= limit:
                return Page(listed, None)
            last = some[-1]

    def _addresses(
        self,
        caller: Caller,
        folder: Address | None,
        search: str | None = None,
        sort: str = "name",
        *,
        goes_on: bool = False,
    ) -> Sequence[Address]:
        """What is in a folder; `goes_on`: as it was a moment ago will do. Raises Refusal."""
        if folder is None:
            return [Address(name, "") for name in sorted(self.stores)]
        self._require_entry(caller, folder)
        now = time.monotonic()
        key = (folder, search, sort)
        known = self._listings.fresh(key, now, None) if goes_on else None
        if known is not None:
            return known
        store = self.stores[folder.store]
        found: Sequence[Address]
        try:
            if search:
                # Folders that the caller may not enter are not searched; the rest is decided file by file.
                found = searching.search(store, folder, search, lambda one: self.rules.may_enter(caller, one))
            else:
                found = store.list(folder)
        except Missing:
            raise Refusal("missing", f"there is no folder {folder} that you have access to") from None
        addresses = found if sort == "name" else searching.in_order(found, sort, self._at_hand)
        if len(addresses) > _LONG and not search:
            self._listings.keep_at(key, addresses, now)
        return addresses

    def _at_hand(self, address: Address) -> Found | None:
        """A file as a listing has it; None when it has vanished."""
        store = self.stores[address.store]
        try:
            return store.glance(address) if isinstance(store, GlancingStore) else store.locate(address)
        except Missing:
            return None

    def _require_entry(self, caller: Caller, folder: Address) -> None:
        """Raises Refusal, unless the caller may list a folder of a store that there is."""
        if self.rules.may_enter(caller, folder) and folder.store in self.stores:
            return
        if caller.recipient is None and caller.context is None and not self.rules.may_enter(caller, folder):
            raise Refusal("sign-in", f"{folder} is not open to everyone")
        raise Refusal("missing", f"there is no folder {folder} that you have access to")

    def _line(self, caller: Caller, address: Address) -> Listed | None:
        if address.folder:
            return Listed(address, None) if self.rules.may_enter(caller, address) else None
        if not self.rules.allows(caller, "list", address):
            return None
        found = self._at_hand(address)
        if found is None:  # it vanished since the folder was read
            return None
        if self.rules.looks_at_files and not self.rules.allows(caller, "list", address, found.facts):
            return None
        return Listed(address, found)

    def below(self, caller: Caller, folder: Address) -> Iterator[Found]:
        """Every file below a folder that the caller may see, each folder's own folders first.

        Raises:
            Refusal: `missing` or `sign-in`, for the folder itself.
        """
        store = self.stores.get(folder.store)
        if isinstance(store, WalkableStore):
            yield from self._walked(caller, folder, store)
            return
        for address in self._addresses(caller, folder):
            line = self._line(caller, address)
            if line is None:
                continue
            if line.found is None:
                yield from self.below(caller, address)
            else:
                yield line.found

    def _walked(self, caller: Caller, folder: Address, store: WalkableStore) -> Iterator[Found]:
        rules = self.rules
        self._require_entry(caller, folder)
        sure = rules.sure_below and rules.allows_below(caller, "list", folder)
        try:
            if sure:
                yield from store.walk(folder)
                return
            for found in store.walk(folder):
                facts = found.facts
                if rules.allows(caller, "list", facts.address, facts):
                    yield found
        except Missing:
            raise Refusal("missing", f"there is no folder {folder} that you have access to") from None

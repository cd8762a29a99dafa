"""Which threads plan an archive: those for a system that has files of it, or those for everything else.

A system that hangs, or gives its contents slowly, then keeps no archives waiting but those with files of it. Which
threads plan an archive is known once its bundle is. Whoever has its address alone begins with the threads for
everything else, which look the bundle up and hand it on.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from functools import partial
from typing import TypeVar

from invio.core.addresses import is_url
from invio.core.memory import Memory
from invio.delivery.sending.eager import in_pool
from invio.records.bundles import BundleRecord
from invio.stores.store import Store
from invio.workers.pool import Pool

T = TypeVar("T")

_BY_URL = ":"  # among the names of stores, of which none has it: files that are named by a URL
_KNOWN = 4096  # bundles of which it is known which threads plan them


class AnotherPool(Exception):
    """The threads of another pool are to plan the archive."""

    def __init__(self, pool: Pool) -> None:
        super().__init__(pool.name)
        self.pool = pool


class PlanningPools:
    """The threads that plan archives before they are sent."""

    def __init__(self, stores: Mapping[str, Store]) -> None:
        waiting = [name for name, store in stores.items() if store.waits]
        self._rest = Pool("archives", 8, waiting=200)
        self._pools = {name: Pool(f"archives-{name}", 8, waiting=60) for name in waiting}
        self._pools[_BY_URL] = Pool("archives-by-url", 8, waiting=60)
        self._known: Memory[str, Pool | None] = Memory(_KNOWN)  # by the bundle's id

    @property
    def all(self) -> list[Pool]:
        """The one for everything else first."""
        return [self._rest, *self._pools.values()]

    def of(self, record: BundleRecord) -> Pool | None:
        """The threads by which alone a bundle is to be planned; None: any, for it has no files of other systems."""
        return self._known[record.id] if record.id in self._known else self.look(record)

    def look(self, record: BundleRecord) -> Pool | None:
        """As `of`, by a look at every file; by a thread, so that `of` need not look."""
        stores = (_BY_URL if is_url(text) else text.partition("/")[0] for text in record.files)
        return self._known.keep(record.id, next((self._pools[name] for name in stores if name in self._pools), None))

    def require(self, record: BundleRecord, by: Pool | None) -> None:
        """Raises AnotherPool, unless threads of `by` (None: those for everything else) may plan the bundle."""
        pool = self.of(record)
        if pool is not None and pool is not by:
            raise AnotherPool(pool)

    async def run(self, work: Callable[..., T]) -> T:
        """Does work that begins with `require`; `by` tells it whose thread does it. Raises what `work` raises."""
        try:
            return await in_pool(self._rest, work)
        except AnotherPool as other:
            return await in_pool(other.pool, partial(work, by=other.pool))

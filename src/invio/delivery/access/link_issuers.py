"""Issuers of links: downloads by a link count towards the quotas of the recipient who had the service make it.

So nobody hands on more than they have. A link sealed with the key file directly is the operator's own.
"""

from __future__ import annotations

import time
from typing import cast

import sqlalchemy as sa

from invio.core.links.seals import SealedLink
from invio.core.memory import ExpiringMemory
from invio.delivery.sending.eager import in_pool
from invio.records.links import Maker, maker_of
from invio.workers.pool import Pool

# How long an answer is cached: a link with the same id may be made meanwhile. Seconds.
_GOOD_FOR = 2.0
_KNOWN = 4096  # links
_UNKNOWN = object()


class Makers:
    """Looks up who made a link, and remembers it."""

    def __init__(self, engine: sa.Engine, pool: Pool) -> None:
        """`pool` looks into the records."""
        self._engine, self._pool = engine, pool
        self._known: ExpiringMemory[str, Maker | None] = ExpiringMemory(_KNOWN, _GOOD_FOR)

    async def of(self, link: SealedLink) -> Maker | None:
        """Who had a link made, if it counts to their quotas."""
        link_id = link.summary.id
        if link_id is None:
            return None
        now = time.monotonic()
        known = self._known.fresh(link_id, now, _UNKNOWN)
        if known is _UNKNOWN:
            return self._known.keep_at(link_id, await in_pool(self._pool, self._read, link_id), now)
        return cast(Maker | None, known)

    def _read(self, link_id: str) -> Maker | None:
        with self._engine.connect() as connection:
            return maker_of(connection, link_id)

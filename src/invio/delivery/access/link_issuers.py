"""Issuers of links: downloads by a link count towards the quotas of the recipient who had the service make it.

Nobody hands on more than they have. A link that was sealed with the key file alone is the operator's own.
"""

from __future__ import annotations

import time

import sqlalchemy as sa

from invio.core.links.seals import SealedLink
from invio.delivery.sending.eager import in_thread
from invio.records.links import Maker, maker_of

# For how long an answer is good: a link of the same id may have been made meanwhile. Seconds.
_KEPT = 2.0
_KEPT_COUNT = 4096


class Makers:
    """Looks up who made a link, and remembers it."""

    def __init__(self, engine: sa.Engine) -> None:
        self._engine = engine
        self._kept: dict[str, tuple[float, Maker | None]] = {}

    async def of(self, link: SealedLink) -> Maker | None:
        """Who had a link made, if it counts to their quotas."""
        link_id = link.told.id
        if link_id is None:
            return None
        now = time.monotonic()
        kept = self._kept.get(link_id)
        if kept is not None and now - kept[0] < _KEPT:
            return kept[1]
        maker = await in_thread(self._read, link_id)
        if len(self._kept) >= _KEPT_COUNT:
            self._kept.clear()
        self._kept[link_id] = (now, maker)
        return maker

    def _read(self, link_id: str) -> Maker | None:
        with self._engine.connect() as connection:
            return maker_of(connection, link_id)

"""The transfers of this process: admitted, shown while they run, noted once a second, and settled."""

from __future__ import annotations

import asyncio

import sqlalchemy as sa

from invio.delivery.sending.acknowledgement import AcknowledgementMonitor
from invio.delivery.transfers.admission import Admission
from invio.delivery.transfers.limits import Limits
from invio.delivery.transfers.live import LiveTransfers
from invio.delivery.transfers.refusal_log import RefusedRequests
from invio.delivery.transfers.settlement import Settlement
from invio.records.journal import Journal
from invio.workers.shared import Sharing

# How often the records learn what has arrived of a transfer that is under way. Seconds.
NOTED_EVERY = 1.0
_AT_ONCE = 40  # transfers whose progress is written in one go


class Transfers:
    """What a delivery needs to account for: who admits, who settles, and what both look at."""

    def __init__(self, engine: sa.Engine, journal: Journal, limits: Limits, sharing: Sharing | None = None) -> None:
        self._journal = journal
        # Counted across processes where there is a limit to count for.
        self.live = LiveTransfers(None if limits.requests is None else sharing)
        self.watch = AcknowledgementMonitor(limits.idle)
        self.refused = RefusedRequests(journal)
        self.admission = Admission(engine, journal, limits, self.live, self.watch)
        self.settlement = Settlement(journal, limits, self.live)

    async def recorded(self) -> None:
        """Returns when everything that has ended so far is recorded."""
        await self.watch.arrivals()
        self.settlement.tell()
        await self._journal.call(lambda _: None)

    async def note_progress(self) -> None:
        """Tells the records what has arrived so far; takes a second. Raises SQLAlchemyError, as a checkpoint does."""
        lives = self.live.under_way()
        # A few at a time, spread over the second, so that other lines need not wait for a thousand.
        parts = [lives[at : at + _AT_ONCE] for at in range(0, len(lives), _AT_ONCE)] or [[]]
        for part in parts:
            await asyncio.sleep(NOTED_EVERY / len(parts))
            for live in part:
                if live.segments:
                    self._journal.write(live.now())
        self.settlement.tell()
        self.live.forget_rested()
        self.refused.next_second()
        await self._journal.checkpoint()

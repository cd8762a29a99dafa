"""Cancels transfers: at once where this process delivers them, through the records where another one does."""

from __future__ import annotations

from collections.abc import Sequence

import sqlalchemy as sa

from invio.delivery.transfers.live import LiveTransfers
from invio.records.journal import Journal
from invio.records.wishes import to_be_ended, wish_ended
from invio.workers.pool import Pool


class Endings:
    """Transfers that somebody wants to end."""

    def __init__(self, journal: Journal, board: LiveTransfers, engine: sa.Engine, pool: Pool) -> None:
        """`pool` has the threads that read the records."""
        self._journal = journal
        self._board = board
        self._engine = engine
        self._pool = pool

    async def end(self, transfer: str, by: str) -> bool:
        """Ends a transfer; false if another process delivers it, which is told within seconds.

        What has arrived stays; a caller with access may resume the rest.
        """
        if self._cut(transfer, by):
            return True
        await self._journal.call(lambda connection: wish_ended(connection, transfer, by))
        return False

    async def look(self) -> None:
        """Ends transfers of this process that other processes were asked to end. Call it regularly."""
        running = [live.row.id for live in self._board.under_way()]
        if not running:
            return
        for transfer, by in (await self._pool.run(self._wished, running)).items():
            self._cut(transfer, by)

    def _wished(self, running: Sequence[str]) -> dict[str, str]:
        with self._engine.connect() as connection:
            return to_be_ended(connection, running)

    def _cut(self, transfer: str, by: str) -> bool:
        """Breaks the connections of a running transfer; whether there were any."""
        segments = [segment for live in self._board.under_way() if live.row.id == transfer for segment in live.segments]
        for segment in segments:
            segment.meter.cut(f"ended by {by}")
        return bool(segments)

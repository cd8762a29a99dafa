"""Settlement: a request has ended; what arrived is recorded, and what was reserved and not used is given back."""

from __future__ import annotations

import time

from invio.core.http.replies import FROM_THE_START
from invio.delivery.transfers.limits import Limits
from invio.delivery.transfers.live import LiveTransfer, LiveTransfers, RequestProgress
from invio.records import quotas, transfer_requests
from invio.records.journal import Journal
from invio.records.rows import BROKEN_OFF, COMPLETE, HANDED_OFF, PARTIAL, TransferRow
from invio.records.transfer_requests import KEPT, EndedRequest

_TOLD_AT_ONCE = 500  # requests that are written down with each `tell`: it takes some milliseconds of everybody's
_TOLD_LATER = 5000  # that wait for the next one; of more, only their number is told


class Settlement:
    """Settles requests that have ended, and with the last one their transfer."""

    def __init__(self, journal: Journal, limits: Limits, board: LiveTransfers) -> None:
        self._journal = journal
        self._limits = limits
        self._board = board
        self._ended: list[EndedRequest] = []  # to be written down

    def hand_off(self, live: LiveTransfer, segment: RequestProgress) -> None:
        """Records that a front server, or the remote store, sends the content in our place."""
        self._board.leave(live, segment)
        if segment.claims:
            self._settle_quotas(live, segment, segment.claims[0].bytes)
        if live.segments:
            return
        row = live.now()
        row.state = HANDED_OFF
        self._journal.write(row)
        self._board.end(live, row)

    def settle(self, live: LiveTransfer, segment: RequestProgress, broken: str | None) -> None:
        """Records how a request of a transfer ended; `broken` says why its reply was not sent whole."""
        meter = segment.meter
        if broken is None and live.requests == 1 and segment.spans is FROM_THE_START and not segment.claims:
            row = live.row
            if row.size and meter.arrived == row.size:
                self._settle_whole(live, segment, row, row.size)
                return
        if broken is None and meter.arrived < meter.sent:
            broken = "the client left before it had taken everything"
        self._board.leave(live, segment)
        segment.add_to(live.arrived)
        self._note(live, segment, broken)
        if segment.claims:
            self._settle_quotas(live, segment, meter.at_most)
        live.broken = broken or live.broken
        if live.segments:
            return  # what it brought is told with the progress of the others
        row = live.now()
        if row.size is None and broken is None:
            row.size = row.covered  # a content that was made has its length at its end
        whole = row.size is not None and row.covered >= row.size
        row.state = COMPLETE if whole else BROKEN_OFF if live.broken else PARTIAL
        row.reason = None if whole else live.broken
        if row.state == PARTIAL and self._may_go_on(row, segment):
            self._board.unwritten[row.id] = row
        else:
            self._journal.write(row)
        self._board.end(live, row)

    def _settle_whole(self, live: LiveTransfer, segment: RequestProgress, row: TransferRow, size: int) -> None:
        """The most frequent case: a transfer of one request that arrived whole."""
        self._board.leave(live, segment)
        row.covered, row.coverage = size, [(0, size)]
        row.updated, row.state, row.reason, row.requests = time.time(), COMPLETE, None, 1
        self._journal.write_whole(row)
        self._board.end(live, row)

    def _may_go_on(self, row: TransferRow, segment: RequestProgress) -> bool:
        """Whether a further range can be sent without asking the records."""
        return row.link_id is None and not segment.claims and self._limits.recipient_transfers is None

    def _note(self, live: LiveTransfer, segment: RequestProgress, broken: str | None) -> None:
        """Queues a request's own line; for a transfer with very many requests, only the first ones."""
        if broken is None and live.requests == 1 and segment.spans is FROM_THE_START:
            return  # the transfer's own line says all of it
        if live.told >= KEPT or len(self._ended) >= _TOLD_LATER:
            return
        live.told += 1
        start, asked, arrived = segment.extent(live.row.size)
        reason = None if broken is None else broken[:200]
        self._ended.append(EndedRequest(live.row.id, segment.began, time.time(), start, asked, arrived, reason))

    def tell(self, *, everything: bool = False) -> None:
        """Writes partial transfers and ended requests to the records: some, or `everything`."""
        if self._ended:
            most = len(self._ended) if everything else _TOLD_AT_ONCE
            ended, self._ended = self._ended[:most], self._ended[most:]
            self._journal.note(lambda connection: transfer_requests.save(connection, ended))
        unwritten, self._board.unwritten = self._board.unwritten, {}
        for row in unwritten.values():
            self._journal.write(row)

    def _settle_quotas(self, live: LiveTransfer, segment: RequestProgress, taken: int) -> None:
        claims, transfer = segment.claims, live.row.id
        self._journal.note(lambda connection: quotas.give_back(connection, transfer, claims, taken))

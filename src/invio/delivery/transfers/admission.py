"""Admission: reserves what is limited, and makes the transfer durable, before its first byte is sent.

`admit` is for every request. `admit_whole` is for the most frequent one, the whole of a small content, whose caller
does not wait: a property test holds that both admit and refuse the same.

Two requests of one transfer may arrive at any moment. Orders of events that were considered:
- Both are ranges, and neither is recorded yet: the second finds the first one live, and waits for its line.
- The first ends while the second looks it up in the records: bytes that arrived by then are added again (`_now_has`).
- What the second would continue is refused, or ended by another process: it begins a transfer of its own.
- Another process began the same transfer meanwhile: the journal raises `Joined`, and both share one row.
"""

from __future__ import annotations

import asyncio
import logging
import time
from collections.abc import Callable, Sequence
from typing import NamedTuple

import sqlalchemy as sa

from invio.core.archive.plan import ArchiveContent
from invio.core.http.replies import Reply
from invio.core.progress import Coverage
from invio.core.reasons import Refusal
from invio.core.rules.quotas import Claim
from invio.delivery.sending.acknowledgement import AcknowledgementMonitor
from invio.delivery.sending.meter import Meter
from invio.delivery.transfers.exhausted import link_refusal, quota_refusal
from invio.delivery.transfers.keys import TransferKey, new_row
from invio.delivery.transfers.limits import Limits
from invio.delivery.transfers.link_reuse import OneUse
from invio.delivery.transfers.live import Key, LiveTransfer, LiveTransfers, RequestProgress
from invio.records import quotas
from invio.records.journal import Beginning, Joined, Journal
from invio.records.quotas import QuotaReached
from invio.records.rows import BROKEN_OFF, RUNNING, TransferRow, joined_to, principal_of
from invio.records.transfers import (
    ConcurrencyLimitReached,
    LinkExhausted,
    TransferGone,
    also_through,
    check_is_there,
    check_link_use,
    check_running,
    go_on,
    resumable,
)

log = logging.getLogger("invio.delivery")

_ADMITTED_WITHIN = 10.0  # seconds to wait for the admission of an earlier request
_LEFT_WITHIN = 1.0  # seconds to wait for the end of a request whose client is leaving
_SOON = 5  # seconds after which to ask again when a limit is reached

# A transfer that goes on, the request of it, and why it was not admitted.
Admitted = Callable[[LiveTransfer, RequestProgress, BaseException | None], None]


class _Content(NamedTuple):
    """What is asked for: `etag` is what the records know it by, `size` its bytes; `archive`, where it has entries."""

    key: Key
    etag: str | None
    size: int | None
    archive: ArchiveContent | None


class Admission:
    """Admits requests to transfers, and refuses those that a limit, a quota or a link's end keeps out."""

    def __init__(
        self, engine: sa.Engine, journal: Journal, limits: Limits, board: LiveTransfers, watch: AcknowledgementMonitor
    ) -> None:
        self._engine = engine
        self._journal = journal
        self._limits = limits
        self._board = board
        self._watch = watch
        self._one_use = OneUse()

    async def earlier(self, asking: TransferKey, etag: str | None, *, whole: bool = False) -> TransferRow | None:
        """The unfinished transfer that a request for a range continues.

        A request for the `whole` continues a transfer that broke off: browsers start over, and some programs request
        the whole, read its head and then request the missing ranges. A transfer that was handed off, or that ended with
        the requested ranges, did not break off; the whole is then another transfer, and another use of a link.
        """
        if etag is None:
            return None
        key = asking.joined_by(etag)
        live = self._board.find(key) or self._board.paused(key)
        if whole and live is not None:
            live = await self._left(live, key)
        if live is not None:
            return None if whole and (live.segments or live.row.state != BROKEN_OFF) else live.row

        if whole and not await self._journal.any_broken_off(asking.who):
            return None

        def find(connection: sa.Connection) -> TransferRow | None:
            return resumable(connection, asking.who, asking.address, etag, asking.tag)

        # Through the journal, after its waiting lines, so that a transfer that has just completed is not continued.
        row = await self._journal.call(find)
        return None if whole and row is not None and row.state != BROKEN_OFF else row

    async def _left(self, live: LiveTransfer, key: Key) -> LiveTransfer | None:
        """A transfer as it is once the clients that are leaving it have left.

        Whoever breaks off and begins anew at once must not find it running still: at a limited speed, its sender learns
        with the next piece that nobody is there, and a link for one use would be used up.
        """
        end = time.monotonic() + _LEFT_WITHIN
        found: LiveTransfer | None = live
        while found is not None and any(one.meter.leaving for one in found.segments) and time.monotonic() < end:
            await asyncio.sleep(0.005)
            found = self._board.find(key) or self._board.paused(key)
        return found

    async def admit(
        self,
        asking: TransferKey,
        reply: Reply,
        *,
        meter: Meter,
        etag: str | None,
        size: int | None,
        earlier: TransferRow | None,
        archive: ArchiveContent | None = None,
    ) -> tuple[LiveTransfer, RequestProgress]:
        """Records the transfer, durably, and shows it among the live ones.

        `etag` is what the records know the content by, and `size` its bytes; `earlier` the unfinished transfer that
        the request may go on with; `archive` the content, where it has entries.

        Raises:
            Refusal: `revoked` or `used-up`, for a sealed link whose id is counted or ended;
                `too-many` or `busy`, when a limit is reached; `unavailable`, when the records
                cannot be written.
        """
        segment = self._segment(asking, reply, meter)
        content = _Content(asking.joined_by(etag), etag, size, archive)
        # Ranges requested at the same time must find each other before the first of them has begun.
        joins = reply.status == 206 or earlier is not None
        if self._limits.recipient_transfers is not None or (joins and asking.link is not None):
            self._watch.look_for_arrivals()  # so that ended transfers do not count
        # Whether the records must be asked each time.
        asks = asking.counted()[0] is not None or _counts_bytes(segment.claims)
        live = None
        if joins:
            live, earlier = await self._under_way(asking, segment, content, earlier, asks=asks)
        if live is not None and live.durable and not asks:
            return self._joined(live, asking, segment)
        joined = await self._joins_one(asking, segment, content, live=live, earlier=earlier)
        return joined or await self._begins(asking, segment, content, joins=joins)

    async def _under_way(
        self,
        asking: TransferKey,
        segment: RequestProgress,
        content: _Content,
        earlier: TransferRow | None,
        *,
        asks: bool,
    ) -> tuple[LiveTransfer | None, TransferRow | None]:
        """The transfer that a request may go on with: one that runs here, or the line of an earlier one."""
        live = self._board.find(content.key)
        if asking.link is not None and asking.link.uses is not None:
            live = await self._admitted(live, content.key)
            live, earlier = self._one_use.joined(live, earlier, segment, content.size)
        if live is None and not asks and self._limits.recipient_transfers is None:
            live = self._board.resume(content.key)
            if live is not None:
                self._board.unwritten.pop(live.row.id, None)
        return live, earlier

    async def _joins_one(
        self,
        asking: TransferKey,
        segment: RequestProgress,
        content: _Content,
        *,
        live: LiveTransfer | None,
        earlier: TransferRow | None,
    ) -> tuple[LiveTransfer, RequestProgress] | None:
        """Goes on with a transfer, if there is one to go on with; None: the request begins one."""
        for _ in range(2):
            if live is None:
                if earlier is None:
                    break
                live = self._resumed(asking, content, earlier)
            try:
                return await self._joins(asking, segment, live, runs=earlier is None or earlier.state == RUNNING)
            except TransferGone:
                # What it was to go on with was refused, and it begins by itself; or it has become one more request of
                # a transfer of another process, and is on the board as that.
                live, earlier = self._board.find(content.key), None
                if live is not None and not live.durable:
                    live = None
        return None

    async def _begins(
        self, asking: TransferKey, segment: RequestProgress, content: _Content, *, joins: bool
    ) -> tuple[LiveTransfer, RequestProgress]:
        """Records a new transfer, unless the records know one of another process that this is a request of."""
        key, etag, size, archive = content
        row = new_row(asking, etag, size, None, self._journal.held_by)
        live = LiveTransfer(row, key, Coverage(), [], archive=archive)
        self._board.add(live)
        self._board.join(live, segment)
        try:
            try:
                await self._journal.begin(self._beginning(live, asking, segment, joins=joins))
                live.requests = max(live.requests, 1)
            except Joined as joined:
                self._board.rename(live, joined.row)
                self._now_has(live, joined.row)
        except BaseException as error:
            raise self._not_admitted(live, segment, error) from None
        live.durable = True
        self._goes_on_through(live.row, asking)
        return live, segment

    def _joined(
        self, live: LiveTransfer, asking: TransferKey, segment: RequestProgress
    ) -> tuple[LiveTransfer, RequestProgress]:
        """One more request of a transfer whose line is written, where there is nothing to ask the records.

        The records learn the number of requests with the progress.
        """
        self._board.join(live, segment)
        live.requests += 1
        self._goes_on_through(live.row, asking)
        return live, segment

    async def _admitted(self, live: LiveTransfer | None, key: Key) -> LiveTransfer | None:
        """A transfer once it is known whether it was admitted; None when it was not.

        Of simultaneous requests by a counted link, one continues the other, or neither begins.
        """
        end = time.monotonic() + _ADMITTED_WITHIN
        while live is not None and not live.durable and time.monotonic() < end:
            await asyncio.sleep(0.005)
            live = self._board.find(key)
        return live

    def _resumed(self, asking: TransferKey, content: _Content, earlier: TransferRow) -> LiveTransfer:
        """An earlier transfer, among the live ones again."""
        arrived = Coverage((start, stop) for start, stop in earlier.coverage)
        row = new_row(asking, content.etag, content.size, earlier, self._journal.held_by)
        live = LiveTransfer(row, content.key, arrived, [], archive=content.archive)
        self._board.add(live)
        return live

    async def _joins(
        self, asking: TransferKey, segment: RequestProgress, live: LiveTransfer, *, runs: bool
    ) -> tuple[LiveTransfer, RequestProgress]:
        """One more request of a transfer, once the records say so. Raises TransferGone; Refusal as `admit`."""
        self._board.join(live, segment)
        try:
            await self._go_on(live, asking, segment.claims, runs=runs)
        except BaseException as error:
            raise self._not_admitted(live, segment, error) from None
        live.durable = True
        self._goes_on_through(live.row, asking)
        return live, segment

    def admit_whole(
        self, asking: TransferKey, reply: Reply, meter: Meter, etag: str | None, on_admitted: Admitted
    ) -> None:
        """Like `admit`, for a whole content and a caller that does not wait.

        `on_admitted` is called in a later turn of the event loop, with what `admit` would have given, and what
        it would have raised or None.

        Raises:
            Refusal: `busy`.
        """
        segment = self._segment(asking, reply, meter)
        key = asking.joined_by(etag)
        row = new_row(asking, etag, reply.length, None, self._journal.held_by)
        if self._limits.recipient_transfers is None:
            row.requests = 0  # nobody counts it before it has ended
        live = LiveTransfer(row, key, Coverage(), [], requests=1)
        self._board.add(live)
        self._board.join(live, segment)

        def written(error: BaseException | None) -> None:
            live.durable = error is None
            on_admitted(live, segment, None if error is None else self._not_admitted(live, segment, error))

        self._journal.begin_and_tell(written, self._beginning(live, asking, segment))

    def _segment(self, asking: TransferKey, reply: Reply, meter: Meter) -> RequestProgress:
        most = self._limits.requests
        if most is not None and self._board.requests_everywhere >= most:
            self._watch.look_for_arrivals()
            if self._board.requests_everywhere >= most:
                raise Refusal("busy", "the service has reached its limit of downloads at once", retry_after=_SOON)
        claims = asking.claims(reply.length) if asking.quotas else ()
        return RequestProgress(meter, reply.spans, claims, time.time())

    def _beginning(
        self, live: LiveTransfer, asking: TransferKey, segment: RequestProgress, *, joins: bool = False
    ) -> Beginning:
        """What the journal writes at the beginning of a transfer."""
        counts, limit = asking.counted()
        return Beginning(live.row, counts, limit, self._limits.recipient_transfers, segment.claims, joins)

    def _not_admitted(self, live: LiveTransfer, segment: RequestProgress, error: BaseException) -> BaseException:
        """Removes a request that the records refused from the live ones; returns the error for its caller."""
        self._board.leave(live, segment)
        if not live.segments:
            self._board.drop(live)
        if isinstance(error, LinkExhausted):
            return link_refusal(error)
        if isinstance(error, QuotaReached):
            return quota_refusal(error, principal_of(live.row.who))
        if isinstance(error, ConcurrencyLimitReached):
            said = f"at most {self._limits.recipient_transfers} files at once"
            return Refusal("too-many", said, retry_after=_SOON)
        if isinstance(error, sa.exc.SQLAlchemyError):
            return Refusal("unavailable", "the records cannot be written at present")
        return error

    def _goes_on_through(self, row: TransferRow, asking: TransferKey) -> None:
        """Records in the history that a transfer continues by another credential or from another network."""
        credential, network = asking.credential, asking.network
        before = row.credential, row.network
        if before == (credential, network):
            return
        row.credential, row.network = joined_to(row.credential, credential), joined_to(row.network, network)
        if before != (row.credential, row.network):
            self._journal.note(lambda connection: also_through(connection, row.id, credential, network))

    async def _go_on(self, live: LiveTransfer, asking: TransferKey, claims: Sequence[Claim], *, runs: bool) -> None:
        """Continues a transfer: without counting another use or file; a revoked link cannot resume."""
        link_id, _ = asking.counted()
        most = self._limits.recipient_transfers

        def work(connection: sa.Connection) -> TransferRow:
            if link_id is not None:
                check_link_use(connection, link_id, None)
            if most is not None and not runs:
                check_running(connection, asking.principal, most)
            check_is_there(connection, live.row.id)
            quotas.reserve(connection, live.row.id, claims, begins=False)
            return go_on(connection, live.row.id, live.requests, self._journal.held_by)

        # A request that ended since the earlier one was looked up may have brought more.
        self._now_has(live, await self._journal.call(work))

    @staticmethod
    def _now_has(live: LiveTransfer, row: TransferRow) -> None:
        """The records' row of a transfer is this one; others may have joined meanwhile."""
        live.row = row
        live.requests = max(live.requests + 1, row.requests)
        for start, stop in row.coverage:
            live.arrived.add(start, stop)


def _counts_bytes(claims: Sequence[Claim]) -> bool:
    return bool(claims) and any(claim.quota.bytes is not None for claim in claims)

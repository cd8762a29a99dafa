"""Admission and settlement: a transfer is durable before its first byte, and ends with what arrived."""

from __future__ import annotations

import asyncio
import logging
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace

import sqlalchemy as sa

from invio.core.archive.plan import ArchiveContent
from invio.core.http.replies import FROM_THE_START, Reply
from invio.core.links.seals import SealedLink
from invio.core.progress import Coverage
from invio.core.reasons import Refusal
from invio.core.rules.quotas import Claim, Quota
from invio.delivery.sending.acknowledgement import AcknowledgementMonitor
from invio.delivery.sending.eager import in_thread
from invio.delivery.sending.meter import Meter
from invio.delivery.transfers.exhausted import link_refusal, quota_refusal
from invio.delivery.transfers.limits import Limits
from invio.delivery.transfers.link_reuse import OneUse
from invio.delivery.transfers.live import Key, LiveTransfer, LiveTransfers, RequestProgress
from invio.delivery.transfers.refusal_log import RefusedRequests
from invio.records import quotas
from invio.records.journal import Joined, Journal
from invio.records.quotas import QuotaReached
from invio.records.rows import (
    BROKEN_OFF,
    COMPLETE,
    HANDED_OFF,
    PARTIAL,
    RUNNING,
    TransferRow,
    joined_to,
    new_transfer_id,
    principal_of,
)
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

# How often the records learn what has arrived of a transfer that is under way. Seconds.
NOTED_EVERY = 1.0
_AT_ONCE = 40  # transfers whose progress is written in one go
_ADMITTED_WITHIN = 10.0  # seconds for which a request waits for another one to be let begin
_SOON = 5  # seconds after which to ask again when a limit is reached


# What a transfer is shown by on the board, the request of it, and why it was not let begin.
Admitted = Callable[[LiveTransfer, RequestProgress, BaseException | None], None]


@dataclass(slots=True)
class TransferKey:
    """Who asks for what: what a transfer is recorded and joined by.

    `principal` is whose limits hold: a recipient or a network address. `who` is what requests of one transfer
    have in common: the principal and, by a link, that link.
    """

    who: str
    address: str
    recipient: str | None
    network: str | None
    link: SealedLink | None = None
    quotas: Mapping[Quota, int] = field(default_factory=dict)  # those that hold, and how many files it is to each
    version: int | None = None
    credential: str | None = None
    decided_by: str | None = None
    quota_owner: str | None = None  # whose quotas they are, where that is not the principal
    principal: str = ""

    @property
    def tag(self) -> str | None:
        return self.link.summary.tag if self.link else None


class Transfers:
    """The transfers of this process: begun, joined, noted and settled."""

    def __init__(self, engine: sa.Engine, journal: Journal, limits: Limits) -> None:
        self._engine = engine
        self._journal = journal
        self._limits = limits
        self.board = LiveTransfers()
        self.watch = AcknowledgementMonitor(limits.idle)
        self.refused = RefusedRequests(journal)
        self._one_use = OneUse()
        # Transfers that were left partial a moment ago, by id: the next range, which may follow at once, goes on.
        self._untold: dict[str, TransferRow] = {}

    async def earlier(self, asking: TransferKey, etag: str | None) -> TransferRow | None:
        """The unfinished transfer that a request for a range goes on with."""
        if etag is None:
            return None
        key = (asking.who, asking.address, etag, asking.tag)
        live = self.board.find(key) or self.board.paused(key)
        if live is not None:
            return live.row

        def find(connection: sa.Connection) -> TransferRow | None:
            return resumable(connection, asking.who, asking.address, etag, asking.tag)

        # By the journal, after the lines that wait in it: what has just ended complete is not gone on with.
        return await self._journal.call(find)

    async def admit(
        self,
        asking: TransferKey,
        reply: Reply,
        meter: Meter,
        etag: str | None,
        size: int | None,
        earlier: TransferRow | None,
        archive: ArchiveContent | None = None,
    ) -> tuple[LiveTransfer, RequestProgress]:
        """Records the transfer, durably, and shows it on the board.

        Raises:
            Refusal: `revoked` or `used-up`, for a sealed link whose id is counted or ended;
                `too-many` or `busy`, when a limit is reached; `unavailable`, when the records
                cannot be written.
        """
        segment = self._segment(asking, reply, meter)
        key = (asking.who, asking.address, etag, asking.tag)
        # Segments that are asked for at once look for each other before the first of them has begun.
        joins = reply.status == 206
        if self._limits.recipient_transfers is not None or (joins and asking.link is not None):
            self.watch.look_for_arrivals()  # what has ended is not to stand in the way
        live = self.board.find(key) if joins else None
        if asking.link is not None and asking.link.uses is not None and joins:
            live = await self._admitted(live, key)
            live, earlier = self._one_use.joined(live, earlier, segment, size)
        # Whether the records have a say each time.
        asks = _counted(asking.link)[0] is not None or _counts_bytes(segment.claims)
        if live is None and joins and not asks and self._limits.recipient_transfers is None:
            live = self.board.resume(key)
            if live is not None:
                self._untold.pop(live.row.id, None)
        for _ in range(2):
            if live is None and earlier is None:
                break
            try:
                return await self._joins(live, earlier, asking, segment, key, etag, size, archive)
            except TransferGone:
                # What it was to go on with was refused, and it begins by itself; or it has become one more request of
                # a transfer of another process, and is on the board as that.
                live, earlier = self.board.find(key), None
                if live is not None and not live.durable:
                    live = None
        live = LiveTransfer(_row(asking, etag, size, None, self._journal.held_by), key, Coverage(), [], archive=archive)
        self.board.add(live)
        self.board.join(live, segment)
        try:
            try:
                await self._journal.begin(*self._line(live, asking, segment), joins=joins)
                live.requests = max(live.requests, 1)
            except Joined as joined:
                self.board.rename(live, joined.row)
                self._now_has(live, joined.row)
        except BaseException as error:
            raise self._not_admitted(live, segment, error) from None
        live.durable = True
        self._goes_on_through(live.row, asking)
        return live, segment

    async def _admitted(self, live: LiveTransfer | None, key: Key) -> LiveTransfer | None:
        """A transfer once it is known whether it was let begin; None when it was not.

        Of requests that come at once by a link that counts its uses, one is to go on with the other, or neither.
        """
        end = time.monotonic() + _ADMITTED_WITHIN
        while live is not None and not live.durable and time.monotonic() < end:
            await asyncio.sleep(0.005)
            live = self.board.find(key)
        return live

    async def _joins(
        self,
        live: LiveTransfer | None,
        earlier: TransferRow | None,
        asking: TransferKey,
        segment: RequestProgress,
        key: Key,
        etag: str | None,
        size: int | None,
        archive: ArchiveContent | None,
    ) -> tuple[LiveTransfer, RequestProgress]:
        """Like `admit`, for one more request of a transfer. Raises TransferGone as well."""
        asks = _counted(asking.link)[0] is not None or _counts_bytes(segment.claims)
        if live is None:
            assert earlier is not None
            arrived = Coverage((start, stop) for start, stop in earlier.coverage)
            row = _row(asking, etag, size, earlier, self._journal.held_by)
            live = LiveTransfer(row, key, arrived, [], archive=archive)
            self.board.add(live)
        self.board.join(live, segment)
        if live.durable and not asks:
            # Its line is written, and there is nothing to ask the records; how often it was asked for
            # is told to them with its progress.
            live.requests += 1
            self._goes_on_through(live.row, asking)
            return live, segment
        try:
            runs = earlier is None or earlier.state == RUNNING
            await self._go_on(live, asking, segment.claims, runs)
        except BaseException as error:
            raise self._not_admitted(live, segment, error) from None
        live.durable = True
        self._goes_on_through(live.row, asking)
        return live, segment

    def admit_whole(
        self, asking: TransferKey, reply: Reply, meter: Meter, etag: str | None, on_admitted: Admitted
    ) -> None:
        """Like `admit`, for an answer that is the whole of its content, and a caller that does not wait.

        `on_admitted` is called in a later turn of the event loop, with what `admit` would have given, and what
        it would have raised or None.

        Raises:
            Refusal: `busy`.
        """
        segment = self._segment(asking, reply, meter)
        key = (asking.who, asking.address, etag, asking.tag)
        row = _row(asking, etag, reply.length, None, self._journal.held_by)
        if self._limits.recipient_transfers is None:
            row.requests = 0  # nobody looks for it before it has ended
        live = LiveTransfer(row, key, Coverage(), [], requests=1)
        self.board.add(live)
        self.board.join(live, segment)

        def written(error: BaseException | None) -> None:
            live.durable = error is None
            on_admitted(live, segment, None if error is None else self._not_admitted(live, segment, error))

        self._journal.begin_and_tell(written, *self._line(live, asking, segment))

    def _segment(self, asking: TransferKey, reply: Reply, meter: Meter) -> RequestProgress:
        most = self._limits.requests
        if most is not None and self.board.requests >= most:
            self.watch.look_for_arrivals()
            if self.board.requests >= most:
                raise Refusal("busy", "the service has reached its limit of downloads at once", retry_after=_SOON)
        return RequestProgress(meter, reply.spans, _claims(asking, reply) if asking.quotas else ())

    def _line(
        self, live: LiveTransfer, asking: TransferKey, segment: RequestProgress
    ) -> tuple[TransferRow, str | None, int | None, int | None, Sequence[Claim]]:
        """What the journal writes at the beginning of a transfer."""
        return live.row, *_counted(asking.link), self._limits.recipient_transfers, segment.claims

    def _not_admitted(self, live: LiveTransfer, segment: RequestProgress, error: BaseException) -> BaseException:
        """Takes a request off the board that the records did not take; gives what its caller is told."""
        self.board.leave(live, segment)
        if not live.segments:
            self.board.drop(live)
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
        """Has the history tell by what else, or from where else, a transfer goes on."""
        credential, network = asking.credential, asking.network
        before = row.credential, row.network
        if before == (credential, network):
            return
        row.credential, row.network = joined_to(row.credential, credential), joined_to(row.network, network)
        if before != (row.credential, row.network):
            self._journal.note(lambda connection: also_through(connection, row.id, credential, network))

    async def _go_on(self, live: LiveTransfer, asking: TransferKey, claims: Sequence[Claim], runs: bool) -> None:
        """A resumed transfer counts no further use of a link and no further file; a revoked link does not resume."""
        link_id, _ = _counted(asking.link)
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

    async def check_link(self, link: SealedLink) -> None:
        """For answers that deliver nothing: whether the link's id has ended.

        Raises:
            Refusal: `revoked` or `used-up`.
        """
        link_id, uses = _counted(link)
        if link_id is None:
            return
        try:
            await in_thread(self._check, link_id, uses)
        except LinkExhausted as spent:
            raise link_refusal(spent) from None

    def _check(self, link_id: str, uses: int | None) -> None:
        with self._engine.connect() as connection:
            check_link_use(connection, link_id, uses)

    def hand_off(self, live: LiveTransfer, segment: RequestProgress) -> None:
        """Records that a front server, or the remote store, sends the content in our place."""
        self.board.leave(live, segment)
        self._settle_quotas(live, segment, sum(claim.bytes for claim in segment.claims[:1]))
        if live.segments:
            return
        row = live.now()
        row.state = HANDED_OFF
        self._journal.write(row)
        self.board.end(live, row)

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
        self.board.leave(live, segment)
        segment.add_to(live.arrived)
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
            self._untold[row.id] = row
        else:
            self._journal.write(row)
        self.board.end(live, row)

    def _settle_whole(self, live: LiveTransfer, segment: RequestProgress, row: TransferRow, size: int) -> None:
        """What nearly all are: a transfer of one request, all of which has arrived."""
        self.board.leave(live, segment)
        row.covered, row.coverage = size, [(0, size)]
        row.updated, row.state, row.reason, row.requests = time.time(), COMPLETE, None, 1
        self._journal.write_whole(row)
        self.board.end(live, row)

    def _may_go_on(self, row: TransferRow, segment: RequestProgress) -> bool:
        """Whether a further range is sent without asking the records."""
        return row.link_id is None and not segment.claims and self._limits.recipient_transfers is None

    def tell(self) -> None:
        """Has the records be told of what was left partial."""
        untold, self._untold = self._untold, {}
        for row in untold.values():
            self._journal.write(row)

    async def recorded(self) -> None:
        """Returns when the records know what has ended so far."""
        await self.watch.arrivals()
        self.tell()
        await self._journal.call(lambda _: None)

    def _settle_quotas(self, live: LiveTransfer, segment: RequestProgress, taken: int) -> None:
        claims, transfer = segment.claims, live.row.id
        if claims:
            self._journal.note(lambda connection: quotas.give_back(connection, transfer, claims, taken))

    async def note_progress(self) -> None:
        """Tells the records what has arrived so far; takes a second. Raises SQLAlchemyError, as a checkpoint does."""
        lives = self.board.under_way()
        # A few at a time, over all of the second: what comes meanwhile does not wait for a thousand.
        parts = [lives[at : at + _AT_ONCE] for at in range(0, len(lives), _AT_ONCE)] or [[]]
        for part in parts:
            await asyncio.sleep(NOTED_EVERY / len(parts))
            for live in part:
                if live.segments:
                    self._journal.write(live.now())
        self.tell()
        self.board.forget_rested()
        self.refused.next_second()
        await self._journal.checkpoint()


def _row(
    asking: TransferKey, etag: str | None, size: int | None, earlier: TransferRow | None, held_by: int | None
) -> TransferRow:
    now = time.time()
    if earlier is not None:
        return replace(earlier, state=RUNNING, reason=None, updated=now)
    says = asking.link.summary if asking.link else None
    return TransferRow(
        id=new_transfer_id(now),
        who=asking.who,
        address=asking.address,
        started=now,
        updated=now,
        recipient=asking.recipient,
        link_id=says.id if says else None,
        via=says.via[:200] if says and says.via else None,
        tag=says.tag if says else None,
        network=asking.network,
        etag=etag,
        size=size,
        version=asking.version,
        credential=asking.credential,
        decided_by=asking.decided_by,
        made_for=says.to if says else None,
        held_by=held_by,
    )


def _counted(link: SealedLink | None) -> tuple[str | None, int | None]:
    """A link's id and how many downloads it allows; None where there is none."""
    if link is None:
        return None, None
    return link.summary.id, link.summary.uses


def _counts_bytes(claims: Sequence[Claim]) -> bool:
    return bool(claims) and any(claim.quota.bytes is not None for claim in claims)


def _claims(asking: TransferKey, reply: Reply) -> list[Claim]:
    """What a request takes of the quotas that hold; of a content that is made, nobody knows the length."""
    who = asking.quota_owner or asking.principal
    return [Claim(quota, files, reply.length or 0, who) for quota, files in asking.quotas.items()]

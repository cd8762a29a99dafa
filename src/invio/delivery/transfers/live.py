"""Live transfers: those that this process is delivering now, and those that just ended.

A delivery does no extra work for this: the meters are read only when somebody asks.
"""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from itertools import takewhile

from invio.core.archive.plan import ArchiveContent
from invio.core.http.multipart import Span
from invio.core.http.replies import FROM_THE_START
from invio.core.meter import ProgressMeter
from invio.core.progress import Coverage
from invio.core.rules.quotas import Claim
from invio.delivery.sending.meter import Meter
from invio.delivery.transfers.states import Entries, TransferState
from invio.records.rows import PARTIAL, RUNNING, TransferRow
from invio.workers.shared import Sharing

# Those that ended within one look of whoever watches: small files, thousands a second.
_RECENT = 2048
_REQUESTS = "requests"  # what worker processes count them by
_LOOKED_FOR = 0.2  # seconds for which one look at all that is running serves all who watch
# For how long a transfer whose requests all ended is at hand for the next one, without asking the records.
_RESTS = 2.0  # seconds

# What requests are joined by: who, address, entity tag, and the tag that a link gives its transfer.
Key = tuple[str, str, str | None, str | None]


@dataclass(slots=True, eq=False)
class RequestProgress:
    """One request of a transfer; `spans` tell which bytes of its body are which of the content."""

    meter: Meter
    spans: tuple[Span, ...]
    claims: Sequence[Claim] = ()  # what is reserved for it
    began: float = 0.0  # Unix seconds

    def meets(self, spans: tuple[Span, ...]) -> bool:
        """Whether it sends something of what other `spans` are."""
        return any(
            start < other + count and other < start + length
            for _, start, length in self.spans
            for _, other, count in spans
        )

    def extent(self, size: int | None) -> tuple[int, int | None, int]:
        """Where it begins, how many bytes it is of, and how many of them have arrived; `size` is the content's."""
        got = self.meter.arrived
        start = min(start for _, start, _ in self.spans)
        arrived = sum(min(length, max(0, got - at)) for at, _, length in self.spans)
        if self.spans is FROM_THE_START:
            return start, size, arrived
        return start, sum(length for _, _, length in self.spans), arrived

    def add_to(self, coverage: Coverage) -> None:
        """Adds what has arrived of the content."""
        arrived = self.meter.arrived
        for at, start, length in self.spans:
            coverage.add(start, start + min(length, max(0, arrived - at)))


@dataclass(slots=True, eq=False)
class LiveTransfer:
    """A transfer with requests under way. `arrived` is what requests that ended have brought."""

    row: TransferRow
    key: Key
    arrived: Coverage
    segments: list[RequestProgress]
    requests: int = 0  # how many there were for it, as far as this process and the records told it know
    durable: bool = False  # whether the records know of it
    broken: str | None = None  # why the last request broke off that did
    speed: ProgressMeter | None = None  # from the first look at it on
    archive: ArchiveContent | None = None  # what it is of, when that has entries
    estimate: int | None = None  # bytes that there are, about, where nobody knows
    told: int = 0  # requests of it that were written down one by one

    def state(self, now: float) -> TransferState:
        """The transfer as it stands at `now`, on the steady clock."""
        row = self.now()
        if self.speed is None:
            self.speed = ProgressMeter()
        self.speed.sample(now, row.covered)
        return TransferState(
            row, self.speed.rate(now), self.speed.mean(now), _entries(row, self.archive), self.estimate
        )

    def now(self) -> TransferRow:
        """The transfer's row, brought up to date."""
        coverage = self.arrived
        if self.segments:
            coverage = coverage.copy()
            for segment in self.segments:
                segment.add_to(coverage)
        row = self.row
        row.covered, row.coverage = coverage.total, coverage.ranges
        row.updated = time.time()
        row.requests = max(row.requests, self.requests)
        return row


def _entries(row: TransferRow, archive: ArchiveContent | None) -> Entries | None:
    """How many entries of an archive have arrived, and which one is next."""
    if archive is None:
        return None
    places = archive.places
    done = sum(places.whole_within(start, stop) for start, stop in row.coverage)
    begun = row.coverage[0][1] if row.coverage and not row.coverage[0][0] else 0
    place = places.ended_by(begun)
    name = archive.name_of(place) if place < len(places) else None
    return Entries(len(places), done, name or None)


class LiveTransfers:
    """Running transfers by id, and, while somebody watches, the last that ended, numbered as they did."""

    def __init__(self, sharing: Sharing | None = None) -> None:
        """`sharing` counts the requests that are under way in all worker processes."""
        self._sharing = sharing
        self._running: dict[str, LiveTransfer] = {}
        self._by_key: dict[Key, LiveTransfer] = {}
        self._resting: dict[Key, tuple[float, LiveTransfer]] = {}  # the longest resting first
        self._ended: deque[tuple[int, TransferState]] = deque(maxlen=_RECENT)
        self._watchers = 0
        self._count = 0
        self.requests = 0  # under way
        # Left partial a moment ago, by id, and not written yet: the next range, which may follow at once, goes on.
        self.unwritten: dict[str, TransferRow] = {}
        self._looked = 0.0
        self._snapshot: list[TransferState] = []

    @property
    def count(self) -> int:
        """How many transfers have ended since the start; where `ended_since` goes on from."""
        return self._count

    @property
    def requests_everywhere(self) -> int:
        """How many requests are under way in all worker processes."""
        return self.requests if self._sharing is None else self._sharing.total(_REQUESTS)

    def add(self, live: LiveTransfer) -> None:
        """A transfer begins, or goes on; what rested of it goes on as this."""
        self._running[live.row.id] = live
        self._by_key[live.key] = live
        self._resting.pop(live.key, None)

    def find(self, key: Key) -> LiveTransfer | None:
        """The running transfer that a further request for the same content belongs to."""
        return self._by_key.get(key)

    def join(self, live: LiveTransfer, segment: RequestProgress) -> None:
        """One more request of a transfer is under way."""
        live.segments.append(segment)
        self.requests += 1
        if self._sharing is not None:
            self._sharing.add(_REQUESTS, 1)

    def leave(self, live: LiveTransfer, segment: RequestProgress) -> None:
        """One request less is; what it brought is not counted here."""
        live.segments.remove(segment)
        self.requests -= 1
        if self._sharing is not None:
            self._sharing.add(_REQUESTS, -1)

    def paused(self, key: Key) -> LiveTransfer | None:
        """A transfer that still lacks something, and whose last request ended just now."""
        rested = self._resting.get(key)
        return None if rested is None or time.monotonic() - rested[0] > _RESTS else rested[1]

    def resume(self, key: Key) -> LiveTransfer | None:
        """Puts a resting transfer back among the running ones."""
        live = self.paused(key)
        if live is not None:
            # A row of its own: the one before may be waiting to be written, and be shown as it ended.
            live.row = live.row.copy()
            live.row.state, live.row.reason = RUNNING, None
            self.add(live)
        return live

    def rename(self, live: LiveTransfer, row: TransferRow) -> None:
        """A transfer goes on under the row that another process began it with."""
        self._running.pop(live.row.id, None)
        live.row = row
        self._running[row.id] = live

    def drop(self, live: LiveTransfer) -> None:
        """Takes a transfer off the board."""
        self._running.pop(live.row.id, None)
        if self._by_key.get(live.key) is live:
            del self._by_key[live.key]

    def end(self, live: LiveTransfer, row: TransferRow) -> None:
        """Takes a transfer off the board and keeps how it ended for those who watch."""
        self.drop(live)
        self._count += 1
        if self._watchers:
            rate = None if live.speed is None else live.speed.rate(time.monotonic())
            self._ended.append((self._count, TransferState(row, rate)))
        if row.state == PARTIAL:
            self._resting.pop(live.key, None)
            self._resting[live.key] = (time.monotonic(), live)

    @contextmanager
    def watching(self) -> Iterator[None]:
        """Somebody watches: what ends meanwhile is kept for `ended_since`."""
        self._watchers += 1
        try:
            yield
        finally:
            self._watchers -= 1
            if not self._watchers:
                self._ended.clear()

    def forget_rested(self) -> None:
        """Lets go of what has rested for too long."""
        end = time.monotonic() - _RESTS
        while self._resting and (first := next(iter(self._resting.items())))[1][0] < end:
            del self._resting[first[0]]

    def running(self, may_see: Callable[[TransferRow], bool]) -> list[TransferState]:
        """Those transfers that `may_see` lets through, as they stand now."""
        now = time.monotonic()
        return [live.state(now) for live in list(self._running.values()) if may_see(live.row)]

    def snapshot(self) -> list[TransferState]:
        """All running transfers, as they stood a moment ago: one look serves all who watch."""
        now = time.monotonic()
        if now - self._looked > _LOOKED_FOR:
            self._looked = now
            # Before the records know of it, it may yet turn out to be one that another process has begun.
            self._snapshot = [live.state(now) for live in list(self._running.values()) if live.durable]
        return self._snapshot

    def addresses(self) -> set[str]:
        """What is being delivered, or was a moment ago while somebody watches."""
        return {live.row.address for live in self._running.values()} | {one.row.address for _, one in self._ended}

    def under_way(self) -> list[LiveTransfer]:
        """Every running transfer that the records know of."""
        return [live for live in self._running.values() if live.durable]

    def ended_since(self, count: int) -> list[TransferState]:
        """Those that ended after the first `count`, while somebody watches, with the rate that they had last."""
        newer = takewhile(lambda one: one[0] > count, reversed(self._ended))
        return [state for _, state in newer][::-1]

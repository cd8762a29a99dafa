"""One use of a link is one download: which transfer a further request by a counted link may continue."""

from __future__ import annotations

from invio.core.memory import Memory
from invio.core.progress import MOST_RANGES, Coverage
from invio.delivery.transfers.live import LiveTransfer, RequestProgress
from invio.records.rows import TransferRow

_TRANSFERS = 10_000  # of which it is known at once


class OneUse:
    """Knows how many bytes of each transfer by such a link were downloaded again."""

    def __init__(self) -> None:
        self._again: Memory[str, int] = Memory(_TRANSFERS)  # bytes that were asked for although they had arrived

    def joined(
        self, live: LiveTransfer | None, earlier: TransferRow | None, segment: RequestProgress, size: int | None
    ) -> tuple[LiveTransfer | None, TransferRow | None]:
        """The transfer this request continues without counting as another use.

        No bytes are sent to two clients at once. At most half of the file may be downloaded again, for what the client
        lost; more than that counts as another use.
        """
        if live is not None:
            for other in live.segments:
                if other.meets(segment.spans):
                    other.meter.cut("another request went on with it")
        if live is None and earlier is None:
            return None, None
        arrived = Coverage() if earlier is None else Coverage((start, stop) for start, stop in earlier.coverage)
        if live is not None:
            for other in live.segments:
                other.add_to(arrived)
            for start, stop in live.arrived.ranges:
                arrived.add(start, stop)
        transfer = live.row.id if live is not None else earlier.id if earlier is not None else ""
        again = sum(arrived.overlap(start, start + length) for _, start, length in segment.spans)
        before = self._again.pop(transfer, 0)
        joins = size is not None and before + again <= size // 2 and len(arrived.ranges) < MOST_RANGES - 1
        self._again.keep(transfer, before + again if joins else before)
        return (live, earlier) if joins else (None, None)

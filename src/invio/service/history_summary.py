"""The history in sums, by the same filters and for the same eyes as its lines."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import asdict
from functools import partial
from typing import Annotated

from fastapi import Query

from invio.delivery.sending.eager import in_pool
from invio.delivery.transfers.summary import Summary
from invio.records.history import pages
from invio.records.rows import TransferRow
from invio.service.dependencies import TheCaller, TheParts
from invio.service.history import HistoryFilter
from invio.service.operating_schemas import DayShape, HistorySummary, RefusalShape, ShareShape
from invio.service.routes import Routes
from invio.service.transfers import TransferVisibility

routes = Routes("history")
_MOST = 200_000  # lines that one answer sums up


@routes.get("/api/history/summary", summary="How much was had, of what, by whom, and what was refused")
async def get_history_summary(
    caller: TheCaller, parts: TheParts, wanted: Annotated[HistoryFilter, Query()]
) -> HistorySummary:
    """Sums over the lines of `/api/history`, for the same callers; of very many lines, over the newest."""
    sight = TransferVisibility(parts, caller)
    if sight.nothing:
        return _shape(Summary(), whole=True)
    await sight.prefetch(parts.transfers.live.addresses())
    await parts.transfers.recorded()
    manages = wanted.address is not None and await sight.manages(wanted.address)
    found = pages(parts.engine, wanted.filters(sight.scope, manages=manages))
    summary, whole = await in_pool(
        parts.pools.history,
        partial(_summed, found, sight, manages=manages, zone=wanted.zone),
        whose=caller.principal,
    )
    return _shape(summary, whole=whole)


def _summed(
    found: Iterable[list[TransferRow]],
    sight: TransferVisibility,
    *,
    manages: bool,
    zone: int,
) -> tuple[Summary, bool]:
    summary, looked = Summary(zone), 0
    for page in found:
        if looked >= _MOST:
            return summary, False
        looked += len(page)
        for row in page:
            if manages or sight(row):
                summary.add(row)
    return summary, True


def _shape(summary: Summary, *, whole: bool) -> HistorySummary:
    return HistorySummary(
        lines=summary.lines,
        whole=whole,
        days=[DayShape(day=day, **asdict(counted)) for day, counted in sorted(summary.days.items())],
        files=[ShareShape(**asdict(one)) for one in summary.files()],
        recipients=[ShareShape(**asdict(one)) for one in summary.recipients()],
        refusals=[RefusalShape(reason=reason, count=count) for reason, count in summary.refusals.most_common()],
    )

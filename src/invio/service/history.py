"""The history: who obtained what, streamed as JSON Lines or CSV, however long it is."""

from __future__ import annotations

import csv
import io
import json
import time
from collections.abc import AsyncIterator, Iterable, Iterator
from itertools import islice
from typing import Annotated, Literal

from fastapi import Query, Request
from fastapi.responses import StreamingResponse
from pydantic import BaseModel, Field

from invio.core.shown import shown
from invio.delivery.sending.eager import in_pool
from invio.delivery.transfers.states import TransferState, view
from invio.records.history import Filters, pages
from invio.records.rows import TransferRow
from invio.records.transfers import Scope
from invio.service.assembly import Parts
from invio.service.dependencies import TheCaller, TheParts
from invio.service.routes import Routes
from invio.service.transfers import TransferVisibility, is_still

routes = Routes("history")
# What is told of each; never a token, nor a seal.
FIELDS = (
    "id", "started", "updated", "state", "reason", "decided_by", "recipient", "made_for", "credential", "network",
    "link", "via", "tag", "address", "version", "rendition", "etag", "size", "bytes", "requests", "coverage",
)  # fmt: skip
_AT_ONCE = 200  # lines that are made together
_IDENTIFIED_FOR = 0.75  # seconds
_Word = Annotated[str | None, Field(max_length=300)]


class HistoryFilter(BaseModel):
    """Which lines of the history are wanted; all that the caller may see, where nothing is named."""

    recipient: _Word = None
    address: Annotated[_Word, Field(description="a file, or a folder ending in `/`")] = None
    link: Annotated[_Word, Field(description="a link's id")] = None
    token: Annotated[
        str | None,
        Field(
            description="a token's id: what was had with it, or in sessions opened with it", pattern="^[0-9a-f]{12}$"
        ),
    ] = None
    state: Literal["running", "complete", "partial", "broken-off", "handed-off", "refused"] | None = None
    since: Annotated[float | None, Field(description="Unix seconds of its beginning")] = None
    until: float | None = None
    zone: Annotated[int, Field(ge=-900, le=900, description="of sums: minutes that their days are east of UTC")] = 0

    def filters(self, scope: Scope, *, manages: bool) -> Filters:
        """The same for the records."""
        return Filters(
            self.recipient, self.address, self.link, self.state, self.since, self.until, self.token, scope, manages
        )


class HistoryAsk(HistoryFilter):
    """How many lines are wanted, the newest, and as what."""

    limit: Annotated[int | None, Field(ge=1, le=10**9)] = None
    form: Annotated[Literal["jsonl", "csv"], Field(alias="format")] = "jsonl"


@routes.get("/api/history", summary="Who asked for what, and what came of it", response_class=StreamingResponse)
async def get_history(
    request: Request, caller: TheCaller, parts: TheParts, wanted: Annotated[HistoryAsk, Query()]
) -> StreamingResponse:
    """Downloads and refusals, newest first: the caller's own; for files the caller may `manage`, everyone's.

    One line each. At most a hundred refusals a second are recorded.
    """
    sight, form = TransferVisibility(parts, caller), wanted.form
    pieces: Iterator[str] = iter(())
    if not sight.nothing:
        await sight.prefetch(parts.transfers.live.addresses())
        await parts.transfers.recorded()
        manages = wanted.address is not None and await sight.manages(wanted.address)
        found = pages(parts.engine, wanted.filters(sight.scope, manages=manages))
        rows = _seen(found, sight, wanted.limit, manages=manages)
        pieces = _csv(rows) if form == "csv" else _lines(rows)
    elif form == "csv":
        pieces = _csv(())
    first = await in_pool(parts.pools.history, next, pieces, "", whose=caller.principal)
    media_type = "text/csv; charset=utf-8" if form == "csv" else "application/jsonl"
    headers = {"Cache-Control": "no-store", "Content-Disposition": f'attachment; filename="history.{form}"'}
    sent = _sent(first, pieces, parts, request, sight)
    return StreamingResponse(sent, media_type=media_type, headers=headers)


async def _sent(
    first: str, rest: Iterator[str], parts: Parts, request: Request, sight: TransferVisibility
) -> AsyncIterator[str]:
    """The lines, some hundred at a time; no more of them once the caller is no longer who asked."""
    yield first
    looked = time.monotonic()
    while piece := await in_pool(parts.pools.history, next, rest, "", whose=sight.caller.principal):
        if sight.caller.recipient is not None and time.monotonic() - looked > _IDENTIFIED_FOR:
            looked = time.monotonic()
            if not await is_still(sight, request):
                return
        yield piece


def _seen(
    found: Iterable[list[TransferRow]], sight: TransferVisibility, limit: int | None, *, manages: bool
) -> Iterator[dict[str, object]]:
    """The lines that the caller may see; `manages`: all that were found, of a file that they manage."""
    left = limit
    for page in found:
        for row in page:
            if left == 0:
                return
            if manages or sight(row):
                left = None if left is None else left - 1
                yield _line_of(row)


def _line_of(row: TransferRow) -> dict[str, object]:
    line = view(TransferState(row)) | {
        "network": row.network,
        "credential": row.credential,
        "decided_by": row.decided_by,
        "etag": row.etag,
        "coverage": row.coverage,
    }
    return {name: line[name] for name in FIELDS}


def _lines(rows: Iterable[dict[str, object]]) -> Iterator[str]:
    """JSON Lines, in pieces. In ASCII: some programs take U+2028 and others for the end of a line."""
    found = iter(rows)
    while some := list(islice(found, _AT_ONCE)):
        yield "".join(json.dumps(row) + "\n" for row in some)


def _csv(rows: Iterable[dict[str, object]]) -> Iterator[str]:
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(FIELDS)
    found = iter(rows)
    while some := list(islice(found, _AT_ONCE)):
        for row in some:
            ranges = " ".join(f"{start}-{stop}" for start, stop in row["coverage"])  # type: ignore[attr-defined]
            writer.writerow([*(_cell(row[name]) for name in FIELDS[:-1]), ranges])
        yield _taken(out)
    yield _taken(out)


def _cell(value: object) -> object:
    """A text that a spreadsheet would take for a formula is marked as text; what a terminal would obey is escaped."""
    if not isinstance(value, str):
        return value
    return shown("'" + value if value[:1] in ("=", "+", "-", "@", "\t", "\r") else value)


def _taken(out: io.StringIO) -> str:
    text = out.getvalue()
    out.seek(0)
    out.truncate()
    return text

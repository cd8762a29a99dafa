"""The history: who obtained what, streamed as JSON Lines or CSV, however long it is."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Iterable, Iterator
from typing import Annotated, Literal

from fastapi import APIRouter, Query
from fastapi.responses import StreamingResponse
from starlette.concurrency import run_in_threadpool

from invio.delivery.board import view
from invio.records.history import Filters, pages
from invio.records.rows import TransferRow
from invio.service.asking import TheCaller, TheParts
from invio.service.transfers import Sight

router = APIRouter(tags=["history"])
# What is told of each; never a token, nor a seal.
FIELDS = (
    "id", "started", "updated", "state", "reason", "decided_by", "recipient", "credential", "network", "link", "via",
    "tag", "address", "version", "etag", "size", "bytes", "requests", "coverage",
)  # fmt: skip
_Word = Annotated[str | None, Query(max_length=300)]


@router.get("/api/history", summary="Who asked for what, and what came of it", response_class=StreamingResponse)
async def get_history(
    caller: TheCaller,
    parts: TheParts,
    recipient: _Word = None,
    address: Annotated[str | None, Query(description="a file, or a folder ending in `/`")] = None,
    link: Annotated[str | None, Query(description="a link's id")] = None,
    token: Annotated[
        str | None,
        Query(
            description="a token's id: what was had with it, or in sessions opened with it",
            pattern="^[0-9a-f]{12}$",
        ),
    ] = None,
    state: Literal["running", "complete", "partial", "broken-off", "handed-off", "refused"] | None = None,
    since: Annotated[float | None, Query(description="Unix seconds of its beginning")] = None,
    until: float | None = None,
    limit: Annotated[int | None, Query(ge=1)] = None,
    form: Annotated[Literal["jsonl", "csv"], Query(alias="format")] = "jsonl",
) -> StreamingResponse:
    """What was obtained, and what was refused: one's own; for those who may `manage` a file, everyone's of it.

    The newest first, a line each. Of refusals, a hundred a second are kept at most.
    """
    sight = Sight(parts, caller)
    await sight.look_around()
    await parts.transfers.told()
    filters = Filters(recipient, address, link, state, since, until, token)
    rows = _seen(pages(parts.engine, filters), sight, limit)
    made = _csv(rows) if form == "csv" else _lines(rows)
    first = await run_in_threadpool(next, made, "")
    media_type = "text/csv; charset=utf-8" if form == "csv" else "application/jsonl"
    headers = {"Cache-Control": "no-store", "Content-Disposition": f'attachment; filename="history.{form}"'}
    return StreamingResponse(_after(first, made), media_type=media_type, headers=headers)


def _seen(found: Iterable[list[TransferRow]], sight: Sight, limit: int | None) -> Iterator[dict[str, object]]:
    left = limit
    for page in found:
        for row in page:
            if left == 0:
                return
            if sight(row):
                left = None if left is None else left - 1
                yield _told(row)


def _told(row: TransferRow) -> dict[str, object]:
    shown = view(row) | {
        "network": row.network,
        "credential": row.credential,
        "decided_by": row.decided_by,
        "etag": row.etag,
        "coverage": row.coverage,
    }
    return {name: shown[name] for name in FIELDS}


def _lines(rows: Iterable[dict[str, object]]) -> Iterator[str]:
    for row in rows:
        yield json.dumps(row, ensure_ascii=False) + "\n"


def _csv(rows: Iterable[dict[str, object]]) -> Iterator[str]:
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(FIELDS)
    for row in rows:
        yield _taken(out)
        ranges = " ".join(f"{start}-{stop}" for start, stop in row["coverage"])  # type: ignore[attr-defined]
        writer.writerow([*(_cell(row[name]) for name in FIELDS[:-1]), ranges])
    yield _taken(out)


def _cell(value: object) -> object:
    """A text that a spreadsheet would take for a formula is marked as text."""
    return "'" + value if isinstance(value, str) and value[:1] in ("=", "+", "-", "@", "\t", "\r") else value


def _taken(out: io.StringIO) -> str:
    text = out.getvalue()
    out.seek(0)
    out.truncate()
    return text


def _after(first: str, rest: Iterator[str]) -> Iterator[str]:
    yield first
    yield from rest

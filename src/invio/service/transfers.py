"""Transfers: a list, and a live stream of how they go."""

from __future__ import annotations

import asyncio
import json
from collections.abc import AsyncIterator, Callable
from typing import Annotated, Any

from fastapi import APIRouter, Query
from fastapi.responses import StreamingResponse
from starlette.concurrency import run_in_threadpool

from invio.core.addresses import BadAddress, parse_address
from invio.core.files import Caller
from invio.core.reasons import Refusal
from invio.delivery.board import view
from invio.records.rows import TransferRow
from invio.records.transfers import newest
from invio.service.asking import TheCaller, TheParts, manages
from invio.service.assembly import Parts
from invio.service.shapes import TransferList, TransferShape

router = APIRouter(tags=["transfers"])

TICK = 0.25  # seconds between two looks at the board
# A comment line often enough that no proxy takes the stream for dead. In ticks.
_ALIVE_EVERY = 60
_SCAN = 20  # pages of records that one answer looks through for a caller's own


@router.get("/api/transfers", summary="Transfers, newest first")
async def list_transfers(
    caller: TheCaller,
    parts: TheParts,
    limit: Annotated[int, Query(ge=1, le=500)] = 50,
    before: Annotated[str | None, Query(description="`next` of the page before")] = None,
) -> TransferList:
    """One's own; for those who may `manage` a file, everyone's of it."""
    may_see = Sight(parts, caller)
    await may_see.look_around()
    await parts.transfers.told()
    live = {shown["id"]: shown for shown in parts.transfers.board.running(may_see)}
    rows, following = await run_in_threadpool(_recorded, parts, may_see, limit, before)
    shown = [TransferShape.model_validate(live.get(row.id) or view(row)) for row in rows]
    return TransferList(transfers=shown, next=following)


def _recorded(
    parts: Parts, may_see: Callable[[TransferRow], bool], limit: int, before: str | None
) -> tuple[list[TransferRow], str | None]:
    found: list[TransferRow] = []
    with parts.engine.connect() as connection:
        for _ in range(_SCAN):
            page = newest(connection, limit, before)
            for row in page:
                before = row.id
                if may_see(row):
                    found.append(row)
                    if len(found) == limit:
                        return found, before
            if len(page) < limit:
                return found, None
    return found, before


@router.get(
    "/api/transfers/stream",
    summary="Transfers as they go",
    response_class=StreamingResponse,
    responses={200: {"content": {"text/event-stream": {}}, "description": "server-sent events"}},
)
async def stream_transfers(caller: TheCaller, parts: TheParts) -> StreamingResponse:
    """Server-sent events: `transfer`, whose data is a transfer as `/api/transfers` shows it, whenever one changes."""
    if caller.recipient is None:
        raise Refusal("sign-in", "the stream shows your own transfers, or those that you manage")
    headers = {"Cache-Control": "no-store", "X-Accel-Buffering": "no"}
    return StreamingResponse(_events(parts, Sight(parts, caller)), media_type="text/event-stream", headers=headers)


async def _events(parts: Parts, may_see: Sight) -> AsyncIterator[str]:
    board = parts.transfers.board
    ended, quiet = board.count, 0
    last: dict[str, tuple[Any, ...]] = {}
    yield ": transfers, as they go\n\n"
    while not parts.stopping():
        events = []
        await may_see.look_around()
        for shown in board.running(may_see):
            state = (shown["bytes"], shown["requests"], shown["rate"])
            if last.get(shown["id"]) != state:
                last[shown["id"]] = state
                events.append(shown)
        count = board.count
        for shown in board.ended_since(ended, may_see):
            last.pop(shown["id"], None)
            events.append(shown)
        ended = count
        for shown in events:
            yield f"event: transfer\ndata: {json.dumps(shown)}\n\n"
        quiet = 0 if events else quiet + 1
        if quiet >= _ALIVE_EVERY:
            quiet = 0
            yield ": nothing moved\n\n"
        await asyncio.sleep(TICK)


class Sight:
    """Which transfers a caller may see: their own, and those of files that they manage."""

    def __init__(self, parts: Parts, caller: Caller) -> None:
        self._parts = parts
        self._caller = caller
        self._manages: dict[str, bool] = {}

    async def look_around(self) -> None:
        """Decides about what is on the board, where whoever decides may be waited for."""
        for address in self._parts.transfers.board.addresses() - self._manages.keys():
            try:
                await self._parts.rules.ask_ahead(self._caller, "manage", parse_address(address))
            except BadAddress:
                pass  # it is told by _may_manage
            self._manages[address] = self._may_manage(address)

    def __call__(self, row: TransferRow) -> bool:
        if self._caller.recipient is not None and row.recipient == self._caller.recipient:
            return True
        if row.address not in self._manages:
            self._manages[row.address] = self._may_manage(row.address)
        return self._manages[row.address]

    def _may_manage(self, address: str) -> bool:
        try:
            return self._parts.rules.allows(self._caller, "manage", parse_address(address))
        except BadAddress:  # somebody asked for it, and there is no such thing
            return manages(self._parts, self._caller)

"""Transfers: a list, and a live stream of how they go."""

from __future__ import annotations

import asyncio
import time
from collections.abc import AsyncIterator, Set
from contextlib import suppress
from typing import Annotated

from fastapi import Query, Request
from fastapi.responses import StreamingResponse
from pydantic import BaseModel, Field

from invio.core.addresses import BadAddress, parse_address
from invio.core.files import Caller
from invio.core.reasons import Refusal
from invio.delivery.sending.eager import in_pool
from invio.delivery.transfers.feed import TICK, Change
from invio.delivery.transfers.states import TransferState, view
from invio.records.rows import TransferRow
from invio.records.transfers import Scope, ended_after, newest, with_ids
from invio.service.assembly import Parts
from invio.service.deciding import decided
from invio.service.dependencies import TheCaller, TheParts, caller_of
from invio.service.routes import Routes
from invio.service.schemas import TransferList, TransferShape
from invio.service.streams import Watching, event_stream

routes = Routes("transfers")

# A comment line often enough that no proxy takes the stream for dead, and that a client who has left is soon
# known to have: until something is sent, it could be one who only has no more to say. In ticks.
_ALIVE_EVERY = 8
_IDENTIFIED_EVERY = 0.75  # seconds
_EVENTS = 100  # of one tick
_LONGEST_TICK = 1.0  # seconds; within two, whoever may no longer see something sees it no more
_DECIDED_FOR = 1.0  # seconds
_DECISIONS = 10_000
_AT_ONCE = 8  # decisions for which an application may have to be asked
_TOLD_AGAIN = 500  # transfers that ended while somebody was away
# What ended in another process just before the stream began may not have been written down yet; so it is looked for
# once more. Seconds.
_LOOKED_AGAIN = 1.0
_DIGITS = 15  # of a moment in milliseconds
_SCAN = 20  # pages of records that one answer looks through for a caller's own


@routes.get("/api/transfers", summary="Transfers, newest first")
async def list_transfers(
    caller: TheCaller,
    parts: TheParts,
    limit: Annotated[int, Query(ge=1, le=500)] = 50,
    before: Annotated[str | None, Query(max_length=24, description="`next` of the page before")] = None,
) -> TransferList:
    """Transfers: the caller's own; for files the caller may `manage`, everyone's."""
    may_see = TransferVisibility(parts, caller)
    if may_see.nothing:
        return TransferList(transfers=[], next=None)
    await may_see.prefetch(parts.transfers.live.addresses())
    await parts.transfers.recorded()
    live = {state.row.id: view(state) for state in parts.transfers.live.running(may_see)}
    rows, following = await decided(
        parts.pools.history, _recorded, parts, may_see, limit, before, whose=may_see.caller.principal
    )
    shown = [TransferShape.model_validate(live.get(row.id) or view(TransferState(row))) for row in rows]
    return TransferList(transfers=shown, next=following)


def _recorded(
    parts: Parts, may_see: TransferVisibility, limit: int, before: str | None
) -> tuple[list[TransferRow], str | None]:
    may_see.forget()  # what could not be decided in an earlier run
    found: list[TransferRow] = []
    with parts.engine.connect() as connection:
        for _ in range(_SCAN):
            page = newest(connection, limit, before, may_see.scope)
            for row in page:
                before = row.id
                if may_see(row):
                    found.append(row)
                    if len(found) == limit:
                        return found, before
            if len(page) < limit:
                return found, None
    return found, before


class TransferFilter(BaseModel):
    """Which transfers are told of; all that the caller may see, where nothing is named."""

    recipient: str | None = Field(None, max_length=64, description="who obtains them")
    address: str | None = Field(None, max_length=4096, description="of this file, or below this folder")
    link: str | None = Field(None, max_length=64, description="by the link of this id")
    tag: str | None = Field(None, max_length=64, description="what their link calls them")
    transfer: str | None = Field(None, max_length=24, description="the one of this id")

    def takes(self, change: Change) -> bool:
        """Whether a transfer is told of."""
        row = change.row
        pairs = (
            (self.recipient, row.recipient),
            (self.link, row.link_id),
            (self.tag, row.tag),
            (self.transfer, row.id),
        )
        if any(wanted is not None and wanted != has for wanted, has in pairs):
            return False
        if self.address is None or self.address == row.address:
            return True
        return self.address.endswith("/") and row.address.startswith(self.address)


@routes.get(
    "/api/transfers/stream",
    summary="Transfers as they go",
    response_class=StreamingResponse,
    responses={200: {"content": {"text/event-stream": {}}, "description": "server-sent events"}},
)
async def stream_transfers(
    request: Request, caller: TheCaller, parts: TheParts, wanted: Annotated[TransferFilter, Query()]
) -> StreamingResponse:
    """Server-sent events: a `transfer` event, shaped as in `/api/transfers`, whenever one changes.

    Running transfers come first. An event's `id` is a moment; a client that reconnects with it (`Last-Event-ID`) also
    gets the transfers that ended in between. The stream ends when the caller's identity ends, as by signing out; rights
    are checked again as they change.
    """
    if caller.recipient is None:
        raise Refusal("sign-in", "sign in: the stream shows your own transfers, or those that you manage")
    may_see = TransferVisibility(parts, caller)
    watching = parts.streams.begin(caller.recipient)
    return event_stream(_events(parts, may_see, wanted, request, watching))


async def _events(
    parts: Parts, may_see: TransferVisibility, wanted: TransferFilter, request: Request, watching: Watching
) -> AsyncIterator[str]:
    quiet, identified = 0, time.monotonic()
    try:
        yield ": transfers, as they go\n\n"
        with parts.feed.watching(wanted.tag) as watcher:
            await parts.feed.begun()
            missed = await _missed(parts, may_see, wanted, request)
            changes = [*missed, *parts.feed.running()]
            again: float | None = time.monotonic() + _LOOKED_AGAIN
            known = {change.row.id for change in changes}
            while not parts.stopping():
                if time.monotonic() - identified >= _IDENTIFIED_EVERY:
                    if not await is_still(may_see, request):
                        return
                    identified = time.monotonic()
                await may_see.prefetch({change.row.address for change in changes})
                told = [change for change in changes if wanted.takes(change) and may_see(change.row)]
                if told:
                    moment = f"id: {int(time.time() * 1000)}\n"
                    yield "".join(f"event: transfer\n{moment}data: {change.text}\n\n" for change in told)
                quiet = 0 if told else quiet + 1
                if quiet >= _ALIVE_EVERY:
                    quiet = 0
                    yield ": nothing moved\n\n"
                # Each that moves is told of once in a tick, and ticks are longer when many move: nobody reads faster.
                await asyncio.sleep(TICK * min(max(1.0, len(told) / _EVENTS), _LONGEST_TICK / TICK))
                changes = watcher.take()
                if again is not None:
                    known.update(change.row.id for change in changes)
                    if time.monotonic() >= again:
                        late = await _missed(parts, may_see, wanted, request)
                        changes = [*changes, *(change for change in late if change.row.id not in known)]
                        again = None
    finally:
        watching.end()


async def _missed(parts: Parts, may_see: TransferVisibility, wanted: TransferFilter, request: Request) -> list[Change]:
    """What ended since an earlier stream of the same caller; and of one transfer that is asked for, how it stands."""
    after = request.headers.get("last-event-id") or ""
    since = int(after) / 1000 if after.isascii() and after.isdecimal() and len(after) <= _DIGITS else None
    if since is None and wanted.transfer is None:
        return []

    def look_up() -> list[TransferRow]:
        with parts.engine.connect() as connection:
            if since is None:
                return with_ids(connection, [wanted.transfer or ""])
            return ended_after(connection, since, may_see.scope, _TOLD_AGAIN)

    await parts.transfers.recorded()
    rows = await in_pool(parts.pools.history, look_up, whose=may_see.caller.principal)
    # The oldest first, as they would have been told of.
    return [Change(TransferState(row)) for row in reversed(rows)]


async def is_still(may_see: TransferVisibility, request: Request) -> bool:
    """Whether whoever asked for a stream still is who they were; their groups may have changed."""
    try:
        caller = await caller_of(request)
    except Refusal:
        return False
    if caller.recipient is None or caller.recipient != may_see.caller.recipient:
        return False
    if caller.groups != may_see.caller.groups:
        may_see.forget()
    may_see.caller = caller
    return True


class TransferVisibility:
    """Which transfers a caller may see: their own, and those of files that they manage.

    What was decided is remembered for as long as the rules are the same, and for two seconds at most.
    """

    def __init__(self, parts: Parts, caller: Caller) -> None:
        self._parts = parts
        self.caller = caller
        self._manages: dict[str, bool] = {}
        self._rules = parts.rules
        self._since = time.monotonic()

    @property
    def scope(self) -> Scope:
        """What has to be looked through for it."""
        return Scope(self.caller.recipient, self._parts.rules.reached_by(self.caller, "manage"))

    @property
    def nothing(self) -> bool:
        """Whether there can be nothing for the caller to see."""
        return self.caller.recipient is None and self.scope.stores == frozenset()

    def forget(self) -> None:
        """Has everything be decided anew."""
        self._manages = {}
        self._rules, self._since = self._parts.rules, time.monotonic()

    def _refresh(self) -> None:
        if self._rules is not self._parts.rules or time.monotonic() - self._since > _DECIDED_FOR:
            self.forget()
        elif len(self._manages) > _DECISIONS:
            self._manages = {}

    async def prefetch(self, addresses: Set[str]) -> None:
        """Decides about these addresses, where whoever decides may be waited for."""
        self._refresh()
        unknown = list(addresses - self._manages.keys())
        for at in range(0, len(unknown), _AT_ONCE):
            await asyncio.gather(*map(self._decide, unknown[at : at + _AT_ONCE]))

    async def _decide(self, address: str) -> None:
        with suppress(BadAddress):  # it is told by _may_manage
            await self._parts.rules.prefetch(self.caller, "manage", parse_address(address))
        self._manages[address] = self._may_manage(address)

    async def manages(self, address: str) -> bool:
        """Whether the caller manages all that is at an address: a file, or a folder."""
        try:
            where = parse_address(address)
        except BadAddress:
            return False
        rules = self._parts.rules
        await rules.prefetch(self.caller, "manage", where)
        if where.folder:
            return rules.allows_below(self.caller, "manage", where)
        return rules.allows(self.caller, "manage", where)

    def __call__(self, row: TransferRow) -> bool:
        """Whether the caller may see a transfer."""
        if self.caller.recipient is not None and self.caller.recipient in (row.recipient, row.made_for):
            return True
        self._refresh()
        known = self._manages.get(row.address)
        if known is None:
            known = self._manages[row.address] = self._may_manage(row.address)
        return known

    def _may_manage(self, address: str) -> bool:
        try:
            return self._parts.rules.allows(self.caller, "manage", parse_address(address))
        except BadAddress:  # somebody asked for it, and there is no such thing
            return self._parts.rules.administers(self.caller)

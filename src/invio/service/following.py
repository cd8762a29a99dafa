"""Following: how the transfer goes that a link's `tag` names, for whoever holds the link, as server-sent events.

The present state comes first, also before the download begins (`waiting`), then each change, at most four a second.
The stream ends with an `end` event: when all has arrived, when nothing has gone on for a while with what broke off,
and when the link is over before anything was begun. Whoever comes back after that with the event's id
(`Last-Event-ID`) is answered 204, on which browsers stop asking.
"""

from __future__ import annotations

import asyncio
import json
import time
from collections.abc import AsyncIterator, Iterable
from dataclasses import dataclass
from typing import Any

from fastapi import Request, Response
from fastapi.responses import StreamingResponse

from invio.core.files import Caller
from invio.core.links.seals import SealedLink, check_link, parse_link
from invio.core.links.terms import Asked, LinkRefused
from invio.core.reasons import Refusal
from invio.delivery.planner import raw_target
from invio.delivery.sending.eager import in_pool
from invio.delivery.transfers.feed import TICK, Change, Watcher
from invio.delivery.transfers.states import OVER, WAITING, TransferState, view
from invio.records.rows import PRINCIPAL_ENDS, RUNNING, TransferRow
from invio.records.transfers import tagged
from invio.service.assembly import Parts
from invio.service.dependencies import TheCaller, TheParts
from invio.service.routes import Routes
from invio.service.streams import Watching, event_stream

routes = Routes("transfers")
PREFIX = "/follow/"

_OVER = "over"  # what the id of the last event ends in
_ALIVE_EVERY = 2.0  # seconds without a line after which a proxy, or the reader, could take the stream for dead
_CHECKED_EVERY = 1.0  # seconds between two looks at whether the link still holds
_LOOKED_UP_EVERY = 5.0  # seconds between two looks into the records at what no process sends
_RESTS = 15.0  # seconds for which what broke off may be gone on with before it is told to be over
_LOOKS_FOR_SENDER = 6  # at what runs by the records' word, for the process that sends it
_LONGEST = 3600.0  # seconds of one stream; a browser then asks anew
_EVEN_AFTER_ITS_END = 10 * 365 * 86_400  # seconds: of what began in time, everything may be seen


@routes.get(
    PREFIX + "{path:path}",
    summary="Follow a download",
    response_class=StreamingResponse,
    responses={200: {"content": {"text/event-stream": {}}, "description": "server-sent events"}},
)
async def follow(request: Request, caller: TheCaller, parts: TheParts, path: str) -> Response:
    """Server-sent events of the transfer that the `tag` of a sealed link names, for whoever holds the link.

    The path and query are the link's own, after `/follow/` instead of `/get/`. `transfer` events carry what
    `/api/transfers` shows; the last event is `end`, with the same, and in `reason` why it is over.
    """
    followed = await _followed(parts, caller, raw_target(request.scope).removeprefix(PREFIX))
    if (request.headers.get("last-event-id") or "").endswith(_OVER):
        return Response(status_code=204)
    watching = parts.streams.begin_following(followed.key, caller.network)
    return event_stream(_events(parts, followed, watching))


@dataclass(frozen=True, slots=True)
class _Followed:
    """A transfer that is followed: by which link, by whom, and how far it was when they asked."""

    link: SealedLink
    tag: str
    caller: Caller
    row: TransferRow | None

    @property
    def key(self) -> str:
        """What all who follow the same transfer have in common."""
        return f"{self.link.mark}/{self.tag}"

    def is_it(self, row: TransferRow) -> bool:
        """Whether a transfer is the one that the link names."""
        by_link = row.who.endswith(PRINCIPAL_ENDS + self.link.mark)
        return by_link and row.tag == self.tag and row.address == str(self.link.address)

    def text(self, change: Change | None) -> str:
        """What is shown of it, as JSON; who has it is told only to those whose link says so."""
        if change is None:
            return json.dumps(self.shown(None))
        return change.text if change.row.recipient == self.link.summary.to else change.text_without_recipient

    def shown(self, change: Change | None) -> dict[str, Any]:
        """The same, for one who is also told why the link is over."""
        if change is None:
            blank = TransferRow("", "", None, None, None, self.tag, None, str(self.link.address), None, None)
            empty = {"id": None, "state": WAITING, "percent": 0, "requests": 0, "started": None, "updated": None}
            return {**view(TransferState(blank)), "link": self.link.summary.id, **empty}
        recipient = change.row.recipient if change.row.recipient == self.link.summary.to else None
        return {**change.shown, "recipient": recipient}


async def _followed(parts: Parts, caller: Caller, target: str) -> _Followed:
    """What a request follows. Raises Refusal."""
    link = parse_link(target)
    tag = link.summary.tag
    if tag is None:
        said = "this link names no transfer to follow; narrow it with a tag (invio link narrow URL --tag NAME) first"
        raise Refusal("bad-request", said)
    row = await in_pool(parts.pools.following, _look_up, parts, link, tag)
    await _check(parts, link, caller, row)
    return _Followed(link, tag, caller, row)


def _look_up(parts: Parts, link: SealedLink, tag: str) -> TransferRow | None:
    with parts.engine.connect() as connection:
        return tagged(connection, tag, str(link.address), link.mark)


async def _check(
    parts: Parts, link: SealedLink, caller: Caller, row: TransferRow | None, *, again: bool = False
) -> None:
    """Whether a link lets its download be followed, or does so `again`. Raises Refusal.

    What began while the link held may be followed to its end: that the link has expired meanwhile, or that its use
    is used up by this very download, is no reason to be told nothing. A revoked link tells nothing.
    """
    asked = Asked(time.time(), caller.network, caller.agent, caller.recipient)
    try:
        check_link(link, parts.way.keys, asked)
    except LinkRefused as refused:
        if refused.reason.word != "expired" or row is None:
            raise
        check_link(link, parts.way.keys, asked._replace(grace=_EVEN_AFTER_ITS_END))
        if link.expires is None or row.started >= link.expires:
            raise
    summary = link.summary
    if summary.id is not None:
        await parts.way.ended_links.check(summary.id, summary.uses if row is None else None, again=again)


async def _events(parts: Parts, followed: _Followed, watching: Watching) -> AsyncIterator[str]:
    """The stream of one who follows."""
    try:
        yield ": how a download goes\n\n"
        with parts.feed.watching(followed.tag) as watcher:
            await parts.feed.begun()
            async for event in _told(parts, followed, watcher):
                yield event
    finally:
        watching.end()


async def _told(parts: Parts, followed: _Followed, watcher: Watcher) -> AsyncIterator[str]:
    """What is told: the present state, changes, and the end."""
    change = await _present(parts, followed)
    began = told = checked = looked_up = time.monotonic()
    rested: float | None = None
    news = True
    while not parts.stopping() and time.monotonic() - began < _LONGEST:
        now = time.monotonic()
        state = WAITING if change is None else change.shown["state"]
        if state in (WAITING, RUNNING, *OVER):
            rested = None
        elif rested is None:
            rested = now
        if news:
            yield _event("transfer", followed, change)
            told = now
        if state in OVER or (rested is not None and now - rested >= _RESTS):
            yield _event("end", followed, change)
            return
        if now - checked >= _CHECKED_EVERY:
            checked = now
            try:
                row = None if change is None else change.row
                await _check(parts, followed.link, followed.caller, row, again=True)
            except Refusal as refusal:
                yield _event("end", followed, change, refusal)
                return
        if now - told >= _ALIVE_EVERY:
            yield ": nothing moved\n\n"
            told = now
        await watcher.wait()
        newer = _newest(followed, watcher.take())
        sent = change is not None and parts.feed.runs(change.row.id)
        if newer is None and not sent and now - looked_up >= _LOOKED_UP_EVERY:
            looked_up = now
            row = await in_pool(parts.pools.following, _look_up, parts, followed.link, followed.tag)
            newer = None if row is None else Change(TransferState(row))
        news = newer is not None and (change is None or _differ(newer, change))
        change = newer or change


async def _present(parts: Parts, followed: _Followed) -> Change | None:
    """How it stands: as the process that sends it says, else as the records do, which may be a second behind."""
    row = followed.row
    for _ in range(_LOOKS_FOR_SENDER):
        change = _newest(followed, parts.feed.running())
        if change is not None or row is None or row.state != RUNNING:
            break
        await asyncio.sleep(TICK)
    return change if change is not None or row is None else Change(TransferState(row))


def _differ(one: Change, other: Change) -> bool:
    return (one.row.id, *one.said) != (other.row.id, *other.said)


def _newest(followed: _Followed, changes: Iterable[Change]) -> Change | None:
    return max(filter(lambda one: followed.is_it(one.row), changes), key=lambda one: one.row.id, default=None)


def _event(name: str, followed: _Followed, change: Change | None, refusal: Refusal | None = None) -> str:
    """An event; its id says what was told, and of the last one that it was the last."""
    if refusal is None:
        data = followed.text(change)
    else:
        data = json.dumps({**followed.shown(change), "reason": refusal.reason.word})
    state, count = (WAITING, 0) if change is None else (change.shown["state"], change.shown["bytes"])
    number = f"{change.row.id if change else '-'}.{count}.{_OVER if name == 'end' else state}"
    return f"event: {name}\nid: {number}\ndata: {data}\n\n"

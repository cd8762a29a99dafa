"""The one way through: identify → locate → decide → plan → admit → send → settle.

An ASGI application for everything below `/get/`. Planning comes before admitting, for it is pure
and tells whether anything will be delivered at all: a 304, a 416 or a HEAD reserves nothing and
leaves no transfer.
"""

from __future__ import annotations

import time
from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Any

import structlog
from starlette.concurrency import run_in_threadpool

from invio.core.addresses import Address, BadAddress, parse_file_address, percent_decoded
from invio.core.files import Caller
from invio.core.link_terms import Asked, LinkRefused
from invio.core.links import SealedLink, check_link, is_sealed, parse_link
from invio.core.media_types import media_type_of
from invio.core.reasons import Refusal
from invio.core.replies import METHODS, Content, Part, Reply, Representation, Slice, Streamed, plan
from invio.core.request_head import RequestHead
from invio.delivery import bundles
from invio.delivery.bundles import Bundles
from invio.delivery.catalogue import Catalogue
from invio.delivery.identify import Identifier
from invio.delivery.presentation import Presentation, read_presentation
from invio.delivery.refusals import refusal_reply
from invio.delivery.sender import Sender
from invio.delivery.transfers import Asking, Transfers
from invio.delivery.zerocopy import ClientGone, ReplyBroken
from invio.records.transfers import TransferRow
from invio.stores.sources import Made
from invio.stores.store import Found, Missing

log = structlog.get_logger()

PREFIX = "/get/"


@dataclass(slots=True)
class _Request:
    """A request whose caller was identified; `path` and `query` are still encoded."""

    head: RequestHead
    caller: Caller
    path: str
    query: str


@dataclass(slots=True)
class _Planned:
    """A reply, and for whom and what it is."""

    reply: Reply
    asking: Asking
    representation: Representation
    earlier: TransferRow | None


class Delivery:
    """Every byte of a file, a range, an archive or a table leaves through here."""

    def __init__(
        self,
        catalogue: Catalogue,
        identifier: Identifier,
        transfers: Transfers,
        archives: Bundles,
        keys: Mapping[str, bytes],
        grace: int,
    ) -> None:
        """`grace` is how long after its end a link still resumes a download that had begun. Seconds."""
        self._catalogue = catalogue
        self._identifier = identifier
        self._transfers = transfers
        self._archives = archives
        self._keys = keys
        self._grace = grace

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        head = RequestHead(scope["method"], scope["headers"])
        path = _raw_path(scope)
        query = scope["query_string"].decode("latin-1")
        client = scope.get("client")
        sender = Sender(scope, receive, send)
        try:
            planned = await self._plan(head, path, query, client[0] if client else None)
            if head.method == "GET" and planned.reply.status in (200, 206):
                await self._deliver(sender, planned)
                return
            reply = planned.reply
        except Refusal as refusal:
            target = path + ("?" + query if query else "")
            reply = refusal_reply(refusal, head.method, head.get(b"accept"), target)
        try:
            await sender.send(reply)
        except ClientGone:
            pass

    async def _plan(self, head: RequestHead, path: str, query: str, network: str | None) -> _Planned:
        if head.method not in ("GET", "HEAD"):
            raise Refusal("wrong-method", f"{head.method} is not for files; use {METHODS}", allow=METHODS)
        caller = await self._identifier.identify(head, network)
        request = _Request(head, caller, path, query)
        if is_sealed(query):
            return await self._plan_sealed(request)
        try:
            address = parse_file_address(percent_decoded(path[len(PREFIX) :]))
        except BadAddress as error:
            raise Refusal("malformed", f"the address: {error}") from None
        return await self._planned(request, address, read_presentation(query), None)

    async def _plan_sealed(self, request: _Request) -> _Planned:
        """A good link stands above the rules; what it says is all that is presented."""
        link = parse_link(request.path[len(PREFIX) :], request.query)
        asked = Asked(time.time(), request.caller.network, request.caller.agent, request.caller.recipient)
        late: LinkRefused | None = None
        try:
            check_link(link, self._keys, asked)
        except LinkRefused as refused:
            # A download that began in time may be ended; anything else wrong with it still counts.
            if refused.reason.word != "expired" or b"range" not in request.head:
                raise
            check_link(link, self._keys, replace(asked, grace=self._grace))
            late = refused
        presentation = Presentation(link.says("as"), link.says("name"), link.says("version"), sealed=True)
        planned = await self._planned(request, link.address, presentation, link)
        if late is not None:
            began = planned.earlier.started if planned.earlier else None
            if began is None or link.expires is None or began >= link.expires:
                raise late
        if not planned.reply.parts:
            await self._transfers.check_link(link)
        return planned

    async def _planned(
        self, request: _Request, address: Address, presentation: Presentation, link: SealedLink | None
    ) -> _Planned:
        if address.store == bundles.STORE:
            if link is not None:
                raise Refusal("missing", "links do not open bundles")
            representation = await run_in_threadpool(self._archives.represent, request.caller, address)
        else:
            found = self._find(request.caller, address, link)
            if presentation.version is not None:
                raise Refusal("missing", f"{address} is not kept in versions")
            representation = _represent(found, presentation)
        reply = plan(request.head, representation)
        asking = _asking(request.caller, address, link)
        earlier = None
        if reply.status == 206:
            earlier = await self._transfers.earlier(asking, representation.tag)
        return _Planned(reply, asking, representation, earlier)

    def _find(self, caller: Caller, address: Address, link: SealedLink | None) -> Found:
        if link is None:
            return self._catalogue.obtain(caller, "read", address)
        try:
            return self._catalogue.locate(address)
        except Missing:
            raise Refusal("missing", f"there is no file {address}") from None

    async def _deliver(self, sender: Sender, planned: _Planned) -> None:
        representation, asking = planned.representation, planned.asking
        sender.limit(asking.link.rate if asking.link else None)
        live, segment = await self._transfers.admit(
            asking, planned.reply, sender.meter, representation.tag, representation.size, planned.earlier
        )
        broken: str | None = "the service was stopped"
        try:
            await sender.send(planned.reply)
            await sender.arrival()
            broken = None
        except ClientGone:
            broken = "the client went away"
        except ReplyBroken as error:
            broken = str(error)
            log.warning("delivery.broken", address=asking.address, transfer=live.row.id, reason=broken)
            raise
        finally:
            self._transfers.settle(live, segment, broken)


def _raw_path(scope: Any) -> str:
    """The path as it was sent, still encoded, without what the application is mounted under."""
    raw: bytes = scope.get("raw_path") or scope["path"].encode()
    root = scope.get("root_path", "")
    return raw.decode("latin-1").removeprefix(root)


@lru_cache(maxsize=4096)
def _represent(found: Found, presentation: Presentation) -> Representation:
    """What is offered of a file; kept for as long as the store finds the file unaltered."""
    facts, source = found.facts, found.source
    address = facts.address
    part: Part = Streamed(source) if isinstance(source, Made) else Slice(source, 0, source.size)
    return Representation(
        content=Content([part]),
        size=facts.size,
        tag=facts.tag,
        modified=facts.modified,
        media_type=facts.media_type or media_type_of(address.name),
        name=presentation.name or address.name,
        disposition=presentation.disposition,
        sealed=presentation.sealed,
    )


def _asking(caller: Caller, address: Address, link: SealedLink | None) -> Asking:
    """Requests of one transfer come from one recipient, whom a link may name; failing that, from one place."""
    recipient = (link.says("to") if link else None) or caller.recipient
    who = f"recipient:{recipient}" if recipient else f"network:{caller.network}"
    return Asking(who, str(address), recipient, caller.network, link)

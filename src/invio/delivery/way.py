"""The one way through: identify → locate → decide → plan → admit → send → settle.

An ASGI application for everything below `/get/`. Planning comes before admitting, for it is pure
and tells whether anything will be delivered at all: a 304, a 416 or a HEAD reserves nothing and
leaves no transfer.
"""

from __future__ import annotations

import logging
import time
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from sys import intern
from typing import Any
from urllib.parse import unquote

from starlette.concurrency import run_in_threadpool

from invio.core.addresses import Address, BadAddress, parse_file_address, percent_decoded
from invio.core.archive import SMALL, ArchiveContent
from invio.core.cross_origin import SAME_ORIGIN, CrossOrigin
from invio.core.digests import digest_field, wants_sha256
from invio.core.files import Caller
from invio.core.link_terms import ORDER, Asked, LinkRefused
from invio.core.links import SealedLink, check_link, is_sealed, parse_link
from invio.core.quotas import Quota
from invio.core.reasons import Refusal
from invio.core.replies import METHODS, Reply, Representation, plan
from invio.core.request_head import RequestHead
from invio.core.rules import NO_TERMS, Terms
from invio.delivery import bundles
from invio.delivery.board import Live, Segment
from invio.delivery.bundles import Bundles
from invio.delivery.catalogue import Catalogue
from invio.delivery.digests import digest_of
from invio.delivery.front import NO_FRONT, Front, redirect
from invio.delivery.identify import Identifies
from invio.delivery.limits import Limits, Throttles
from invio.delivery.offering import Offering
from invio.delivery.presentation import Presentation, presented, read_presentation
from invio.delivery.pump import Stopped, Watch
from invio.delivery.refusals import USUAL_PAGES, Pages, refusal_reply, unreachable
from invio.delivery.sender import Sender
from invio.delivery.transfers import Asking, Transfers
from invio.delivery.wire import ClientGone, NotMade, ReaderStuck, ReplyBroken
from invio.records.transfers import TransferRow
from invio.stores.sources import RemoteFile
from invio.stores.store import Found, StoreFault

log = logging.getLogger("invio.delivery")

PREFIX = "/get/"
_NO_QUOTAS: Mapping[Quota, int] = {}
_PRESENTS = ("as", "name", "version")  # what of a link says how its file is shown
_AS_IT_IS = Presentation(sealed=True)


@dataclass(slots=True)
class _Request:
    """A request whose caller was identified; `path` and `query` are still encoded.

    `peer` is the other side of the connection: a front server, where there is one.
    """

    head: RequestHead
    caller: Caller
    path: str
    query: str
    peer: str | None


@dataclass(slots=True)
class _Who:
    """What is known of whoever asks when a request is refused: the caller, and the link if its seal is good."""

    caller: Caller | None = None
    link: SealedLink | None = None


@dataclass(slots=True)
class _Planned:
    """A reply, and for whom and what it is.

    `etag` is what the records know the content by: it stays when more is learnt of the content.
    """

    reply: Reply
    asking: Asking
    representation: Representation
    etag: str | None
    earlier: TransferRow | None
    terms: Terms
    handed_off: Reply | None = None


@dataclass(slots=True)
class Way:
    """What a delivery is made of. `grace` is how long after its end a link still resumes what began. Seconds."""

    catalogue: Catalogue
    identifier: Identifies
    transfers: Transfers
    archives: Bundles
    offering: Offering
    keys: Mapping[str, bytes]
    grace: int
    limits: Limits = field(default_factory=Limits)
    cross_origin: CrossOrigin = SAME_ORIGIN
    front: Front = NO_FRONT
    pages: Pages = USUAL_PAGES


class Delivery:
    """Every byte of a file, a range, an archive or a table leaves through here."""

    def __init__(self, way: Way) -> None:
        self._way = way
        self._throttles = Throttles(way.limits)
        self._watch = Watch(way.limits.idle)

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        head = RequestHead(scope["method"], scope["headers"])
        path = raw_path(scope)
        query = scope["query_string"].decode("latin-1")
        client = scope.get("client")
        sender = Sender(scope, receive, send, self._way.limits.idle)
        who = _Who()
        try:
            _check_host(head, scope)
            if head.method == "OPTIONS":
                await sender.send(self._options(head))
                return
            planned = await self._plan(scope, head, path, query, client[0] if client else None, who)
            if head.method == "GET" and planned.reply.status in (200, 206):
                await self._deliver(sender, head, planned)
                return
            reply = planned.reply
        except ClientGone:
            return
        except (Refusal, StoreFault) as error:
            refusal = error if isinstance(error, Refusal) else unreachable(error)
            if who.caller is not None and head.method == "GET":
                self._way.transfers.refused(who.caller, _said_address(path), who.link, refusal)
            target = scope.get("root_path", "") + path + ("?" + query if query else "")
            reply = refusal_reply(refusal, head.method, head.get(b"accept"), target, self._way.pages)
        try:
            await sender.send(self._shared(head, reply))
        except ClientGone:
            pass

    def _options(self, head: RequestHead) -> Reply:
        """What may be asked of any file (RFC 9110 §9.3.7), and to a browser's preflight the rest."""
        cross_origin = self._way.cross_origin
        fields = [(b"allow", METHODS.encode()), *cross_origin.preflight(head, METHODS)]
        vary = cross_origin.vary
        return Reply(204, [*fields, (b"vary", vary.encode())] if vary else fields, [], 0)

    def _shared(self, head: RequestHead, reply: Reply) -> Reply:
        """The reply with what another origin's page needs to read it."""
        cross_origin = self._way.cross_origin
        if not cross_origin.origins:
            return reply
        return replace(reply, headers=cross_origin.added_to(reply.headers, head))

    async def _plan(
        self, scope: Any, head: RequestHead, path: str, query: str, peer: str | None, who: _Who
    ) -> _Planned:
        if head.method not in ("GET", "HEAD"):
            raise Refusal("wrong-method", f"{head.method} is not for files; use {METHODS}", allow=METHODS)
        caller = await self._way.identifier.identify(head, self._way.front.network(peer, head), scope)
        who.caller = caller
        request = _Request(head, caller, path, query, peer)
        if is_sealed(query):
            return await self._plan_sealed(request, who)
        try:
            address = parse_file_address(percent_decoded(path[len(PREFIX) :]))
        except BadAddress as error:
            raise Refusal("malformed", f"the address: {error}") from None
        return await self._planned(request, address, read_presentation(query), None)

    async def _plan_sealed(self, request: _Request, who: _Who) -> _Planned:
        """A good link stands above the rules; what it says is all that is presented."""
        link = parse_link(request.path[len(PREFIX) :], request.query)
        asked = Asked(time.time(), request.caller.network, request.caller.agent, request.caller.recipient)
        late: LinkRefused | None = None
        try:
            check_link(link, self._way.keys, asked)
        except LinkRefused as refused:
            if refused.reason.word in ORDER:  # what it says of itself is true, for its seal is good
                who.link = link
            # A download that began in time may be ended; anything else wrong with it still counts.
            if refused.reason.word != "expired" or b"range" not in request.head:
                raise
            check_link(link, self._way.keys, replace(asked, grace=self._way.grace))
            late = refused
        who.link = link
        planned = await self._planned(request, link.address, _presentation(link), link, f"seal: {link.key}")
        if late is not None:
            began = planned.earlier.started if planned.earlier else None
            if began is None or link.expires is None or began >= link.expires:
                raise late
        if not planned.reply.parts:
            await self._way.transfers.check_link(link)
        return planned

    async def _planned(
        self,
        request: _Request,
        address: Address,
        presentation: Presentation,
        link: SealedLink | None,
        decided_by: str = "",
    ) -> _Planned:
        way, caller, terms, found = self._way, request.caller, NO_TERMS, None
        quotas: Mapping[Quota, int] = _NO_QUOTAS
        if address.store == bundles.STORE:
            resumes = not (request.head.get(b"range") or "bytes=0-").startswith("bytes=0-")
            representation, quotas = await run_in_threadpool(
                way.archives.represent, caller, address, link is not None, resumes
            )
            etag = representation.tag
            decided_by = decided_by or "bundle"
        else:
            found, by = await self._find(caller, address, link, presentation.version)
            decided_by = decided_by or by
            if link is None:
                terms = way.catalogue.rules.terms(caller, "read", address, found.facts)
                if terms.quotas:
                    quotas = dict.fromkeys(terms.quotas, 1)
            offer = await way.offering.offer(request.head, found, presentation, terms)
            representation, etag = offer.representation, offer.found.facts.tag
        reply = plan(request.head, representation)
        asking = _asking(caller, address, link, quotas)
        asking.version = None if found is None else found.facts.version
        asking.credential, asking.decided_by = caller.credential, decided_by
        planned = _Planned(reply, asking, representation, etag, None, terms)
        if reply.status == 206:
            planned.earlier = await way.transfers.earlier(asking, etag)
        if found is not None and (way.front.header is not None or isinstance(found.source, RemoteFile)):
            planned.handed_off = await self._handed_off(request, planned, found)
        return planned

    async def _handed_off(self, request: _Request, planned: _Planned, found: Found) -> Reply | None:
        """The answer that has somebody else send the content: the front server, or the remote store itself."""
        way, asking = self._way, planned.asking
        if way.front.sends_from(found.facts.address.store, request.peer):
            throttles = self._throttles.holding(asking.who, asking.link, planned.terms)
            return way.front.hand_off(request.head, found, planned.representation, planned.reply, throttles)
        if not isinstance(found.source, RemoteFile) or not planned.reply.parts:
            return None
        if self._throttles.holding(asking.who, asking.link, planned.terms):
            return None  # nobody but us keeps to a speed
        elsewhere = await run_in_threadpool(found.source.store.address_of, found.source)
        return None if elsewhere is None else redirect(elsewhere)

    async def _find(
        self, caller: Caller, address: Address, link: SealedLink | None, version: int | None
    ) -> tuple[Found, str]:
        """The file, and which rules let the caller have it; none are asked where there is a good link."""
        catalogue = self._way.catalogue
        if link is None:
            await catalogue.ask_ahead(caller, "read", address)
        if catalogue.waits(address):
            return await run_in_threadpool(self._found, caller, address, link, version)
        return self._found(caller, address, link, version)

    def _found(
        self, caller: Caller, address: Address, link: SealedLink | None, version: int | None
    ) -> tuple[Found, str]:
        catalogue = self._way.catalogue
        if link is None:
            return catalogue.obtain_by(caller, "read", address, version)
        return catalogue.located(address, version), ""

    async def _deliver(self, sender: Sender, head: RequestHead, planned: _Planned) -> None:
        way, asking, reply = self._way, planned.asking, planned.reply
        if reply.status == 206 and wants_sha256(head.get(b"want-content-digest")):
            reply = await _with_content_digest(reply)
        content = planned.representation.content
        archive = content if isinstance(content, ArchiveContent) else None
        live, segment = await way.transfers.admit(
            asking, reply, sender.meter, planned.etag, planned.representation.size, planned.earlier, archive
        )
        if planned.handed_off is not None:
            way.transfers.hand_off(live, segment)
            await sender.send(self._shared(head, planned.handed_off))
            return
        sender.limit(self._throttles.holding(asking.who, asking.link, planned.terms))
        ended = _Settling(way.transfers, way.archives, live, segment)
        reply = self._shared(head, reply)
        try:
            if sender.hand_over(reply, self._watch, ended):
                return
            await sender.send(reply)
            await sender.arrival()
        except ReplyBroken as error:
            ended(error)
            if not sender.untouched:
                raise
            sender.limit(())
            await sender.send(self._shared(head, _not_delivered(error, asking.address, head)))
        except Exception as error:
            ended(error)
            raise
        except BaseException:
            ended(Stopped("the service was stopped"))
            raise
        else:
            ended(None)

    def stop(self) -> None:
        """Breaks off what is still under way, and records it. To be called in the event loop."""
        self._watch.stop()
        self._way.transfers.tell()


class _Settling:
    """Settles a request when its answer has ended; small, for a thousand of them wait at once."""

    __slots__ = ("_archives", "_live", "_segment", "_transfers")

    def __init__(self, transfers: Transfers, archives: Bundles, live: Live, segment: Segment) -> None:
        self._transfers = transfers
        self._archives = archives
        self._live = live
        self._segment = segment

    def __call__(self, error: Exception | None) -> None:
        """The answer was sent, or was not for `error`."""
        broken = None if error is None else str(error) or type(error).__name__
        if isinstance(error, ClientGone) and not isinstance(error, ReaderStuck):
            broken = "the client went away"
        elif error is not None and not isinstance(error, (ClientGone, Stopped)):
            row = self._live.row
            said = {"address": row.address, "transfer": row.id, "reason": broken}
            log.warning("delivery.broken", extra={"fields": said})
        self._transfers.settle(self._live, self._segment, broken)
        if isinstance(error, ReplyBroken):
            self._archives.broken(self._live.row.address)


def _not_delivered(error: ReplyBroken, address: str, head: RequestHead) -> Reply:
    """What is answered instead of a reply of which nothing has left yet."""
    refusal = Refusal("changed", str(error))
    if isinstance(error, NotMade):
        refusal = Refusal("not-made", f"{address} could not be made; the operator's log says why")
    return refusal_reply(refusal, head.method, head.get(b"accept"))


async def _with_content_digest(reply: Reply) -> Reply:
    """The reply with the digest of what it carries, where that is little enough to be read beforehand."""
    if reply.length is None or reply.length > SMALL:
        return reply
    value = digest_field(await run_in_threadpool(digest_of, reply.parts))
    return replace(reply, headers=[*reply.headers, (b"content-digest", value)])


def _check_host(head: RequestHead, scope: Any) -> None:
    """RFC 9110 §7.2: an HTTP/1.1 request has exactly one Host. Raises Refusal (`bad-request`)."""
    host = head.get(b"host")
    if scope["http_version"] == "1.1" and (host is None or "," in host):
        raise Refusal("bad-request", "an HTTP/1.1 request has one Host field")


def _said_address(path: str) -> str:
    """What was asked for, as the history has it, well formed or not."""
    return unquote(path[len(PREFIX) :], errors="backslashreplace")


def raw_path(scope: Any) -> str:
    """The path as it was sent, still encoded, without what the application is mounted under."""
    raw: bytes = scope.get("raw_path") or scope["path"].encode()
    root = scope.get("root_path", "")
    return raw.decode("latin-1").removeprefix(root)


def _presentation(link: SealedLink) -> Presentation:
    for name, _ in link.root:
        if name in _PRESENTS:
            break
    else:
        return _AS_IT_IS
    return presented(link.says, sealed=True)


def _asking(caller: Caller, address: Address, link: SealedLink | None, quotas: Mapping[Quota, int]) -> Asking:
    """Requests of one transfer come from one recipient, whom a link may name; failing that, from one place."""
    recipient = (link.says("to") if link else None) or caller.recipient
    who = f"recipient:{recipient}" if recipient else f"network:{caller.network}"
    return Asking(who, intern(str(address)), recipient, caller.network, link, quotas)

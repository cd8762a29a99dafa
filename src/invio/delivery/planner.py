"""From a request to its reply, planned: identify → decide → locate → decide → plan. Nothing is changed by it."""

from __future__ import annotations

import time
from collections.abc import Coroutine, Mapping
from dataclasses import dataclass, field, replace
from functools import lru_cache
from sys import intern
from typing import Any

from invio.core.addresses import Address, BadAddress, requested_address
from invio.core.files import ANYONE, Caller
from invio.core.http.caching import not_public
from invio.core.http.cors import SAME_ORIGIN, CrossOrigin
from invio.core.http.replies import METHODS, Reply, Representation, plan
from invio.core.http.request_head import RequestHead
from invio.core.links.seals import SealedLink, check_link, is_sealed, parse_link
from invio.core.links.terms import ORDER, Asked, LinkRefused
from invio.core.networks import principal
from invio.core.reasons import Refusal
from invio.core.rules.quotas import Quota
from invio.core.rules.terms import NO_TERMS, Terms
from invio.delivery.access.authentication import Authenticator
from invio.delivery.access.catalogue import Catalogue
from invio.delivery.access.link_issuers import Makers
from invio.delivery.archives import bundles
from invio.delivery.archives.bundles import Bundles
from invio.delivery.offload import NO_FRONT, Front, redirect
from invio.delivery.problem_details import USUAL_PAGES, Pages
from invio.delivery.representation.negotiation import Negotiator
from invio.delivery.representation.presentation import Presentation, presented, read_presentation
from invio.delivery.representation.renditions import Renditions
from invio.delivery.sending.eager import in_pool
from invio.delivery.transfers.exhausted import EndedLinks
from invio.delivery.transfers.keys import TransferKey
from invio.delivery.transfers.limits import Limits, Throttles
from invio.delivery.transfers.transfers import Transfers
from invio.records.rows import TransferRow
from invio.stores.store import Found
from invio.workers.shared import Sharing

PREFIX = "/get/"
_NO_QUOTAS: Mapping[Quota, int] = {}
# From this many bytes on, a request for a whole file looks for a transfer that broke off.
_BEGUN_ANEW = 1024 * 1024
_PRESENTS = ("as", "name", "version", "rendition")  # the link parameters that say how the file is shown
_AS_IT_IS = Presentation(sealed=True)


@dataclass(slots=True)
class Request:
    """A request for a file.

    `root` is what the application is mounted under, `target` the path below it and the query, still encoded.
    `peer` is the other side of the connection: a front server, where there is one. `link` is there when its
    seal is good, `caller` once it is known who asks.
    """

    head: RequestHead
    root: str
    target: str
    peer: str | None
    caller: Caller | None = None
    link: SealedLink | None = None

    @property
    def path(self) -> str:
        """The path below `root`, still encoded."""
        return self.target.partition("?")[0]


@dataclass(slots=True)  # not frozen: that would cost each request a microsecond
class Resolved:
    """A request's file or bundle, before its reply is planned.

    `etag` is what the records know the content by; `found` the file, None for a bundle. `quotas` are those that hold,
    with how many files it is to each, and `quota_owner` the recipient whose they are, where that is not who asks.
    `rendition` is what is sent in place of the image, or of each image of a bundle.
    """

    representation: Representation
    etag: str | None
    found: Found | None
    terms: Terms
    quotas: Mapping[Quota, int]
    quota_owner: str | None
    decided_by: str
    rendition: str | None


@dataclass(slots=True)
class PlannedReply:
    """A reply, with what it delivers and to whom.

    `etag` identifies the content in the records; it does not change when the content's digest becomes known.
    """

    reply: Reply
    asking: TransferKey
    representation: Representation
    etag: str | None
    earlier: TransferRow | None
    terms: Terms
    handed_off: Reply | None = None


@dataclass(slots=True)
class DeliveryServices:
    """What a delivery is made of. `grace` is how long after its expiry a link still resumes a transfer, in seconds."""

    catalogue: Catalogue
    identifier: Authenticator
    transfers: Transfers
    archives: Bundles
    offering: Negotiator
    makers: Makers
    ended_links: EndedLinks
    keys: Mapping[str, bytes]
    grace: int
    renditions: Renditions
    limits: Limits = field(default_factory=Limits)
    sharing: Sharing | None = None
    cross_origin: CrossOrigin = SAME_ORIGIN
    front: Front = NO_FRONT
    pages: Pages = USUAL_PAGES


class Planner:
    """Plans answers; of a reader's speed it only needs to know whether it is limited."""

    def __init__(self, way: DeliveryServices, throttles: Throttles) -> None:
        self._way = way
        self._throttles = throttles

    def plan(self, request: Request, scope: Any) -> Coroutine[Any, Any, PlannedReply]:
        """The answer to a request, and what is recorded of it; of the caller and the link, `request` is told.

        Called, and then awaited; either raises:
            Refusal: with the reason.
            StoreFault: another system did not answer.
        """
        head, identifier = request.head, self._way.identifier
        if head.method not in ("GET", "HEAD"):
            raise Refusal("wrong-method", f"{head.method} is not for files; use {METHODS}", allow=METHODS)
        network = self._way.front.network(request.peer, head)
        caller = identifier.known(head, network)
        return self._identified(request, network, scope) if caller is None else self._plan_for(request, caller)

    async def _identified(self, request: Request, network: str | None, scope: Any) -> PlannedReply:
        caller = await self._way.identifier.identify(request.head, network, scope)
        return await self._plan_for(request, caller)

    def _plan_for(self, request: Request, caller: Caller) -> Coroutine[Any, Any, PlannedReply]:
        request.caller = caller
        path, _, query = request.target.partition("?")
        if is_sealed(query):
            return self._plan_sealed(request, caller)
        try:
            address = requested_address(path[len(PREFIX) :])
        except BadAddress as error:
            raise Refusal("malformed", f"the address: {error}") from None
        return self._planned(request, caller, address, read_presentation(query), None)

    async def _plan_sealed(self, request: Request, caller: Caller) -> PlannedReply:
        """A valid link overrides the rules, and it alone determines the presentation."""
        link = parse_link(request.target[len(PREFIX) :])
        asked = Asked(time.time(), caller.network, caller.agent, caller.recipient)
        late: LinkRefused | None = None
        try:
            check_link(link, self._way.keys, asked)
        except LinkRefused as refused:
            if refused.reason.word in ORDER:  # its content is authentic, because its seal is valid
                request.link = link
            # A download that began in time may be completed; every other condition still applies.
            if refused.reason.word != "expired" or b"range" not in request.head:
                raise
            check_link(link, self._way.keys, asked._replace(grace=self._way.grace))
            late = refused
        request.link = link
        try:
            planned = await self._planned(request, caller, link.address, _presentation(link), link)
        except Refusal as refusal:
            # An expired link reveals nothing else: neither the file's size nor whether it has changed.
            if late is not None:
                raise late from None
            await self._way.ended_links.check_link(link)
            raise refusal from None
        if late is not None:
            began = planned.earlier.started if planned.earlier else None
            if began is None or link.expires is None or began >= link.expires:
                raise late
        if not planned.reply.parts:
            await self._way.ended_links.check_link(link)
        return planned

    async def _planned(
        self,
        request: Request,
        caller: Caller,
        address: Address,
        presentation: Presentation,
        link: SealedLink | None,
    ) -> PlannedReply:
        """Decides, locates and decides again (`_of_file`, `_of_bundle`), then plans the reply."""
        way = self._way
        if address.store == bundles.STORE:
            one = await self._of_bundle(request, caller, address, link)
        else:
            one = await self._of_file(request, caller, address, presentation, link)
        reply = plan(request.head, one.representation)
        found, version = one.found, None if one.found is None else one.found.facts.version
        asking = _asking(
            caller, address, link, one.quotas, version=version, rendition=one.rendition, decided_by=one.decided_by
        )
        if one.quota_owner is not None and one.quotas:
            asking.quota_owner = f"recipient:{one.quota_owner}"
        planned = PlannedReply(reply, asking, one.representation, one.etag, None, one.terms)
        if reply.status == 206 or (request.head.method == "GET" and (reply.length or 0) > _BEGUN_ANEW):
            planned.earlier = await way.transfers.admission.earlier(asking, one.etag, whole=reply.status == 200)
        if found is not None and (way.front.header is not None or found.blocking is not None):
            planned.handed_off = await self._handed_off(request, planned, found)
        return planned

    async def _of_bundle(self, request: Request, caller: Caller, address: Address, link: SealedLink | None) -> Resolved:
        """A bundle, which its maker or a link may have."""
        archives = self._way.archives
        resumes = not (request.head.get(b"range") or "bytes=0-").startswith("bytes=0-")
        one = await archives.represented(caller, address, sealed=link is not None, resumes=resumes)
        by = "bundle" if link is None else _sealed_by(link)
        return Resolved(
            one.representation, one.representation.tag, None, NO_TERMS, one.quotas, one.owner, by, one.rendition
        )

    async def _of_file(
        self, request: Request, caller: Caller, address: Address, presentation: Presentation, link: SealedLink | None
    ) -> Resolved:
        """A file of a store: decided by its address, located, decided by its facts, and negotiated."""
        way, terms, quotas, owner = self._way, NO_TERMS, _NO_QUOTAS, None
        catalogue, version = way.catalogue, presentation.version
        if link is None:
            await catalogue.prefetch(caller, "read", address)
        if catalogue.waits(address):
            pool, whose = catalogue.pool_of(address), caller.principal
            found, by = await in_pool(pool, self._found, caller, address, link, version, whose=whose)
        else:
            found, by = self._found(caller, address, link, version)
        if link is None:
            terms = self._for_caches(catalogue.rules.terms(caller, "read", address, found.facts), found)
            if terms.quotas:
                quotas = dict.fromkeys(terms.quotas, 1)
        elif catalogue.rules.has_quotas and (maker := await way.makers.of(link)) is not None:
            quotas = dict.fromkeys(catalogue.rules.quotas_named(maker.quotas, address), 1)
            owner = maker.recipient
        if presentation.rendition is not None:
            found = await way.renditions.made(found, presentation.rendition, caller)
        offer = await way.offering.offer(request.head, found, presentation, terms, caller=caller)
        etag, rendition = offer.found.facts.tag, presentation.rendition
        return Resolved(offer.representation, etag, found, terms, quotas, owner, by, rendition)

    def _for_caches(self, terms: Terms, found: Found) -> Terms:
        """The terms, without `public` for a file that not everyone may have (RFC 9111 §3.5)."""
        rules, facts = self._way.catalogue.rules, found.facts
        if terms.cache is None or "public" not in terms.cache or not rules.has_reasons:
            return terms  # an application with its own policy sets its own caching
        if rules.allows(ANYONE, "read", facts.address, facts):
            return terms
        return replace(terms, cache=not_public(terms.cache))

    async def _handed_off(self, request: Request, planned: PlannedReply, found: Found) -> Reply | None:
        """The answer that has somebody else send the content: the front server, or the remote store itself."""
        way, asking = self._way, planned.asking
        if way.front.sends_from(found.facts.address.store, request.peer, request.head):
            throttles = self._throttles.holding(asking.principal, asking.link, planned.terms)
            return way.front.hand_off(request.head, found, planned.representation, planned.reply, throttles)
        remote = found.blocking
        if remote is None or not planned.reply.parts:
            return None
        if self._throttles.holding(asking.principal, asking.link, planned.terms):
            return None  # only we can keep to a speed limit
        pool = self._way.catalogue.pool_of(found.facts.address)
        elsewhere = await in_pool(pool, remote.store.address_of, remote)
        return None if elsewhere is None else redirect(elsewhere)

    def _found(
        self, caller: Caller, address: Address, link: SealedLink | None, version: int | None
    ) -> tuple[Found, str]:
        """The file, and the rules that allow it; a valid link needs no rules."""
        catalogue = self._way.catalogue
        if link is None:
            return catalogue.obtain_by(caller, "read", address, version)
        return catalogue.located(address, version), _sealed_by(link)


def raw_path(scope: Any) -> str:
    """The request's path, still encoded, without the mount path."""
    return _raw(scope).decode("latin-1").removeprefix(scope.get("root_path", ""))


def raw_target(scope: Any) -> str:
    """The request's path and query, still encoded, without the mount path."""
    query: bytes = scope["query_string"]
    raw = _raw(scope)
    target = raw + b"?" + query if query else raw
    return target.decode("latin-1").removeprefix(scope.get("root_path", ""))


def _raw(scope: Any) -> bytes:
    raw: bytes = scope.get("raw_path") or scope["path"].encode()
    return raw


def _sealed_by(link: SealedLink) -> str:
    """What decided about a link, in words for the history; one text for all links of a key."""
    return intern(f"seal: {link.key}")


def _presentation(link: SealedLink) -> Presentation:
    for name, _ in link.root:
        if name in _PRESENTS:
            break
    else:
        return _AS_IT_IS
    return presented(link.says, sealed=True)


def _asking(
    caller: Caller,
    address: Address,
    link: SealedLink | None,
    quotas: Mapping[Quota, int],
    *,
    version: int | None,
    rendition: str | None,
    decided_by: str,
) -> TransferKey:
    """Requests of one transfer come from one recipient, or from one place; and, by a link, by that link.

    So nobody can join or cut another's download by writing that recipient's id into a link.
    """
    recipient = caller.recipient if link is None else link.names_recipient or caller.recipient
    whose, said = principal(recipient, caller.network), _said(address)
    who = whose if link is None else f"{whose}|{link.mark}"
    return TransferKey(
        who, said, recipient, caller.network, link, quotas, version=version, rendition=rendition,
        credential=caller.credential, decided_by=decided_by, principal=whose,
    )  # fmt: skip


# One text for all requests of the same: many may wait at once.
@lru_cache(maxsize=4096)
def _said(address: Address) -> str:
    return str(address)

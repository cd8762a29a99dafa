"""FastAPI dependencies: the caller of a request, identified as the delivery does it, and the service's parts."""

from __future__ import annotations

from typing import Annotated

from fastapi import Depends, Request

from invio.core.addresses import Address, BadAddress, parse_address, percent_decoded
from invio.core.files import Caller
from invio.core.http.request_head import RequestHead
from invio.core.reasons import Refusal
from invio.core.rules.decisions import ADMINISTER, THE_SERVICE
from invio.delivery.access.authentication import check_same_site
from invio.delivery.planner import raw_path
from invio.service.assembly import Parts


def parts_of(request: Request) -> Parts:
    """The parts of the service that a request came to."""
    parts: Parts = request.app.state.parts
    return parts


def head_of(request: Request) -> RequestHead:
    """The head of a request, as the core sees it."""
    return RequestHead(request.method, request.scope["headers"])


async def caller_of(request: Request) -> Caller:
    """The caller. Raises Refusal (`bad-token`, `cross-site`)."""
    head, parts = head_of(request), parts_of(request)
    network = parts.way.front.network(request.client.host if request.client else None, head)
    caller = await parts.identifier.identify(head, network, request.scope.get("invio.outer", request.scope))
    check_same_site(head, caller)
    return caller


def address_in_path(request: Request, prefix: str) -> Address:
    """The address after `prefix`, from the path as it was sent. Raises Refusal (`malformed`)."""
    return read_address(percent_decoded_or_refused(raw_path(request.scope).removeprefix(prefix)))


def percent_decoded_or_refused(text: str) -> str:
    """A path, decoded. Raises Refusal (`malformed`)."""
    try:
        return percent_decoded(text)
    except BadAddress as error:
        raise Refusal("malformed", f"the address: {error}") from None


def read_address(text: str) -> Address:
    """An address that somebody sent. Raises Refusal (`malformed`)."""
    try:
        return parse_address(text)
    except BadAddress as error:
        raise Refusal("malformed", f"the address {text[:200]!r}: {error}") from None


async def administers(parts: Parts, caller: Caller) -> bool:
    """Whether the caller has the right `administer`; an application may have to be asked."""
    await parts.rules.prefetch(caller, ADMINISTER, THE_SERVICE)
    return parts.rules.administers(caller)


async def require_administrator(parts: Parts, caller: Caller) -> None:
    """Raises Refusal, for those who do not have the right `administer`."""
    if await administers(parts, caller):
        return
    if caller.recipient is None:
        raise Refusal("sign-in", "this is for administrators of the service; sign in as one")
    said = f"this takes the right {ADMINISTER!r} on the whole service, which the rules do not give {caller.recipient}"
    raise Refusal("not-allowed", said)


TheParts = Annotated[Parts, Depends(parts_of)]
TheCaller = Annotated[Caller, Depends(caller_of)]

"""Short links: for oneself, for a minute, so that a page can follow a download that it had no link for.

They give nothing that the caller does not have: the file is one that they may read, only they can use the link, and
no faster. What counts to a quota has none, for a link's downloads count to whoever had it made.
"""

from __future__ import annotations

import secrets
import time
from typing import Literal

from fastapi import Request, Response
from pydantic import BaseModel, ConfigDict, Field

from invio.core.addresses import Address
from invio.core.files import Caller
from invio.core.links.seals import link_target, make_link
from invio.core.reasons import Refusal
from invio.core.rules.terms import NO_TERMS, Terms
from invio.delivery.archives import bundles
from invio.delivery.sending.eager import in_pool
from invio.service.asked import Asked
from invio.service.assembly import Parts
from invio.service.deciding import decided
from invio.service.dependencies import TheCaller, TheParts, read_address
from invio.service.routes import Routes

routes = Routes("links")
_HOLDS = 60  # seconds within which the download has to begin


class ShortLinkAsk(Asked):
    """Names a file and how to deliver it."""

    model_config = ConfigDict(populate_by_name=True)
    address: str
    version: int | None = Field(None, ge=1)
    rendition: str | None = Field(None, max_length=32)
    disposition: Literal["attachment", "inline"] | None = Field(None, alias="as")
    name: str | None = Field(None, max_length=200)


class ShortLink(BaseModel):
    """A link with a tag. `target` is its path and query; `until` in Unix seconds."""

    target: str
    tag: str
    until: int


@routes.post("/api/short-links", status_code=201, summary="Make a short link for oneself")
async def post_short_link(
    asked: ShortLinkAsk, request: Request, response: Response, caller: TheCaller, parts: TheParts
) -> ShortLink:
    """Seals a link for a file the caller may read: for the caller alone, for one minute, with a `tag` to follow it."""
    address = read_address(asked.address)
    if address.folder:
        raise Refusal("bad-request", f"{address} is a folder; give the address of a file")
    if not parts.keys.keys:
        raise Refusal("no-short-link", "this service has no keys to seal links with")
    terms = await _terms(parts, caller, address, asked.version)
    if terms.quotas:
        raise Refusal("no-short-link", f"{address} counts to a quota of yours")
    if caller.recipient is None and terms.speed is not None:
        raise Refusal("no-short-link", f"{address} has a speed limit for everybody who is not signed in")
    given = asked.model_dump(by_alias=True, exclude_none=True, exclude={"address"})
    if terms.disposition is not None:
        given["as"] = terms.disposition
    root = [(name, str(given[name])) for name in ("version", "rendition", "as", "name") if name in given]
    tag, until = secrets.token_hex(16), int(time.time()) + _HOLDS
    conditions = [("until", str(until))]
    if caller.recipient is not None:
        conditions.append(("who", caller.recipient))
    if terms.speed is not None:
        conditions.append(("rate", str(terms.speed)))
    key = parts.keys.current
    link = make_link(address, key, parts.keys.keys[key], root, [*conditions, ("tag", tag)])
    response.headers["Location"] = request.scope.get("root_path", "") + link_target(link)
    return ShortLink(target=link_target(link), tag=tag, until=until)


async def _terms(parts: Parts, caller: Caller, address: Address, version: int | None) -> Terms:
    """On which terms the caller has the file. Raises Refusal."""
    if address.store == bundles.STORE:
        bundle_id, _, name = address.path.partition("/")
        record = await in_pool(parts.pools.following, parts.bundles.named, caller, bundle_id)
        if record.name != name or record.recipient != caller.recipient:
            raise Refusal("missing", "there is no such bundle of yours")
        if parts.rules.has_quotas:
            raise Refusal("no-short-link", "what a bundle holds may count to a quota of yours")
        return NO_TERMS
    catalogue = parts.catalogue
    await catalogue.prefetch(caller, "read", address)
    found = await decided(
        catalogue.pool_of(address), catalogue.obtain, caller, "read", address, version, whose=caller.principal
    )
    return parts.rules.terms(caller, "read", address, found.facts)

"""Pickup pages: a file or a link as a page for a person, with what it is, how long it holds, and a button."""

from __future__ import annotations

import time
from dataclasses import dataclass, field
from typing import Any

from fastapi import Request, Response

from invio.core.addresses import Address, BadAddress, requested_address
from invio.core.figures import size_text
from invio.core.files import Caller
from invio.core.http.media_types import OCTETS, media_type_of
from invio.core.links.seals import SealedLink, check_link, is_sealed, parse_link
from invio.core.links.terms import Asked, LinkRefused
from invio.core.moments import timestamp
from invio.core.reasons import Refusal
from invio.delivery.archives import bundles
from invio.delivery.planner import raw_target
from invio.delivery.representation.presentation import Presentation, presented, read_presentation
from invio.delivery.sending.eager import in_pool
from invio.records.links import link_named
from invio.service.assembly import Parts
from invio.service.deciding import decided
from invio.service.dependencies import TheCaller, TheParts
from invio.service.files import shape
from invio.service.listing_pages import VersionChoice, version_choices
from invio.service.page_parts import page, root_of
from invio.service.routes import Routes
from invio.stores.store import Found

routes = Routes(in_description=False)
PREFIX = "/pickup/"
_SHOWN = 4 << 20  # bytes of an image that is shown, at most
_IMAGES = ("image/png", "image/jpeg", "image/gif", "image/webp")


@dataclass(slots=True)
class _Picked:
    """What the page says."""

    name: str
    type: str
    size: int | None
    modified: str = ""
    version: int | None = None
    rendition: str | None = None
    description: str | None = None
    versions: list[VersionChoice] = field(default_factory=list)
    renditions: list[str] = field(default_factory=list)


@routes.get(PREFIX + "{path:path}")
async def pickup_page(request: Request, caller: TheCaller, parts: TheParts, path: str) -> Response:
    """The page of a sealed link; without a seal, the page of a file the caller may read."""
    target = raw_target(request.scope).removeprefix(PREFIX)
    given, _, query = target.partition("?")
    get = f"{root_of(request)}/get/{target}"
    filled: dict[str, Any]
    if is_sealed(query):
        link = parse_link(target)
        _check(parts, caller, link)
        if link.summary.id is not None:
            await parts.way.ended_links.check(link.summary.id, link.summary.uses, again=False)
        picked = await _of_link(parts, caller, link)
        filled = await in_pool(parts.pools.following, _said_of, parts, link)
        # A look at it is a use of the link, and goes by its speed: only where neither is counted.
        free = link.summary.uses is None and link.rate is None and not parts.rules.has_quotas
    else:
        picked = await _of_address(parts, caller, _address(given), read_presentation(query))
        filled, free = {}, not parts.rules.has_quotas
    shows = free and picked.type in _IMAGES and picked.size is not None and picked.size <= _SHOWN
    return page(
        request,
        parts,
        "pickup.html",
        caller,
        href=get,
        get=get.partition("?")[0],
        preview=get if shows else None,
        **{name: getattr(picked, name) for name in _Picked.__slots__},
        **filled,
    )


def _check(parts: Parts, caller: Caller, link: SealedLink) -> None:
    """Raises Refusal; `sign-in` where that would help."""
    try:
        check_link(link, parts.way.keys, Asked(time.time(), caller.network, caller.agent, caller.recipient))
    except LinkRefused as refused:
        if refused.reason.word == "wrong-recipient" and caller.recipient is None:
            raise Refusal("sign-in", refused.detail) from None
        raise


def _address(given: str) -> Address:
    """Raises Refusal."""
    try:
        address = requested_address(given)
    except BadAddress as error:
        raise Refusal("malformed", f"the address: {error}") from None
    if address.folder:
        raise Refusal("malformed", f"{address} is a folder; its page is below /files/")
    return address


async def _of_address(parts: Parts, caller: Caller, address: Address, says: Presentation) -> _Picked:
    """What a caller may have by their own rights."""
    await parts.catalogue.prefetch(caller, "read", address)
    if address.store == bundles.STORE:
        return await _of_bundle(parts, caller, address, None, sealed=False)
    pool, whose = parts.catalogue.pool_of(address), caller.principal
    found = await decided(pool, parts.catalogue.obtain, caller, "read", address, says.version, whose=whose)
    found = await _shown(parts, found, says.rendition, caller)
    return await decided(pool, _of_file, parts, caller, address, found, says, whose=whose)


def _of_file(parts: Parts, caller: Caller, address: Address, found: Found, says: Presentation) -> _Picked:
    shown = shape(parts, caller, address, found)
    newer = (shown.version or 1) > 1 or says.version is not None
    return _Picked(
        shown.download_name or address.name,
        shown.media_type or OCTETS,
        shown.size,
        "" if shown.modified is None else shown.modified[:16].replace("T", " "),
        shown.version,
        says.rendition,
        shown.description,
        version_choices(parts, address) if newer and says.version is None else [],
        shown.renditions if says.rendition is None else [],
    )


async def _of_link(parts: Parts, caller: Caller, link: SealedLink) -> _Picked:
    """What a link opens; whoever sealed it has said how."""
    address = link.address
    if address.store == bundles.STORE:
        return await _of_bundle(parts, caller, address, link.says("name"), sealed=True)
    says = presented(link.says, sealed=True)
    pool, whose = parts.catalogue.pool_of(address), caller.principal
    found = await in_pool(pool, parts.catalogue.located, address, says.version, whose=whose)
    facts = (await _shown(parts, found, says.rendition, caller)).facts
    return _Picked(
        says.name or facts.name or address.name,
        facts.media_type or media_type_of(address.name),
        facts.size,
        "" if facts.modified is None else timestamp(facts.modified)[:16].replace("T", " "),
        facts.version,
        says.rendition,
        facts.description,
    )


async def _shown(parts: Parts, found: Found, rendition: str | None, caller: Caller) -> Found:
    """The file, or a rendition of it. Raises Refusal."""
    if rendition is None:
        return found
    return await parts.way.renditions.made(found, rendition, caller)


async def _of_bundle(parts: Parts, caller: Caller, address: Address, name: str | None, *, sealed: bool) -> _Picked:
    represented = await parts.bundles.represented(caller, address, sealed=sealed, resumes=False)
    representation = represented.representation
    return _Picked(name or representation.name, representation.media_type, representation.size)


def _said_of(parts: Parts, link: SealedLink) -> dict[str, Any]:
    """Until when a link holds, and what else it is bound to, in words."""
    bound = []
    if link.summary.uses is not None and link.summary.id is not None:
        with parts.engine.connect() as connection:
            row = link_named(connection, link.summary.id)
        left = link.summary.uses - (0 if row is None else row.used)
        bound.append(f"{left} of {link.summary.uses} downloads left")
    if link.summary.to is not None:
        bound.append(f"made for {link.summary.to}")
    bound += [f"{one} alone, signed in" for one in link.conditions_named("who")]
    bound += [f"the network {one}" for one in link.conditions_named("net")]
    bound += ["the program that it was made for" for _ in link.conditions_named("agent")]
    if link.rate is not None:
        bound.append(f"{size_text(link.rate)} a second at most")
    until = link.expires
    return {
        "bound": bound,
        "until": None if until is None else timestamp(until),
        "until_said": None if until is None else timestamp(until)[:16].replace("T", " ") + " UTC",
    }

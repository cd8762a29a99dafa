"""Sealed links, made by those whose rules allow it, for what they may read themselves."""

from __future__ import annotations

import time

from fastapi import APIRouter, Request, Response

from invio.core.addresses import Address
from invio.core.files import Caller
from invio.core.link_terms import CONDITION_NAMES, ROOT
from invio.core.links import link_target, make_link
from invio.core.reasons import Refusal
from invio.service.asking import TheCaller, TheParts, read_address
from invio.service.assembly import Parts
from invio.service.shapes import LinkAsk, LinkShape, Problem

router = APIRouter(tags=["links"])


@router.post(
    "/api/links",
    status_code=201,
    summary="Make a sealed link",
    responses={status: {"model": Problem} for status in (400, 401, 403, 404)},
)
def post_link(asked: LinkAsk, request: Request, response: Response, caller: TheCaller, parts: TheParts) -> LinkShape:
    """Seals a link for a file, or with `in` for a folder. It takes the rights `link` and `read` for all of it."""
    address = read_address(asked.address)
    _require(parts, caller, address, asked.within)
    given = asked.model_dump(by_alias=True, exclude_none=True)
    if asked.seconds is not None:
        if asked.until is not None:
            raise Refusal("bad-request", "give until or seconds, not both")
        given["until"] = int(time.time()) + asked.seconds
    link = make_link(
        address,
        parts.keys.current,
        parts.keys.keys[parts.keys.current],
        [(name, str(given[name])) for name in ROOT if name in given],
        _conditions(given),
    )
    target = link_target(link)
    base = parts.settings.service.public_url or str(request.base_url)
    url = base.rstrip("/") + target
    response.headers["Location"] = url
    return LinkShape(url=url, target=target, address=str(address), key=link.key, id=link.says("id"), until=link.expires)


def _conditions(given: dict[str, object]) -> list[tuple[str, str]]:
    pairs = []
    for name in CONDITION_NAMES:
        value = given.get(name, [])
        pairs += [(name, str(item)) for item in (value if isinstance(value, list) else [value])]
    return pairs


def _require(parts: Parts, caller: Caller, address: Address, within: str | None) -> None:
    """Nobody hands on more than they have."""
    for action in ("link", "read"):
        parts.catalogue.obtain(caller, action, address)
        if within is not None:
            folder = read_address(within)
            if not parts.rules.allows_below(caller, action, folder):
                raise Refusal("not-allowed", f"the rules do not let you {action} everything in {folder}")

"""What a link says, condition by condition, and why it would be refused."""

from __future__ import annotations

import time

from invio.core.files import Caller
from invio.core.links.seals import SealedLink, check_link, parse_link, parse_url
from invio.core.links.terms import CONDITIONS, Asked, LinkRefused
from invio.core.moments import timestamp
from invio.core.reasons import Refusal
from invio.delivery.sending.eager import in_pool
from invio.records.links import LinkRow, link_named
from invio.service.assembly import Parts
from invio.service.dependencies import TheCaller, TheParts, administers
from invio.service.operating_schemas import ConditionShape, LinkExplanation, LinkQuestion
from invio.service.routes import Routes

routes = Routes("links")
_GET = "/get/"
_PAGES = ("/pickup/", "/follow/")  # on which the same link is seen, and followed


@routes.post("/api/links/explanation", summary="What a link does, and why it is refused")
async def explain_link(asked: LinkQuestion, caller: TheCaller, parts: TheParts) -> LinkExplanation:
    """Explains a link to its holder, who must be signed in. This does not count as a use."""
    if caller.recipient is None:
        raise Refusal("sign-in", "sign in to have a link explained")
    try:
        link = _read(asked.link.strip())
    except LinkRefused as refused:
        raise Refusal("bad-request", f"this is no sealed link: {refused.detail}") from None
    known = await in_pool(parts.pools.history, _known, parts, link, whose=caller.principal)
    explained = _explained(parts, caller, link, known)
    if explained.maker is not None and not await administers(parts, caller):
        explained.maker = None
    return explained


def _read(text: str) -> SealedLink:
    for page in _PAGES:
        text = text.replace(page, _GET, 1)
    begin = text.find(_GET)
    return parse_link(text[begin + len(_GET) :]) if begin >= 0 else parse_url(text)


def _known(parts: Parts, link: SealedLink) -> LinkRow | None:
    name = link.says("id")
    if name is None:
        return None
    with parts.engine.connect() as connection:
        return link_named(connection, name)


def _explained(parts: Parts, caller: Caller, link: SealedLink, known: LinkRow | None) -> LinkExplanation:
    key = parts.keys.keys.get(link.key)
    sealed = key is not None and link.is_sealed_by(key)
    if not sealed:
        known = None  # who cannot show the seal is told nothing of the id
    used, revoked = (0, None) if known is None else (known.used, known.revoked)
    now = Asked(time.time(), caller.network, caller.agent, caller.recipient, used=used, revoked=revoked is not None)
    reason, detail = None, "the link opens what it names"
    try:
        check_link(link, parts.keys.keys, now)
    except LinkRefused as refused:
        reason, detail = refused.reason.word, refused.detail
    said = [ConditionShape(name=name, value=value, holds=None) for name, value in link.root]
    said += [
        ConditionShape(name=name, value=value, holds=_holds(link, name, value, now)) for name, value in link.conditions
    ]
    return LinkExplanation(
        address=str(link.address),
        scope=link.folder,
        key=link.key,
        sealed=sealed,
        id=link.says("id"),
        conditions=said,
        reason=reason,
        detail=detail,
        used=None if known is None else known.used,
        uses=link.uses,
        revoked=None if revoked is None else timestamp(revoked),
        maker=None if known is None else known.maker,
    )


def _holds(link: SealedLink, name: str, value: str, now: Asked) -> bool | None:
    """Whether a condition holds for whoever asks; None for one that decides nothing, as a tag."""
    condition = CONDITIONS[name]
    return condition.holds(link.address, value, now) if condition.reason else None

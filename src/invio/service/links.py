"""Sealed links, made by those whose rules allow it, for what they may read themselves."""

from __future__ import annotations

import secrets
import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Annotated, Any, NamedTuple, cast

import sqlalchemy as sa
from fastapi import Query, Request, Response

from invio.core.addresses import Address
from invio.core.files import Caller
from invio.core.links.seals import SealedLink, id_of_maker, link_target, make_link
from invio.core.links.terms import CONDITION_NAMES, ROOT
from invio.core.moments import LAST_MOMENT, timestamp
from invio.core.reasons import Refusal
from invio.core.rules.decisions import RuleSet
from invio.core.rules.quotas import period_text
from invio.core.rules.terms import Terms
from invio.delivery.archives import bundles
from invio.delivery.sending.eager import in_pool, in_thread
from invio.records import links as records
from invio.records.bundles import BundleRecord
from invio.records.database import write
from invio.records.links import LinkKnown, LinkRow
from invio.service.assembly import Parts
from invio.service.deciding import decided
from invio.service.dependencies import TheCaller, TheParts, administers, read_address, require_administrator
from invio.service.routes import Routes
from invio.service.schemas import LinkAsk, LinkFacts, LinkList, LinkShape, RevokedShape

routes = Routes("links")


@routes.post(
    "/api/links",
    status_code=201,
    summary="Make a sealed link",
)
async def post_link(
    asked: LinkAsk, request: Request, response: Response, caller: TheCaller, parts: TheParts
) -> LinkShape:
    """Seals a link for a file, or with `in` for a folder. Takes the rights `link` and `read` for all of it.

    A link without an id gets one, by which it is listed, counted and revoked. Its downloads are no faster than the
    maker's own, and count towards the maker's quotas.
    """
    where = read_address(asked.address)
    record, pool = None, parts.catalogue.pool_of(where)
    if where.store == bundles.STORE and not where.folder:
        record = await in_pool(parts.pools.identification, _bundle, parts, caller, where)
        pool = parts.bundles.pools.of(record) or parts.pools.planning
    opened = await decided(pool, _opened, parts, caller, asked, where, record, whose=caller.principal)
    link = await in_thread(_made, parts, caller, asked, opened)
    target = link_target(link)
    url = parts.behind.base_of(request) + target
    response.headers["Location"] = url
    return LinkShape(
        url=url, target=target, address=str(opened.address), key=link.key, id=link.says("id"), until=link.expires
    )


def _made(parts: Parts, caller: Caller, asked: LinkAsk, opened: _Opened) -> SealedLink:
    """The link as asked for, and as strict as its maker's terms; it is written down. Raises Refusal."""
    given = asked.model_dump(by_alias=True, exclude_none=True)
    _check_times(asked, given)
    if opened.record is not None:
        given.setdefault("until", int(opened.record.expires))
    _hold_for([one.linking for one in opened.terms], opened.address, given)
    reading = [one.reading for one in opened.terms]
    speeds = [one.speed for one in reading if one.speed is not None]
    if speeds:
        given["rate"] = min([*speeds, asked.rate or min(speeds)])
    given["id"] = _id(parts, caller, asked.id)
    link = _sealed(parts, opened.address, given)
    _note_made(parts, caller, link, reading)
    parts.audit("link.made", caller, link=link.says("id"), address=str(opened.address), within=asked.within)
    if opened.record is not None and link.expires is not None:
        parts.bundles.extend(opened.record.id, link.expires)
    return link


@dataclass(frozen=True, slots=True)
class _Opened:
    """What a link is to open, which its maker may have and link to, and the terms of that."""

    address: Address
    record: BundleRecord | None  # of a bundle
    terms: Sequence[_Terms]


def _opened(parts: Parts, caller: Caller, asked: LinkAsk, address: Address, record: BundleRecord | None) -> _Opened:
    """Raises Refusal, unless the caller may have and link to all of it."""
    within = None if asked.within is None else read_address(asked.within)
    if address.folder:
        said = f"{address} is a folder; give the address of a file in it, and the folder as 'in' to open all of it"
        raise Refusal("bad-request", said)
    if record is not None:
        if within is not None or asked.version is not None or asked.rendition is not None:
            # The seal would be of the folder, and the rights were looked at for the bundle alone.
            raise Refusal(
                "bad-request", "a link for a bundle opens that bundle; leave 'in', 'version' and 'rendition' out"
            )
        return _Opened(address, record, _require_all(parts, caller, record))
    if within is not None and not address.within(within):
        raise Refusal("bad-request", f"in={within}: {address} is not in that folder; name a file that is")
    if asked.rendition is not None and asked.rendition not in parts.way.renditions.names():
        raise Refusal("bad-request", f"there is no rendition {asked.rendition!r}; the settings name them")
    _require(parts, caller, address, within, asked.version)
    return _Opened(address, None, _terms(parts, caller, address, within, asked.version))


def _sealed(parts: Parts, address: Address, given: Mapping[str, Any]) -> SealedLink:
    root = [(name, str(given[name])) for name in ROOT if name in given]
    return make_link(address, parts.keys.current, parts.keys.keys[parts.keys.current], root, _conditions(given))


def _note_made(parts: Parts, caller: Caller, link: SealedLink, reading: Sequence[Terms]) -> None:
    """Writes down whose link it is and which quotas it counts to. Raises Refusal: its id is taken."""
    quotas = dict.fromkeys(quota.name for one in reading for quota in one.quotas)
    try:
        with write(parts.engine).begin() as connection:
            records.note_made(connection, link, caller.recipient, tuple(quotas))
    except LinkKnown:
        raise Refusal("bad-request", f"there is a link with the id {link.says('id')!r} already") from None


@routes.get("/api/links", summary="Links, newest first")
async def list_links(
    caller: TheCaller,
    parts: TheParts,
    limit: Annotated[int, Query(ge=1, le=1000)] = 200,
    before: Annotated[float | None, Query(description="`next` of the page before")] = None,
    maker: Annotated[str | None, Query(max_length=64, description="those that this recipient had made")] = None,
) -> LinkList:
    """The links the caller made; for administrators, everybody's."""
    if caller.recipient is None:
        raise Refusal("sign-in", "sign in: the list shows your own links, or for administrators everybody's")
    if maker != caller.recipient and not await administers(parts, caller):
        if maker is not None:
            raise Refusal("not-allowed", "only administrators list the links of others")
        maker = caller.recipient
    rows = await in_pool(parts.pools.history, _listed, parts, maker, limit, before, whose=caller.principal)
    following = rows[-1].made if len(rows) == limit else None
    return LinkList(links=[_facts(row) for row in rows], next=following)


@routes.delete("/api/links", summary="Revoke all links of one recipient")
async def delete_links(
    caller: TheCaller, parts: TheParts, maker: Annotated[str, Query(min_length=1, max_length=64)]
) -> RevokedShape:
    """Revokes every link that a recipient had the service make. For administrators and the recipient."""
    if caller.recipient is None or caller.recipient != maker:
        await require_administrator(parts, caller)
    count = await parts.journal.call(lambda connection: records.revoke_all(connection, maker))
    parts.audit("links.revoked", caller, maker=maker, count=count)
    return RevokedShape(maker=maker, revoked=count)


@routes.delete("/api/links/{link}", summary="Revoke a link")
async def delete_link(caller: TheCaller, parts: TheParts, link: str) -> LinkFacts:
    """Revokes every link with this id. For its maker and administrators."""
    may = await administers(parts, caller)

    def work(connection: sa.Connection) -> LinkFacts:
        row = records.link_named(connection, link)
        if not may and (row is None or caller.recipient is None or row.maker != caller.recipient):
            raise Refusal("missing", f"there is no link {link[:64]!r} of yours")
        records.revoke(connection, link)
        return _facts(cast(LinkRow, records.link_named(connection, link)))

    if not may and caller.recipient is None:
        raise Refusal("sign-in", "a link can be revoked only by its maker or an administrator")
    if not 1 <= len(link) <= 64:
        raise Refusal("bad-request", "a link's id has 1 to 64 characters")
    facts = await parts.journal.call(work)
    parts.audit("link.revoked", caller, link=link)
    return facts


def _listed(parts: Parts, maker: str | None, limit: int, before: float | None) -> list[LinkRow]:
    with parts.engine.connect() as connection:
        return records.known_links(connection, maker, limit, before)


def _facts(row: LinkRow) -> LinkFacts:
    now = time.time()
    if row.revoked is not None:
        state = "revoked"
    elif row.until is not None and row.until <= now:
        state = "expired"
    else:
        state = "used-up" if row.uses is not None and row.used >= row.uses else "holds"
    return LinkFacts(
        id=row.id,
        state=state,
        address=row.address,
        scope=row.scope,
        maker=row.maker,
        recipient=row.recipient,
        made=None if row.made is None else timestamp(row.made),
        until=None if row.until is None else timestamp(row.until),
        used=row.used,
        uses=row.uses,
        revoked=None if row.revoked is None else timestamp(row.revoked),
        key=row.key,
        last=None if row.last is None else timestamp(row.last),
    )


def _check_times(asked: LinkAsk, given: dict[str, object]) -> None:
    """Sets the end that was asked for, and refuses times at which the link could never work. Raises Refusal."""
    now = int(time.time())
    if asked.seconds is not None:
        if asked.until is not None:
            raise Refusal("bad-request", "give until or seconds, not both")
        given["until"] = now + asked.seconds
    until = int(str(given.get("until", LAST_MOMENT)))
    if until <= now:
        raise Refusal("bad-request", f"until={until} is in the past: the link would never work; name a later end")
    if asked.after is not None and asked.after >= until:
        raise Refusal("bad-request", "after is not before until: the link would never work; name an earlier beginning")


def _id(parts: Parts, caller: Caller, asked: str | None) -> str:
    """The id to seal: the maker's own, so that nobody counts, uses up or revokes links of anybody else."""
    given = asked or secrets.token_hex(8)  # which no command line takes for an option
    if asked is not None and parts.rules.administers(caller):
        return asked
    return id_of_maker(given, caller.recipient or "anyone")


def _conditions(given: Mapping[str, Any]) -> list[tuple[str, str]]:
    pairs = []
    for name in CONDITION_NAMES:
        value = given.get(name, [])
        pairs += [(name, str(item)) for item in (value if isinstance(value, list) else [value])]
    return pairs


def _bundle(parts: Parts, caller: Caller, address: Address) -> BundleRecord:
    """The bundle that an address is of. Raises Refusal, unless it is the caller's own."""
    bundle_id, _, name = address.path.partition("/")
    record = parts.bundles.named(caller, bundle_id)
    if record.name != name or record.recipient != caller.recipient:
        raise Refusal("missing", "there is no such bundle of yours")
    return record


class _Terms(NamedTuple):
    """What applies to what somebody hands on, and what to their having it themselves."""

    linking: Terms
    reading: Terms


def _terms(parts: Parts, caller: Caller, address: Address, within: Address | None, version: int | None) -> list[_Terms]:
    """What applies to a file and, where a link opens more than that, to all of its folder."""
    rules = parts.rules
    assert isinstance(rules, RuleSet)
    facts = parts.catalogue.facts(address, version)
    found = [_Terms(rules.terms(caller, "link", address, facts), rules.terms(caller, "read", address, facts))]
    if within is not None:
        found.append(_Terms(rules.terms_within(caller, "link", within), rules.terms_within(caller, "read", within)))
    return found


def _require_all(parts: Parts, caller: Caller, record: BundleRecord) -> list[_Terms]:
    """What applies to each file of a bundle, all of which the caller must be let link to."""
    rules, found = parts.rules, set()
    for facts in parts.bundles.files(caller, record):
        for action in ("link", "read"):
            if not rules.allows(caller, action, facts.address, facts):
                raise Refusal("not-allowed", f"the rules do not let you {action} {facts.address}")
        linking, reading = (rules.terms(caller, action, facts.address, facts) for action in ("link", "read"))
        found.add(_Terms(linking, reading))
    return list(found)


def _hold_for(terms: list[Terms], address: Address, given: dict[str, object]) -> None:
    """Sets the end of a link for which none was asked, and refuses one that the rules do not let hold for so long."""
    now = int(time.time())
    longest = min((one.link_longest for one in terms if one.link_longest is not None), default=None)
    usual = min((one.link_default for one in terms if one.link_default is not None), default=longest)
    if "until" not in given and usual is not None:
        given["until"] = now + usual
    if longest is not None and int(str(given["until"])) > now + longest:
        raise Refusal(
            "not-allowed", f"the rules allow a link for {address} to be valid for at most {period_text(longest)}"
        )


def _require(parts: Parts, caller: Caller, address: Address, within: Address | None, version: int | None) -> None:
    """Nobody hands on more than they have: it is decided for the file, and for all that the link will open."""
    for action in ("link", "read"):
        parts.catalogue.obtain(caller, action, address, version)
        if within is not None and not parts.rules.allows_below(caller, action, within):
            raise Refusal("not-allowed", f"the rules do not let you {action} everything in {within}")

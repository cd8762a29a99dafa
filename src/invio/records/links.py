"""Links by their ids: made here, used, revoked. A link that was made elsewhere is known from its first use on."""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import dataclass

import sqlalchemy as sa

from invio.core.links.seals import SealedLink
from invio.records.tables import links


@dataclass(frozen=True, slots=True)
class LinkRow:
    """What is known of a link's id. Times in Unix seconds; None for what nobody told this service."""

    id: str
    used: int
    revoked: float | None
    made: float | None
    maker: str | None
    address: str | None
    scope: str | None
    recipient: str | None
    until: int | None
    uses: int | None
    key: str | None
    last: float | None


class LinkKnown(Exception):
    """There is a link of that id already."""


@dataclass(frozen=True, slots=True)
class Maker:
    """A link's maker, and the names of the maker's quotas that its downloads count towards."""

    recipient: str
    quotas: tuple[str, ...]


def note_made(connection: sa.Connection, link: SealedLink, maker: str | None, quotas: Sequence[str]) -> None:
    """Records a link that was made here; `quotas` are names. Raises LinkKnown."""
    link_id = link.says("id")
    if connection.execute(sa.select(links.c.id).where(links.c.id == link_id)).first() is not None:
        raise LinkKnown
    connection.execute(
        sa.insert(links).values(
            id=link_id, used=0, made=time.time(), maker=maker, address=str(link.address), scope=link.folder,
            recipient=link.says("to"), until=link.expires, uses=link.uses, key=link.key,
            quotas=list(quotas) or sa.null(), version=None if (said := link.says("version")) is None else int(said),
        )
    )  # fmt: skip


def maker_of(connection: sa.Connection, link_id: str) -> Maker | None:
    """A link's maker; None for a link that counts towards nobody's quotas."""
    row = connection.execute(sa.select(links.c.maker, links.c.quotas).where(links.c.id == link_id)).first()
    if row is None or row.maker is None or not row.quotas:
        return None
    return Maker(row.maker, tuple(row.quotas))


def known_links(connection: sa.Connection, maker: str | None, limit: int, before: float | None) -> list[LinkRow]:
    """Links, the newest first, those that were not made here last; `maker` None: anybody's."""
    age = sa.func.coalesce(links.c.made, 0.0)
    query = sa.select(links).order_by(age.desc(), links.c.id).limit(limit)
    if maker is not None:
        query = query.where(links.c.maker == maker)
    if before is not None:
        query = query.where(age < before)
    return [_row(row) for row in connection.execute(query)]


def link_named(connection: sa.Connection, link_id: str) -> LinkRow | None:
    """What is known of a link's id; None where nothing is."""
    row = connection.execute(sa.select(links).where(links.c.id == link_id)).first()
    return None if row is None else _row(row)


def held_by_key(connection: sa.Connection, now: float) -> dict[str, int]:
    """How many links that were made here still hold, by the key that sealed them."""
    held = links.c
    holds = sa.and_(
        held.key.is_not(None),
        held.revoked.is_(None),
        sa.or_(held.until.is_(None), held.until > now),
        sa.or_(held.uses.is_(None), held.used < held.uses),
    )
    rows = connection.execute(sa.select(held.key, sa.func.count()).where(holds).group_by(held.key))
    return {str(key): count for key, count in rows}


def revoke(connection: sa.Connection, link_id: str) -> None:
    """Revokes every link with this id, known here or not; an earlier revocation keeps its time."""
    now = time.time()
    changed = connection.execute(
        sa.update(links).where(links.c.id == link_id).values(revoked=sa.func.coalesce(links.c.revoked, now))
    )
    if not changed.rowcount:
        connection.execute(sa.insert(links).values(id=link_id, used=0, revoked=now))


def revoke_all(connection: sa.Connection, maker: str) -> int:
    """Revokes every link that the service made for a recipient; returns how many."""
    still = sa.and_(links.c.maker == maker, links.c.revoked.is_(None))
    return connection.execute(sa.update(links).where(still).values(revoked=time.time())).rowcount


def _row(row: sa.Row[tuple[object, ...]]) -> LinkRow:
    return LinkRow(
        row.id, row.used, row.revoked, row.made, row.maker, row.address, row.scope, row.recipient, row.until,
        row.uses, row.key, row.last,
    )  # fmt: skip

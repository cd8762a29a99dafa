"""Transfers in the records: begun, joined by further requests, settled, and looked up."""

from __future__ import annotations

import secrets
import time
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import sqlalchemy as sa

from invio.records.tables import links, transfers

RUNNING = "running"
COMPLETE = "complete"
PARTIAL = "partial"
BROKEN_OFF = "broken-off"
STATES = (RUNNING, COMPLETE, PARTIAL, BROKEN_OFF)


@dataclass(frozen=True, slots=True)
class TransferRow:
    """One row of the table; `size` and `covered` in bytes, times in Unix seconds."""

    id: str
    who: str
    address: str
    started: float
    recipient: str | None = None
    link_id: str | None = None
    via: str | None = None
    tag: str | None = None
    network: str | None = None
    etag: str | None = None
    size: int | None = None
    state: str = RUNNING
    reason: str | None = None
    updated: float = 0.0
    requests: int = 1
    covered: int = 0
    coverage: list[list[int]] = field(default_factory=list)


def new_transfer_id(now: float) -> str:
    """20 characters; ids of later transfers sort after those of earlier ones (to the millisecond)."""
    return f"{int(now * 1000):012x}{secrets.token_hex(4)}"


class LinkSpent(Exception):
    """A link's id was revoked, or has no use left; `word` is the reason's."""

    def __init__(self, word: str) -> None:
        super().__init__(word)
        self.word = word


_INSERT = sa.insert(transfers)
_SETTLE = (
    sa.update(transfers)
    .where(transfers.c.id == sa.bindparam("the_id"))
    .values(
        state=sa.bindparam("state"),
        reason=sa.bindparam("reason"),
        updated=sa.bindparam("updated"),
        covered=sa.bindparam("covered"),
        coverage=sa.bindparam("coverage"),
        size=sa.bindparam("size"),
        requests=sa.bindparam("requests"),
    )
)


def insert(connection: sa.Connection, rows: Sequence[TransferRow]) -> None:
    if rows:
        connection.execute(_INSERT, [_values(row) for row in rows])


def update(connection: sa.Connection, rows: Sequence[TransferRow]) -> None:
    """Writes what changes in a transfer: its state, what has arrived, when and in how many requests."""
    if rows:
        connection.execute(_SETTLE, [{**_values(row), "the_id": row.id} for row in rows])


def _values(row: TransferRow) -> dict[str, Any]:
    return {name: getattr(row, name) for name in TransferRow.__slots__}


def use_link(connection: sa.Connection, link_id: str, limit: int | None) -> None:
    """Counts one use of a link's id, within the caller's transaction.

    Raises:
        LinkSpent: it was revoked, or `limit` uses were counted before.
    """
    check_link_use(connection, link_id, limit)
    counted = connection.execute(sa.update(links).where(links.c.id == link_id).values(used=links.c.used + 1))
    if not counted.rowcount:
        connection.execute(sa.insert(links).values(id=link_id, used=1, revoked=None))


def check_link_use(connection: sa.Connection, link_id: str, limit: int | None) -> None:
    """Like `use_link`, and counts nothing."""
    row = connection.execute(sa.select(links.c.used, links.c.revoked).where(links.c.id == link_id)).first()
    if row is not None and row.revoked is not None:
        raise LinkSpent("revoked")
    if row is not None and limit is not None and row.used >= limit:
        raise LinkSpent("used-up")


def resumable(connection: sa.Connection, who: str, address: str, etag: str, tag: str | None) -> TransferRow | None:
    """The newest transfer of the same content by the same caller that has not ended complete."""
    row = connection.execute(
        sa.select(transfers)
        .where(
            transfers.c.who == who,
            transfers.c.address == address,
            transfers.c.etag == etag,
            transfers.c.tag.is_(tag) if tag is None else transfers.c.tag == tag,
            transfers.c.state != COMPLETE,
        )
        .order_by(transfers.c.id.desc())
        .limit(1)
    ).first()
    return None if row is None else TransferRow(**row._mapping)


def newest(connection: sa.Connection, limit: int, before: str | None = None) -> list[TransferRow]:
    """Transfers from the newest on; `before` is the id to go on after."""
    query = sa.select(transfers).order_by(transfers.c.id.desc()).limit(limit)
    if before is not None:
        query = query.where(transfers.c.id < before)
    return [TransferRow(**row._mapping) for row in connection.execute(query)]


def break_off_orphans(connection: sa.Connection, reason: str) -> int:
    """Ends what a process that died left running; gives the number of transfers."""
    ended = connection.execute(
        sa.update(transfers)
        .where(transfers.c.state == RUNNING)
        .values(state=BROKEN_OFF, reason=reason, updated=time.time())
    )
    return ended.rowcount

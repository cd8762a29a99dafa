"""The history: transfers as they were, by filters, the newest first, in pages that hold little memory."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import sqlalchemy as sa

from invio.records.rows import TransferRow
from invio.records.tables import transfers

_PAGE = 500


@dataclass(frozen=True, slots=True)
class Filters:
    """None: any. `address` ends in `/` for all of a folder; times in Unix seconds, of when it began.

    `token` is the id of one, which may have been used itself or have opened the session that was.
    """

    recipient: str | None = None
    address: str | None = None
    link: str | None = None
    state: str | None = None
    since: float | None = None
    until: float | None = None
    token: str | None = None


def pages(engine: sa.Engine, filters: Filters) -> Iterator[list[TransferRow]]:
    """All that fit, page by page; no transaction is left open between two."""
    query = _query(filters)
    last: str | None = None
    while True:
        page = query if last is None else query.where(transfers.c.id < last)
        with engine.connect() as connection:
            rows = [TransferRow(*row) for row in connection.execute(page)]
        if rows:
            yield rows
        if len(rows) < _PAGE:
            return
        last = rows[-1].id


def _query(filters: Filters) -> sa.Select[Any]:
    held = transfers.c
    query = sa.select(transfers).order_by(held.id.desc()).limit(_PAGE)
    for column, wanted in (
        (held.recipient, filters.recipient),
        (held.link_id, filters.link),
        (held.state, filters.state),
    ):
        if wanted is not None:
            query = query.where(column == wanted)
    if filters.address is not None and filters.address.endswith("/"):
        query = query.where(held.address.startswith(filters.address, autoescape=True))
    elif filters.address is not None:
        query = query.where(held.address == filters.address)
    if filters.token is not None:
        query = query.where(held.credential.contains(f"token {filters.token}", autoescape=True))
    if filters.since is not None:
        query = query.where(held.started >= filters.since)
    if filters.until is not None:
        query = query.where(held.started < filters.until)
    return query


def forget(connection: sa.Connection, before: float) -> int:
    """Drops what ended before a moment; gives how many."""
    dropped = connection.execute(
        sa.delete(transfers).where(transfers.c.updated < before, transfers.c.state != "running")
    )
    return dropped.rowcount

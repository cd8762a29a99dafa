"""The history: transfers as they were, by filters, the newest first, in pages that hold little memory."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import sqlalchemy as sa

from invio.records.archives import has_arrived, holding
from invio.records.rows import TransferRow, first_id
from invio.records.tables import transfer_requests, transfers
from invio.records.transfers import EVERYTHING, Scope

_PAGE = 500


@dataclass(frozen=True, slots=True)
class Filters:
    """None: any. `address` ends in `/` for all of a folder; times in Unix seconds, of when it began.

    A file is found, too, in archives by which it has arrived. `manages_address` says that whoever asks may see
    whoever has had what is at `address`. `token` is the id of one, which may have been used itself or have opened
    the session that was.
    """

    recipient: str | None = None
    address: str | None = None
    link: str | None = None
    state: str | None = None
    since: float | None = None
    until: float | None = None
    token: str | None = None
    scope: Scope = EVERYTHING
    manages_address: bool = False


def pages(engine: sa.Engine, filters: Filters) -> Iterator[list[TransferRow]]:
    """All matching transfers, page by page; no transaction stays open between pages."""
    query = _query(filters)
    last: str | None = None
    while True:
        page = query if last is None else query.where(transfers.c.id < last)
        with engine.connect() as connection:
            rows = [TransferRow(*row) for row in connection.execute(page)]
            fitting = [row for row in rows if _fits(connection, row, filters.address)]
        if fitting:
            yield fitting
        if len(rows) < _PAGE:
            return
        last = rows[-1].id


def is_at(row: TransferRow, address: str) -> bool:
    """Whether a transfer is of a file itself, or of one in a folder, and not of an archive that holds it."""
    return row.address.startswith(address) if address.endswith("/") else row.address == address


def _fits(connection: sa.Connection, row: TransferRow, address: str | None) -> bool:
    """Whether the requested address is the transfer's, or arrived as part of it."""
    if address is None or is_at(row, address) or row.etag is None:
        return True
    return has_arrived(connection, row.etag, address, row.coverage)


def _query(filters: Filters) -> sa.Select[Any]:
    held = transfers.c
    query = sa.select(transfers).order_by(held.id.desc()).limit(_PAGE)
    if not filters.manages_address:
        query = filters.scope.limited(query)
    for column, wanted in (
        (held.link_id, filters.link),
        (held.state, filters.state),
    ):
        if wanted is not None:
            query = query.where(column == wanted)
    if filters.recipient is not None:
        query = query.where(sa.or_(held.recipient == filters.recipient, held.made_for == filters.recipient))
    if filters.address is not None:
        at = held.address == filters.address
        if filters.address.endswith("/"):
            at = held.address.startswith(filters.address, autoescape=True)
        query = query.where(sa.or_(at, holding(filters.address)))
    if filters.token is not None:
        query = query.where(held.credential.contains(f"token {filters.token}", autoescape=True))
    if filters.since is not None:
        query = query.where(held.started >= filters.since)
    if filters.until is not None:
        query = query.where(held.started < filters.until)
    return query


def forget(connection: sa.Connection, before: float, most: int = 10_000) -> int:
    """Deletes transfers that ended before a moment, at most `most` lines; returns how many."""
    held = transfers.c
    began = held.id < first_id(before)  # ids are in the order of time: what is younger is not looked at
    old = sa.select(held.id).where(began, held.updated < before, held.state != "running").order_by(held.id).limit(most)
    connection.execute(sa.delete(transfer_requests).where(transfer_requests.c.transfer.in_(old)))
    return connection.execute(sa.delete(transfers).where(held.id.in_(old))).rowcount

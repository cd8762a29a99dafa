"""Transfers in the records: begun, joined by further requests, settled, and looked up."""

from __future__ import annotations

import sqlite3
import time
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import sqlalchemy as sa

from invio.core.progress import Coverage
from invio.records.rows import (
    BROKEN_OFF,
    COMPLETE,
    PRINCIPAL_ENDS,
    REFUSED,
    RUNNING,
    TransferRow,
    first_id,
    joined_to,
)
from invio.records.statements import change
from invio.records.tables import links, recipients, transfers

_RESUMED_WITHIN = 86_400  # seconds
_TOLD_AGAIN = 3600.0  # seconds
_CLOCK_MAY_BE_OFF = 3600.0  # seconds by which a clock may have been set back while a process ran
_AFTER_PRINCIPAL = chr(ord(PRINCIPAL_ENDS) + 1)  # what sorts right behind all of a principal's links


class LinkExhausted(Exception):
    """A link's id was revoked, or has no use left; `word` is the reason's."""

    def __init__(self, word: str) -> None:
        super().__init__(word)
        self.word = word


class ConcurrencyLimitReached(Exception):
    """As many transfers of one recipient are running as may."""


def update(connection: sa.Connection, rows: Sequence[TransferRow]) -> None:
    """Updates a transfer: its state, what has arrived, when, and in how many requests.

    What requests of several processes have brought to one transfer is united here.
    """
    for row in rows:
        if row.requests > 1:
            _unite(connection, row)
    change(connection, rows)


def _unite(connection: sa.Connection, row: TransferRow) -> None:
    known = connection.execute(sa.select(transfers).where(transfers.c.id == row.id)).first()
    if known is None:
        return
    there = [(start, stop) for start, stop in known.coverage]
    coverage, has = Coverage(there), set(there)
    for start, stop in row.coverage:
        if (start, stop) not in has:  # mostly it is
            coverage.add(start, stop)
    row.covered, row.coverage = coverage.total, coverage.ranges
    row.requests = max(row.requests, known.requests)
    if row.size is not None and row.covered >= row.size and row.state != RUNNING:
        row.state, row.reason = COMPLETE, None


class TransferGone(Exception):
    """The transfer that a request would continue is not in the records, or has arrived whole."""


def check_is_there(connection: sa.Connection, transfer_id: str) -> None:
    """Raises TransferGone, when the records do not have a transfer."""
    if connection.execute(sa.select(transfers.c.id).where(transfers.c.id == transfer_id)).first() is None:
        raise TransferGone(transfer_id)


def go_on(connection: sa.Connection, transfer_id: str, requests: int = 0, held_by: int | None = None) -> TransferRow:
    """Records a further request of a transfer, which runs again; returns its row.

    `requests` is how many the caller knows of, should the records have been told of fewer; `held_by` the process
    that delivers it from now on.

    Raises:
        TransferGone: there is none, or all of it has arrived meanwhile: what comes now is begun anew.
    """
    known = connection.execute(sa.select(transfers).where(transfers.c.id == transfer_id)).first()
    if known is None or known.state == COMPLETE:
        raise TransferGone(transfer_id)
    row = TransferRow(*known)
    if row.held_by != held_by:
        row.held_by = held_by
        connection.execute(sa.update(transfers).where(transfers.c.id == transfer_id).values(held_by=held_by))
    row.state, row.reason, row.updated = RUNNING, None, time.time()
    row.requests = max(row.requests, requests) + 1
    change(connection, [row])
    return row


def also_through(connection: sa.Connection, transfer_id: str, credential: str | None, network: str | None) -> None:
    """Records a further credential and network of a transfer."""
    held = transfers.c
    known = connection.execute(sa.select(held.credential, held.network).where(held.id == transfer_id)).one()
    joined = {"credential": joined_to(known.credential, credential), "network": joined_to(known.network, network)}
    connection.execute(sa.update(transfers).where(held.id == transfer_id).values(joined))


# In the words of the index, without which it would not be used.
_OPEN = sa.text(f"state != '{COMPLETE}' AND requests > 0")


def check_running(connection: sa.Connection, principal: str, most: int) -> None:
    """Counts the running transfers of a principal, in all processes. Raises ConcurrencyLimitReached when `most` are."""
    held = transfers.c.who
    by_links = sa.and_(held > principal + PRINCIPAL_ENDS, held < principal + _AFTER_PRINCIPAL)
    its = sa.or_(held == principal, by_links)
    running = sa.select(sa.func.count()).where(its, _OPEN, transfers.c.state == RUNNING)
    if connection.execute(running).scalar_one() >= most:
        raise ConcurrencyLimitReached


def use_link(connection: sa.Connection, link_id: str, limit: int | None) -> None:
    """Counts one use of a link's id, within the caller's transaction.

    Raises:
        LinkExhausted: it was revoked, or `limit` uses were counted before.
    """
    check_link_use(connection, link_id, limit)
    now = time.time()
    counted = connection.execute(sa.update(links).where(links.c.id == link_id).values(used=links.c.used + 1, last=now))
    if not counted.rowcount:
        connection.execute(sa.insert(links).values(id=link_id, used=1, revoked=None, last=now))


def check_link_use(connection: sa.Connection, link_id: str, limit: int | None) -> None:
    """Like `use_link`, and counts nothing."""
    known = sa.select(links.c.used, links.c.revoked, recipients.c.disabled).where(links.c.id == link_id)
    row = connection.execute(known.join_from(links, recipients, recipients.c.id == links.c.maker, isouter=True)).first()
    if row is not None and (row.revoked is not None or row.disabled is not None):
        raise LinkExhausted("revoked")  # links of a recipient who can no longer sign in end as well
    if row is not None and limit is not None and row.used >= limit:
        raise LinkExhausted("used-up")


def resumable(connection: sa.Connection, who: str, address: str, etag: str, tag: str | None) -> TransferRow | None:
    """The newest transfer of the same content by the same caller that has not ended complete.

    Only transfers of the last day are searched; older ones begin anew.
    """
    row = connection.execute(
        sa.select(transfers)
        .where(
            transfers.c.who == who,
            transfers.c.id > first_id(time.time() - _RESUMED_WITHIN),
            transfers.c.address == address,
            transfers.c.etag == etag,
            transfers.c.tag.is_(tag) if tag is None else transfers.c.tag == tag,
            _OPEN,
        )
        .order_by(transfers.c.id.desc())
        .limit(1)
    ).first()
    return None if row is None else TransferRow(*row)


def any_broken_off(driver: sqlite3.Connection, who: str) -> bool:
    """Whether any transfer of a caller broke off; usually none did.

    It is asked at each large file, and for a thousand at once: through the driver directly, for a composed query takes
    memory, and most of the time.

    Raises:
        OperationalError: the records cannot be read.
    """
    query = f"SELECT 1 FROM transfers WHERE who = ? AND {_OPEN.text} AND state = ? LIMIT 1"
    try:
        return driver.execute(query, (who, BROKEN_OFF)).fetchone() is not None
    except sqlite3.Error as error:
        raise sa.exc.OperationalError(query, None, error) from error


@dataclass(frozen=True, slots=True)
class Scope:
    """Limits the lines a caller may see: those of a recipient, and those of `stores` (None: all)."""

    recipient: str | None
    stores: frozenset[str] | None = None

    def limited(self, query: sa.Select[Any]) -> sa.Select[Any]:
        """The query, for no more lines than these."""
        if self.stores is None:
            return query
        held = transfers.c
        wanted = [held.address.startswith(f"{store}/", autoescape=True) for store in sorted(self.stores)]
        if self.recipient is not None:
            wanted += [held.recipient == self.recipient, held.made_for == self.recipient]
        return query.where(sa.or_(sa.false(), *wanted))


EVERYTHING = Scope(None)


def newest(
    connection: sa.Connection, limit: int, before: str | None = None, scope: Scope = EVERYTHING
) -> list[TransferRow]:
    """Transfers from the newest on; `before` is the id to go on after. What was refused is none."""
    query = sa.select(transfers).where(transfers.c.state != REFUSED).order_by(transfers.c.id.desc()).limit(limit)
    query = scope.limited(query)
    if before is not None:
        query = query.where(transfers.c.id < before)
    return [TransferRow(*row) for row in connection.execute(query)]


def with_ids(connection: sa.Connection, ids: Sequence[str]) -> list[TransferRow]:
    """The transfers that have these ids."""
    return [TransferRow(*row) for row in connection.execute(sa.select(transfers).where(transfers.c.id.in_(ids)))]


def tagged(connection: sa.Connection, tag: str, address: str, mark: str) -> TransferRow | None:
    """The newest transfer of an address by the link of this mark, which calls it by this tag."""
    held = transfers.c
    query = sa.select(transfers).where(held.tag == tag, held.address == address, held.state != REFUSED)
    by_link = held.who.endswith(PRINCIPAL_ENDS + mark, autoescape=True)
    row = connection.execute(query.where(by_link).order_by(held.id.desc()).limit(1)).first()
    return None if row is None else TransferRow(*row)


def ended_after(connection: sa.Connection, moment: float, scope: Scope, most: int) -> list[TransferRow]:
    """Transfers that ended after a moment (Unix seconds), of those that began an hour before it or later."""
    held = transfers.c
    begun = held.id > first_id(max(0.0, moment - _TOLD_AGAIN))
    query = sa.select(transfers).where(begun, held.updated > moment, held.state.not_in((REFUSED, RUNNING)))
    return [TransferRow(*row) for row in connection.execute(scope.limited(query).order_by(held.id.desc()).limit(most))]


def orphans(held_by: int | None = None, since: float = 0.0) -> sa.ColumnElement[bool]:
    """The transfers a dead process left running; None: of all. `since` is when it began, in Unix seconds.

    A transfer that it went on with, and had not begun, is found among those that are open.
    """
    held = transfers.c
    if held_by is None:
        return held.state == RUNNING
    begun = held.id >= first_id(max(0.0, since - _CLOCK_MAY_BE_OFF))
    still_open = sa.text(f"state != '{COMPLETE}' AND requests > 0")
    return sa.and_(held.state == RUNNING, held.held_by == held_by, sa.or_(begun, still_open))


def break_off_orphans(connection: sa.Connection, reason: str, held_by: int | None = None, since: float = 0.0) -> int:
    """Ends the transfers a dead process left running (see `orphans`); returns how many."""
    ended = connection.execute(
        sa.update(transfers)
        .where(orphans(held_by, since))
        .values(state=BROKEN_OFF, reason=reason, updated=time.time(), requests=sa.func.max(transfers.c.requests, 1))
    )
    return ended.rowcount

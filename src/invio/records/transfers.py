"""Transfers in the records: begun, joined by further requests, settled, and looked up."""

from __future__ import annotations

import json
import os
import random
import sqlite3
import time
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from functools import cache
from typing import Any

import sqlalchemy as sa
from sqlalchemy.dialects import sqlite

from invio.core.progress import Coverage
from invio.records.tables import links, transfers

RUNNING = "running"
COMPLETE = "complete"
PARTIAL = "partial"
BROKEN_OFF = "broken-off"
HANDED_OFF = "handed-off"  # sent by a front server, which does not tell what arrived
REFUSED = "refused"  # of which nothing was sent; the reason says why
_RESUMED_WITHIN = 86_400  # seconds
_PARTED = "; "
_AT_ONCE = (16, 8, 4, 2, 1)  # transfers that are begun, or ended, by one statement
_NAMED = 5  # credentials, or networks, that a line tells of
_AND_MORE = "and more"


@dataclass(slots=True)
class TransferRow:
    """One row of the table; `size` and `covered` in bytes, times in Unix seconds.

    `requests` counts those that have been noted: the only one of a file that leaves in one write is at its end.

    `credential` is what told who was asking, `decided_by` what let them or did not, both in words. A
    transfer that went on by another credential, or from elsewhere, has them all, parted by `; `.

    Its fields are the table's columns, in their order.
    """

    id: str
    who: str
    recipient: str | None
    link_id: str | None
    via: str | None
    tag: str | None
    network: str | None
    address: str
    etag: str | None
    size: int | None
    state: str = RUNNING
    reason: str | None = None
    started: float = 0.0
    updated: float = 0.0
    requests: int = 1
    covered: int = 0
    coverage: Sequence[Sequence[int]] = ()
    version: int | None = None
    credential: str | None = None
    decided_by: str | None = None


# Tells apart the transfers of one millisecond; whoever may see a transfer is decided otherwise.
_CHANCE = random.Random(os.urandom(16))


def new_transfer_id(now: float) -> str:
    """20 characters; ids of later transfers sort after those of earlier ones (to the millisecond)."""
    return f"{int(now * 1000):012x}{_CHANCE.getrandbits(32):08x}"


def _first_id(moment: float) -> str:
    """What the ids of a moment's transfers begin with."""
    return f"{int(moment * 1000):012x}"


class LinkSpent(Exception):
    """A link's id was revoked, or has no use left; `word` is the reason's."""

    def __init__(self, word: str) -> None:
        super().__init__(word)
        self.word = word


class TooMany(Exception):
    """As many transfers of one recipient are running as may."""


# Rows go to the driver as they are, for they are written at every download. The statements come
# from the table all the same; only JSON, which SQLAlchemy would have encoded, is encoded here.
_CHANGES = ("state", "reason", "updated", "covered", "coverage", "size", "requests")


def _statement(statement: sa.ClauseElement) -> str:
    return str(statement.compile(dialect=sqlite.dialect(paramstyle="qmark")))


_INSERT = _statement(sa.insert(transfers))
_UPDATE = _statement(
    sa.update(transfers)
    .where(transfers.c.id == sa.bindparam("the_id"))
    .ordered_values(*((name, sa.bindparam(f"the_{name}")) for name in _CHANGES))
)


# What nearly all lines are: of a file that leaves in one write, by no link with an id. What such a line has in
# common with the others stands in the statement: each value that is handed over takes a quarter of a
# microsecond, and the whole line four.
_BEGUN = (
    "id", "who", "recipient", "tag", "network", "address", "etag", "size", "started", "updated", "credential",
    "decided_by",
)  # fmt: skip


_BEGIN, _LINE = _statement(
    sa.insert(transfers).values(
        link_id=sa.null(),
        via=sa.null(),
        state=sa.literal_column(f"'{RUNNING}'"),
        reason=sa.null(),
        requests=sa.literal_column("0"),
        covered=sa.literal_column("0"),
        coverage=sa.literal_column("'[]'"),
        version=sa.null(),
        **{name: sa.bindparam(f"the_{name}") for name in _BEGUN},
    )
).split(" VALUES ")
_COMPLETE, _IDS = _statement(
    sa.update(transfers)
    .where(transfers.c.id.in_([sa.bindparam("the_id")]))
    .ordered_values(
        ("state", sa.literal_column(f"'{COMPLETE}'")),
        ("updated", sa.bindparam("the_updated")),
        ("covered", transfers.c.size),
        ("coverage", sa.literal_column("'[[0, ' || size || ']]'")),
        ("requests", sa.literal_column("max(requests, 1)")),
    )
).split(" IN ")
assert _IDS == "(?)"


@cache
def _begin(count: int) -> str:
    """The statement for the beginnings of so many transfers."""
    return f"{_BEGIN} VALUES {', '.join([_LINE] * count)}"


@cache
def _complete(count: int) -> str:
    """The statement for so many transfers, all of each of which has arrived."""
    return f"{_COMPLETE} IN ({', '.join('?' * count)})"


def insert(connection: sa.Connection, rows: Sequence[TransferRow]) -> None:
    if rows:
        _execute_many(connection, _INSERT, map(_inserted, rows))


def update(connection: sa.Connection, rows: Sequence[TransferRow]) -> None:
    """Writes what changes in a transfer: its state, what has arrived, when and in how many requests.

    What requests of several processes have brought to one transfer is united here.
    """
    for row in rows:
        if row.requests > 1:
            _unite(connection, row)
    if rows:
        _execute_many(connection, _UPDATE, map(_changed, rows))


def write_plain(
    driver: sqlite3.Connection,
    begun: Sequence[TransferRow],
    changed: Sequence[TransferRow],
    whole: Sequence[TransferRow],
) -> None:
    """`insert`, `update` and `end_whole` in one transaction of their own, for transfers of one request each.

    It is what most batches are, and takes half the time without the layers in between.

    Raises:
        OperationalError: another transaction is writing, or the disk is full; nothing was written.
    """
    cursor = driver.cursor()
    try:
        cursor.execute("BEGIN IMMEDIATE")
        try:
            usual: list[TransferRow] = []
            others: list[TransferRow] = []
            for row in begun:
                unusual = row.requests or row.link_id is not None or row.via is not None or row.version is not None
                (others if unusual else usual).append(row)
            for some in _portions(usual):
                cursor.execute(_begin(len(some)), _begun(some))
            if others:
                cursor.executemany(_INSERT, map(_inserted, others))
            if changed:
                cursor.executemany(_UPDATE, map(_changed, changed))
            _end_whole(cursor, whole)
            cursor.execute("COMMIT")
        except BaseException:
            if driver.in_transaction:
                cursor.execute("ROLLBACK")
            raise
    except sqlite3.Error as error:
        raise sa.exc.OperationalError("a batch of transfers", None, error) from error


def end_whole(connection: sa.Connection, rows: Sequence[TransferRow]) -> None:
    """Ends transfers of one request each, whose size was known at their beginning, and all of which has arrived."""
    try:
        _end_whole(connection.connection.cursor(), rows)
    except sqlite3.Error as error:
        raise sa.exc.OperationalError("the ends of transfers", None, error) from error


def _end_whole(cursor: Any, rows: Sequence[TransferRow]) -> None:
    for some in _portions(rows):
        # One moment for all: they ended within one turn of the event loop.
        cursor.execute(_complete(len(some)), [some[-1].updated, *[row.id for row in some]])


def _portions(rows: Sequence[TransferRow]) -> Iterator[Sequence[TransferRow]]:
    """All of them, in portions of few sizes, for each of which there is a statement."""
    begin, left = 0, len(rows)
    for size in _AT_ONCE:
        while left >= size:
            yield rows[begin : begin + size]
            begin += size
            left -= size


def _unite(connection: sa.Connection, row: TransferRow) -> None:
    known = connection.execute(sa.select(transfers).where(transfers.c.id == row.id)).first()
    if known is None:
        return
    coverage = Coverage([(start, stop) for start, stop in [*known.coverage, *row.coverage]])
    row.covered, row.coverage = coverage.total, coverage.ranges
    row.requests = max(row.requests, known.requests)
    if row.size is not None and row.covered >= row.size and row.state != RUNNING:
        row.state, row.reason = COMPLETE, None


def go_on(connection: sa.Connection, transfer_id: str, requests: int = 0) -> TransferRow:
    """Notes a further request for a transfer, which runs again; gives it as it stands.

    `requests` is how many the caller knows of, should the records have been told of fewer.
    """
    row = TransferRow(*connection.execute(sa.select(transfers).where(transfers.c.id == transfer_id)).one())
    row.state, row.reason, row.updated = RUNNING, None, time.time()
    row.requests = max(row.requests, requests) + 1
    _execute_many(connection, _UPDATE, [_changed(row)])
    return row


def _execute_many(connection: sa.Connection, statement: str, rows: Iterable[tuple[Any, ...]]) -> None:
    """By the driver's own cursor, within SQLAlchemy's transaction: a third of the time for a few rows."""
    cursor: Any = connection.connection.cursor()
    try:
        cursor.executemany(statement, rows)
    except sqlite3.Error as error:
        raise sa.exc.OperationalError(statement, None, error) from error


def _inserted(row: TransferRow) -> tuple[Any, ...]:
    return (
        row.id, row.who, row.recipient, row.link_id, row.via, row.tag, row.network, row.address, row.etag, row.size,
        row.state, row.reason, row.started, row.updated, row.requests, row.covered, _json(row.coverage),
        row.version, row.credential, row.decided_by,
    )  # fmt: skip


def _begun(rows: Sequence[TransferRow]) -> list[Any]:
    """The values of `_begin`."""
    values: list[Any] = []
    for row in rows:
        values += (
            row.id, row.who, row.recipient, row.tag, row.network, row.address, row.etag, row.size, row.started,
            row.updated, row.credential, row.decided_by,
        )  # fmt: skip
    return values


def _json(coverage: Sequence[Sequence[int]]) -> str:
    if len(coverage) == 1:
        return f"[[{coverage[0][0]}, {coverage[0][1]}]]"
    return json.dumps(coverage) if coverage else "[]"


def _changed(row: TransferRow) -> tuple[Any, ...]:
    """The values of _CHANGES, and the id."""
    return (
        row.state, row.reason, row.updated, row.covered, _json(row.coverage), row.size, row.requests, row.id
    )  # fmt: skip


def also_through(connection: sa.Connection, transfer_id: str, credential: str | None, network: str | None) -> None:
    """Notes by what else, and from where else, a transfer went on."""
    held = transfers.c
    known = connection.execute(sa.select(held.credential, held.network).where(held.id == transfer_id)).one()
    joined = {"credential": joined_to(known.credential, credential), "network": joined_to(known.network, network)}
    connection.execute(sa.update(transfers).where(held.id == transfer_id).values(joined))


def joined_to(known: str | None, more: str | None) -> str | None:
    """What is known and one thing more, if it is new; of very many, the first ones and that there were more."""
    if known is None or more is None:
        return known or more
    parts = known.split(_PARTED)
    if more in parts or parts[-1] == _AND_MORE:
        return known
    return _PARTED.join([*parts, more if len(parts) < _NAMED else _AND_MORE])


def new_refusal(
    address: str,
    network: str | None,
    reason: str,
    *,
    recipient: str | None = None,
    link_id: str | None = None,
    via: str | None = None,
    credential: str | None = None,
    decided_by: str | None = None,
) -> TransferRow:
    """The line of the history for a request that was refused."""
    now = time.time()
    return TransferRow(
        id=new_transfer_id(now),
        who="",
        recipient=recipient,
        link_id=link_id,
        via=via,
        tag=None,
        network=network,
        address=address,
        etag=None,
        size=None,
        state=REFUSED,
        reason=reason[:200],
        started=now,
        updated=now,
        credential=credential,
        decided_by=decided_by,
    )


# In the words of the index, without which it would not be used.
_OPEN = sa.text(f"state != '{COMPLETE}' AND requests > 0")


def check_running(connection: sa.Connection, who: str, most: int) -> None:
    """Counts the running transfers of `who`, in all processes. Raises TooMany when `most` are."""
    running = sa.select(sa.func.count()).where(transfers.c.who == who, _OPEN, transfers.c.state == RUNNING)
    if connection.execute(running).scalar_one() >= most:
        raise TooMany


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
    """The newest transfer of the same content by the same caller that has not ended complete.

    Only the last day's are looked at: the search is bounded, and what has lain for longer than
    that is begun anew.
    """
    row = connection.execute(
        sa.select(transfers)
        .where(
            transfers.c.who == who,
            transfers.c.id > _first_id(time.time() - _RESUMED_WITHIN),
            transfers.c.address == address,
            transfers.c.etag == etag,
            transfers.c.tag.is_(tag) if tag is None else transfers.c.tag == tag,
            _OPEN,
        )
        .order_by(transfers.c.id.desc())
        .limit(1)
    ).first()
    return None if row is None else TransferRow(*row)


def newest(connection: sa.Connection, limit: int, before: str | None = None) -> list[TransferRow]:
    """Transfers from the newest on; `before` is the id to go on after. What was refused is none."""
    query = sa.select(transfers).where(transfers.c.state != REFUSED).order_by(transfers.c.id.desc()).limit(limit)
    if before is not None:
        query = query.where(transfers.c.id < before)
    return [TransferRow(*row) for row in connection.execute(query)]


def break_off_orphans(connection: sa.Connection, reason: str) -> int:
    """Ends what a process that died left running; gives the number of transfers."""
    ended = connection.execute(
        sa.update(transfers)
        .where(transfers.c.state == RUNNING)
        .values(state=BROKEN_OFF, reason=reason, updated=time.time(), requests=sa.func.max(transfers.c.requests, 1))
    )
    return ended.rowcount

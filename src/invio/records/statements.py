"""Statements: how rows of transfers are written, many at a time, because every download writes some."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable, Iterator, Sequence
from functools import cache
from typing import Any

import sqlalchemy as sa
from sqlalchemy.dialects import sqlite

from invio.records.rows import COMPLETE, RUNNING, TransferRow
from invio.records.tables import transfers

_AT_ONCE = (16, 8, 4, 2, 1)  # transfers that are begun, or ended, by one statement

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
    "decided_by", "made_for", "rendition",
)  # fmt: skip


# Mostly there is none of these. The driver takes 1.5 microseconds to find nothing that adapts a None, ten times what
# an empty text takes, which none of them ever is.
_OFTEN_NONE = ("recipient", "tag", "credential", "made_for", "rendition")

_HOLDER = "'held-by'"  # where the number of the process goes, which is the same for all that it begins
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
        held_by=sa.literal_column(_HOLDER),
        **{name: sa.bindparam(f"the_{name}") for name in _BEGUN if name not in _OFTEN_NONE},
        **{name: sa.func.nullif(sa.bindparam(f"the_{name}"), sa.literal_column("''")) for name in _OFTEN_NONE},
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
def _begin(count: int, holder: int | None) -> str:
    """The statement for the beginnings of so many transfers, by one process."""
    line = _LINE.replace(_HOLDER, "NULL" if holder is None else str(int(holder)))
    return f"{_BEGIN} VALUES {', '.join([line] * count)}"


@cache
def _complete(count: int) -> str:
    """The statement for so many transfers, all of each of which has arrived."""
    return f"{_COMPLETE} IN ({', '.join('?' * count)})"


def insert(connection: sa.Connection, rows: Sequence[TransferRow]) -> None:
    """Writes rows of transfers that begin."""
    if rows:
        _execute_many(connection, _INSERT, map(_inserted, rows))


def change(connection: sa.Connection, rows: Sequence[TransferRow]) -> None:
    """Writes what changes in a transfer, as the rows have it."""
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
                unusual = row.requests or row.link_id or row.via or row.version is not None
                (others if unusual else usual).append(row)
            for some in _portions(usual):
                cursor.execute(_begin(len(some), some[0].held_by), _begun(some))
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
        row.version, row.credential, row.decided_by, row.made_for, row.held_by, row.rendition,
    )  # fmt: skip


def _begun(rows: Sequence[TransferRow]) -> list[Any]:
    """The values of `_begin`."""
    values: list[Any] = []
    for row in rows:
        values += (
            row.id, row.who, row.recipient or "", row.tag or "", row.network, row.address, row.etag, row.size,
            row.started, row.updated, row.credential or "", row.decided_by, row.made_for or "",
            row.rendition or "",
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

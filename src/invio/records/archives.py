"""The files in archives, so that the history finds a file that was downloaded in one.

An archive is known by its tag: the same files in the same order, whichever bundle they were selected for, are written
down once. A file in it has arrived when all of its bytes of the archive have.
"""

from __future__ import annotations

import json
import time
from collections.abc import Iterable, Sequence
from itertools import islice

import sqlalchemy as sa

from invio.records.database import driver_of, write
from invio.records.tables import archive_files, archives, transfers

_AT_ONCE = 4000  # files that are written in one transaction: others' lines wait for it
_UNUSED = 3 * 86_400.0  # seconds after which an archive that nobody obtained is forgotten

# Rows of `archive_files` from one JSON text: in one statement, which keeps no other thread waiting.
_FILES = f"""
INSERT OR IGNORE INTO {archive_files.name} (archive, number, address, begins, ends)
SELECT ?, ? + key, json_extract(value, '$[0]'), json_extract(value, '$[1]'), json_extract(value, '$[2]')
FROM json_each(?)
"""

# An entry's file, where its content begins in the archive, and where it ends.
Entry = tuple[str, int, int]


def note_archive(engine: sa.Engine, archive: str, entries: Iterable[Entry]) -> None:
    """Records what is in an archive, unless it is known."""
    with engine.connect() as connection:
        if connection.execute(sa.select(archives.c.noted).where(archives.c.archive == archive)).first() is not None:
            return
    rows, written = iter(entries), 0
    while some := list(islice(rows, _AT_ONCE)):
        with write(engine).begin() as connection:
            driver_of(connection).execute(_FILES, (archive, written, json.dumps(some)))
        written += len(some)
    with write(engine).begin() as connection:
        connection.execute(sa.insert(archives).prefix_with("OR IGNORE").values(archive=archive, noted=time.time()))


def holding(address: str) -> sa.ColumnElement[bool]:
    """Of transfers: those of archives that hold a file, or with an address ending in `/` one of a folder's."""
    return transfers.c.etag.in_(sa.select(archive_files.c.archive).where(_at(address)))


def has_arrived(connection: sa.Connection, archive: str, address: str, coverage: Sequence[Sequence[int]]) -> bool:
    """Whether a file (or one of a folder) of an archive is among what has arrived of it."""
    held = archive_files.c
    found = connection.execute(sa.select(held.begins, held.ends).where(held.archive == archive, _at(address)))
    return any(start <= row.begins and row.ends <= stop for row in found for start, stop in coverage)


def forget_unused(connection: sa.Connection, now: float) -> int:
    """Deletes archives without a transfer; returns how many."""
    unused = sa.and_(
        archives.c.noted < now - _UNUSED,
        archives.c.archive.not_in(sa.select(transfers.c.etag).where(transfers.c.etag.is_not(None))),
    )
    gone = list(connection.scalars(sa.select(archives.c.archive).where(unused).limit(20)))
    if gone:
        connection.execute(sa.delete(archive_files).where(archive_files.c.archive.in_(gone)))
        connection.execute(sa.delete(archives).where(archives.c.archive.in_(gone)))
    return len(gone)


def _at(address: str) -> sa.ColumnElement[bool]:
    held = archive_files.c.address
    if not address.endswith("/"):
        return held == address
    return sa.and_(held >= address, held < address[:-1] + chr(ord("/") + 1))

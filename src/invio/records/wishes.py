"""Requests from one process to another on the same records: to end a transfer."""

from __future__ import annotations

import time
from collections.abc import Sequence

import sqlalchemy as sa

from invio.records.tables import endings

_GOOD_FOR = 60.0  # seconds; a transfer that goes on after that was not there to be ended


def wish_ended(connection: sa.Connection, transfer: str, by: str) -> None:
    """Asks the process that delivers a transfer to end it; `by` is a recipient's id."""
    connection.execute(sa.delete(endings).where(endings.c.at < time.time() - _GOOD_FOR))
    connection.execute(sa.delete(endings).where(endings.c.transfer == transfer))
    connection.execute(sa.insert(endings).values(transfer=transfer, by=by, at=time.time()))


def to_be_ended(connection: sa.Connection, running: Sequence[str]) -> dict[str, str]:
    """The transfers among these that are to be ended, with who asked for it."""
    rows = connection.execute(
        sa.select(endings.c.transfer, endings.c.by).where(endings.c.at >= time.time() - _GOOD_FOR)
    )
    wished = {row.transfer: row.by for row in rows}
    return {transfer: wished[transfer] for transfer in running if transfer in wished}

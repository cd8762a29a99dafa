"""What one process wants of another that serves from the same records: that it ends a transfer."""

from __future__ import annotations

import time
from collections.abc import Sequence

import sqlalchemy as sa

from invio.records.tables import endings

_GOOD_FOR = 60.0  # seconds; a transfer that goes on after that was not there to be ended


def wish_ended(connection: sa.Connection, transfer: str, by: str) -> None:
    """Has whoever delivers a transfer end it; `by` is a recipient's id."""
    connection.execute(sa.delete(endings).where(endings.c.at < time.time() - _GOOD_FOR))
    connection.execute(sa.delete(endings).where(endings.c.transfer == transfer))
    connection.execute(sa.insert(endings).values(transfer=transfer, by=by, at=time.time()))


def to_be_ended(connection: sa.Connection, running: Sequence[str]) -> dict[str, str]:
    """Those of some transfers that are to be ended, with who wants it."""
    rows = connection.execute(
        sa.select(endings.c.transfer, endings.c.by).where(endings.c.at >= time.time() - _GOOD_FOR)
    )
    wished = {row.transfer: row.by for row in rows}
    return {transfer: wished[transfer] for transfer in running if transfer in wished}

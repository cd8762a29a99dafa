"""The requests of a transfer, one by one: when, which bytes, and what became of it.

A transfer of one request that arrived whole has none here: its own line says all of it.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

import sqlalchemy as sa

from invio.records.database import insert_many
from invio.records.tables import transfer_requests

KEPT = 200
"""Requests of one transfer that are kept, the first ones: some programs ask for thousands of ranges."""


@dataclass(frozen=True, slots=True)
class EndedRequest:
    """A request that has ended. Times in Unix seconds; `start`, `asked` and `arrived` in bytes of the content.

    `asked` is None where nobody knew how much there was. `reason` says why it was not sent whole; None: it was.
    """

    transfer: str
    began: float
    ended: float
    start: int
    asked: int | None
    arrived: int
    reason: str | None


def save(connection: sa.Connection, ended: Sequence[EndedRequest]) -> None:
    """Keeps requests, of each transfer the first `KEPT`."""
    held = transfer_requests.c.transfer
    wanted = {one.transfer for one in ended}
    count = sa.select(held, sa.func.count().label("number")).where(held.in_(wanted)).group_by(held)
    there = Counter({row.transfer: row.number for row in connection.execute(count)})
    kept = []
    for one in ended:
        there[one.transfer] += 1
        if there[one.transfer] <= KEPT:
            kept.append((None, one.transfer, one.began, one.ended, one.start, one.asked, one.arrived, one.reason))
    insert_many(connection, transfer_requests, kept)


def requests_of(connection: sa.Connection, transfer: str) -> list[EndedRequest]:
    """Those of one transfer that are kept, in the order in which they ended."""
    held = transfer_requests.c
    columns = (held.transfer, held.began, held.ended, held.start, held.asked, held.arrived, held.reason)
    found = sa.select(*columns).where(held.transfer == transfer).order_by(held.id)
    return [EndedRequest(*row) for row in connection.execute(found)]

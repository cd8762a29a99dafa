"""The requests of transfers, as the records keep them."""

from __future__ import annotations

from dataclasses import replace

import sqlalchemy as sa

from invio.records.database import write
from invio.records.history import forget
from invio.records.rows import COMPLETE, new_refusal, new_transfer_id
from invio.records.statements import insert
from invio.records.transfer_requests import KEPT, EndedRequest, requests_of, save


def ended(transfer: str, number: int, reason: str | None = None) -> EndedRequest:
    return EndedRequest(transfer, 100.0 + number, 101.0 + number, number * 10, 10, 10, reason)


def test_each_is_kept_in_its_order_and_of_very_many_the_first_ones(engine: sa.Engine) -> None:
    broken = ended("b", 0, "the client left")
    with write(engine).begin() as connection:
        save(connection, [ended("a", number) for number in range(KEPT - 1)])
        save(connection, [broken, *(ended("a", number) for number in range(KEPT - 1, KEPT + 5))])
        save(connection, [ended("a", KEPT + 9)])
    with engine.connect() as connection:
        assert requests_of(connection, "a") == [ended("a", number) for number in range(KEPT)]
        assert requests_of(connection, "b") == [broken]
        assert requests_of(connection, "c") == []


def test_they_are_forgotten_with_their_transfer_and_no_sooner(engine: sa.Engine) -> None:
    rows = [
        replace(new_refusal("files/a", None, ""), id=new_transfer_id(at), state=COMPLETE, started=at, updated=at)
        for at in (1000.0, 2000.0)
    ]
    with write(engine).begin() as connection:
        insert(connection, rows)
        save(connection, [ended(row.id, 1) for row in rows])
        assert forget(connection, 1500.0) == 1
        assert requests_of(connection, rows[0].id) == []
        assert requests_of(connection, rows[1].id) == [ended(rows[1].id, 1)]

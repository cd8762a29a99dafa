"""Dates and times of PostgreSQL that Python has none for, such as `infinity`, as PostgreSQL writes them.

Its driver raises for them, so that one such row would keep everybody from all of a query's rows.
"""

from __future__ import annotations

from typing import Any

import sqlalchemy as sa

_KINDS = ("date", "time", "timetz", "timestamp", "timestamptz", "interval")


def read_odd_dates_as_text(engine: sa.Engine) -> None:
    """Has an engine's connections read them; other databases and drivers have none, or read them by themselves."""
    if engine.dialect.name == "postgresql" and engine.dialect.driver == "psycopg":
        sa.event.listen(engine, "connect", _prepare)


def _prepare(driver: Any, _record: object) -> None:
    from psycopg.pq import Format

    for kind in _KINDS:
        known = driver.adapters.types[kind]
        driver.adapters.register_loader(kind, _lenient(driver.adapters.get_loader(known.oid, Format.TEXT)))


def _lenient(strict: Any) -> type:
    """The class of a loader that gives the text of what a `strict` one cannot read."""
    from psycopg import DataError
    from psycopg.adapt import Loader

    class LenientLoader(Loader):
        def __init__(self, oid: int, context: Any = None) -> None:
            super().__init__(oid, context)
            self._load = strict(oid, context).load

        def load(self, data: Any) -> Any:
            try:
                return self._load(data)
            except (DataError, OverflowError):
                return bytes(data).decode()

    return LenientLoader

from collections.abc import Sequence
from datetime import UTC, date, datetime
from pathlib import Path

import sqlalchemy as sa

from invio.producers.odd_dates import read_odd_dates_as_text
from invio.producers.producer import Query, database_engine
from tests.stores.postgres import postgres

ODD = (
    "'infinity' \\:\\:date", "'0044-03-15 BC' \\:\\:date", "'-infinity' \\:\\:timestamp", "'20000-01-01' \\:\\:timestamptz",
    "'24:00:00' \\:\\:time",
)  # fmt: skip


def test_a_date_that_python_has_none_for_keeps_nobody_from_the_rows(tmp_path: Path) -> None:
    with postgres(tmp_path) as url:
        engine = database_engine(url)

        def rows(select: str) -> Sequence[Sequence[object]]:
            return list(Query(engine, select).rows({}))[1:]

        try:
            assert rows(f"SELECT {', '.join(ODD)}") == [
                ("infinity", "0044-03-15 BC", "-infinity", "20000-01-01 00:00:00+00", "24:00:00"),
            ]  # fmt: skip
            usual = "'2026-01-31' \\:\\:date, '2026-01-31 06:30:00+00' \\:\\:timestamptz, ARRAY['infinity' \\:\\:date]"
            assert rows(f"SELECT {usual}") == [
                (date(2026, 1, 31), datetime(2026, 1, 31, 6, 30, tzinfo=UTC), ["infinity"]),
            ]  # fmt: skip
        finally:
            engine.dispose()


def test_connections_of_other_databases_stay_as_they_are() -> None:
    engine = sa.create_engine("sqlite://")
    read_odd_dates_as_text(engine)
    with engine.connect() as connection:
        assert connection.execute(sa.text("SELECT 'infinity'")).scalar() == "infinity"

import csv
import io
import sqlite3
import threading
import tracemalloc
from collections.abc import Iterable, Iterator
from pathlib import Path

import pytest
import sqlalchemy as sa

from invio.producers.csv_rows import PIECE, Row, RowsAsCsv
from invio.producers.producer import ProducerFault, Query, database_engine, function_named, making_pool
from tests.running import until


def csv_pieces(rows: Iterable[Row]) -> Iterator[bytes]:
    """The rows as CSV; the first row is the header."""
    written = RowsAsCsv(header=True)
    for row in rows:
        if data := written.add(row):
            yield data
    if data := written.end():
        yield data


def test_rows_are_written_so_that_a_reader_gets_them_back() -> None:
    rows = [("name", "note"), ("Södra leden", 'says "hello", twice'), ("潮汐", "line\r\nbreak"), ("", None)]
    text = b"".join(csv_pieces(rows)).decode()
    assert list(csv.reader(io.StringIO(text, newline=""))) == [
        ["name", "note"], ["Södra leden", 'says "hello", twice'], ["潮汐", "line\r\nbreak"], ["", ""],
    ]  # fmt: skip


def test_many_rows_come_in_pieces_as_they_are_made() -> None:
    made = 0

    def rows() -> Iterator[tuple[int, str]]:
        nonlocal made
        for made in range(50_000):
            yield made, "x" * 40

    tracemalloc.start()
    pieces = csv_pieces(rows())
    assert len(next(pieces)) >= PIECE
    assert made < 5000, "the first piece leaves before the rest is made"
    assert sum(1 for _ in pieces) > 30
    peak = tracemalloc.get_traced_memory()[1]
    tracemalloc.stop()
    assert peak < 20 * PIECE


def test_no_rows_are_an_empty_file() -> None:
    assert list(csv_pieces([])) == []


def test_a_query_gives_its_columns_and_rows(tmp_path: Path) -> None:
    path = tmp_path / "gauges.sqlite"
    with sqlite3.connect(path) as database:
        database.execute("CREATE TABLE readings (station TEXT, level REAL)")
        database.executemany("INSERT INTO readings VALUES (?, ?)", [("pier", 1.5), ("rock", 2.25)])
    query = Query(database_engine(f"sqlite:///{path}"), "SELECT station, level AS metres FROM readings ORDER BY level")
    assert list(query.rows({})) == [("station", "metres"), ("pier", 1.5), ("rock", 2.25)]
    assert list(query.rows({})) == list(query.rows({})), "a query is asked anew each time"


def test_values_reach_a_database_bound_and_never_as_a_part_of_the_statement(tmp_path: Path) -> None:
    path = tmp_path / "gauges.sqlite"
    with sqlite3.connect(path) as database:
        database.execute("CREATE TABLE readings (station TEXT, level REAL)")
        database.executemany("INSERT INTO readings VALUES (?, ?)", [("pier", 1.5), ("x' OR '1'='1", 2.25)])
    text = "SELECT level FROM readings WHERE station = :station AND 'a:b' <> ''"
    query = Query(database_engine(f"sqlite:///{path}"), text, ["station", "month"])
    for station, levels in (("pier", [(1.5,)]), ("x' OR '1'='1", [(2.25,)]), ("'; DROP TABLE readings; --", [])):
        assert list(query.rows({"station": station, "month": "1"}))[1:] == levels
    with pytest.raises(ProducerFault, match="the query has the value :station, which is no parameter"):
        Query(database_engine(f"sqlite:///{path}"), text)
    among = Query(
        database_engine(f"sqlite:///{path}"), "SELECT level FROM readings WHERE station IN :groups", ["groups"]
    )
    assert list(among.rows({"groups": ("pier", "none")})) == [("level",), (1.5,)]
    assert list(among.rows({"groups": ()})) == [("level",)]


def test_contents_that_a_database_makes_slowly_wait_for_each_other_and_leave_it_answering(tmp_path: Path) -> None:
    engine, hold = database_engine("sqlite:///slow.sqlite", tmp_path, connections=3), threading.Event()

    @sa.event.listens_for(engine, "connect")
    def _(connection: sqlite3.Connection, _: object) -> None:
        connection.create_function("held", 0, lambda: hold.wait(20))

    pool, slow = making_pool(engine, 3), Query(engine, "SELECT held() AS held")
    made = [pool.submit(lambda: list(slow.rows({}))) for _ in range(8)]
    pooled = engine.pool
    assert isinstance(pooled, sa.QueuePool)
    until(lambda: pooled.checkedout() == pool.workers)
    assert Query(engine, "SELECT 'pier'").first_column({}, 10) == ["pier"]
    hold.set()
    assert [one.result(20) for one in made] == [[("held",), (1,)]] * 8
    assert making_pool(engine, 3) is pool
    assert making_pool(database_engine("sqlite:///other.sqlite", tmp_path, connections=1), 1).workers == 1


def test_a_function_is_found_by_its_name() -> None:
    table = iter(function_named("invio.demo.tides:this_year")())
    assert next(table) == ("time_utc", "height_m")
    assert next(table)[0] == "2026-01-01T00:00Z"


@pytest.mark.parametrize(
    "target", ["invio.demo.tides", "invio.nowhere:x", "invio.demo.tides:none", "invio:__version__"]
)
def test_a_function_that_is_none_is_said_at_once(target: str) -> None:
    with pytest.raises(ProducerFault, match=target.partition(":")[0]):
        function_named(target)


def test_a_module_that_fails_when_it_is_imported_says_how(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / "failing_here.py").write_text("import os\nos.no_such_thing\n\ndef rows(): ...\n")
    monkeypatch.syspath_prepend(tmp_path)
    with pytest.raises(
        ProducerFault, match=r"cannot be imported: AttributeError: module 'os' has no .*'no_such_thing'"
    ):
        function_named("failing_here:rows")


def test_a_database_that_cannot_be_named_is_said_at_once() -> None:
    with pytest.raises(ProducerFault, match="database"):
        database_engine("no url")

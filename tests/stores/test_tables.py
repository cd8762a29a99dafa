"""Files made on demand as a store: what is found, what is listed, and what is neither."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import cast

import pytest

from invio.core.addresses import parse_address
from invio.core.files import Caller
from invio.producers.made_files import MadeFile, Values, made_template
from invio.producers.parameters import Given, Parameter, read_pattern
from invio.service.open_stores import open_store
from invio.service.settings import read_settings
from invio.stores.sources import Made
from invio.stores.store import Missing, StoreFault
from invio.stores.tables import TablesStore

MONTHS = {"pier": ["2026-01", "2026-02"], "rock": ["2026-03"]}


def months(before: Given) -> list[str]:
    return MONTHS[before["station"]]


def rows(values: Values) -> list[tuple[object, ...]]:
    return [("name", "value"), *sorted(values.items())]


def file(path: str, *formats: str, parameters: dict[str, Parameter] | None = None, personal: bool = False) -> MadeFile:
    template, known = made_template(path, parameters or {}, formats)
    return MadeFile(template, rows, known, personal=personal, name="Gauge {station}.csv" if parameters else None)


STATION = Parameter("station", choices=("pier", "rock"))
PARAMETERS = {"station": STATION, "month": Parameter("month", values=months)}


@pytest.fixture
def store() -> TablesStore:
    return TablesStore(
        "tables",
        [
            file("tides/pier.csv"),
            file("gauges/{station}/{month}.{format}", "csv", "jsonl", parameters=PARAMETERS),
            file("days/{station}/{day}.csv", parameters={
                "station": STATION, "day": Parameter("day", pattern=read_pattern("[0-9]{4}-[0-9]{2}"))
            }),
            file("sheets/{depth}-{station}.csv", parameters={
                "station": STATION, "depth": Parameter("depth", pattern=read_pattern("-?[0-9]+"), type="integer")
            }),
            file("mine.csv", personal=True),
        ],
    )  # fmt: skip


def content(store: TablesStore, text: str, caller: Caller | None = None) -> bytes:
    found = store.locate(parse_address(text))
    source = found.source if caller is None else found.of(caller).source
    assert isinstance(source, Made)
    return b"".join(cast(Iterator[bytes], source.chunks()))


def listed(store: TablesStore, text: str) -> list[str]:
    return [str(address) for address in store.list(parse_address(text))]


def test_choices_and_queries_are_listed_and_patterns_are_found_alone(store: TablesStore) -> None:
    assert listed(store, "tables/") == [
        "tables/days/", "tables/gauges/", "tables/sheets/", "tables/tides/", "tables/mine.csv",
    ]  # fmt: skip
    assert listed(store, "tables/gauges/") == ["tables/gauges/pier/", "tables/gauges/rock/"]
    assert listed(store, "tables/gauges/rock/") == [
        "tables/gauges/rock/2026-03.csv", "tables/gauges/rock/2026-03.jsonl",
    ]  # fmt: skip
    assert listed(store, "tables/days/") == ["tables/days/pier/", "tables/days/rock/"]
    assert listed(store, "tables/days/pier/") == [], "a folder that is there, of which nobody can tell what is in it"
    assert store.locate(parse_address("tables/days/pier/2026-01.csv"))
    for absent in ("tables/none/", "tables/gauges/none/", "tables/days/none/", "tables/gauges/pier/2026-01.csv/"):
        with pytest.raises(Missing):
            store.list(parse_address(absent))


@pytest.mark.parametrize(
    "path",
    [
        "tides/none.csv", "tides", "gauges/pier/2026-03.csv", "gauges/none/2026-01.csv", "gauges/pier/2026-01.xlsx",
        "gauges/pier/2026-01.CSV", "gauges/pier/2026-01", "days/pier/2026-1.csv", "days/pier/2026-01\n.csv",
        "sheets/x-pier.csv", "sheets/5-none.csv",
    ],
)  # fmt: skip
def test_a_value_that_is_not_declared_is_no_file(store: TablesStore, path: str) -> None:
    with pytest.raises((Missing, ValueError)):
        store.locate(parse_address(f"tables/{path}"))


def test_values_are_handed_over_by_name_and_as_their_type(store: TablesStore) -> None:
    assert content(store, "tables/gauges/pier/2026-02.csv") == b"name,value\r\nmonth,2026-02\r\nstation,pier\r\n"
    assert (
        content(store, "tables/gauges/pier/2026-02.jsonl").splitlines()[0] == b'{"name": "month", "value": "2026-02"}'
    )
    assert b"depth,-5\r\n" in content(store, "tables/sheets/-5-pier.csv")
    assert store.locate(parse_address("tables/days/pier/2026-01.csv")).facts.name == "Gauge pier.csv"


def test_what_is_each_recipients_own_is_made_for_whoever_asks(store: TablesStore) -> None:
    ann = Caller("ann", frozenset({"b", "a"}))
    assert content(store, "tables/mine.csv", ann) == b'name,value\r\ngroups,"[""a"", ""b""]"\r\nrecipient,ann\r\n'
    assert b"recipient,\r\n" in content(store, "tables/mine.csv", Caller())
    assert store.locate(parse_address("tables/mine.csv")).personal


def test_what_a_database_makes_leaves_a_connection_for_what_is_looked_up(tmp_path: Path) -> None:
    """Threads of a store hold connections for as long as they make: more of them than those left none for anybody."""
    (tmp_path / "invio.toml").write_text(
        """
[stores.made]
kind = "tables"
connections = 4
"""
        + "".join(
            f'[[stores.made.file]]\npath = "{name}"\n{source}\n'
            for name, source in (
                ("a.csv", 'database = "sqlite:///one.sqlite"\nquery = "SELECT 1"'),
                ("b.csv", 'database = "sqlite:///one.sqlite"\nquery = "SELECT 2"'),
                ("c.csv", 'database = "sqlite:///two.sqlite"\nquery = "SELECT 3"'),
                ("d.csv", 'function = "json:dumps"'),
            )
        )
    )
    store = open_store(read_settings(tmp_path / "invio.toml"), None, "made")
    assert isinstance(store, TablesStore)
    pools = [made.pool for name in "abcd" if (made := store.locate(parse_address(f"made/{name}.csv")).made) is not None]
    assert [pool.workers for pool in pools if pool is not None] == [3, 3, 3, 16]
    assert pools[0] is pools[1]
    assert len({id(pool) for pool in pools}) == 3


def test_a_database_that_does_not_answer_is_no_missing_file() -> None:
    def away(_: Given) -> list[str]:
        raise OSError("the database is away")

    parameters = {"station": Parameter("station", values=away)}
    store = TablesStore("tables", [file("{station}.csv", parameters=parameters)])
    with pytest.raises(StoreFault, match="store 'tables': OSError: the database is away"):
        store.locate(parse_address("tables/pier.csv"))

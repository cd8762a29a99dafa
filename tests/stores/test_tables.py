from collections.abc import Iterator
from typing import cast

import pytest

from invio.core.addresses import parse_address
from invio.stores.sources import Made
from invio.stores.store import Missing
from invio.stores.tables import TablesStore


@pytest.fixture
def store() -> TablesStore:
    calls = iter(range(100))
    return TablesStore(
        "tables",
        {
            "tides/pier.csv": lambda: [("time", "height"), ("now", 1.5)],
            "tides/rock.csv": list,
            "count.csv": lambda: [(next(calls),)],
        },
    )


def test_a_table_is_made_anew_each_time_it_is_read(store: TablesStore) -> None:
    source = store.locate(parse_address("tables/count.csv")).source
    assert isinstance(source, Made)
    assert [b"".join(cast(Iterator[bytes], source.chunks())) for _ in range(2)] == [b"0\r\n", b"1\r\n"]


def test_nothing_is_known_of_a_table_before_it_is_made(store: TablesStore) -> None:
    facts = store.locate(parse_address("tables/tides/pier.csv")).facts
    assert (facts.size, facts.modified, facts.tag, facts.media_type) == (None, None, None, "text/csv")


def test_folders_follow_from_the_paths(store: TablesStore) -> None:
    listed = [str(address) for address in store.list(parse_address("tables/"))]
    assert listed == ["tables/tides/", "tables/count.csv"]
    assert len(store.list(parse_address("tables/tides/"))) == 2


@pytest.mark.parametrize("text", ["tables/none.csv", "tables/tides"])
def test_a_table_that_is_not_there_is_missing(store: TablesStore, text: str) -> None:
    with pytest.raises(Missing):
        store.locate(parse_address(text))
    with pytest.raises(Missing):
        store.list(parse_address("tables/none/"))

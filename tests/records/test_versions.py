"""Versions in the records: listings hold against going through all of them, and numbers are given once."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import pytest
import sqlalchemy as sa
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from invio.core.versions import Arrived, PathConflict, Version
from invio.records.database import open_database
from invio.records.tables import versions
from invio.records.versions import VersionRecords

# Some sort before `/`, some after it; one sorts right where a folder ends.
SEGMENTS = ("a", "a-b", "a b", "a0", "ab", "b", "ü")
PATHS = st.lists(st.sampled_from(SEGMENTS), min_size=1, max_size=3).map("/".join)


@pytest.fixture(scope="module")
def engine(tmp_path_factory: pytest.TempPathFactory) -> Iterator[sa.Engine]:
    engine = open_database(tmp_path_factory.mktemp("versions") / "records.sqlite")
    yield engine
    engine.dispose()


def arrived(text: str) -> Arrived:
    return Arrived(f"name-{text}", len(text), text.encode().ljust(32, b"."), 0)


def nowhere(_: object) -> int:
    """Versions are written down nowhere else."""
    return 0


def ignore(_: Version | None) -> None:
    """Whoever puts it expects nothing."""


@settings(max_examples=150, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.lists(st.tuples(PATHS, st.booleans()), max_size=25), st.integers(1, 4))
def test_listings_hold_against_all_that_there_is(
    engine: sa.Engine, monkeypatch: pytest.MonkeyPatch, steps: list[tuple[str, bool]], page: int
) -> None:
    monkeypatch.setattr("invio.records.versions._PAGE", page)
    with engine.begin() as connection:
        connection.execute(sa.delete(versions))
    records = VersionRecords(engine, "s")
    there: dict[str, Any] = {}
    counts: dict[str, int] = {}
    for number, (path, removes) in enumerate(steps):
        blocked = any(other.startswith(path + "/") or path.startswith(other + "/") for other in there)
        if removes:
            assert bool(records.remove(path, None, None, ignore)) is (path in there)
            there.pop(path, None)
        elif blocked:
            with pytest.raises(PathConflict):
                records.add(path, arrived(str(number)), None, ignore, nowhere)
        else:
            counts[path] = counts.get(path, 0) + 1
            there[path] = records.add(path, arrived(str(number)), "ann", ignore, nowhere)
            assert there[path].number == counts[path]
    folders = {"", *(path[: at + 1] for path in there for at, letter in enumerate(path) if letter == "/")}
    for folder in folders:
        inside = {path[len(folder) :].partition("/")[:2] for path in there if path.startswith(folder)}
        assert records.inside(folder) == sorted((a + b for a, b in inside), key=str.encode)
        below = [version.path for version in records.below(folder)]
        assert below == sorted((path for path in there if path.startswith(folder)), key=str.encode)
    for path, version in there.items():
        assert records.current(path) == version
    assert records.names().keys() >= {version.content.name for version in there.values()}


def test_versions_come_in_pages_the_newest_first(engine: sa.Engine) -> None:
    records = VersionRecords(engine, "paged")
    for number in range(5):
        records.add("a", arrived(str(number)), None, ignore, nowhere)
    records.remove("a", 3, "ann", ignore)
    first = records.all_of("a", None, 2)
    assert [(one.number, one.current) for one in first] == [(5, True), (4, False)]
    assert [one.number for one in records.all_of("a", 4, 2)] == [2, 1]
    assert records.numbered("a", 3) is None
    other = records.numbered("a", 2)
    assert other is not None
    assert (other.current, other.content.name) == (False, "name-1")


def test_what_the_putter_refuses_is_not_added(engine: sa.Engine) -> None:
    records = VersionRecords(engine, "refused")

    def refuse(_: Version | None) -> None:
        raise LookupError

    with pytest.raises(LookupError):
        records.add("a", arrived("x"), None, refuse, nowhere)
    assert records.current("a") is None
    records.add("a", arrived("x"), None, ignore, nowhere)
    with pytest.raises(LookupError):
        records.remove("a", None, None, refuse)
    assert records.current("a") is not None

"""Which threads plan an archive."""

from __future__ import annotations

import asyncio
from types import SimpleNamespace
from typing import Any, cast

import pytest

from invio.delivery.archives import planning_pools
from invio.delivery.archives.planning_pools import AnotherPool, PlanningPools
from invio.records.bundles import BundleRecord
from invio.stores.store import Store
from invio.workers.pool import Pool

STORES = {"files": False, "far": True, "table": True}


@pytest.fixture
def pools() -> PlanningPools:
    return PlanningPools({name: cast(Store, SimpleNamespace(waits=waits)) for name, waits in STORES.items()})


def bundle(number: int, *files: str) -> BundleRecord:
    return BundleRecord(f"b{number}", None, "some.zip", files, 2e9)


def named(pool: Pool | None) -> str | None:
    return None if pool is None else pool.name


def test_each_system_that_waits_has_its_own(pools: PlanningPools) -> None:
    assert [pool.name for pool in pools.all] == ["archives", "archives-far", "archives-table", "archives-by-url"]
    assert [pool.workers for pool in pools.all] == [8, 8, 8, 8]
    assert [pool.room for pool in pools.all] == [208, 68, 68, 68]


@pytest.mark.parametrize(
    ("files", "pool"),
    [
        (("files/a", "files/"), None),
        (("files/a", "far/deep/b", "table/c"), "archives-far"),
        (("table/",), "archives-table"),
        (("files/a", "https://office.example/far/a"), "archives-by-url"),
        (("gone/a", ""), None),
        ((), None),
    ],
)
def test_the_first_file_of_such_a_system_says_which(
    pools: PlanningPools, files: tuple[str, ...], pool: str | None
) -> None:
    assert named(pools.of(bundle(1, *files))) == pool


def test_files_are_looked_at_once_a_bundle(pools: PlanningPools, monkeypatch: pytest.MonkeyPatch) -> None:
    pools.look(bundle(1, "far/a"))
    monkeypatch.setattr(planning_pools, "is_url", lambda _: 1 / 0)
    assert named(pools.of(bundle(1, "far/a"))) == "archives-far"
    with pytest.raises(ZeroDivisionError):
        pools.of(bundle(2, "far/a"))


def test_work_is_handed_on_to_the_threads_that_are_to_do_it(pools: PlanningPools) -> None:
    done: list[str | None] = []

    def plan(record: BundleRecord, by: Pool | None = None) -> str:
        done.append(named(by))
        pools.require(record, by)
        return f"planned by {named(by)}"

    def planned(*files: str) -> Any:
        done.clear()
        return asyncio.run(pools.run(lambda by=None: plan(bundle(len(files), *files), by)))

    assert planned("files/a") == "planned by None"
    assert done == [None]
    assert planned("files/a", "far/b") == "planned by archives-far"
    assert done == [None, "archives-far"]
    with pytest.raises(AnotherPool, match="archives-far"):
        pools.require(bundle(2, "files/a", "far/b"), pools.all[0])

"""From a selection to a plan: what is left out, what is refused, and what changes while it is planned."""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
import sqlalchemy as sa

from invio.core.addresses import parse_address
from invio.core.files import Caller
from invio.core.http.replies import Slice
from invio.core.reasons import Refusal
from invio.core.rules.file import parse_rules
from invio.delivery.access.catalogue import Catalogue
from invio.delivery.archives.builder import Planning
from invio.delivery.archives.plan import Plan, Preparing
from invio.delivery.archives.selection import Selection
from invio.delivery.archives.spools import Spools
from invio.delivery.transfers.limits import BundleLimits
from invio.records.bundles import BundleOptions, BundleRecord
from invio.records.database import open_database
from invio.stores.directory import DirectoryStore

BOB = Caller("bob", frozenset({"crew"}))
RULES = """
[[rule]]
effect = "allow"
who = ["group:crew"]
what = ["files/**"]
actions = ["list", "read", "bundle"]
[[rule]]
effect = "deny"
who = ["anyone"]
what = ["files/drafts/**"]
actions = ["read"]
"""


@pytest.fixture(scope="module")
def engine(tmp_path_factory: pytest.TempPathFactory) -> Iterator[sa.Engine]:
    engine = open_database(tmp_path_factory.mktemp("building") / "records.sqlite")
    yield engine
    engine.dispose()


@pytest.fixture
def root(tmp_path: Path) -> Path:
    root = tmp_path / "files"
    for name in ("a.txt", "b.txt", "drafts/secret.txt", "empty/"):
        path = root / name
        (path if name.endswith("/") else path.parent).mkdir(parents=True, exist_ok=True)
        if not name.endswith("/"):
            path.write_text(name)
    return root


@pytest.fixture
def plan_of(root: Path, engine: sa.Engine) -> Callable[..., Plan]:
    def plan_of(*files: str, limits: BundleLimits | None = None, leave_out: bool = False) -> Plan:
        record = BundleRecord("b1", "bob", "all.zip", files, 2e9, BundleOptions(leave_out=leave_out))
        limits = limits or BundleLimits()
        catalogue = Catalogue([DirectoryStore("files", root)], parse_rules(RULES))
        planning = Planning(engine, limits, None, Spools(limits.spools), record=record, preparing=Preparing())
        return planning.plan(Selection(catalogue, BOB), packs=False, waits=False)

    return plan_of


def read(plan: Plan) -> bytes:
    parts = plan.content.cut(0, plan.content.size)
    return b"".join(part.source.read(part.offset, part.length) if isinstance(part, Slice) else part for part in parts)  # type: ignore[misc]


def entries(plan: Plan) -> list[str]:
    return [plan.name_of(number) for number in range(len(plan))]


def test_what_is_not_allowed_is_named_with_why(plan_of: Callable[..., Plan]) -> None:
    with pytest.raises(Refusal) as raised:
        plan_of("files/", "files/none.txt")
    assert raised.value.reason.word == "bad-selection"
    assert raised.value.detail == "unknown: files/none.txt; not allowed: files/drafts/secret.txt"
    assert raised.value.names == ("files/none.txt", "files/drafts/secret.txt")


def test_of_very_many_that_are_not_there_a_hundred_are_named(plan_of: Callable[..., Plan]) -> None:
    with pytest.raises(Refusal) as raised:
        plan_of(*(f"files/none-{number}.txt" for number in range(103)))
    assert raised.value.detail.endswith("files/none-99.txt and 3 more")
    assert len(raised.value.names) == 100


def test_an_empty_folder_is_no_archive(plan_of: Callable[..., Plan]) -> None:
    with pytest.raises(Refusal) as raised:
        plan_of("files/empty/")
    assert raised.value.reason.word == "no-selection"


@pytest.mark.parametrize(
    ("limits", "says"),
    [
        (BundleLimits(entries=1), "at most 1 files"),
        (BundleLimits(size=9), "at most 9 bytes"),
        (BundleLimits(seconds=-1), "took longer than"),
    ],
)
def test_an_archive_has_its_limits(plan_of: Callable[..., Plan], limits: BundleLimits, says: str) -> None:
    with pytest.raises(Refusal, match=says) as raised:
        plan_of("files/a.txt", "files/b.txt", limits=limits)
    assert raised.value.reason.word == "too-large"
    assert len(plan_of("files/a.txt", "files/b.txt", limits=BundleLimits(entries=2, size=10))) == 2


def test_a_file_that_vanishes_while_it_is_planned_is_refused_or_left_out(
    plan_of: Callable[..., Plan], root: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    found = DirectoryStore.locate

    def found_and_gone(store: DirectoryStore, address: object) -> object:
        file = found(store, address)  # type: ignore[arg-type]
        if address == parse_address("files/b.txt"):
            (root / "b.txt").unlink(missing_ok=True)
        return file

    monkeypatch.setattr(DirectoryStore, "locate", found_and_gone)
    with pytest.raises(Refusal) as raised:
        plan_of("files/a.txt", "files/b.txt")
    assert (raised.value.reason.word, "files/b.txt" in raised.value.detail) == ("changed", True)
    (root / "b.txt").write_text("again")
    plan = plan_of("files/a.txt", "files/b.txt", leave_out=True)
    assert entries(plan) == ["files/a.txt", ""]
    assert b"files/b.txt\tchanged\n" in read(plan)


def test_a_file_that_is_altered_after_it_was_planned_breaks_the_archive_off(
    plan_of: Callable[..., Plan], root: Path
) -> None:
    plan = plan_of("files/a.txt", "files/b.txt")
    assert plan.holds()
    whole = read(plan)
    shutil.copy(root / "b.txt", root / "c.txt")
    os.replace(root / "c.txt", root / "b.txt")
    assert not plan.holds()
    with pytest.raises(Exception, match=r"files/b.txt changed after the archive was planned"):
        read(plan)
    assert plan.broken
    assert len(whole) == plan.content.size

"""Selections: each file once, in the version that is wanted, and looked at again by the rules that hold later."""

from __future__ import annotations

from pathlib import Path

import pytest
import sqlalchemy as sa

from invio.core.addresses import Address, parse_address
from invio.core.archive.zip_layout import Entry, ZipLayout
from invio.core.files import Caller, FileFacts
from invio.core.reasons import Refusal
from invio.core.rules.file import parse_rules
from invio.delivery.access.catalogue import Catalogue
from invio.delivery.archives.plan import Literal, Plan
from invio.delivery.archives.selection import Selection, renamed, still_may
from invio.records.versions import VersionRecords
from invio.stores.directory import DirectoryStore
from invio.stores.managed import ManagedStore
from invio.stores.sources import DiskFile
from invio.stores.store import Found, Missing, StoreFault
from tests.rules import rule
from tests.stores.test_managed import PUTTING, put

BOB = Caller("bob", frozenset({"crew"}))
ALL = rule("group:crew", "**", "list read bundle")
NO_DRAFTS = ALL + '[[rule]]\neffect = "deny"\nwho = ["anyone"]\nwhat = ["*/drafts/**"]\nactions = ["read"]\n'
SMALL_ONES = ALL + "max_size = 5\n"
CURRENT_ONES = ALL + 'version = "current"\n'


@pytest.fixture
def stores(tmp_path: Path, engine: sa.Engine) -> list[DirectoryStore | ManagedStore]:
    for name in ("a.txt", "b.txt", "drafts/x.txt"):
        path = tmp_path / "files" / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(name)
    return [
        DirectoryStore("files", tmp_path / "files"),
        ManagedStore("models", tmp_path / "models", VersionRecords(engine, "models")),
    ]


def catalogue(stores: list[DirectoryStore | ManagedStore], rules: str = ALL) -> Catalogue:
    return Catalogue(stores, parse_rules(rules))


def chosen(selection: Selection, *files: str) -> list[tuple[str, str]]:
    return [(str(found.facts.address), path) for found, path in selection.chosen(files)]


def test_a_file_that_is_named_in_several_ways_is_chosen_once(stores: list[DirectoryStore | ManagedStore]) -> None:
    ticks: list[Selection] = []
    selection = Selection(catalogue(stores), BOB, tick=ticks.append)
    drafts, a, b = (("files/drafts/x.txt", "drafts/x.txt"), ("files/a.txt", "a.txt"), ("files/b.txt", "files/b.txt"))
    assert chosen(selection, "files/drafts/", "files/a.txt", "files/") == [drafts, a, b]
    assert len(ticks) == 3 + 1 + 1 + 3, "each name, and each file that was looked at"
    assert selection.left_out == []


def test_a_folder_keeps_its_own_name_and_none_of_those_above(
    stores: list[DirectoryStore | ManagedStore], tmp_path: Path
) -> None:
    (tmp_path / "files/drafts/deep/er").mkdir(parents=True)
    (tmp_path / "files/drafts/deep/er/y.txt").write_text("y")
    selection = Selection(catalogue(stores), BOB)
    deep = "files/drafts/deep/er/y.txt"
    assert chosen(selection, "files/drafts/deep/") == [(deep, "deep/er/y.txt")]
    assert chosen(selection, "files/drafts/deep/er/") == [(deep, "er/y.txt")]


def test_an_archive_holds_what_is_shown_of_a_file(stores: list[DirectoryStore | ManagedStore]) -> None:
    def shown(found: Found) -> Found:
        if found.facts.address.name == "x.txt":
            raise Refusal("not-an-image", "no image")
        if found.facts.address.name == "a.txt":
            return found._replace(facts=found.facts._replace(name="a.webp"))
        return found

    selection = Selection(catalogue(stores), BOB, shown=shown)
    assert [path for _, path in selection.chosen(["files/"])] == ["files/a.webp", "files/b.txt"]
    assert [(one.address, one.reason) for one in selection.left_out] == [("files/drafts/x.txt", "not-an-image")]


@pytest.mark.parametrize(("count", "more"), [(100, ""), (101, " and 1 more")])
def test_a_refusal_names_a_hundred(stores: list[DirectoryStore | ManagedStore], count: int, more: str) -> None:
    selection = Selection(catalogue(stores), BOB)
    assert chosen(selection, *(f"files/none-{number}" for number in range(count))) == []
    with pytest.raises(Refusal) as refused:
        selection.refuse()
    assert refused.value.detail.endswith(f"files/none-99{more}")


def test_what_is_no_address_is_named_shortened_and_readable(stores: list[DirectoryStore | ManagedStore]) -> None:
    selection = Selection(catalogue(stores), BOB)
    assert chosen(selection, "files/../a", "files/" + "\udcff" * 300, "files/a.txt") == [("files/a.txt", "a.txt")]
    assert [(one.address, one.reason) for one in selection.left_out] == [
        ("files/../a", "malformed"),
        ("files/" + "?" * 194, "malformed"),
    ]


def test_a_folder_has_the_versions_that_are_wanted_of_its_files(stores: list[DirectoryStore | ManagedStore]) -> None:
    models = stores[1]
    assert isinstance(models, ManagedStore)
    for name in ("models/bay/floor.grid", "models/bay/wall.grid"):
        for content in (b"one", b"three"):
            put(models, parse_address(name), content)
    wanted = {"models/bay/floor.grid": 1, "models/bay/wall.grid": 2}
    selection = Selection(catalogue(stores), BOB, wanted)
    assert [(found.facts.version, found.facts.size) for found, _ in selection.chosen(["models/bay/"])] == [
        (1, 3), (2, 5),
    ]  # fmt: skip
    selection = Selection(catalogue(stores), BOB, {"models/bay/floor.grid": 7})
    assert [found.facts.address.name for found, _ in selection.chosen(["models/"])] == ["wall.grid"]
    assert [(one.address, one.reason) for one in selection.left_out] == [("models/bay/floor.grid", "missing")]


def test_who_may_have_an_archive_is_looked_at_by_the_rules_of_the_moment(
    stores: list[DirectoryStore | ManagedStore],
) -> None:
    plan = planned(stores, ["files/"])
    assert still_may(catalogue(stores), BOB, ["files/"], plan)
    assert not still_may(catalogue(stores, NO_DRAFTS), BOB, ["files/"], plan)
    assert not still_may(catalogue(stores), Caller("eve"), ["files/"], plan)
    without = planned(stores, ["files/a.txt", "files/b.txt"])
    assert still_may(catalogue(stores, NO_DRAFTS), BOB, ["files/a.txt", "files/b.txt"], without)
    # One folder is sure, and what is named beside it is looked at all the same.
    both = planned(stores, ["models/", "files/drafts/x.txt"])
    assert not still_may(catalogue(stores, NO_DRAFTS), BOB, ["models/", "files/drafts/x.txt"], both)
    assert still_may(catalogue(stores, SMALL_ONES), BOB, ["files/a.txt"], planned(stores, ["files/a.txt"]))
    assert not still_may(catalogue(stores, SMALL_ONES), BOB, ["files/"], plan), "one has more than five bytes"
    own = planned(stores, ["files/a.txt"], sums=b"what the archive adds itself is nobody's")
    assert still_may(catalogue(stores, SMALL_ONES), BOB, ["files/a.txt"], own)
    assert still_may(catalogue(stores), BOB, ["https://maps.example/bay/", "files/a.txt"], without)


def test_a_version_that_is_current_no_more_is_looked_at_as_an_earlier_one(
    stores: list[DirectoryStore | ManagedStore],
) -> None:
    models = stores[1]
    assert isinstance(models, ManagedStore)
    put(models, parse_address("models/bay/floor.grid"), b"one")
    plan, rules = planned(stores, ["models/bay/"]), catalogue(stores, CURRENT_ONES)
    assert still_may(rules, BOB, ["models/bay/"], plan)
    put(models, parse_address("models/bay/floor.grid"), b"two")
    assert not still_may(rules, BOB, ["models/bay/"], plan)
    models.remove(parse_address("models/bay/floor.grid"), None, PUTTING)
    assert not still_may(rules, BOB, ["models/bay/"], plan), "nor is one that was removed"


def planned(stores: list[DirectoryStore | ManagedStore], files: list[str], sums: bytes = b"") -> Plan:
    plan = Plan(ZipLayout())
    for found, path in Selection(catalogue(stores), BOB).chosen(files):
        size = found.facts.size or 0
        plan.add(found.facts, found.content, Entry(path, size, 0, found.facts.modified))
    if sums:
        facts = FileFacts(Address("", "SHA256SUMS"), len(sums), None, None)
        plan.add(facts, Literal(sums), Entry("SHA256SUMS", len(sums), 0, None))
    return plan.end()


class Urls:
    """Files of another origin: one that is there."""

    def locate(self, text: str) -> Found:
        if text.startswith("https://down.example/"):
            raise StoreFault("no answer", word="no-answer")
        if not text.endswith("/there.pdf"):
            raise Missing(text)
        return Found(FileFacts(Address("https:", text), 1, None, "tag"), DiskFile(b"/there.pdf", 1, 1, 1, 1))


def test_what_may_be_listed_and_not_read_is_left_out_by_name(stores: list[DirectoryStore | ManagedStore]) -> None:
    only_bundled = ALL + '[[rule]]\neffect = "deny"\nwho = ["anyone"]\nwhat = ["*/b.txt"]\nactions = ["read"]\n'
    selection = Selection(catalogue(stores, only_bundled), BOB)
    assert chosen(selection, "files/a.txt", "files/b.txt", "files/none.txt") == [("files/a.txt", "a.txt")]
    left_out = [(one.address, one.reason) for one in selection.left_out]
    assert left_out == [("files/b.txt", "not-allowed"), ("files/none.txt", "missing")]
    with pytest.raises(Refusal, match=r"unknown: files/none\.txt; not allowed: files/b\.txt") as refused:
        selection.refuse()
    assert refused.value.reason.word == "bad-selection"
    with pytest.raises(Refusal) as refused:
        Selection(catalogue(stores), Caller(), left_out=selection.left_out).refuse()
    assert refused.value.reason.word == "sign-in", "it might help"


def test_files_by_their_urls_are_had_where_origins_are_named(stores: list[DirectoryStore | ManagedStore]) -> None:
    asked = "https://maps.example/bay/there.pdf", "https://maps.example/gone.pdf", "https://down.example/there.pdf"
    selection = Selection(catalogue(stores), BOB, urls=Urls())  # type: ignore[arg-type]
    assert [path for _, path in selection.chosen(asked)] == ["there.pdf"]
    left_out = [(one.address, one.reason) for one in selection.left_out]
    assert left_out == [(asked[1], "missing"), (asked[2], "no-answer")]
    selection = Selection(catalogue(stores), BOB)
    assert list(selection.chosen(asked)) == []
    assert {one.reason for one in selection.left_out} == {"not-allowed"}


@pytest.mark.parametrize(
    ("path", "name", "expected"),
    [
        ("bay/north.png", "north.jpg", "bay/north.jpg"),
        ("north.png", "north.jpg", "north.jpg"),
        ("bay/deep/north.png", "a/b.jpg", "bay/deep/a_b.jpg"),
    ],
)
def test_a_rendition_stands_where_its_image_stood(path: str, name: str, expected: str) -> None:
    assert renamed(path, name) == expected

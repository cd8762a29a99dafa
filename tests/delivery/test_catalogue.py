"""What of the stores a caller may see: decided before anything is looked up."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import ClassVar

import pytest
import sqlalchemy as sa

from invio.core.addresses import Address, parse_address
from invio.core.files import ANYONE, Caller, FileFacts
from invio.core.reasons import Refusal
from invio.core.rules.file import parse_rules
from invio.delivery.access import catalogue as catalogue_module
from invio.delivery.access.catalogue import Catalogue
from invio.records.versions import VersionRecords
from invio.stores.directory import DirectoryStore
from invio.stores.managed import ManagedStore
from invio.stores.sources import Made
from invio.stores.store import Found, Missing
from tests.rules import rule
from tests.stores.test_managed import put

BOB = Caller("bob", frozenset({"crew"}), "192.0.2.7")
RULES = rule("group:crew", "files/open/**", "list read")
BY_SIZE = rule("group:crew", "files/**", "list read", max_size=1000)


class Counting:
    """A store of one file, which counts what it is asked."""

    name, kind, waits = "files", "directory", False

    def __init__(self) -> None:
        self.asked = 0

    def locate(self, address: Address) -> Found:
        self.asked += 1
        if address.path not in ("hidden/there.bin", "open/there.bin"):
            raise Missing(str(address))
        facts = FileFacts(address, 5000, 1_700_000_000, "application/octet-stream", '"1"')
        return Found(facts, Made(lambda: iter(())))

    def list(self, folder: Address) -> list[Address]:
        self.asked += 1
        raise Missing(str(folder))


def refused(catalogue: Catalogue, address: str) -> tuple[str, str]:
    with pytest.raises(Refusal) as raised:
        catalogue.obtain(BOB, "read", parse_address(address))
    return raised.value.reason.word, str(raised.value).replace(address, "ADDRESS")


def test_of_what_a_caller_may_not_have_nothing_is_looked_up() -> None:
    store = Counting()
    catalogue = Catalogue([store], parse_rules(RULES))
    there, not_there = refused(catalogue, "files/hidden/there.bin"), refused(catalogue, "files/hidden/nothing.bin")
    assert there == not_there
    assert there[0] == "missing"
    assert store.asked == 0, "what takes time with the store tells what is in it"
    catalogue.obtain(BOB, "read", parse_address("files/open/there.bin"))
    assert store.asked == 1


def test_where_rules_look_at_files_what_is_missing_costs_the_store_as_much_as_what_is_forbidden() -> None:
    store = Counting()
    catalogue = Catalogue([store], parse_rules(BY_SIZE))
    there, asked = refused(catalogue, "files/hidden/there.bin"), store.asked
    assert refused(catalogue, "files/hidden/nothing.bin") == there
    assert (asked, store.asked) == (1, 2)


class Listing:
    """A store of a few files in folders, which any may be missing from by the time it is looked for."""

    name, kind, waits = "files", "directory", False
    paths: ClassVar[list[str]] = ["a", "b", "c", "closed/x", "d", "open/y"]

    def __init__(self, gone: str = "") -> None:
        self.gone = gone

    def locate(self, address: Address) -> Found:
        if address.path not in self.paths or address.path == self.gone:
            raise Missing(str(address))
        facts = FileFacts(address, 10, 1_700_000_000, "application/octet-stream", '"1"')
        return Found(facts, Made(lambda: iter(())))

    def list(self, folder: Address) -> list[Address]:
        below = [path.removeprefix(folder.path) for path in self.paths if path.startswith(folder.path)]
        names = {path.partition("/")[0] + ("/" if "/" in path else "") for path in below}
        if not names:
            raise Missing(str(folder))
        listed = [Address("files", folder.path + name) for name in names]
        return sorted(listed, key=lambda address: (not address.folder, address.path))


class Walking(Listing):
    """One that goes through all that is below a folder by itself."""

    def walk(self, folder: Address) -> Iterator[Found]:
        below = [path for path in self.paths if path.startswith(folder.path)]
        if not below:
            raise Missing(str(folder))
        yield from (self.locate(Address("files", path)) for path in below)


class Paging(Listing):
    """One that lists page by page."""

    def page(self, folder: Address, after: Address | None, limit: int) -> list[Address]:
        listed = self.list(folder)
        return listed[0 if after is None else listed.index(after) + 1 :][:limit]


EVERYTHING = rule("group:crew", "files/**", "list")
SOME = (
    rule("group:crew", "files/a files/b files/c files/d files/open/**", "list")
    + rule("group:crew", "files/b", "read")
    + rule("anyone", "files/c", "list", effect="deny")
)


def test_a_listing_goes_on_after_a_place_and_reads_a_long_folder_once(monkeypatch: pytest.MonkeyPatch) -> None:
    store = Listing()
    monkeypatch.setattr(catalogue_module, "_LONG", 3)
    reads: list[Address] = []
    listed = store.list

    def read(folder: Address) -> list[Address]:
        reads.append(folder)
        return listed(folder)

    monkeypatch.setattr(store, "list", read)
    catalogue = Catalogue([store], parse_rules(EVERYTHING))
    first = catalogue.page(BOB, parse_address("files/"), None, 4)
    assert first.after == "files/b"
    # The file that the page ended with is gone by now, and so is one that never was.
    store.gone = "b"
    for after in ("files/b", "files/bb"):
        assert [str(one.address) for one in catalogue.page(BOB, parse_address("files/"), after, 4).files] == [
            "files/c",
            "files/d",
        ]
    assert len(reads) == 1
    catalogue.page(BOB, parse_address("files/"), None, 4)
    assert len(reads) == 2, "a first page is of the folder as it is"
    with pytest.raises(Refusal, match="is none of a listing's addresses"):
        catalogue.page(BOB, parse_address("files/"), "\x00", 4)


def test_a_short_folder_is_read_for_each_page(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(catalogue_module, "_LONG", 6)  # it has just as many
    store = Listing()
    catalogue = Catalogue([store], parse_rules(EVERYTHING))
    assert catalogue.page(BOB, parse_address("files/"), None, 4).after == "files/b"
    monkeypatch.setattr(store, "paths", ["c2"])
    assert [one.address.path for one in catalogue.page(BOB, parse_address("files/"), "files/b", 4).files] == ["c2"]


@pytest.mark.parametrize("kind", [Listing, Paging])
def test_a_listing_comes_in_pages_of_what_may_be_seen(kind: type[Listing]) -> None:
    catalogue = Catalogue([kind()], parse_rules(SOME))
    folder, seen, after = parse_address("files/"), [], None
    for _ in range(10):
        page = catalogue.page(BOB, folder, after, 2)
        assert len(page.files) <= 2
        seen += [(str(one.address), one.found is not None) for one in page.files]
        after = page.after
        if after is None:
            break
    expected = [("files/open/", False), ("files/a", True), ("files/b", True), ("files/d", True)]
    assert seen == expected
    assert catalogue.page(BOB, folder, None, 4).after is None, "all of it fits"
    assert [str(one.address) for one in catalogue.page(BOB, None, None, 5).files] == ["files/"]
    gone = Catalogue([kind(gone="b")], parse_rules(SOME))
    assert [one.address.path for one in gone.page(BOB, folder, None, 9).files] == ["open/", "a", "d"]
    assert [found.facts.address.path for found in catalogue.below(BOB, folder)] == ["open/y", "a", "b", "d"]
    for after, left in (("files/a", ["b", "d"]), ("files/d", [])):
        assert [one.address.path for one in catalogue.page(BOB, folder, after, 9).files] == left
    backwards = catalogue.page(BOB, folder, None, 9, sort="-name").files
    assert [one.address.path for one in backwards] == ["open/", "d", "b", "a"]
    found = catalogue.page(BOB, folder, None, 9, search="y").files
    assert [one.address.path for one in found] == ["open/y"]


@pytest.mark.parametrize("kind", [Listing, Walking, Paging])
@pytest.mark.parametrize(
    ("caller", "folder", "word", "detail"),
    [
        (BOB, "files/closed/", "missing", "there is no folder files/closed/ that you have access to"),
        (BOB, "files/open/none/", "missing", "there is no folder files/open/none/ that you have access to"),
        (BOB, "nowhere/", "missing", "there is no folder nowhere/ that you have access to"),
        (ANYONE, "files/open/", "sign-in", "files/open/ is not open to everyone"),
    ],
)
def test_a_folder_that_may_not_be_listed_is_refused_like_one_that_is_not_there(
    kind: type[Listing], caller: Caller, folder: str, word: str, detail: str
) -> None:
    catalogue = Catalogue([kind()], parse_rules(SOME))
    for listed in (
        lambda: catalogue.page(caller, parse_address(folder), None, 5),
        lambda: list(catalogue.below(caller, parse_address(folder))),
    ):
        with pytest.raises(Refusal) as refused:
            listed()
        assert (refused.value.reason.word, refused.value.detail) == (word, detail)


@pytest.mark.parametrize(
    ("caller", "address", "word", "detail"),
    [
        (BOB, "files/a", "not-allowed", "the rules do not let bob read files/a"),
        (BOB, "files/c", "missing", "there is no file files/c that you have access to"),
        (BOB, "nowhere/a", "missing", "there is no file nowhere/a that you have access to"),
        (ANYONE, "files/b", "sign-in", "files/b is not open to everyone"),
        (Caller(None, context="a request"), "files/a", "missing", "there is no file files/a that you have access to"),
    ],
)
def test_a_file_that_may_not_be_had_is_refused_with_what_may_be_known(
    caller: Caller, address: str, word: str, detail: str
) -> None:
    catalogue = Catalogue([Listing()], parse_rules(SOME))
    with pytest.raises(Refusal) as refused:
        catalogue.obtain(caller, "read", parse_address(address))
    assert (refused.value.reason.word, refused.value.detail) == (word, detail)
    assert (refused.value.decided_by, refused.value.reasons) == ("rules: none", ())


def test_who_manages_a_file_is_told_which_rules_refuse_it() -> None:
    managing = SOME.replace('"files/b"]\nactions = ["read"', '"files/b"]\nactions = ["manage"')
    with pytest.raises(Refusal) as refused:
        Catalogue([Listing()], parse_rules(managing)).obtain(BOB, "read", parse_address("files/b"))
    assert [reason.spoke for reason in refused.value.reasons] == [False] * 3


def test_a_file_is_had_by_the_rules_that_let_it_and_a_version_only_where_there_are_any() -> None:
    rules = parse_rules(SOME)
    catalogue = Catalogue([Listing()], rules)
    found, by = catalogue.obtain_by(BOB, "read", parse_address("files/b"))
    assert (str(found.facts.address), by) == ("files/b", f"rules: {rules.rules[1].name}")
    with pytest.raises(Refusal) as refused:
        catalogue.obtain(BOB, "read", parse_address("files/b"), version=1)
    assert refused.value.reason.word == "missing"
    with pytest.raises(Missing, match="files/b in versions"):
        catalogue.locate(parse_address("files/b"), 1)
    with pytest.raises(Missing, match="nowhere/b"):
        catalogue.locate(parse_address("nowhere/b"))
    assert catalogue.pool_of(None) is catalogue.pool_of(parse_address("files/b"))
    assert not catalogue.waits(parse_address("files/b"))
    assert not catalogue.waits(parse_address("nowhere/b"))


def test_a_walk_brings_what_may_be_listed_and_asks_of_each_file_where_that_is_not_sure() -> None:
    some, everything = Catalogue([Walking()], parse_rules(SOME)), Catalogue([Walking()], parse_rules(EVERYTHING))
    folder = parse_address("files/")
    assert [found.facts.address.path for found in some.below(BOB, folder)] == ["a", "b", "d", "open/y"]
    assert [found.facts.address.path for found in everything.below(BOB, folder)] == Listing.paths
    with pytest.raises(Refusal) as refused:
        list(everything.below(BOB, parse_address("files/none/")))
    assert refused.value.reason.word == "missing"


def test_a_listing_looks_at_files_where_the_rules_do() -> None:
    small = Catalogue([Listing()], parse_rules(EVERYTHING + "max_size = 5\n"))
    assert [one.address.path for one in small.page(BOB, parse_address("files/"), None, 9).files] == ["closed/", "open/"]
    large = Catalogue([Listing()], parse_rules(EVERYTHING + "max_size = 50\n"))
    assert len(large.page(BOB, parse_address("files/"), None, 9).files) == 6


def test_what_keeps_waiting_has_threads_of_its_own() -> None:
    far = Listing()
    far.name, far.waits = "far", True
    catalogue = Catalogue([Listing(), far], parse_rules(SOME))
    assert catalogue.waits(parse_address("far/a"))
    assert catalogue.pool_of(parse_address("far/a")) is not catalogue.pool_of(None)
    assert catalogue.pool_of(parse_address("far/a")).name == "listing-far"


def test_facts_are_looked_up_for_rules_that_look_at_them_and_for_no_others() -> None:
    store, there = Counting(), parse_address("files/open/there.bin")
    for rules, size, asked in ((RULES, None, 0), (BY_SIZE, 5000, 1)):
        facts = Catalogue([store], parse_rules(rules)).facts(there)
        assert (None if facts is None else facts.size) == size
        assert store.asked == asked
    catalogue = Catalogue([store], parse_rules(BY_SIZE))
    assert catalogue.facts(parse_address("files/open/")) is None
    assert catalogue.facts(parse_address("files/open/gone.bin")) is None


def test_a_sorted_listing_goes_on_with_the_next_one(tmp_path: Path) -> None:
    for number in range(7):
        (tmp_path / f"{number}.bin").write_bytes(bytes(1 + number * 3 % 7))
    catalogue = Catalogue([DirectoryStore("files", tmp_path)], parse_rules(BY_SIZE))
    seen, after = [], None
    while True:
        page = catalogue.page(BOB, parse_address("files/"), after, 2, sort="-size")
        seen += [line.found.facts.size for line in page.files if line.found is not None]
        after = page.after
        if after is None:
            break
    assert seen == [7, 6, 5, 4, 3, 2, 1]


def test_a_version_is_found_by_its_number(tmp_path: Path, engine: sa.Engine) -> None:
    models, floor = (
        ManagedStore("models", tmp_path / "models", VersionRecords(engine, "models")),
        parse_address("models/floor"),
    )
    for content in (b"one", b"three"):
        put(models, floor, content)
    catalogue = Catalogue([models], parse_rules(EVERYTHING))
    assert [(catalogue.locate(floor, number).facts.version) for number in (1, 2, None)] == [1, 2, 2]

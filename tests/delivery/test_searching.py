"""Searching a folder and sorting what it lists."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

import pytest

from invio.core.addresses import Address, parse_address
from invio.core.files import FileFacts
from invio.core.reasons import Refusal
from invio.delivery.access import searching
from invio.delivery.access.searching import in_order, search
from invio.stores.sources import Made
from invio.stores.store import Found, Missing

HERE = parse_address("files/")


@dataclass
class Tree:
    """A store of names alone."""

    folders: dict[str, list[str]]
    name: str = "files"
    looked: list[str] = field(default_factory=list)
    kind = "tree"
    waits = False

    def list(self, folder: Address) -> list[Address]:
        self.looked.append(folder.path)
        if folder.path not in self.folders:
            raise Missing(str(folder))
        return [Address("files", folder.path + name) for name in self.folders[folder.path]]

    def locate(self, address: Address) -> Found:
        raise Missing(str(address))


TREE = {
    "": ["North.txt", "deep/", "north/", "gone/"],
    "deep/": ["NORTHERN.pdf", "other.txt", "er/"],
    "deep/er/": ["far-north.csv"],
    "north/": ["south.txt"],
}


def names(found: list[Address]) -> list[str]:
    return [one.path for one in found]


def test_names_below_are_found_whatever_their_case_folders_first() -> None:
    found = search(Tree(TREE), HERE, "nOrTh", lambda _: True)
    assert names(found) == ["north/", "North.txt", "deep/NORTHERN.pdf", "deep/er/far-north.csv"]


def test_the_path_of_a_folder_is_no_part_of_its_files_names() -> None:
    assert names(search(Tree(TREE), parse_address("files/north/"), "north", lambda _: True)) == []


def test_only_folders_that_may_be_entered_are_looked_into() -> None:
    tree = Tree(TREE)
    found = search(tree, HERE, "north", lambda folder: folder.path != "deep/")
    assert names(found) == ["north/", "North.txt"]
    assert "deep/" not in tree.looked


def test_a_folder_that_is_not_there_is_missing_and_one_that_vanished_is_passed_over() -> None:
    with pytest.raises(Missing):
        search(Tree(TREE), parse_address("files/nowhere/"), "x", lambda _: True)
    assert names(search(Tree(TREE), HERE, "gone", lambda _: True)) == ["gone/"]


def test_a_long_search_gives_what_it_has_found_so_far() -> None:
    ticks: Iterator[float] = iter([0.0, 1.0, 4.0])
    assert names(search(Tree(TREE), HERE, "north", lambda _: True, lambda: next(ticks))) == ["north/", "North.txt"]


FACTS = {
    "a.pdf": (30, 3.0), "b.csv": (10, None), "c.txt": (20, 1.0), "d": (None, 2.0),
}  # fmt: skip
LISTED = [
    Address("files", "z/"),
    *(Address("files", name) for name in (*FACTS, "vanished.txt")),
    Address("files", "y/"),
]


def facts(address: Address) -> Found | None:
    if address.name not in FACTS:
        return None
    size, modified = FACTS[address.name]
    return Found(FileFacts(address, size, modified, "t"), Made(lambda: iter([])))


@pytest.mark.parametrize(
    ("by", "order"),
    [
        ("name", ["z/", "y/", "a.pdf", "b.csv", "c.txt", "d", "vanished.txt"]),
        ("-name", ["y/", "z/", "vanished.txt", "d", "c.txt", "b.csv", "a.pdf"]),
        ("size", ["z/", "y/", "b.csv", "c.txt", "a.pdf", "d", "vanished.txt"]),
        ("-size", ["z/", "y/", "a.pdf", "c.txt", "b.csv", "d", "vanished.txt"]),
        ("modified", ["z/", "y/", "c.txt", "d", "a.pdf", "b.csv", "vanished.txt"]),
        ("type", ["z/", "y/", "d", "a.pdf", "b.csv", "c.txt", "vanished.txt"]),
    ],
)
def test_folders_come_first_and_what_has_no_such_fact_last(by: str, order: list[str]) -> None:
    assert names(in_order(LISTED, by, facts)) == order


def test_of_too_many_files_only_names_are_sorted(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(searching, "_MOST_SORTED", 4)
    assert len(in_order(LISTED, "-name", facts)) == 7
    with pytest.raises(Refusal, match="there are 5 files; at most 4 are sorted by size"):
        in_order(LISTED, "size", facts)

"""What of the stores a caller may see: decided before anything is looked up."""

from __future__ import annotations

import pytest

from invio.core.addresses import Address, parse_address
from invio.core.files import Caller, FileFacts
from invio.core.reasons import Refusal
from invio.core.rules.file import parse_rules
from invio.delivery.access.catalogue import Catalogue
from invio.stores.sources import Made
from invio.stores.store import Found, Missing

BOB = Caller("bob", frozenset({"crew"}), "192.0.2.7")
RULES = """
[[rule]]
effect = "allow"
who = ["group:crew"]
what = ["files/open/**"]
actions = ["list", "read"]
"""
BY_SIZE = """
[[rule]]
effect = "allow"
who = ["group:crew"]
what = ["files/**"]
actions = ["list", "read"]
max_size = 1000
"""


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

"""What rules are proved against without a service, and what of a service's own others have rights on."""

from __future__ import annotations

import asyncio
import threading
from dataclasses import replace
from pathlib import Path
from types import SimpleNamespace
from typing import cast

import pytest

from invio.core.addresses import Address
from invio.core.files import ANYONE
from invio.core.rules.file import BadRules, parse_rules
from invio.records.database import open_database, write
from invio.records.recipients import save_recipient
from invio.service.assembly import Parts
from invio.service.health import Health
from invio.service.permissions import exposed
from invio.service.proving import Proving, prove
from invio.service.running import _look_at_stores
from invio.service.settings import IdentitySettings, Settings, read_settings
from invio.stores.directory import DirectoryStore
from invio.stores.store import Found, StoreFault
from invio.workers.pool import PoolsByName
from tests.rules import rule

SETTINGS = """
[stores.files]
kind = "directory"
root = "files"
[stores.models]
kind = "managed"
root = "models"
"""
RULES = rule("group:crew group:ghosts recipient:bob", "files/**", "read")


@pytest.fixture
def settings(tmp_path: Path) -> Settings:
    for name in ("files/a.txt", "files/deep/er/b.txt"):
        (tmp_path / name).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / name).write_text(name)
    for name, mode in (("models", 0o700), ("data", 0o700), ("files", 0o755)):
        (tmp_path / name).mkdir(exist_ok=True)
        (tmp_path / name).chmod(mode)
    (tmp_path / "invio.toml").write_text(SETTINGS)
    (tmp_path / "invio.toml").chmod(0o600)
    engine = open_database(tmp_path / "data" / "records.sqlite")
    with write(engine).begin() as connection:
        save_recipient(connection, "bob", "Bob", ["crew"])
        save_recipient(connection, "ann", "Ann", [])
    engine.dispose()
    return read_settings(tmp_path / "invio.toml")


@pytest.fixture
def proving(settings: Settings) -> Proving:
    return prove(settings)


class Hanging(DirectoryStore):
    """Its disk does not answer, until it `goes_on`; `asked` counts who wants to know something of it."""

    def __init__(self, name: str, root: Path) -> None:
        super().__init__(name, root)
        self.goes_on, self.asked = threading.Event(), 0

    def locate(self, address: Address) -> Found:
        self.asked += 1
        raise StoreFault(f"{address} does not come", store=self.name, word="no-answer")

    def fault(self) -> str | None:
        self.goes_on.wait(10)
        return None


def test_a_store_that_does_not_answer_is_asked_once_for_all_its_files(settings: Settings, tmp_path: Path) -> None:
    store = Hanging("far", tmp_path / "files")
    proving = Proving(settings, {"far": store}, {})
    assert [proving.facts_of(Address("far", name)) for name in ("a.txt", "b.txt", "c.txt")] == [None] * 3
    assert list(proving.files()) == []
    assert (store.asked, proving.silent) == (1, {"far": "far/a.txt does not come"})


def test_a_folder_that_does_not_answer_is_told_and_nothing_else_is_kept_from_being_looked_at(tmp_path: Path) -> None:
    far, near, health = Hanging("far", tmp_path), DirectoryStore("near", tmp_path), Health()
    parts = SimpleNamespace(catalogue=SimpleNamespace(stores={"far": far, "near": near}), health=health)
    looks = PoolsByName("looks", 1, deadline=0.05)
    for _ in range(2):  # late, and then still busy with the look before
        asyncio.run(_look_at_stores(cast(Parts, parts), looks))
        assert health.faults == {"store far": "its folder does not answer; look at its disk"}
    far.goes_on.set()
    while health.faults:  # the thread is free again soon
        asyncio.run(_look_at_stores(cast(Parts, parts), looks))


def test_rules_are_proved_with_every_file_of_every_store(proving: Proving) -> None:
    assert {str(facts.address) for facts in proving.files()} == {"files/a.txt", "files/deep/er/b.txt"}
    assert proving.facts_of(Address("files", "a.txt")) is not None
    assert proving.facts_of(Address("files", "none.txt")) is None
    assert proving.facts_of(Address("elsewhere", "a.txt")) is None


def test_a_store_that_does_not_answer_is_named_and_the_others_are_looked_at(
    proving: Proving, monkeypatch: pytest.MonkeyPatch
) -> None:
    def fails(_: Address) -> None:
        raise StoreFault("store 'files': the disk is gone")

    monkeypatch.setattr(proving.stores["files"], "list", fails)
    assert list(proving.files()) == []
    assert proving.silent == {"files": "store 'files': the disk is gone"}


def test_everybody_whom_rules_and_records_know_is_asked_about(proving: Proving) -> None:
    callers = dict(proving.callers(parse_rules(RULES), parse_rules(RULES.replace("ghosts", "night"))))
    assert list(callers) == [
        "anyone", "group:crew", "group:ghosts", "group:night", "recipient:ann", "recipient:bob",
    ]  # fmt: skip
    assert callers["anyone"] is ANYONE
    assert callers["recipient:bob"].groups == proving.groups_of("bob") == {"crew"}
    assert proving.groups_of("nobody") == frozenset()


def test_a_group_without_members_is_doubted(proving: Proving) -> None:
    [doubt] = proving.doubts(parse_rules(RULES))
    assert "'ghosts'" in doubt


def test_groups_that_an_identity_provider_tells_of_are_not_doubted(proving: Proving) -> None:
    keys = {"issuer": "https://id.example", "audience": "invio", "keys": "keys.json"}
    for claim, doubted in ((None, 1), ("groups", 0)):
        identity = IdentitySettings.model_validate(keys | {"groups_claim": claim})
        told = replace(proving, settings=proving.settings.model_copy(update={"identity": identity}))
        assert len(told.doubts(parse_rules(RULES))) == doubted


def test_rules_are_read_as_they_stand(proving: Proving) -> None:
    proving.rules_path.write_text(RULES)
    assert proving.read(proving.rules_path).rules == parse_rules(RULES).rules


def test_rules_that_ask_a_function_that_is_not_there_are_refused(proving: Proving) -> None:
    proving.rules_path.write_text(RULES + 'ask = { function = "nowhere:check" }\n')
    with pytest.raises(BadRules, match="nowhere"):
        proving.read(proving.rules_path)


def test_without_records_there_are_no_recipients(settings: Settings) -> None:
    settings.database.unlink()
    assert prove(settings).recipients == {}
    assert not settings.database.exists(), "nothing is created"


def test_rights_of_others_on_what_is_the_services_own_are_told_with_what_to_do(settings: Settings) -> None:
    settings.database.chmod(0o600)
    assert exposed(settings) == []
    settings.database.chmod(0o640)
    settings.path(Path("models")).chmod(0o701)
    said = exposed(settings)
    assert [one.endswith(end) for one, end in zip(said, ("chmod 600", "chmod 700"), strict=True)] == [True, True]
    assert str(settings.database) in said[0]
    assert "models" in said[1]
    assert "has the mode 0640" in said[0]
    assert settings.file is not None
    settings.file.chmod(0o604)
    assert any(f"{settings.file} has the mode 0604" in one for one in exposed(settings))
    assert len(exposed(settings.model_copy(update={"file": None}))) == 2


def test_a_fault_is_logged_when_it_comes_when_it_changes_and_when_it_has_gone(caplog: pytest.LogCaptureFixture) -> None:
    caplog.set_level("INFO")
    health = Health()
    for error in ("full", "full", OSError("read-only")):
        health.fails("records", error)
    health.fails("clock", "it is far off", hint=True)
    assert health.faults == {"records": "OSError: read-only"}
    assert health.hints == {"clock": "it is far off"}
    for part in ("records", "records", "clock", "stores"):
        health.works(part)
    assert (health.faults, health.hints) == ({}, {})
    said = [(line.message, line.fields["part"]) for line in caplog.records]  # type: ignore[attr-defined]
    assert said == [("part.fails", "records")] * 2 + [
        ("part.fails", "clock"), ("part.works-again", "records"), ("part.works-again", "clock"),
    ]  # fmt: skip

"""Rule checks without a running service: by the settings' stores, and the recipients of its records."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

from invio.core.addresses import Address
from invio.core.files import ANYONE, Caller, FileFacts
from invio.core.rules.decisions import RuleSet
from invio.core.rules.doubts import groups_without_members
from invio.records.database import open_database
from invio.records.recipients import Recipient, all_recipients
from invio.service.configuration import read_rules
from invio.service.external_checks import functions_of
from invio.service.open_stores import open_stores
from invio.service.settings import Settings
from invio.stores.store import Missing, Store, StoreFault


@dataclass(frozen=True, slots=True)
class Proving:
    """What rules are proved against."""

    settings: Settings
    stores: dict[str, Store]
    recipients: dict[str, Recipient]
    silent: dict[str, str] = field(default_factory=dict)  # stores that did not answer, and what went wrong

    @property
    def rules_path(self) -> Path:
        """The rules' file."""
        return self.settings.path(self.settings.service.rules)

    def read(self, path: Path) -> RuleSet:
        """Rules for these stores. Raises BadRules."""
        rules = read_rules(path, self.settings.stores)
        functions_of(rules, path)
        return rules

    def groups_of(self, recipient: str) -> frozenset[str]:
        """The groups of a recipient in the records; none for whoever is not there."""
        known = self.recipients.get(recipient)
        return frozenset() if known is None else known.groups

    def doubts(self, rules: RuleSet) -> list[str]:
        """Warnings about valid rules: groups without members, where all groups are known."""
        if self.settings.identity is not None and self.settings.identity.groups_claim is not None:
            return []
        known = {group for one in self.recipients.values() for group in one.groups}
        return groups_without_members(rules, known)

    def facts_of(self, address: Address) -> FileFacts | None:
        """What is known of a file; None when it is not there, or its store does not answer."""
        if address.store in self.silent:
            return None  # it was waited for once, and that takes long
        try:
            return self.stores[address.store].locate(address).facts
        except StoreFault as fault:
            if fault.word == "no-answer":
                self.silent[address.store] = str(fault)
        except (KeyError, Missing):
            pass
        return None

    def callers(self, *rule_sets: RuleSet) -> list[tuple[str, Caller]]:
        """Anyone, everybody in the records, and somebody of each group that the rules name."""
        named = {who.id for rules in rule_sets for rule in rules.rules for who in rule.who if who.kind == "group"}
        callers = [("anyone", ANYONE)]
        callers += [(f"group:{name}", Caller(f"somebody-of-{name}", frozenset({name}))) for name in sorted(named)]
        callers += [
            (f"recipient:{one.id}", Caller(one.id, one.groups))
            for one in sorted(self.recipients.values(), key=lambda one: one.id)
        ]
        return callers

    def files(self) -> Iterator[FileFacts]:
        """Every file of every store; a store that does not answer is noted as `silent`."""
        for name in sorted(self.stores.keys() - self.silent.keys()):
            try:
                yield from self._below(self.stores[name], Address(name, ""))
            except StoreFault as fault:
                self.silent[name] = str(fault)

    def _below(self, store: Store, folder: Address) -> Iterator[FileFacts]:
        try:
            listed = store.list(folder)
        except Missing:
            return
        for address in listed:
            if address.folder:
                yield from self._below(store, address)
                continue
            try:
                yield store.locate(address).facts
            except Missing:
                continue  # it vanished since the folder was read


def prove(settings: Settings) -> Proving:
    """Opens the stores and records that rules are tested against, without creating anything.

    Raises:
        BadSettings: a store cannot be used.
    """
    recipients: dict[str, Recipient] = {}
    engine = None
    if settings.database.exists():
        engine = open_database(settings.database)
        with engine.connect() as connection:
            recipients = {one.id: one for one in all_recipients(connection)}
    return Proving(settings, {store.name: store for store in open_stores(settings, engine)}, recipients)

"""Access rules: who may do what with which addresses.

The default is no, a deny wins, and the order of the rules does not matter. `decide` is pure; the
rules are filed by store, so that rules that cannot match cost nothing. A decision carries its
reasons; `explain` adds, for each rule that did not speak, the first thing that kept it from it.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from invio.core.addresses import Address
from invio.core.caching import strictest
from invio.core.files import Caller
from invio.core.patterns import Pattern

ACTIONS = ("list", "read", "bundle", "link", "put", "manage")
EFFECTS = ("allow", "deny")


@dataclass(frozen=True, slots=True)
class Who:
    """A set of callers. `kind` is `anyone`, `signed-in`, `recipient` or `group`; `id` for the last two."""

    kind: str
    id: str = ""

    def includes(self, caller: Caller) -> bool:
        if self.kind == "anyone":
            return True
        if caller.recipient is None:
            return False
        if self.kind == "recipient":
            return caller.recipient == self.id
        return self.kind == "signed-in" or self.id in caller.groups

    def __str__(self) -> str:
        return f"{self.kind}:{self.id}" if self.id else self.kind


@dataclass(frozen=True, slots=True)
class Terms:
    """How a file is delivered to a caller who may have it; None where no rule says.

    `speed` in bytes a second, shared by all connections of one recipient; `disposition` is
    `attachment` or `inline`; `cache` the value of Cache-Control.
    """

    speed: int | None = None
    disposition: str | None = None
    cache: str | None = None


NO_TERMS = Terms()


@dataclass(frozen=True, slots=True)
class Rule:
    """One entry of the rules file; `line` is where it begins there."""

    name: str
    effect: str
    who: tuple[Who, ...]
    what: tuple[Pattern, ...]
    actions: frozenset[str]
    line: int
    terms: Terms = NO_TERMS

    def concerns(self, caller: Caller) -> bool:
        return any(who.includes(caller) for who in self.who)


@dataclass(frozen=True, slots=True)
class Reason:
    """What one rule said: `spoke` with its effect, or the first thing that did not fit."""

    rule: str
    line: int
    effect: str
    spoke: bool
    because: str


@dataclass(frozen=True, slots=True)
class Decision:
    allowed: bool
    reasons: tuple[Reason, ...] = ()


class RuleSet:
    """The rules in force."""

    def __init__(self, rules: Iterable[Rule]) -> None:
        self.rules = tuple(rules)
        self._by_store: dict[str, list[Rule]] = {}
        self._any_store: list[Rule] = []
        for rule in self.rules:
            stores = {pattern.store for pattern in rule.what}
            if None in stores:
                self._any_store.append(rule)
            else:
                for store in stores:
                    self._by_store.setdefault(str(store), []).append(rule)
        self._any_terms = any(rule.terms is not NO_TERMS for rule in self.rules)

    def _filed(self, store: str) -> list[Rule]:
        return self._by_store.get(store, []) + self._any_store

    def allows(self, caller: Caller, action: str, address: Address) -> bool:
        """The outcome alone, as fast as it can be had."""
        allowed = False
        for rule in self._filed(address.store):
            if rule.effect == "allow" and allowed:
                continue
            if action in rule.actions and rule.concerns(caller) and _any_match(rule, address):
                if rule.effect == "deny":
                    return False
                allowed = True
        return allowed

    async def ask_ahead(self, caller: Caller, action: str, address: Address) -> None:
        """Nothing has to be asked: rules decide by themselves."""

    def terms(self, caller: Caller, action: str, address: Address) -> Terms:
        """What applies with the rules that allow this: of several, each time the strictest."""
        if not self._any_terms:
            return NO_TERMS
        spoke = [
            rule.terms
            for rule in self._filed(address.store)
            if rule.terms is not NO_TERMS
            and action in rule.actions
            and rule.concerns(caller)
            and _any_match(rule, address)
        ]
        if not spoke:
            return NO_TERMS
        dispositions = {terms.disposition for terms in spoke if terms.disposition}
        return Terms(
            speed=min((terms.speed for terms in spoke if terms.speed is not None), default=None),
            disposition="attachment" if "attachment" in dispositions else next(iter(dispositions), None),
            cache=strictest(terms.cache for terms in spoke if terms.cache is not None),
        )

    def decide(self, caller: Caller, action: str, address: Address) -> Decision:
        """The outcome and the rules that led to it."""
        spoke = [
            Reason(rule.name, rule.line, rule.effect, True, "it applies")
            for rule in self._filed(address.store)
            if action in rule.actions and rule.concerns(caller) and _any_match(rule, address)
        ]
        effects = {reason.effect for reason in spoke}
        return Decision("allow" in effects and "deny" not in effects, tuple(spoke))

    def explain(self, caller: Caller, action: str, address: Address) -> Decision:
        """Like `decide`, with a reason for every rule: first those that spoke, denials before the rest."""
        reasons = []
        for rule in self.rules:
            because = _first_misfit(rule, caller, action, address)
            reasons.append(Reason(rule.name, rule.line, rule.effect, because is None, because or "it applies"))
        reasons.sort(key=lambda reason: (not reason.spoke, reason.effect == "allow", reason.line))
        return Decision(self.allows(caller, action, address), tuple(reasons))

    def may_enter(self, caller: Caller, folder: Address) -> bool:
        """Whether the caller may list the folder: something in it may be theirs to see."""
        reached = False
        for rule in self._filed(folder.store):
            if "list" not in rule.actions or not rule.concerns(caller):
                continue
            if rule.effect == "deny":
                if any(pattern.covers(folder) for pattern in rule.what):
                    return False
            else:
                reached = reached or any(
                    pattern.matches(folder) or pattern.reaches_into(folder) for pattern in rule.what
                )
        return reached

    def allows_below(self, caller: Caller, action: str, folder: Address) -> bool:
        """Whether the caller may do this with everything below the folder, come what may."""
        allowed = False
        for rule in self._filed(folder.store):
            if action not in rule.actions or not rule.concerns(caller):
                continue
            if rule.effect == "deny":
                if any(pattern.reaches_into(folder) or pattern.matches(folder) for pattern in rule.what):
                    return False
            else:
                allowed = allowed or any(pattern.covers(folder) for pattern in rule.what)
        return allowed


def _any_match(rule: Rule, address: Address) -> bool:
    return any(pattern.matches(address) for pattern in rule.what)


def _first_misfit(rule: Rule, caller: Caller, action: str, address: Address) -> str | None:
    if not _any_match(rule, address):
        return f"{address} is not in {', '.join(pattern.text for pattern in rule.what)}"
    if not rule.concerns(caller):
        asking = caller.recipient or "somebody who did not sign in"
        return f"{asking} is not {' or '.join(map(str, rule.who))}"
    if action not in rule.actions:
        return f"it is about {', '.join(sorted(rule.actions))}, not {action}"
    return None

"""Access rules: who may do what with which addresses.

The default is no, a deny wins, and the order of the rules does not matter. `decide` is pure; the
rules are filed by store, so that rules that cannot match cost nothing. A decision carries its
reasons; `explain` adds, for each rule that did not speak, the first thing that kept it from it.

Rules know neither the time nor anybody else: a moment is an argument, or comes from the clock that they were given
by `under`, and so do the answers to rules that ask somebody outside.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator
from copy import copy
from dataclasses import dataclass
from itertools import product

from invio.core.addresses import Address
from invio.core.files import Caller, FileFacts
from invio.core.rules.conditions import ALWAYS, Conditions
from invio.core.rules.external_checks import NO_POLICY, CheckRequest, ExternalCheck, ExternalPolicy
from invio.core.rules.patterns import Pattern
from invio.core.rules.quotas import Quota
from invio.core.rules.terms import NO_TERMS, Terms, strictest_terms

ACTIONS = ("list", "read", "bundle", "link", "put", "manage")  # with files
# The right on the whole service: recipients, their tokens and passwords, keys, rules, and everybody's links.
ADMINISTER = "administer"
RULE_ACTIONS = (*ACTIONS, ADMINISTER)
THE_SERVICE = Address("", "")  # what `administer` is asked about; no file has this address
EFFECTS = ("allow", "deny")


@dataclass(frozen=True, slots=True)
class Who:
    """A set of callers. `kind` is `anyone`, `signed-in`, `recipient` or `group`; `id` for the last two.

    `excepted`: the rule does not apply to them, whoever else it names.
    """

    kind: str
    id: str = ""
    excepted: bool = False

    def includes(self, caller: Caller) -> bool:
        """Whether the caller is one of them; `excepted` is not looked at."""
        if self.kind == "anyone":
            return True
        if caller.recipient is None:
            return False
        if self.kind == "recipient":
            return caller.recipient == self.id
        return self.kind == "signed-in" or self.id in caller.groups

    @property
    def key(self) -> str:
        """What rules are filed by, and found again for a caller."""
        return f"{self.kind}:{self.id}" if self.id else self.kind

    def __str__(self) -> str:
        return f"not {self.key}" if self.excepted else self.key


def _keys_of(caller: Caller) -> list[str]:
    """The keys of all that includes the caller."""
    if caller.recipient is None:
        return ["anyone"]
    return ["anyone", "signed-in", f"recipient:{caller.recipient}", *[f"group:{name}" for name in caller.groups]]


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
    conditions: Conditions = ALWAYS

    @property
    def who_excepts(self) -> bool:
        """Whether the rule names somebody whom it is not for."""
        return self.who[-1].excepted  # exceptions stand last

    @property
    def exceptions(self) -> tuple[Who, ...]:
        """Those whom the rule is not for."""
        return tuple(who for who in self.who if who.excepted)

    @property
    def named(self) -> tuple[Who, ...]:
        """Whom it concerns, but for the exceptions; everybody where it names exceptions alone."""
        return tuple(who for who in self.who if not who.excepted) or (Who("anyone"),)

    def concerns(self, caller: Caller) -> bool:
        """Whether the rule is about this caller: named, and not excepted."""
        return any(who.includes(caller) for who in self.named) and not any(
            who.includes(caller) for who in self.exceptions
        )


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
    """The outcome of the rules for one question, and what each of them said."""

    allowed: bool
    reasons: tuple[Reason, ...] = ()


@dataclass(frozen=True, slots=True)
class Expectation:
    """What whoever wrote the rules expects of them: an `[[expect]]` of the file.

    `who` is as it stands there. `recipient` None: somebody who did not sign in. `groups` None: those
    that the recipient has. `size` in bytes, `version` and `at` in Unix seconds, where the outcome depends
    on them; a number is that of an earlier version.
    """

    who: str
    recipient: str | None
    groups: tuple[str, ...] | None
    action: str
    address: Address
    outcome: str
    line: int
    size: int | None = None
    version: str | int | None = None
    at: float | None = None
    network: str | None = None
    applies: bool | None = None  # what an application that is asked says; None: nobody answers


def no_clock() -> float:
    """The clock of rules that were not given one. Raises TypeError."""
    raise TypeError("these rules have no clock: give `now`, or use `RuleSet.under` with one")


class RuleSet:
    """The rules in force, filed by store, action, whom they name, and the first folder that they name.

    They are not altered once they are made; `under` gives the same ones with a clock and with who answers.
    """

    def __init__(self, rules: Iterable[Rule], expectations: Iterable[Expectation] = ()) -> None:
        self.rules = tuple(rules)
        self.expectations = tuple(expectations)
        self.looks_at_files = any(rule.conditions.of_the_file for rule in self.rules)
        self.has_reasons = self.sure_below = True
        self.has_quotas = any(rule.terms.quotas for rule in self.rules)
        self._clock: Callable[[], float] = no_clock
        self._answers: ExternalPolicy = NO_POLICY
        self.asks = any(rule.conditions.ask is not None for rule in self.rules)
        self._by_store: dict[str, list[Rule]] = {}
        self._any_store: list[Rule] = []
        self._filed_by: dict[tuple[str | None, str, str], dict[str | None, list[Rule]]] = {}
        for rule in self.rules:
            self._file(rule)
        # Rules that were written before there was such a right: who may manage everything (`**`) administers.
        self.names_administrators = any(ADMINISTER in rule.actions for rule in self.rules)
        self._any_terms = any(rule.terms is not NO_TERMS for rule in self.rules)

    def under(self, clock: Callable[[], float] | None = None, answers: ExternalPolicy | None = None) -> RuleSet:
        """The same rules with another clock (Unix seconds), or with another policy for external checks."""
        other = copy(self)
        if clock is not None:
            other._clock = clock  # noqa: SLF001 - its own
        if answers is not None:
            other._answers = answers  # noqa: SLF001
        return other

    def _file(self, rule: Rule) -> None:
        stores = {pattern.store for pattern in rule.what}
        if None in stores:
            self._any_store.append(rule)
        else:
            for store in stores:
                self._by_store.setdefault(str(store), []).append(rule)
        # Each place once, for a rule of several patterns.
        places = dict.fromkeys((pattern.store, pattern.folder) for pattern in rule.what)
        for (store, folder), action, who in product(places, rule.actions, rule.named):
            by_folder = self._filed_by.setdefault((store, action, who.key), {})
            by_folder.setdefault(folder, []).append(rule)

    def _filed(self, store: str) -> list[Rule]:
        return self._by_store.get(store, []) + self._any_store

    def _speaking(
        self, caller: Caller, action: str, address: Address, facts: FileFacts | None, now: float | None
    ) -> Iterator[Rule]:
        """The rules that apply to a question; one may come twice.

        While the file's facts are unknown (`facts` is None), conditions on the file count in the caller's favour: a
        rule that allows applies, one that denies does not.
        """
        folder = address.path.partition("/")[0]
        for key in _keys_of(caller):
            for store in (address.store, None):
                by_folder = self._filed_by.get((store, action, key))
                if by_folder is None:
                    continue
                for place in (folder, None):
                    for rule in by_folder.get(place, ()):
                        if not _any_match(rule, address) or not self._fits(rule, caller, address, facts, now):
                            continue
                        ask = rule.conditions.ask
                        if ask is None or self._applies(rule, ask, caller, action, address):
                            yield rule

    def _applies(self, rule: Rule, ask: ExternalCheck, caller: Caller, action: str, address: Address) -> bool:
        """The external check's result; the rule is closed when there is none."""
        answer = self._answers.answer(ask, _question(rule, caller, action, address))
        return rule.effect == "deny" if answer is None else answer.applies

    def allows(
        self, caller: Caller, action: str, address: Address, facts: FileFacts | None = None, now: float | None = None
    ) -> bool:
        """The outcome without reasons. `now` is in Unix seconds; without it the rules' clock is used.

        Without `facts`, whether it may be so: a rule on the file's type or size is then taken at best.
        """
        allowed = False
        for rule in self._speaking(caller, action, address, facts, now):
            if rule.effect == "deny":
                return False
            allowed = True
        return allowed

    def decide_with_rules(
        self, caller: Caller, action: str, address: Address, facts: FileFacts | None = None, now: float | None = None
    ) -> tuple[bool, str]:
        """The outcome, and in words for the history which rules brought it about."""
        allowing: list[str] = []
        denying: list[str] = []
        for rule in self._speaking(caller, action, address, facts, now):
            (allowing if rule.effect == "allow" else denying).append(rule.name)
        return bool(allowing) and not denying, _said_of(denying or allowing)

    def reached_by(self, caller: Caller, action: str) -> frozenset[str] | None:
        """The stores in which the caller may do this with something, by any rule; None: in any store."""
        reached: set[str] = set()
        for rule in self.rules:
            if rule.effect == "allow" and action in rule.actions and rule.concerns(caller):
                stores = {pattern.store for pattern in rule.what}
                if None in stores:
                    return None
                reached |= {str(store) for store in stores}
        return frozenset(reached)

    def administers(self, caller: Caller, now: float | None = None) -> bool:
        """Whether the caller may do what concerns the whole service; `now` as for `allows`."""
        action = ADMINISTER if self.names_administrators else "manage"
        allowed = False
        for rule in self._speaking(caller, action, THE_SERVICE, None, now):
            if rule.effect == "deny":
                return False
            allowed = allowed or not rule.conditions.of_the_file
        return allowed

    async def prefetch(self, caller: Caller, action: str, address: Address) -> None:
        """Fetches the external answers this decision needs; after a no, also those for `list`."""
        if self.asks:
            await self._answers.prefetch(self._questions(caller, action, address))
            if action != "list" and not self.allows(caller, action, address):
                await self._answers.prefetch(self._questions(caller, "list", address))

    def _questions(self, caller: Caller, action: str, address: Address) -> list[tuple[ExternalCheck, CheckRequest]]:
        return [
            (rule.conditions.ask, _question(rule, caller, action, address))
            for rule in self._filed(address.store)
            if rule.conditions.ask is not None
            and _first_misfit(rule, caller, action, address) is None
            and self._fits(rule, caller, address, None, None, optimistic=True)
        ]

    def terms(self, caller: Caller, action: str, address: Address, facts: FileFacts | None = None) -> Terms:
        """The terms of the rules that allow this; the strictest of each kind."""
        if not self._any_terms:
            return NO_TERMS
        return strictest_terms(rule.terms for rule in self._speaking(caller, action, address, facts, None))

    def terms_within(self, caller: Caller, action: str, folder: Address) -> Terms:
        """The strictest terms that may apply to anything below a folder."""
        if not self._any_terms:
            return NO_TERMS
        return strictest_terms(
            rule.terms
            for rule in self._filed(folder.store)
            if action in rule.actions
            and rule.concerns(caller)
            and any(pattern.covers(folder) or pattern.reaches_into(folder) for pattern in rule.what)
        )

    def quotas_named(self, names: Collection[str], address: Address) -> tuple[Quota, ...]:
        """Those of some quotas, by name, whose rules are about an address."""
        speaking = (rule for rule in self._filed(address.store) if rule.name in names and _any_match(rule, address))
        return tuple(dict.fromkeys(quota for rule in speaking for quota in rule.terms.quotas))

    def decide(
        self, caller: Caller, action: str, address: Address, facts: FileFacts | None = None, now: float | None = None
    ) -> Decision:
        """The outcome and the rules that led to it, in the file's order."""
        spoke = {rule.line: rule for rule in self._speaking(caller, action, address, facts, now)}
        reasons = [
            Reason(rule.name, line, rule.effect, spoke=True, because="it applies")
            for line, rule in sorted(spoke.items())
        ]
        effects = {reason.effect for reason in reasons}
        return Decision("allow" in effects and "deny" not in effects, tuple(reasons))

    def explain(
        self, caller: Caller, action: str, address: Address, facts: FileFacts | None = None, now: float | None = None
    ) -> Decision:
        """Like `decide`, with a reason for every rule: first those that spoke, denials before the rest.

        Those that did not speak say the first thing that kept them from it.
        """
        reasons = []
        for rule in self.rules:
            because = _first_misfit(rule, caller, action, address) or self._misfit(rule, caller, address, facts, now)
            because = because or self._unmoved(rule, caller, action, address)
            reasons.append(Reason(rule.name, rule.line, rule.effect, because is None, because or "it applies"))
        reasons.sort(key=lambda reason: (not reason.spoke, reason.effect == "allow", reason.line))
        return Decision(self.allows(caller, action, address, facts, now), tuple(reasons))

    def _unmoved(self, rule: Rule, caller: Caller, action: str, address: Address) -> str | None:
        """Why a rule that asks does not speak; None when it does."""
        ask = rule.conditions.ask
        if ask is None or self._applies(rule, ask, caller, action, address):
            return None
        answer = self._answers.answer(ask, _question(rule, caller, action, address))
        if answer is None:
            return f"{ask} gave no answer"
        return f"{ask} says that it does not apply" + (f": {answer.because}" if answer.because else "")

    def may_enter(self, caller: Caller, folder: Address) -> bool:
        """Whether the caller may list the folder: something in it may be theirs to see."""
        return self.may_reach(caller, "list", folder)

    def may_reach(self, caller: Caller, action: str, folder: Address) -> bool:
        """Whether the caller may do this with something below the folder, as far as that is known without a file."""
        reached = False
        for rule in self._filed(folder.store):
            if action not in rule.actions or not rule.concerns(caller):
                continue
            if not self._fits(rule, caller, folder, None, None):
                continue
            if rule.effect == "deny":
                if rule.conditions.ask is None and any(pattern.covers(folder) for pattern in rule.what):
                    return False
            elif not reached and any(pattern.matches(folder) or pattern.reaches_into(folder) for pattern in rule.what):
                # A folder's name may be confidential, too: the check that is asked about files is asked about it.
                ask = rule.conditions.ask
                reached = ask is None or self._applies(rule, ask, caller, action, folder)
        return reached

    def allows_below(self, caller: Caller, action: str, folder: Address) -> bool:
        """Whether the caller may do this with everything below the folder, whatever the files are."""
        allowed = False
        for rule in self._filed(folder.store):
            if action not in rule.actions or not rule.concerns(caller):
                continue
            if rule.effect == "deny":
                # One that depends on the file may speak on some of them. The same holds for a rule with an external
                # check, which is made per file.
                applies = rule.conditions.of_the_file or self._fits(rule, caller, folder, None, None)
                if applies and any(pattern.reaches_into(folder) or pattern.matches(folder) for pattern in rule.what):
                    return False
            elif (
                rule.conditions.ask is None
                and not rule.conditions.of_the_file
                and self._fits(rule, caller, folder, None, None)
            ):
                allowed = allowed or any(pattern.covers(folder) for pattern in rule.what)
        return allowed

    def _fits(
        self,
        rule: Rule,
        caller: Caller,
        address: Address,
        facts: FileFacts | None,
        now: float | None,
        *,
        optimistic: bool = False,
    ) -> bool:
        """Whether a rule that names the caller, the action and the address speaks, but for what it asks.

        `optimistic`: whether it might, once the file was looked at.
        """
        if rule.who_excepts and any(who.includes(caller) for who in rule.exceptions):
            return False
        conditions = rule.conditions
        if conditions is ALWAYS:
            return True
        if facts is None and conditions.of_the_file and rule.effect == "deny" and not optimistic:
            return False
        return conditions.unmet_condition(caller, address, facts, self._moment(conditions, now)) is None

    def _moment(self, conditions: Conditions, now: float | None) -> float:
        """When conditions are looked at, Unix seconds; what does not depend on the time needs no clock."""
        if now is not None:
            return now
        return self._clock() if conditions.of_the_time else 0.0

    def _misfit(
        self, rule: Rule, caller: Caller, address: Address, facts: FileFacts | None, now: float | None
    ) -> str | None:
        if facts is None and rule.conditions.of_the_file:
            return "it depends on the file, which is not there"
        if rule.conditions is ALWAYS:
            return None
        return rule.conditions.unmet_condition(caller, address, facts, self._moment(rule.conditions, now))


def _said_of(names: list[str]) -> str:
    """As in `rules: pilots, office`; a rule that came twice once."""
    if len(names) == 1:
        return f"rules: {names[0]}"
    return f"rules: {', '.join(dict.fromkeys(names)) or 'none'}"


def _question(rule: Rule, caller: Caller, action: str, address: Address) -> CheckRequest:
    return CheckRequest(rule.name, caller.recipient, caller.groups, action, str(address), caller.network)


def _any_match(rule: Rule, address: Address) -> bool:
    for pattern in rule.what:  # noqa: SIM110 - a loop, for this is where decisions spend their time
        if pattern.matches(address):
            return True
    return False


def _first_misfit(rule: Rule, caller: Caller, action: str, address: Address) -> str | None:
    if not _any_match(rule, address):
        return f"{address} is not in {', '.join(pattern.text for pattern in rule.what)}"
    if not rule.concerns(caller):
        asking = caller.recipient or "somebody who did not sign in"
        excepting = [who.key for who in rule.exceptions if who.includes(caller)]
        if excepting:
            return f"{asking} is {' and '.join(excepting)}, which the rule excepts"
        return f"{asking} is not {' or '.join(map(str, rule.named))}"
    if action not in rule.actions:
        return f"it is about {', '.join(sorted(rule.actions))}, not {action}"
    return None

"""Proof of rules: what was expected of them, and what a change of them would change."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass

from invio.core.addresses import Address
from invio.core.files import Caller, FileFacts
from invio.core.memory import Memory
from invio.core.rules.decisions import ACTIONS, Decision, Expectation, Rule, RuleSet
from invio.core.rules.external_checks import NO_POLICY, CheckResult, FixedPolicy
from invio.core.rules.quotas import amount_text, period_text
from invio.core.rules.terms import strictest_terms

_KNOWN = 10_000  # sets of rules whose outcomes are kept


@dataclass(frozen=True, slots=True)
class Checked:
    """An expectation, what was decided, and whether that is it."""

    expectation: Expectation
    decision: Decision

    @property
    def met(self) -> bool:
        """Whether the outcome is the one that is expected."""
        return self.decision.allowed is (self.expectation.outcome == "allowed")

    @property
    def because(self) -> str:
        """The rule that decided, in words."""
        spoke = next((reason for reason in self.decision.reasons if reason.spoke), None)
        return "no rule speaks about it" if spoke is None else f"{spoke.effect}: {spoke.rule} (line {spoke.line})"


def check(
    rules: RuleSet, groups_of: Callable[[str], frozenset[str]], facts_of: Callable[[Address], FileFacts | None]
) -> list[Checked]:
    """Puts every expectation to the rules.

    `groups_of` tells a recipient's groups, `facts_of` what is known of a file; an expectation that
    names them needs neither. Nobody outside is asked: what they would say is part of the expectation.
    """
    return [_checked(rules, expected, groups_of, facts_of) for expected in rules.expectations]


def _checked(
    rules: RuleSet,
    expected: Expectation,
    groups_of: Callable[[str], frozenset[str]],
    facts_of: Callable[[Address], FileFacts | None],
) -> Checked:
    groups = frozenset(expected.groups or ())
    if expected.recipient is not None and expected.groups is None:
        groups = groups_of(expected.recipient)
    caller = Caller(expected.recipient, groups, expected.network)
    facts = None
    if rules.looks_at_files:
        facts = facts_of(expected.address) if expected.size is expected.version is None else None
        facts = facts or _expected_facts(expected)
    answers = NO_POLICY if expected.applies is None else FixedPolicy(CheckResult(expected.applies))
    asked = rules.under(answers=answers)
    return Checked(expected, asked.explain(caller, expected.action, expected.address, facts, expected.at))


def _expected_facts(expected: Expectation) -> FileFacts:
    """The file that an expectation is about, by what it says of it itself."""
    number = expected.version if type(expected.version) is int else None
    current = expected.version in (None, "current")
    return FileFacts(expected.address, expected.size, None, None, version=number, current=current)


@dataclass(frozen=True, slots=True)
class Change:
    """An outcome that would be another, and the rule that makes it so: one that comes, or one that goes.

    `terms` says what would change in how the file is delivered; it is empty where the file is given out only before
    the change, or only after it.
    """

    who: str
    address: Address
    action: str
    allowed: bool  # as it would be
    rule: str
    line: int
    terms: str = ""


def compare(
    old: RuleSet, new: RuleSet, callers: Sequence[tuple[str, Caller]], files: Iterable[FileFacts], now: float
) -> Iterator[Change]:
    """Every outcome that differs, file by file, at the moment `now`, Unix seconds.

    `callers` are those to ask for, with what each is called. Memory does not grow with the files.
    Rules that ask somebody outside are taken to apply.
    """
    comparison = _Comparison(old, new, callers, now)
    for facts in files:
        for difference in comparison.differences(facts):
            yield Change(difference.who, facts.address, difference.action, *difference.outcome)


@dataclass(frozen=True, slots=True)
class _Change:
    """A rule, and which of the two files has it."""

    rule: Rule
    old: bool
    new: bool


@dataclass(frozen=True, slots=True)
class _Difference:
    who: str
    action: str
    outcome: tuple[bool, str, int, str]  # whether it would be allowed, by which rule of which line, and the terms


class _Comparison:
    """Two sets of rules side by side.

    Files that the same rules are about have the same outcomes; those are worked out once.
    """

    def __init__(self, old: RuleSet, new: RuleSet, callers: Sequence[tuple[str, Caller]], now: float) -> None:
        self._callers = callers
        self._now = now
        before = {_meaning(rule): rule for rule in old.rules}
        after = {_meaning(rule): rule for rule in new.rules}
        # As the new file has it, where both do: that is the line to look at.
        self._changes = [
            _Change(rule, meaning in before, meaning in after) for meaning, rule in {**before, **after}.items()
        ]
        self._filed: dict[tuple[str | None, str | None], list[int]] = {}
        for place, change in enumerate(self._changes):
            for where in dict.fromkeys((pattern.store, pattern.folder) for pattern in change.rule.what):
                self._filed.setdefault(where, []).append(place)
        self._known: Memory[tuple[int, ...], list[_Difference]] = Memory(_KNOWN)

    def differences(self, facts: FileFacts) -> list[_Difference]:
        about = self._about(facts)
        known = self._known.get(about)
        if known is None:
            changes = [self._changes[place] for place in about]
            known = self._known.keep(about, list(self._worked_out(changes, facts)))
        return known

    def _about(self, facts: FileFacts) -> tuple[int, ...]:
        """Which rules are about a file, by its address and by what they say of its type and size."""
        address, found = facts.address, set()
        folder = address.path.partition("/")[0]
        for where in ((address.store, folder), (address.store, None), (None, folder), (None, None)):
            for place in self._filed.get(where, ()):
                rule = self._changes[place].rule
                if any(pattern.matches(address) for pattern in rule.what) and rule.conditions.fits_file(address, facts):
                    found.add(place)
        return tuple(sorted(found))

    def _worked_out(self, about: list[_Change], facts: FileFacts) -> Iterator[_Difference]:
        if all(change.old and change.new for change in about):
            return
        for who, caller in self._callers:
            concerned = [
                change
                for change in about
                if change.rule.concerns(caller)
                and change.rule.conditions.unmet_condition(caller, facts.address, facts, self._now) is None
            ]
            if all(change.old and change.new for change in concerned):
                continue
            for action in ACTIONS:
                speaking = [change for change in concerned if action in change.rule.actions]
                before = _outcome(change.rule for change in speaking if change.old)
                after = _outcome(change.rule for change in speaking if change.new)
                if before is not after:
                    cause = _cause(speaking, allowed=after)
                    yield _Difference(who, action, (after, cause.name, cause.line, ""))
                elif after and (terms := _terms_changed(speaking, action)):
                    cause = _cause_of_terms(speaking)
                    yield _Difference(who, action, (True, cause.name, cause.line, terms))


def _outcome(speaking: Iterable[Rule]) -> bool:
    effects = {rule.effect for rule in speaking}
    return "allow" in effects and "deny" not in effects


def _cause(speaking: list[_Change], *, allowed: bool) -> Rule:
    """The rule that comes and makes it so, else the one that goes; without either, nothing would change."""
    wanted = "allow" if allowed else "deny"
    came = [change.rule for change in speaking if change.new and not change.old and change.rule.effect == wanted]
    went = [change.rule for change in speaking if change.old and not change.new and change.rule.effect != wanted]
    return (sorted(came, key=_line) + sorted(went, key=_line))[0]


# What terms say of an action: of having a file, or of handing it on.
_SAID_OF = {
    "read": ("speed", "disposition", "cache", "quotas"),
    "bundle": ("speed", "quotas"),
    "link": ("link_default", "link_longest"),
}


def _terms_changed(speaking: list[_Change], action: str) -> str:
    """What would change in how a file is delivered, in words; empty when nothing would."""
    names = _SAID_OF.get(action, ())
    if not names or all(change.old and change.new for change in speaking):
        return ""
    before = strictest_terms(change.rule.terms for change in speaking if change.old)
    after = strictest_terms(change.rule.terms for change in speaking if change.new)
    differing = [name for name in names if getattr(before, name) != getattr(after, name)]
    return "; ".join(
        f"{name.removesuffix('s')} {_in_words(getattr(before, name))} → {_in_words(getattr(after, name))}"
        for name in differing
    )


def _in_words(value: object) -> str:
    if isinstance(value, tuple):
        said = [f"{amount_text(quota)} per {period_text(quota.period)}" for quota in value]
        return " and ".join(said) or "none"
    return "none" if value is None else str(value)


def _cause_of_terms(speaking: list[_Change]) -> Rule:
    came = [change.rule for change in speaking if change.new and not change.old]
    went = [change.rule for change in speaking if change.old and not change.new]
    return (sorted(came, key=_line) + sorted(went, key=_line))[0]


def _line(rule: Rule) -> int:
    return rule.line


def _meaning(rule: Rule) -> object:
    """What a rule says, wherever it stands and whatever it is called."""
    return (rule.effect, rule.who, rule.what, rule.actions, rule.conditions, rule.terms)

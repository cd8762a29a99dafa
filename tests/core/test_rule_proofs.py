"""Expectations put to rules, and what a change of rules would change: the same as deciding everything twice."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from invio.core.addresses import Address, parse_address
from invio.core.files import ANYONE, Caller, FileFacts
from invio.core.rules.decisions import ACTIONS, Rule, RuleSet
from invio.core.rules.doubts import groups_without_members
from invio.core.rules.file import BadRules, parse_rules
from invio.core.rules.proofs import check, compare
from tests.core.test_conditions import rules
from tests.rules import rule

RULES = rule("group:pilots", "charts/**", "list read", "charts") + rule(
    "anyone", "charts/**", "read", "large ones by day", effect="deny", min_size=1000, when={"hours": "08:00-17:00"}
)
NOON = 1_790_078_400.0  # UTC, of some day
CALLERS = [
    ("anyone", ANYONE),
    ("a", Caller("a", frozenset({"g"}))),
    ("b", Caller("b", frozenset({"h"}))),
    ("c", Caller("c")),
]
FILES = [
    FileFacts(parse_address(text), 1, None, None) for text in ("s/x/y.txt", "s/a", "s/q/y", "t/x/y", "u/x/z", "s/x")
]


def expecting(text: str) -> RuleSet:
    return parse_rules(RULES + "[[expect]]\n" + text).under(clock=lambda: NOON)


@pytest.mark.parametrize(
    ("text", "met"),
    [
        ('who = "group:pilots"\naction = "read"\naddress = "charts/a"\noutcome = "allowed"', True),
        ('who = "anyone"\naction = "read"\naddress = "charts/a"\noutcome = "refused"', True),
        ('who = "anyone"\naction = "read"\naddress = "charts/a"\noutcome = "allowed"', False),
        ('who = "recipient:pilot-7"\naction = "read"\naddress = "charts/a"\noutcome = "allowed"', True),
        (
            'who = "recipient:pilot-7"\ngroups = ["cooks"]\naction = "read"\naddress = "charts/a"\noutcome = "refused"',
            True,
        ),
        (
            'who = "group:pilots"\naction = "read"\naddress = "charts/a"\nsize = 1000\nat = 2026-03-02T12:00:00Z\n'
            'outcome = "refused"',
            True,
        ),
        (
            'who = "group:pilots"\naction = "read"\naddress = "charts/a"\nsize = 999\nat = 2026-03-02T12:00:00Z\n'
            'outcome = "refused"',
            False,
        ),
        (
            'who = "group:pilots"\naction = "read"\naddress = "charts/a"\nsize = 1000\nat = 2026-03-02T19:00:00Z\n'
            'outcome = "allowed"',
            True,
        ),
    ],
)
def test_what_is_expected_is_put_to_the_rules(text: str, met: bool) -> None:
    def groups_of(recipient: str) -> frozenset[str]:
        return frozenset({"pilots"} if recipient == "pilot-7" else ())

    [checked] = check(expecting(text), groups_of, lambda _: None)
    assert checked.met is met
    assert checked.expectation.line == 17


@pytest.mark.parametrize(
    ("said", "allowed"),
    [("", True), ('version = "current"', True), ('version = "earlier"', False), ("version = 1", False)],
)
def test_an_expectation_may_be_of_an_earlier_version(said: str, allowed: bool) -> None:
    text = RULES.replace('actions = ["list", "read"]\n', 'actions = ["list", "read"]\nversion = "current"\n')
    expected = f'[[expect]]\nwho = "group:pilots"\naction = "read"\naddress = "charts/a"\noutcome = "allowed"\n{said}'
    [checked] = check(parse_rules(text + expected).under(clock=lambda: NOON), lambda _: frozenset(), lambda _: None)
    assert checked.met is allowed


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ('who = "anyone"\naction = "read"\naddress = "charts/a"\n', "rules.toml:17: the expectation needs 'outcome'"),
        (
            'who = "anyone"\naction = "read"\naddress = "charts/a"\noutcome = "yes"',
            "rules.toml:21: outcome is 'yes'; expected 'allowed' or 'refused'",
        ),
        (
            'who = "signed-in"\naction = "read"\naddress = "charts/a"\noutcome = "refused"',
            "rules.toml:18: who is signed-in; expected",
        ),
        ('who = "anyone"\naction = "fly"\naddress = "charts/a"\noutcome = "refused"', "expected one of list, read"),
        ('who = "anyone"\nmood = 1\n', "rules.toml:19: an expectation has no 'mood'"),
    ],
)
def test_an_expectation_that_is_none_is_said_with_its_line(text: str, says: str) -> None:
    with pytest.raises(BadRules) as error:
        expecting(text)
    assert says in str(error.value)


@given(rules(), rules(), st.integers(0, 8))
def test_a_comparison_finds_what_deciding_everything_twice_finds(
    before: list[Rule], after: list[Rule], kept: int
) -> None:
    old, new = RuleSet(before), RuleSet(before[:kept] + after)
    found = {(one.who, one.address, one.action): one for one in compare(old, new, CALLERS, FILES, NOON)}
    expected = {
        (who, facts.address, action): new.allows(caller, action, facts.address, facts, NOON)
        for who, caller in CALLERS
        for facts in FILES
        for action in ACTIONS
        if old.allows(caller, action, facts.address, facts, NOON)
        is not new.allows(caller, action, facts.address, facts, NOON)
    }
    assert {key: one.allowed for key, one in found.items()} == expected
    for one in found.values():
        assert one.rule in {rule.name for rule in (*old.rules, *new.rules)}


def test_a_comparison_looks_at_sizes_and_names_the_rule() -> None:
    old, new = parse_rules(RULES), parse_rules(RULES.replace("min_size = 1000", "min_size = 10"))
    noon = 1_772_452_800.0  # 2026-03-02 12:00 UTC
    files = [FileFacts(Address("charts", f"f{size}"), size, None, None) for size in (5, 50, 5000)]
    pilots = [("group:pilots", Caller("p", frozenset({"pilots"})))]
    [change] = compare(old, new, pilots, files, noon)
    assert (str(change.address), change.action, change.allowed) == ("charts/f50", "read", False)
    assert (change.rule, change.line) == ("large ones by day", 9)
    assert list(compare(old, new, pilots, files, noon + 6 * 3600)) == [], "in the evening the rule does not hold"


ASKING = """
[[rule]]
name = "asks"
effect = "allow"
who = ["signed-in"]
what = ["charts/**"]
actions = ["read"]
ask = {{ url = "http://127.0.0.1:9/may" }}

{expectations}
"""
EXPECTS = """
[[expect]]
who = "recipient:a"
action = "read"
address = "charts/a.pdf"
outcome = "{outcome}"
groups = ["x"]
{more}
"""


@pytest.mark.parametrize(
    ("outcome", "more"), [("allowed", "applies = true"), ("refused", "applies = false"), ("refused", "")]
)
def test_what_an_application_would_say_is_part_of_what_is_expected(outcome: str, more: str) -> None:
    text = ASKING.format(expectations=EXPECTS.format(outcome=outcome, more=more))
    [checked] = check(parse_rules(text).under(clock=lambda: NOON), lambda _: frozenset(), lambda _: None)
    assert checked.met


def test_rules_that_ask_are_compared_as_if_they_applied() -> None:
    before, after = parse_rules(""), parse_rules(ASKING.format(expectations=""))
    facts = [FileFacts(parse_address("charts/a.pdf"), 1, None, None)]
    changes = list(compare(before, after, [("recipient:a", Caller("a"))], facts, 0))
    assert [(change.action, change.allowed, change.rule) for change in changes] == [("read", True, "asks")]


@pytest.mark.parametrize(
    ("before", "after", "action", "says"),
    [
        ("speed = 2_000_000", "speed = 1", "read", "speed 2000000 → 1"),
        ("", 'disposition = "inline"', "read", "disposition none → inline"),
        ('cache = "private"', 'cache = "no-store"', "read", "cache private → no-store"),
        (
            "quota = { files = 3, per = '1d' }",
            "quota = { files = 300, per = '1d' }",
            "read",
            "quota 3 files per 1 day → 300 files per 1 day",
        ),
        ("quota = { bytes = 9, per = '1h' }", "", "bundle", "quota 9 bytes per 1 hour → none"),
        ('link_longest = "7d"', 'link_longest = "300d"', "link", "link_longest 604800 → 25920000"),
    ],
)
def test_a_comparison_tells_what_changes_of_how_files_are_delivered(
    before: str, after: str, action: str, says: str
) -> None:
    rule = '[[rule]]\nname = "r"\neffect = "allow"\nwho = ["anyone"]\nwhat = ["s/**"]\nactions = ["read", "bundle", "link"]\n'
    old, new = parse_rules(rule + before), parse_rules(rule + after)
    changes = list(compare(old, new, [("anyone", ANYONE)], FILES[:1], NOON))
    assert says in {one.terms for one in changes if one.action == action}
    assert all(one.allowed and one.rule == "r" for one in changes)
    assert list(compare(old, old, [("anyone", ANYONE)], FILES[:1], NOON)) == []


def test_a_group_that_nobody_is_in_is_doubted() -> None:
    [doubt] = groups_without_members(parse_rules(RULES.replace("group:pilots", "group:pilotts")), {"pilots", "office"})
    assert doubt == "line 2: nobody is in the group 'pilotts' (did you mean 'pilots'?)"
    assert groups_without_members(parse_rules(RULES), {"pilots"}) == []

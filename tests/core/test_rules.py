from __future__ import annotations

import pytest

from invio.core.addresses import parse_address
from invio.core.files import ANYONE, Caller
from invio.core.rules.decisions import RuleSet
from invio.core.rules.file import parse_rules
from invio.core.rules.terms import NO_TERMS, Terms
from tests.rules import rule

PILOT = Caller("pilot-7", frozenset({"pilots"}))
OFFICE = Caller("harbour-office", frozenset({"office"}))
NOBODY = Caller("stranger", frozenset())


def rules(*entries: tuple[str, str, str, str]) -> RuleSet:
    """Rules of (effect, who, what, actions), each a comma-separated text."""

    def listed(text: str) -> str:
        return "[" + ", ".join(f'"{item.strip()}"' for item in text.split(",")) + "]"

    return parse_rules(
        "\n".join(
            f'[[rule]]\neffect = "{effect}"\nwho = {listed(who)}\nwhat = {listed(what)}\nactions = {listed(actions)}'
            for effect, who, what, actions in entries
        )
    )


def allows(rule_set: RuleSet, caller: Caller, address: str, action: str = "read") -> bool:
    decided = rule_set.allows(caller, action, parse_address(address))
    # The fast answer and the two that give reasons must never differ.
    assert rule_set.decide(caller, action, parse_address(address)).allowed is decided
    assert rule_set.explain(caller, action, parse_address(address)).allowed is decided
    return decided


def test_without_a_rule_the_answer_is_no() -> None:
    assert not allows(rules(), OFFICE, "charts/a")
    assert not allows(rules(("allow", "anyone", "notices/**", "read")), OFFICE, "charts/a")


@pytest.mark.parametrize("order", [1, -1])
def test_a_deny_wins_whatever_the_order(order: int) -> None:
    entries = [("allow", "group:pilots", "charts/**", "read"), ("deny", "anyone", "charts/drafts/**", "read")]
    rule_set = rules(*entries[::order])
    assert allows(rule_set, PILOT, "charts/a")
    assert not allows(rule_set, PILOT, "charts/drafts/a")


@pytest.mark.parametrize(
    ("who", "caller", "expected"),
    [
        ("anyone", ANYONE, True),
        ("signed-in", ANYONE, False),
        ("signed-in", NOBODY, True),
        ("recipient:pilot-7", PILOT, True),
        ("recipient:pilot-7", OFFICE, False),
        ("recipient:pilot-7", ANYONE, False),
        ("group:pilots", PILOT, True),
        ("group:pilots", OFFICE, False),
        ("group:pilots, group:office", OFFICE, True),
    ],
)
def test_who_a_rule_is_about(who: str, caller: Caller, expected: bool) -> None:
    assert allows(rules(("allow", who, "charts/**", "read")), caller, "charts/a") is expected


def test_an_action_that_is_not_named_is_not_allowed() -> None:
    rule_set = rules(("allow", "anyone", "charts/**", "list, read"))
    assert allows(rule_set, ANYONE, "charts/a", "list")
    assert not allows(rule_set, ANYONE, "charts/a", "bundle")


def test_a_rule_for_any_store_holds_for_each() -> None:
    assert allows(rules(("allow", "group:office", "**", "read")), OFFICE, "new-store/x")
    everywhere = rules(("allow", "anyone", "*/README.txt", "read, list"))
    assert allows(everywhere, ANYONE, "notices/README.txt")
    assert everywhere.may_enter(ANYONE, parse_address("notices/"))


def test_the_history_is_told_which_rules_decided() -> None:
    rule_set = rules(
        ("allow", "group:pilots", "charts/**", "read"),
        ("allow", "anyone", "charts/**, charts/a*", "read"),
        ("deny", "anyone", "charts/drafts/**", "read"),
    )
    names = [rule.name for rule in rule_set.rules]
    said = [
        rule_set.decide_with_rules(PILOT, "read", parse_address(text))
        for text in ("charts/a", "charts/drafts/a", "notices/a")
    ]
    assert said[0][0] is True
    assert sorted(said[0][1].removeprefix("rules: ").split(", ")) == sorted(names[:2])
    assert said[1:] == [(False, f"rules: {names[2]}"), (False, "rules: none")]
    reasons = rule_set.decide(PILOT, "read", parse_address("charts/a")).reasons
    assert [(reason.spoke, reason.because) for reason in reasons] == [(True, "it applies")] * 2


def test_the_stores_in_which_somebody_may_do_something() -> None:
    rule_set = rules(
        ("allow", "group:pilots", "charts/**, models/**", "read"),
        ("deny", "anyone", "archive/**", "read"),
        ("allow", "anyone", "notices/**", "list"),
        ("allow", "group:office", "**", "read"),
    )
    assert rule_set.reached_by(PILOT, "read") == frozenset({"charts", "models"})
    assert rule_set.reached_by(PILOT, "list") == frozenset({"notices"})
    assert rule_set.reached_by(ANYONE, "read") == frozenset()
    assert rule_set.reached_by(OFFICE, "read") is None, "in any"


def test_an_explanation_names_who_spoke_and_what_kept_the_others_from_it() -> None:
    rule_set = rules(
        ("allow", "group:pilots", "charts/**", "read"),
        ("deny", "anyone", "charts/drafts/**", "read"),
        ("allow", "group:office", "charts/**", "read"),
        ("allow", "anyone", "notices/**", "read"),
        ("allow", "anyone", "charts/**", "list"),
    )
    decision = rule_set.explain(PILOT, "read", parse_address("charts/drafts/a"))
    assert [(reason.line, reason.effect, reason.spoke) for reason in decision.reasons] == [
        (6, "deny", True),
        (1, "allow", True),
        (11, "allow", False),
        (16, "allow", False),
        (21, "allow", False),
    ]
    because = [reason.because for reason in decision.reasons[2:]]
    assert because == [
        "pilot-7 is not group:office",
        "charts/drafts/a is not in notices/**",
        "it is about list, not read",
    ]


def test_a_folder_can_be_entered_when_something_in_it_may_be_seen() -> None:
    rule_set = rules(
        ("allow", "group:pilots", "charts/approach/*.pdf", "list"),
        ("allow", "anyone", "charts/harbour/**", "list"),
        ("deny", "anyone", "charts/harbour/secret/**", "list"),
        ("allow", "anyone", "charts/unseen/**", "read"),
    )

    def enters(caller: Caller, folder: str) -> bool:
        return rule_set.may_enter(caller, parse_address(folder))

    assert enters(PILOT, "charts/")
    assert enters(PILOT, "charts/approach/")
    assert not enters(ANYONE, "charts/approach/")
    assert enters(ANYONE, "charts/harbour/")
    assert not enters(ANYONE, "charts/harbour/secret/")
    assert not enters(ANYONE, "charts/unseen/")
    assert not enters(PILOT, "notices/")


def test_all_of_a_folder_is_allowed_only_when_nothing_in_it_is_denied() -> None:
    rule_set = rules(
        ("allow", "group:pilots", "charts/**", "link"),
        ("deny", "group:pilots", "charts/drafts/west.pdf", "link"),
        ("allow", "group:office", "charts/*.pdf", "link"),
    )
    assert rule_set.allows_below(PILOT, "link", parse_address("charts/approach/"))
    assert not rule_set.allows_below(PILOT, "link", parse_address("charts/drafts/"))
    assert not rule_set.allows_below(PILOT, "link", parse_address("charts/"))
    assert not rule_set.allows_below(OFFICE, "link", parse_address("charts/"))
    others = rules(
        ("allow", "group:pilots", "charts/**", "link"),
        ("deny", "group:pilots", "charts/a.pdf", "read"),
        ("deny", "group:office", "charts/a.pdf", "link"),
    )
    assert others.allows_below(PILOT, "link", parse_address("charts/")), "denied is another action, and to others"


def test_the_terms_of_the_only_rule_hold_and_rules_have_reasons() -> None:
    only = parse_rules(
        '[[rule]]\neffect = "allow"\nwho = ["anyone"]\nwhat = ["**"]\nactions = ["read"]\nspeed = 1000\n'
    )
    assert only.terms(ANYONE, "read", parse_address("charts/a")).speed == 1000
    assert only.terms(ANYONE, "list", parse_address("charts/a")) == NO_TERMS
    without = rules(("allow", "anyone", "**", "read"))
    assert without.terms(ANYONE, "read", parse_address("charts/a")) == NO_TERMS
    assert without.terms_within(ANYONE, "read", parse_address("charts/")) == NO_TERMS
    assert (only.has_reasons, only.sure_below, only.has_quotas) == (True, True, False)


def test_of_the_rules_that_allow_the_strictest_terms_hold() -> None:
    text = (
        rule("anyone", "notices/**", "read", speed=1000, disposition="inline", cache="public, max-age=60")
        + rule("group:pilots", "notices/2026/**", "read", speed=500, disposition="attachment")
        + rule("anyone", "charts/**", "read")
    )
    rules = parse_rules(text)
    pilot = Caller("pilot-7", frozenset(["pilots"]))
    assert rules.terms(ANYONE, "read", parse_address("notices/2026/a")) == Terms(1000, "inline", "public, max-age=60")
    assert rules.terms(pilot, "read", parse_address("notices/2026/a")) == Terms(500, "attachment", "public, max-age=60")
    assert (
        rules.terms(pilot, "read", parse_address("charts/a"))
        == rules.terms(pilot, "list", parse_address("notices/a"))
        == NO_TERMS
    )


LIMITED = (
    rule("group:pilots", "charts/**", "read", "charts", speed=9000, quota={"files": 10, "per": "1d"})
    + rule("group:pilots", "charts/drafts/*", "read", "drafts", speed=1000, quota={"files": 2, "per": "1d"})
    + rule("group:office", "**", "read", "office")
)


@pytest.mark.parametrize(
    ("folder", "speed", "names"),
    [
        ("charts/", 1000, ["charts", "drafts"]),
        ("charts/drafts/", 1000, ["charts", "drafts"]),
        ("charts/approach/", 9000, ["charts"]),
        ("models/", None, []),
    ],
)
def test_within_a_folder_the_strictest_of_all_that_may_apply_does(
    folder: str, speed: int | None, names: list[str]
) -> None:
    rule_set = parse_rules(LIMITED)
    terms = rule_set.terms_within(PILOT, "read", parse_address(folder))
    assert (terms.speed, [quota.name for quota in terms.quotas]) == (speed, names)
    assert rule_set.terms_within(OFFICE, "read", parse_address(folder)) is NO_TERMS


def test_quotas_are_found_again_by_name_where_their_rules_are_about_the_file() -> None:
    rule_set = parse_rules(LIMITED)

    def found(address: str, *names: str) -> list[str]:
        return [quota.name for quota in rule_set.quotas_named(names, parse_address(address))]

    assert found("charts/drafts/a.pdf", "charts", "drafts") == ["charts", "drafts"]
    assert found("charts/a.pdf", "charts", "drafts") == ["charts"]
    assert found("charts/a.pdf", "drafts", "a rule that is gone") == []

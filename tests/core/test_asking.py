"""What rules have asked elsewhere: just the questions that a decision needs, once it is allowed to wait."""

from __future__ import annotations

import asyncio
from collections.abc import Iterable

from invio.core.addresses import parse_address
from invio.core.files import ANYONE, Caller
from invio.core.rules.external_checks import CheckRequest, CheckResult, ExternalCheck
from invio.core.rules.file import parse_rules
from tests.rules import rule

NORTH = parse_address("charts/north.pdf")
PILOT = Caller("pilot-7", frozenset({"pilots"}), "192.0.2.7")
ASKING = (
    rule("group:pilots", "charts/**", "read", "pilots on duty read", ask={"url": "https://duty.example/read"})
    + rule("group:pilots", "charts/**", "list", "pilots on duty list", ask={"url": "https://duty.example/list"})
    + rule(
        "group:pilots",
        "charts/**",
        "read",
        "those of the night read at night",
        when={"hours": "22:00-23:00"},
        ask={"url": "https://duty.example/night"},
    )
    + rule("group:office", "charts/**", "list read", "the office lists")
)


class Noting:
    """Answers all questions alike, and notes which were to be had an answer to."""

    def __init__(self, said: CheckResult | None) -> None:
        self.said = said
        self.asked: list[tuple[str, str]] = []

    def answer(self, ask: ExternalCheck, question: CheckRequest) -> CheckResult | None:  # noqa: ARG002
        return self.said

    async def prefetch(self, questions: Iterable[tuple[ExternalCheck, CheckRequest]]) -> None:
        self.asked += [(str(ask).rpartition("/")[2], question.action) for ask, question in questions]


def asked(caller: Caller, action: str, *, applies: bool, rules: str = ASKING) -> list[tuple[str, str]]:
    noting = Noting(CheckResult(applies))
    in_force = parse_rules(rules).under(lambda: 12 * 3600.0, noting)
    asyncio.run(in_force.prefetch(caller, action, NORTH))
    return noting.asked


def test_it_is_asked_what_the_decision_needs_and_after_a_no_whether_it_may_be_listed() -> None:
    assert asked(PILOT, "read", applies=True) == [("read", "read")]
    assert asked(PILOT, "read", applies=False) == [("read", "read"), ("list", "list")]
    assert asked(PILOT, "list", applies=False) == [("list", "list")]


def test_a_denial_that_depends_on_the_file_is_asked_about_before_the_file_is_known() -> None:
    deny = ASKING.replace('"allow"', '"deny"').replace("[[rule]]", "[[rule]]\nmax_size = 1000")
    assert asked(PILOT, "read", applies=True, rules=deny)[0] == ("read", "read")


def test_it_is_explained_what_the_other_side_said() -> None:
    def because(said: CheckResult | None) -> str:
        noting = Noting(said)
        reasons = parse_rules(ASKING).under(lambda: 0.0, noting).explain(PILOT, "read", NORTH).reasons
        return next(reason.because for reason in reasons if reason.rule == "pilots on duty read")

    url = "https://duty.example/read"
    assert because(CheckResult(False)) == f"{url} says that it does not apply"
    assert because(CheckResult(False, because="off duty")) == f"{url} says that it does not apply: off duty"
    assert because(None) == f"{url} gave no answer"
    assert because(CheckResult(True)) == "it applies"


def test_nobody_is_asked_about_those_whom_the_rule_is_not_about() -> None:
    assert asked(Caller("desk", frozenset({"office"})), "read", applies=True) == []
    assert asked(ANYONE, "read", applies=False) == []


def test_rules_that_ask_nobody_say_so() -> None:
    assert parse_rules(ASKING).asks
    only_the_office = "[[rule]]" + ASKING.rpartition("[[rule]]")[2]
    assert not parse_rules(only_the_office).asks
    assert asked(PILOT, "read", applies=False, rules=only_the_office) == []


def test_who_administers_does_so_by_a_rule_about_everything_and_not_about_certain_files() -> None:
    rule = """
[[rule]]
effect = "{effect}"
who = ["group:pilots"]
what = ["**"]
actions = ["manage"]
{more}
"""
    allow = rule.format(effect="allow", more="")
    assert parse_rules(allow).administers(PILOT, 0.0)
    assert not parse_rules(allow).administers(ANYONE, 0.0)
    assert not parse_rules(allow + rule.format(effect="deny", more="")).administers(PILOT, 0.0)
    assert not parse_rules(rule.format(effect="allow", more="max_size = 1000000")).administers(PILOT, 0.0)

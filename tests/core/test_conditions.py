"""What rules further depend on: time, place, type and size; and that filing rules changes no outcome."""

from __future__ import annotations

import time
from datetime import datetime

import pytest
from hypothesis import given
from hypothesis import strategies as st

from invio.core.addresses import parse_address
from invio.core.files import ANYONE, Caller, FileFacts
from invio.core.rules.conditions import read_hours
from invio.core.rules.decisions import Rule, RuleSet, Who
from invio.core.rules.file import BadRules, parse_rules
from invio.core.rules.patterns import parse_pattern

PILOT = Caller("pilot-7", frozenset({"pilots"}), "10.1.2.3")
SHEET = parse_address("charts/a.pdf")
BASE = '[[rule]]\nname = "r"\neffect = "allow"\nwho = ["anyone"]\nwhat = ["charts/**"]\nactions = ["read"]\n'


def at(text: str) -> float:
    return datetime.fromisoformat(text).timestamp()


def facts(size: int | None = 100, media_type: str | None = None) -> FileFacts:
    return FileFacts(SHEET, size, None, None, media_type)


@pytest.mark.parametrize(
    ("when", "moment", "holds"),
    [
        ("from = 2026-03-01", "2026-02-28T23:59:59+00:00", False),
        ("from = 2026-03-01", "2026-03-01T00:00:00+00:00", True),
        ("until = 2026-03-01", "2026-02-28T23:59:59+00:00", True),
        ("until = 2026-03-01", "2026-03-01T00:00:00+00:00", False),
        ('from = 2026-03-01, zone = "Europe/Stockholm"', "2026-02-28T23:00:00+00:00", True),
        ("until = 2026-03-01T12:00:00+02:00", "2026-03-01T10:00:00+00:00", False),
        ('hours = "08:00-17:00"', "2026-03-02T07:59:00+00:00", False),
        ('hours = "08:00-17:00"', "2026-03-02T08:00:00+00:00", True),
        ('hours = "08:00-17:00"', "2026-03-02T17:00:00+00:00", False),
        # Summer time began on 2026-03-29: seven in the morning is then five o'clock UTC.
        ('hours = "07:00-08:00", zone = "Europe/Stockholm"', "2026-03-28T06:30:00+00:00", True),
        ('hours = "07:00-08:00", zone = "Europe/Stockholm"', "2026-03-30T05:30:00+00:00", True),
        ('hours = "07:00-08:00", zone = "Europe/Stockholm"', "2026-03-30T06:30:00+00:00", False),
        ('days = ["mon", "tue"]', "2026-03-02T12:00:00+00:00", True),
        ('days = ["mon", "tue"]', "2026-03-04T12:00:00+00:00", False),
        # A night belongs to the day that it begins on: from Friday evening to Saturday morning.
        ('days = ["fri"], hours = "22:00-06:00"', "2026-03-06T23:00:00+00:00", True),
        ('days = ["fri"], hours = "22:00-06:00"', "2026-03-07T05:59:00+00:00", True),
        ('days = ["fri"], hours = "22:00-06:00"', "2026-03-07T06:00:00+00:00", False),
        ('days = ["sun"], hours = "22:00-06:00"', "2026-03-09T03:00:00+00:00", True),
        ('hours = "07:00-08:59"', "2026-03-02T08:58:59+00:00", True),
        ('hours = "22:00-06:00"', "2026-03-02T22:00:00+00:00", True),
        ('hours = "22:00-06:00"', "2026-03-02T06:00:00+00:00", False),
        ('days = ["fri"], hours = "22:00-06:00"', "2026-03-07T23:00:00+00:00", False),
        ('days = ["fri"], hours = "22:00-06:00"', "2026-03-06T05:00:00+00:00", False),
    ],
)
def test_a_rule_holds_at_its_times(when: str, moment: str, holds: bool) -> None:
    rules = parse_rules(BASE + f"when = {{ {when} }}\n")
    assert rules.allows(ANYONE, "read", SHEET, None, at(moment)) is holds
    told = rules.explain(ANYONE, "read", SHEET, None, at(moment))
    assert (told.allowed, told.reasons[0].spoke) == (holds, holds)
    assert holds or told.reasons[0].because.startswith("it appl")


@pytest.mark.parametrize(
    ("when", "of_the_time", "says"),
    [
        ('hours = "08:00-17:00"', True, "it applies from 08:00 to 17:00 (UTC), and it was 00:00"),
        ('days = ["mon"]', True, "it applies on mon (UTC), not on thu"),
        ("from = 2026-03-01T12:00:00Z", True, "it applies from 2026-03-01 12:00 UTC on"),
        ("until = 1969-03-01T12:00:00Z", True, "it applied until 1969-03-01 12:00 UTC"),
    ],
)
def test_why_a_rule_does_not_hold_at_a_time_is_said(when: str, of_the_time: bool, says: str) -> None:
    [rule] = parse_rules(BASE + f"when = {{ {when} }}\n").rules
    assert rule.conditions.of_the_time is of_the_time
    assert rule.conditions.unmet_condition(ANYONE, SHEET, None, 0.0) == says
    assert parse_rules(BASE).rules[0].conditions.of_the_time is False


def test_rules_of_the_time_need_a_clock_and_others_do_not() -> None:
    timed, plain = parse_rules(BASE + 'when = { hours = "08:00-17:00" }\n'), parse_rules(BASE)
    assert plain.allows(ANYONE, "read", SHEET)
    with pytest.raises(TypeError, match="have no clock"):
        timed.allows(ANYONE, "read", SHEET)
    by_day = timed.under(clock=lambda: 43_200.0)
    assert by_day.allows(ANYONE, "read", SHEET)
    assert not by_day.allows(ANYONE, "read", SHEET, now=0.0)
    assert not timed.under(clock=lambda: 0.0).allows(ANYONE, "read", SHEET)


def test_a_rule_holds_from_its_networks() -> None:
    rules = parse_rules(BASE + 'networks = ["10.0.0.0/8", "2001:db8::/32"]\n')
    for network, holds in {"10.1.2.3": True, "::ffff:10.1.2.3": True, "2001:db8::1": True, "11.0.0.1": False}.items():
        assert rules.allows(Caller(network=network), "read", SHEET) is holds
    assert not rules.allows(ANYONE, "read", SHEET), "where nobody knows where it comes from, it does not hold"
    assert "not from 11.0.0.1" in rules.explain(Caller(network="11.0.0.1"), "read", SHEET).reasons[0].because


def test_a_rule_holds_for_types_and_sizes_once_the_file_is_known() -> None:
    allow = parse_rules(BASE + 'media_types = ["application/pdf", "image/*"]\nmax_size = 100\n')
    assert allow.looks_at_files
    assert allow.allows(ANYONE, "read", SHEET), "it may come to a yes"
    assert allow.allows(ANYONE, "read", SHEET, facts(100))
    assert not allow.allows(ANYONE, "read", SHEET, facts(101))
    assert not allow.allows(ANYONE, "read", SHEET, facts(None)), "nobody knows how long it will be"
    assert allow.allows(ANYONE, "read", SHEET, facts(5, "image/webp"))
    assert "this is text/csv" in allow.explain(ANYONE, "read", SHEET, facts(5, "text/csv")).reasons[0].because
    deny = parse_rules(BASE + BASE.replace("allow", "deny").replace('"r"', '"d"') + "min_size = 1000\n")
    assert deny.allows(ANYONE, "read", SHEET), "without the file, it may come to a yes"
    assert not deny.allows(ANYONE, "read", SHEET, facts(1000))
    assert deny.allows(ANYONE, "read", SHEET, facts(999))
    assert not deny.allows_below(ANYONE, "read", parse_address("charts/")), "some below may be refused"
    assert not allow.allows_below(ANYONE, "read", parse_address("charts/"))


@pytest.mark.parametrize(
    ("version", "newest", "earlier", "unversioned"),
    [
        ('"current"', True, False, True),
        ('"earlier"', False, True, False),
        ("2", False, True, False),
        ("3", True, False, False),
    ],
)
def test_a_rule_holds_for_versions(version: str, newest: bool, earlier: bool, unversioned: bool) -> None:
    rules = parse_rules(BASE + f"version = {version}\n")
    for number, current, holds in ((3, True, newest), (2, False, earlier), (None, True, unversioned)):
        one = FileFacts(SHEET, 100, None, None, version=number, current=current)
        assert rules.allows(ANYONE, "read", SHEET, one) is holds
        said = rules.explain(ANYONE, "read", SHEET, one).reasons[0].because
        assert ("it is about" in said) is not holds
        if not holds:
            wanted = f"{version[1:-1]} versions" if version.startswith('"') else f"version {version}"
            found = {3: "version 3, the current one", 2: "version 2, an earlier one", None: "a file without versions"}
            assert said == f"it is about {wanted}, and this is {found[number]}"
        assert rules.rules[0].conditions.fits_file(SHEET, one) is holds
    assert not rules.allows_below(ANYONE, "read", parse_address("charts/")), "earlier versions may be there"


def test_exceptions_hold_whoever_else_is_named() -> None:
    rules = parse_rules(BASE.replace('["anyone"]', '["not recipient:pilot-7", "group:pilots"]'))
    assert rules.allows(Caller("pilot-8", frozenset({"pilots"})), "read", SHEET)
    assert not rules.allows(PILOT, "read", SHEET)
    assert not rules.allows(ANYONE, "read", SHEET)
    alone = parse_rules(BASE.replace('["anyone"]', '["not group:pilots"]'))
    assert alone.allows(ANYONE, "read", SHEET)
    assert not alone.allows(PILOT, "read", SHEET)
    assert alone.explain(PILOT, "read", SHEET).reasons[0].because == "pilot-7 is group:pilots, which the rule excepts"


@pytest.mark.parametrize(
    ("more", "says"),
    [
        ('when = { hours = "8-17" }', "rules.toml:7: '8' is no time of day"),
        ('when = { hours = "08:00-24:01" }', "they end with 24:00"),
        ('when = { hours = "08:00-08:60" }', "they end with 24:00"),
        ('when = { hours = "08:00" }', "expected two times of day, as in"),
        ('when = { days = ["monday"] }', "'monday' is no day; days are mon, tue"),
        ('when = { zone = "Brackwater/Pier" }', "rules.toml:7: 'Brackwater/Pier' is no time zone"),
        ('when = { from = "2026-01-01" }', "expected a date or a time, without quotes"),
        ("when = { from = 2026-02-01, until = 2026-01-01 }", "'from' must be before 'until'"),
        ("when = { until_ = 2026-01-01 }", "when has no 'until_' (did you mean 'until'?); it has from, until"),
        ("when = {}", "when is a table of from, until"),
        ('networks = ["10.0.0.1/8"]', "rules.toml:7: '10.0.0.1/8': 10.0.0.1/8 has host bits set"),
        ('media_types = ["pdf"]', "expected a media type such as"),
        ("version = 0", "version is 0; expected 'current', 'earlier' or a whole number of 1 or more"),
        ('version = "newest"', "version is 'newest'; expected 'current'"),
        ("min_size = -1", "expected bytes, a whole number"),
    ],
)
def test_a_condition_that_is_none_is_said_with_its_line(more: str, says: str) -> None:
    with pytest.raises(BadRules) as error:
        parse_rules(BASE + more)
    assert says in str(error.value)


def test_hours_end_with_the_day() -> None:
    assert read_hours("18:00-24:00") == (1080, 1440)
    for text in ("08:00", "24:00-08:00", "08:00-08:00", "x-y"):
        with pytest.raises(ValueError, match=r"time|times"):
            read_hours(text)


WHO = ["anyone", "signed-in", "recipient:a", "recipient:b", "group:g", "group:h", "not recipient:a", "not group:h"]
WHAT = ["s/**", "s/x/**", "s/x/*", "s/*/y", "t/**", "**", "*/x/**", "s/x", "s/x/y.txt", "s"]


def who_of(text: str) -> Who:
    key = text.removeprefix("not ")
    return Who(key.partition(":")[0], key.partition(":")[2], text != key)


@st.composite
def rules(draw: st.DrawFn) -> list[Rule]:
    made = []
    for line in range(draw(st.integers(0, 8))):
        who = sorted(
            (who_of(text) for text in draw(st.lists(st.sampled_from(WHO), min_size=1, max_size=3))),
            key=lambda who: who.excepted,
        )
        what = tuple(parse_pattern(text) for text in draw(st.lists(st.sampled_from(WHAT), min_size=1, max_size=3)))
        actions = frozenset(draw(st.lists(st.sampled_from(["list", "read"]), min_size=1, max_size=2)))
        made.append(Rule(f"r{line}", draw(st.sampled_from(["allow", "deny"])), tuple(who), what, actions, line))
    return made


@given(
    rules(),
    st.sampled_from([ANYONE, Caller("a"), Caller("a", frozenset({"g"})), Caller("b", frozenset({"g", "h"}))]),
    st.sampled_from(["list", "read"]),
    st.sampled_from(["s/x/y.txt", "s/x/", "s/a", "s/q/y", "t/x/y", "s/", "u/x/z", "s/x"]),
)
def test_filed_rules_decide_as_all_of_them_would(made: list[Rule], caller: Caller, action: str, text: str) -> None:
    address = parse_address(text)
    spoke = [
        rule
        for rule in made
        if action in rule.actions and rule.concerns(caller) and any(one.matches(address) for one in rule.what)
    ]
    expected = bool(spoke) and all(rule.effect == "allow" for rule in spoke)
    rule_set = RuleSet(made)
    assert rule_set.allows(caller, action, address) is expected
    decision = rule_set.decide(caller, action, address)
    assert decision.allowed is expected
    assert [reason.rule for reason in decision.reasons] == [rule.name for rule in spoke]
    assert rule_set.explain(caller, action, address).allowed is expected


def test_a_decision_does_not_grow_with_rules_that_cannot_match() -> None:
    def median(count: int) -> float:
        unnamed = "\n".join(line for line in BASE.splitlines() if not line.startswith("name")) + "\n"
        lines = [unnamed.replace("charts/**", f"charts/area-{number}/**") for number in range(count)]
        lines += [unnamed.replace("charts/**", f"store-{number}/**") for number in range(count)]
        rule_set = parse_rules("".join(lines) + BASE.replace("anyone", "group:pilots"))
        took = []
        for _ in range(300):
            began = time.perf_counter()
            assert rule_set.allows(PILOT, "read", SHEET)
            took.append(time.perf_counter() - began)
        return sorted(took)[150]

    few, many = median(5), median(500)
    assert many < 5 * few, (few, many)

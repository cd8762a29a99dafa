from pathlib import Path

import pytest

from invio.core.rules.file import BadRules, parse_rules
from invio.service.configuration import read_rules

GOOD = """\
# a comment

[[rule]]
name = "open"
effect = "allow"
who = ["anyone"]
what = ["notices/**"]
actions = ["list", "read"]

[[rule]]
effect = "deny"
who = ["recipient:pilot-7", "group:pilots"]
what = ["charts/*.pdf"]
actions = ["read"]
"""


def test_rules_are_read_with_their_lines() -> None:
    rules = parse_rules(GOOD, stores=["notices", "charts"]).rules
    assert [(rule.name, rule.effect, rule.line) for rule in rules] == [("open", "allow", 3), ("rule 2", "deny", 10)]
    assert [str(who) for who in rules[1].who] == ["recipient:pilot-7", "group:pilots"]


@pytest.mark.parametrize(
    ("old", "new", "line", "says"),
    [
        ('effect = "deny"', 'effect = "forbid"', 11, "expected 'allow' or 'deny'"),
        ('"group:pilots"', '"pilots"', 12, "expected 'anyone', 'signed-in', 'recipient:ID' or 'group:NAME'"),
        (
            '"charts/*.pdf"',
            '"chart/*.pdf"',
            13,
            "there is no store 'chart' (did you mean 'charts'?); stores are charts, notices",
        ),
        ('"charts/*.pdf"', '"charts/**x"', 13, "** stands for whole segments"),
        ('actions = ["read"]', 'actions = ["fetch"]', 14, "expected one of list, read, bundle, link, put, manage"),
        ('actions = ["read"]', 'actions = "read"', 14, "is a list of one text or more"),
        ('actions = ["read"]', "actions = []", 14, "is a list of one text or more"),
        (
            'actions = ["read"]',
            'action = ["read"]',
            14,
            "a rule has no 'action' (did you mean 'actions'?); it has name, effect",
        ),
        ('actions = ["read"]', 'actions = ["read"]\nspeed = 5', 15, "a rule that denies cannot say how"),
        ('"list", "read"]', '"list"]\nspeed = 0', 9, "expected bytes a second"),
        ('"list", "read"]', '"list"]\ncache = "publik"', 9, "'publik' is no directive of Cache-Control"),
        ('"list", "read"]', '"list"]\ndisposition = "show"', 9, "expected 'attachment' or 'inline'"),
        ('effect = "deny"\n', "", 10, "the rule has no 'effect'"),
        (
            '[[rule]]\neffect = "deny"',
            '[[rule]]\nname = "open"\neffect = "deny"',
            11,
            "the rule of line 3 is called 'open', too",
        ),
        ('"list", "read"]', '"list"]\nmin_size = 2\nmax_size = 1', 9, "min_size is 2 and max_size 1"),
        ("[[rule]]\neffect", "[rule]\neffect", 10, "not TOML"),
        ("# a comment", "[[rules]]", 1, "unknown entry 'rules'; expected [[rule]]"),
        ('who = ["anyone"]', 'who = ["anyone"', 7, "not TOML"),
    ],
)
def test_an_error_names_the_line_and_what_was_expected(old: str, new: str, line: int, says: str) -> None:
    assert old in GOOD
    with pytest.raises(BadRules) as refused:
        parse_rules(GOOD.replace(old, new), "rules.toml", ["notices", "charts"])
    assert str(refused.value).startswith(f"rules.toml:{line}: ")
    assert says in str(refused.value)


def test_a_file_that_is_not_there_or_not_text_is_named(tmp_path: Path) -> None:
    with pytest.raises(BadRules, match="cannot be read"):
        read_rules(tmp_path / "rules.toml")
    (tmp_path / "rules.toml").write_bytes(b"\xff\xfe")
    with pytest.raises(BadRules, match="not UTF-8"):
        read_rules(tmp_path / "rules.toml")

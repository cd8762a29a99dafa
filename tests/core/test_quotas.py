"""When there is room under a quota: the same as trying each moment."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from invio.core.rules.file import BadRules, parse_rules
from invio.core.rules.quotas import Claim, Quota, Use, amount_text, moment_text, period_text, read_period, room_at

DAY = 86_400
RULE = '[[rule]]\nname = "r"\neffect = "allow"\nwho = ["anyone"]\nwhat = ["charts/**"]\nactions = ["read"]\n'
uses = st.lists(st.builds(Use, st.integers(0, 200).map(float), st.integers(0, 3), st.integers(0, 50)), max_size=12)


def test_room_comes_when_the_oldest_rolls_out() -> None:
    quota = Quota("q", 3, None, DAY)
    held = [Use(100.0, 1, 0), Use(300.0, 1, 0), Use(200.0, 1, 0)]
    assert room_at(Claim(quota, 1, 0), held[:2], 400.0) == 400.0
    assert room_at(Claim(quota, 1, 0), held, 400.0) == 100.0 + DAY
    assert room_at(Claim(quota, 2, 0), held, 400.0) == 200.0 + DAY
    assert room_at(Claim(quota, 1, 0), held, 100.0 + DAY) == 100.0 + DAY
    assert room_at(Claim(quota, 4, 0), [], 400.0) is None, "it alone is more than that"
    full = [Use(100.0, 3, 0)]
    assert room_at(Claim(quota, 1, 0), full, 100.0 + DAY) == 100.0 + DAY, "after a period it has rolled out"
    assert room_at(Claim(quota, 1, 0), full, 99.0 + DAY) == 100.0 + DAY


def test_what_a_quota_allows_is_told_in_words() -> None:
    assert amount_text(Quota("q", 1, None, DAY)) == "1 file"
    assert amount_text(Quota("q", 100, 1, DAY)) == "100 files, 1 byte"
    assert amount_text(Quota("q", None, 5000, DAY)) == "5000 bytes"


@given(
    uses,
    st.integers(0, 4),
    st.integers(0, 60),
    st.one_of(st.none(), st.integers(1, 4)),
    st.one_of(st.none(), st.integers(1, 60)),
)
def test_the_moment_is_the_first_at_which_there_is_room(
    held: list[Use], files: int, size: int, most: int | None, most_bytes: int | None
) -> None:
    quota, now = Quota("q", most, most_bytes, 100), 200.0
    claim = Claim(quota, files, size)

    def fits(moment: float) -> bool:
        counting = [use for use in held if use.at > moment - quota.period]
        return (most is None or sum(use.files for use in counting) + files <= most) and (
            most_bytes is None or sum(use.bytes for use in counting) + size <= most_bytes
        )

    moments = [now, *sorted(use.at + quota.period for use in held if use.at + quota.period > now)]
    assert room_at(claim, held, now) == next((moment for moment in moments if fits(moment)), None)


@pytest.mark.parametrize(
    ("quota", "says"),
    [
        ("{ files = 0, per = '1d' }", "files is 0; expected a whole number of 1 or more"),
        ("{ per = '1d' }", "quota says how many files or bytes"),
        ("{ files = 1 }", "'' is no period; expected a number and m, h or d"),
        ("{ files = 1, per = '2y' }", "'2y' is no period"),
        ("{ files = 1, per = '999d' }", "too long a period; at most 366d"),
        ("{ files = 1, per = '1d', mood = 1 }", "quota has no 'mood'; it has files, bytes, per, text, link"),
        ("{ files = 1, per = '1d', link = 'javascript:x' }", "expected an address beginning with https://"),
        ("3", "quota is a table, as in"),
    ],
)
def test_a_quota_that_is_none_is_said_with_its_line(quota: str, says: str) -> None:
    with pytest.raises(BadRules) as error:
        parse_rules(RULE + f"quota = {quota}\n")
    assert str(error.value).startswith("rules.toml:7: ")
    assert says in str(error.value)


def test_quotas_are_counted_by_the_names_of_their_rules() -> None:
    limited = RULE + "quota = { files = 1, per = '1d' }\n"
    with pytest.raises(BadRules, match=r"rules\.toml:9: the rule of line 1 is called"):
        parse_rules(limited * 2)
    with pytest.raises(BadRules, match="a rule with a quota needs a name"):
        parse_rules("\n".join(line for line in limited.splitlines() if not line.startswith("name")))


def test_the_longest_period_is_counted_and_a_longer_one_refused() -> None:
    assert read_period("366d") == 366 * DAY
    with pytest.raises(ValueError, match="at most 366d"):
        read_period("8785h")


def test_periods_and_moments_are_told_to_people() -> None:
    assert [period_text(read_period(text)) for text in ("1d", "2d", "36h", "90m")] + [period_text(90)] == [
        "1 day",
        "2 days",
        "36 hours",
        "90 minutes",
        "90 seconds",
    ]
    assert moment_text(1_772_452_799.2) == "2026-03-02 12:00:00 UTC"

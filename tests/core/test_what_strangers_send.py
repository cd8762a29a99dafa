"""Cookies, texts and moments as strangers send them."""

from __future__ import annotations

import time
import unicodedata
from http.cookies import SimpleCookie

import pytest
from hypothesis import given
from hypothesis import strategies as st

from invio.core.http.cookies import cookie_named
from invio.core.moments import LAST_MOMENT, timestamp
from invio.core.shown import shown

NAME = "invio-session"
VALUES = st.text("abcdefXYZ0123456789-_.~", max_size=60)
NAMES = st.text("abcdefghij-", min_size=1, max_size=8)


@given(st.lists(st.tuples(NAMES, VALUES), max_size=6), VALUES, st.integers(0, 6))
def test_a_cookie_is_found_among_others_as_the_standard_library_finds_it(
    others: list[tuple[str, str]], value: str, place: int
) -> None:
    pairs = [*others[:place], (NAME, value), *others[place:]]
    field = "; ".join(f"{name}={given}" for name, given in pairs)
    assert cookie_named(field, NAME) == SimpleCookie(field)[NAME].value == value


@pytest.mark.parametrize(
    ("field", "value"),
    [
        ("", None),
        ("other=1", None),
        (f"x{NAME}=1", None),
        (f"a={NAME}=1", None),
        (f"a=1;{NAME}=2", "2"),
        (f"a=1 ; \t{NAME}=2 ; b", "2"),
        (f'{NAME}="q"', "q"),
        (f"{NAME}=1; {NAME}=2", "1"),
        (f"{NAME}={'x' * 201}", None),
        (f'a="; {NAME}=inside"', "inside"),
        (f"{{json: 1}}; {NAME}=3; [bad]", "3"),
    ],
)
def test_odd_jars(field: str, value: str | None) -> None:
    assert cookie_named(field, NAME) == value


def test_a_huge_jar_costs_no_more_than_its_length() -> None:
    def took(pieces: int) -> float:
        jar = f"a={NAME}=" * pieces
        begun = time.process_time()
        for _ in range(5):
            assert cookie_named(jar, NAME) is None
        return time.process_time() - begun

    small, large = took(2_000), took(40_000)
    assert large < 200 * max(small, 0.001)  # twenty times as long; the square would be four hundred


@given(st.text())
def test_what_is_shown_commands_nothing_and_reads_in_one_direction(text: str) -> None:
    seen = shown(text)
    odd = {"Cc", "Cs", "Zl", "Zp"}
    assert not [sign for sign in seen if unicodedata.category(sign) in odd]
    assert not set(seen) & set("\u200e\u200f\u061c\u202a\u202b\u202c\u202d\u202e\u2066\u2067\u2068\u2069")
    assert shown(seen) == seen


def test_what_is_harmless_stays_as_it_is() -> None:
    assert shown("Vermessung Süd · 測量 🗺.pdf") == "Vermessung Süd · 測量 🗺.pdf"
    assert shown("\x1b[2Jgone\u202egpj.exe\n") == "\\x1b[2Jgone\\u202egpj.exe\\x0a"
    assert shown("two\nlines", keep="\n") == "two\nlines"


@pytest.mark.parametrize(
    ("seconds", "text"),
    [
        (0, "1970-01-01T00:00:00.000Z"),
        (1.5, "1970-01-01T00:00:01.500Z"),
        (LAST_MOMENT, "9999-12-31T23:59:59.000Z"),
        (1e300, "9999-12-31T23:59:59.000Z"),
        (float("inf"), "9999-12-31T23:59:59.000Z"),
        (-5, "1970-01-01T00:00:00.000Z"),
        (float("nan"), "1970-01-01T00:00:00.000Z"),
    ],
)
def test_every_number_has_a_text(seconds: float, text: str) -> None:
    assert timestamp(seconds) == text

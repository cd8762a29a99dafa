import pytest
from hypothesis import given
from hypothesis import strategies as st

from invio.core.http.dates import http_date, parse_http_date

MOMENT = 784111777  # the example of RFC 9110 §5.6.7


@pytest.mark.parametrize(
    "text", ["Sun, 06 Nov 1994 08:49:37 GMT", "Sunday, 06-Nov-94 08:49:37 GMT", "Sun Nov  6 08:49:37 1994"]
)
def test_all_three_forms_are_read(text: str) -> None:
    assert parse_http_date(text, now=MOMENT) == MOMENT


def test_one_form_is_written() -> None:
    assert http_date(MOMENT) == "Sun, 06 Nov 1994 08:49:37 GMT"


@given(st.integers(0, 4_102_444_800))
def test_what_is_written_is_read_as_the_same_moment(moment: int) -> None:
    assert parse_http_date(http_date(moment)) == moment


@pytest.mark.parametrize(
    "text",
    ["", "yesterday", "Sun, 06 Nov 1994 08:49:37 UTC", "Sun, 31 Feb 1994 08:49:37 GMT", "Sun, 06 Nov 1994 24:00:00 GMT",
     "784111777", "Sun, 06 Nov 1994 08:49:37 GMT junk"],
)  # fmt: skip
def test_what_is_no_date_is_none(text: str) -> None:
    assert parse_http_date(text) is None


def test_a_two_digit_year_more_than_fifty_years_ahead_is_past() -> None:
    in_2026 = 1_790_000_000
    assert http_date(parse_http_date("Sunday, 06-Nov-94 08:49:37 GMT", in_2026) or 0).split()[3] == "1994"
    assert http_date(parse_http_date("Friday, 06-Nov-26 08:49:37 GMT", in_2026) or 0).split()[3] == "2026"


@pytest.mark.parametrize(
    ("seconds", "text"),
    [
        (-(10**18), "Mon, 01 Jan 0001 00:00:00 GMT"),
        (-5, "Wed, 31 Dec 1969 23:59:55 GMT"),
        (10**18, "Fri, 31 Dec 9999 23:59:59 GMT"),
    ],
)
def test_what_no_date_can_say_is_the_first_or_the_last(seconds: int, text: str) -> None:
    assert http_date(seconds) == text

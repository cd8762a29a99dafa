"""RFC 9110 §13: a table of requests, and what they come to."""

import pytest

from invio.core.http.preconditions import Outcome, evaluate, range_applies
from invio.core.http.request_head import RequestHead

TAG = "abc"
MODIFIED = 784111777
AT = "Sun, 06 Nov 1994 08:49:37 GMT"
BEFORE = "Sun, 06 Nov 1994 08:49:36 GMT"
AFTER = "Sun, 06 Nov 1994 08:49:38 GMT"
GO, SAME, FAIL = Outcome.PROCEED, Outcome.NOT_MODIFIED, Outcome.FAILED


def head(method: str = "GET", **fields: str) -> RequestHead:
    return RequestHead(method, [(name.replace("_", "-").encode(), value.encode()) for name, value in fields.items()])


@pytest.mark.parametrize(
    ("fields", "outcome"),
    [
        ({}, GO),
        ({"if_match": '"abc"'}, GO),
        ({"if_match": '"x", "abc"'}, GO),
        ({"if_match": "*"}, GO),
        ({"if_match": '"x"'}, FAIL),
        ({"if_match": 'W/"abc"'}, FAIL),  # strong comparison
        ({"if_match": '"abc'}, FAIL),  # a malformed list matches nothing
        ({"if_unmodified_since": AT}, GO),
        ({"if_unmodified_since": BEFORE}, FAIL),
        ({"if_unmodified_since": "nonsense"}, GO),
        ({"if_match": '"abc"', "if_unmodified_since": BEFORE}, GO),  # step 2 only without If-Match
        ({"if_none_match": '"abc"'}, SAME),
        ({"if_none_match": 'W/"abc"'}, SAME),  # weak comparison
        ({"if_none_match": '"x",, "abc"'}, SAME),
        ({"if_none_match": "*"}, SAME),
        ({"if_none_match": '"x"'}, GO),
        ({"if_modified_since": AT}, SAME),
        ({"if_modified_since": AFTER}, SAME),
        ({"if_modified_since": BEFORE}, GO),
        ({"if_none_match": '"x"', "if_modified_since": AFTER}, GO),  # step 4 only without If-None-Match
        ({"if_match": '"x"', "if_none_match": '"abc"'}, FAIL),  # step 1 before step 3
    ],
)
def test_the_steps_are_taken_in_their_order(fields: dict[str, str], outcome: Outcome) -> None:
    assert evaluate(head(**fields), TAG, MODIFIED) is outcome


def test_a_change_that_must_not_overwrite_fails_where_reading_would_save() -> None:
    assert evaluate(head("PUT", if_none_match="*"), TAG, MODIFIED) is FAIL


def test_without_a_tag_only_a_star_matches() -> None:
    assert evaluate(head(if_match='"abc"'), None, None) is FAIL
    assert evaluate(head(if_match="*"), None, None) is GO
    assert evaluate(head(if_none_match='"abc"'), None, None) is GO


@pytest.mark.parametrize(
    ("field", "tag", "applies"),
    [
        ('"abc"', TAG, True),
        ('W/"abc"', TAG, False),
        ('"x"', TAG, False),
        (AT, TAG, True),
        (AT, None, True),
        (BEFORE, TAG, False),  # an exact match, not "no later than"
        (AFTER, None, False),
        ("nonsense", None, False),
    ],
)
def test_if_range_lets_the_range_apply_only_to_the_same_file(field: str, tag: str | None, applies: bool) -> None:
    assert range_applies(head(if_range=field), tag, MODIFIED) is applies


def test_a_long_malformed_list_is_answered_at_once() -> None:
    assert evaluate(head(if_none_match='"a",' * 4000 + "!"), TAG, MODIFIED) is GO

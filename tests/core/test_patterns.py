import re
import time

import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from invio.core.addresses import parse_address
from invio.core.rules.patterns import BadPattern, parse_pattern


@pytest.mark.parametrize(
    ("pattern", "address", "expected"),
    [
        ("charts/a.pdf", "charts/a.pdf", True),
        ("charts/a.pdf", "charts/b.pdf", False),
        ("charts/*.pdf", "charts/a.pdf", True),
        ("charts/*.pdf", "charts/deep/a.pdf", False),
        ("charts/*", "charts/.pdf", True),
        ("charts/a*b*c", "charts/a-b-b-c", True),
        ("charts/a*b*c", "charts/acb", False),
        ("charts/a*bb*bc*d", "charts/abbcd", False),
        ("charts/a*bb*bc*d", "charts/abb-bcd", True),
        ("charts/a*a", "charts/a", False),
        ("charts/a*a", "charts/aa", True),
        ("charts/a*bc*c", "charts/abc", False),
        ("charts/**", "charts/deep/er/a.pdf", True),
        ("charts/**", "charts/", True),
        ("charts/**", "chartsx/a", False),
        ("charts/**/a.pdf", "charts/a.pdf", True),
        ("charts/**/a.pdf", "charts/x/y/a.pdf", True),
        ("charts/**/a.pdf", "charts/x/y/b.pdf", False),
        ("*/**", "charts/a.pdf", True),
        ("charts/**/x/*.pdf", "charts/a/x/b/x/c.pdf", True),
        ("charts/approach/**", "charts/approach/", True),
        ("charts/approach/**", "charts/approach", True),
        ("charts/approach/**", "charts/approac", False),
        ("charts/*bay*.pdf", "charts/bay-1.pdf", True),
        ("*/README.txt", "notices/README.txt", True),
        ("**", "anything/at/all", True),
        ("charts/Å.pdf", "charts/Å.pdf", True),
        ("charts/[a].pdf", "charts/a.pdf", False),
        ("charts/a?.pdf", "charts/ab.pdf", False),
    ],
)
def test_a_pattern_matches_by_segments(pattern: str, address: str, expected: bool) -> None:
    assert parse_pattern(pattern).matches(parse_address(address)) is expected


@pytest.mark.parametrize(
    ("pattern", "folder", "reaches", "covers"),
    [
        ("charts/approach/*.pdf", "charts/", True, False),
        ("charts/approach/*.pdf", "charts/approach/", True, False),
        ("charts/approach/*.pdf", "charts/harbour/", False, False),
        ("charts/approach/*.pdf", "charts/approach/deep/", False, False),
        ("charts/**", "charts/approach/", True, True),
        ("charts/approach/**", "charts/", True, False),
        ("charts/**/x.pdf", "charts/a/b/", True, False),
        ("**", "notices/", True, True),
        ("charts/approach", "charts/approach/", False, False),
        ("charts/app*", "charts/approach/deep/", False, False),
        ("charts/*/**", "notices/a/", False, False),
    ],
)
def test_a_pattern_knows_which_folders_it_is_about(pattern: str, folder: str, reaches: bool, covers: bool) -> None:
    read = parse_pattern(pattern)
    assert read.reaches_into(parse_address(folder)) is reaches
    assert read.covers(parse_address(folder)) is covers


def test_rules_are_filed_by_the_store_and_the_folder_that_a_pattern_begins_with() -> None:
    for text, store, folder in (
        ("charts/approach/*.pdf", "charts", "approach"),
        ("charts/*/x.pdf", "charts", None),
        ("charts/x.pdf", "charts", "x.pdf"),
        ("charts/**", "charts", None),
        ("*/approach/x", None, "approach"),
        ("**", None, None),
    ):
        read = parse_pattern(text)
        assert (read.store, read.folder) == (store, folder), text


@pytest.mark.parametrize("text", ["", "charts//a", "/charts", "charts/", "charts/../a", "charts/a**", "**/a", "a/b\\c"])
def test_a_pattern_that_could_match_nothing_is_refused(text: str) -> None:
    with pytest.raises(BadPattern):
        parse_pattern(text)


def test_no_pattern_takes_exponential_time() -> None:
    began = time.perf_counter()
    assert not parse_pattern("s/" + "a*" * 100 + "b").matches(parse_address("s/" + "a" * 3990))
    assert not parse_pattern("s/" + "**/a/" * 60 + "b").matches(parse_address("s/" + "a/" * 97 + "c"))
    assert time.perf_counter() - began < 10


@given(
    st.lists(st.sampled_from(["a", "ab", "*", "a*", "**"]), min_size=1, max_size=4),
    st.lists(st.sampled_from(["a", "ab", "b", "abc"]), min_size=1, max_size=5),
    st.booleans(),
)
def test_patterns_match_as_expressions_that_say_the_same(
    pattern: list[str], address: list[str], is_folder: bool
) -> None:
    assume(pattern[0] != "**" or len(pattern) == 1)
    said = {"**": "(?:[^/]+(?:/|$))*", "*": "[^/]+(?:/|$)"}
    # Each segment with the slash after it, or the end.
    expression = "".join(said.get(segment, segment.replace("*", "[^/]*") + "(?:/|$)") for segment in pattern)
    asked = parse_address("/".join(address) + ("/" if is_folder or len(address) == 1 else ""))
    expected = re.fullmatch(expression, "/".join(address)) is not None
    assert parse_pattern("/".join(pattern)).matches(asked) is expected

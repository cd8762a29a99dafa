"""Lines of places in a TOML text, over every form in which values are written."""

from __future__ import annotations

import pytest

from invio.core.errors import ConfigurationError
from invio.core.toml import did_you_mean, parse_toml

TEXT = '''\
title = """
[service]
port = 1  # a text, and no table
"""
path = 'C:\\[x]'  # a comment with a [bracket]
[service]
host = "a # b"
limits = { rate = 1, "odd key" = [1, 2] }
names = [
  "one",  # ]
  """
port = 9
""",
]
port = 2
[[rule]]
name = "a"
when.from = 2026-01-01
[[rule]]
"name" = \'\'\'
[[rule]]
\'\'\'
effect = "deny"
[stores."a.b".deep]
kind = "x"
'''


@pytest.mark.parametrize(
    ("place", "line"),
    [
        (("path",), 5),
        (("service",), 6),
        (("service", "limits", "rate"), 8),
        (("service", "names", 1), 9),
        (("service", "port"), 15),
        (("rule", 0), 16),
        (("rule", 0, "when"), 18),
        (("rule", 0, "when", "from"), 18),
        (("rule", 1), 19),
        (("rule", 1, "name"), 20),
        (("rule", 1, "effect"), 23),
        (("stores", "a.b", "deep", "kind"), 25),
        (("stores", "a.b", "deep", "none"), 24),
        (("nothing",), 1),
    ],
)
def test_a_place_is_found_with_its_line(place: tuple[str | int, ...], line: int) -> None:
    assert parse_toml(TEXT, "a.toml", ConfigurationError).line_of(place) == line


def test_the_first_line_counts_as_the_others_do() -> None:
    for text, place in (("[a]\nb = 1", ("a", "b")), ("a = 1\nab = 2", ("ab",)), ("ab = 1\nb = 2", ("b",))):
        assert parse_toml(text, "a.toml", ConfigurationError).line_of(place) == 2
    assert parse_toml("[[a]]\n[[a]]", "a.toml", ConfigurationError).line_of(("a", 1)) == 2


def test_what_is_no_toml_is_refused_with_its_line() -> None:
    for text, line in (("a = 1\nb = \n", 2), ("a = " + "[" * 100_000, 1), ("a = 1\nb = [1,\n2", 3)):
        with pytest.raises(ConfigurationError) as refused:
            parse_toml(text, "a.toml", ConfigurationError)
        assert str(refused.value).startswith(f"a.toml:{line}: ")
        assert refused.value.line == line


def test_a_word_that_looks_like_another_is_suggested() -> None:
    assert did_you_mean("prot", ["host", "port"]) == " (did you mean 'port'?)"
    assert did_you_mean("elephant", ["host", "port"]) == ""


def test_a_row_of_a_value_over_several_lines_is_no_table() -> None:
    text = "grid = [\n  [1, 2],\n  [3]\n]\nafter = 5\n[3]\nport = 1\n"
    read = parse_toml(text, "a.toml", ConfigurationError)
    assert [read.line_of(place) for place in (("grid",), ("after",), ("3",), ("3", "port"))] == [1, 5, 6, 7]

"""Paths with parameters: what fits, what is listed, and that the two agree."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from invio.producers.made_files import made_template
from invio.producers.parameters import BadTemplate, Given, Parameter, read_pattern, read_template

SHORT = st.text("ab-.", min_size=1, max_size=3)


@given(
    first=st.lists(SHORT, min_size=1, max_size=4, unique=True),
    second=st.lists(SHORT, min_size=1, max_size=4, unique=True),
    text=st.sampled_from(["{x}/{y}.csv", "{x}-{y}", "a/{x}{y}", "{x}/{x}-{y}", "{y}/b/{x}"]),
    asked=st.text("ab-./csv", max_size=9),
    depends=st.booleans(),
)
def test_what_is_listed_is_found_and_nothing_else(
    *, first: list[str], second: list[str], text: str, asked: str, depends: bool
) -> None:
    def values(before: Given) -> list[str]:
        return second[:1] if depends and before.get("x") == first[0] else second

    template = read_template(text, {"x": Parameter("x", choices=tuple(first)), "y": Parameter("y", values=values)})

    def below(parts: list[str]) -> set[str]:
        found = set()
        for name, is_folder in template.inside(parts):
            if is_folder:
                assert template.is_folder([*parts, name])
                found |= below([*parts, name])
            else:
                found.add("/".join([*parts, name]))
        return found

    listed = below([])
    for path in listed:
        given = template.match(path)
        assert given is not None
        assert template.filled(given) == path
        assert given["x"] in first
        assert given["y"] in (second if text.startswith("{y}") else values(given))
    assert (template.match(asked) is not None) == (asked in listed)


def test_a_value_ends_where_the_rest_of_the_path_says() -> None:
    parameters = {
        "place": Parameter("place", choices=("tern", "tern-rock")),
        "n": Parameter("n", pattern=read_pattern("[0-9]+")),
    }
    template = read_template("{place}-{n}.csv", parameters)
    assert template.match("tern-rock-5.csv") == {"place": "tern-rock", "n": "5"}
    assert template.match("tern-5.csv") == {"place": "tern", "n": "5"}
    assert template.match("tern-rock.csv") is None


@pytest.mark.parametrize(
    ("text", "parameters", "says"),
    [
        ("{station}.csv", {}, "not among the parameters; declare parameters.station"),
        ("a.csv", {"station": Parameter("station", choices=("a",))}, "the parameter 'station' is not in the path"),
        ("{Station}.csv", {}, "expected {name} with a name of a-z"),
        ("{station.csv", {}, "expected {name}"),
    ],
)
def test_a_path_that_does_not_fit_its_parameters_is_refused(
    text: str, parameters: dict[str, Parameter], says: str
) -> None:
    with pytest.raises(BadTemplate, match=says):
        read_template(text, parameters)


def test_patterns_and_formats_that_cannot_be_are_refused() -> None:
    with pytest.raises(BadTemplate, match="no regular expression"):
        read_pattern("[")
    for text, formats, says in (
        ("a.{format}", (), "no formats are named"),
        ("a.csv", ("csv", "jsonl"), "write {format}"),
        ("a.{format}", ("pdf",), "no format 'pdf'; expected csv, jsonl, xlsx"),
    ):
        with pytest.raises(BadTemplate, match=says):
            made_template(text, {}, formats)
    assert made_template("a.jsonl", {}, ())[1] == ("jsonl",)
    assert made_template("a.dat", {}, ())[1] == ("csv",)
    assert made_template("a.dat", {}, ("xlsx",))[1] == ("xlsx",)


def test_values_are_of_their_type_or_are_none() -> None:
    depth = Parameter("depth", pattern=read_pattern("[0-9.x]+"), type="number")
    assert depth.has("2.5", {})
    assert not depth.has("2.5x", {})
    assert (depth.typed("2.5"), Parameter("n", type="integer").typed("7")) == (2.5, 7)

"""Facts of files that come from outside: what nobody can be told of is left out."""

from __future__ import annotations

from typing import Any

import pytest

from invio.core.addresses import Address, is_proper
from invio.core.files import FileFacts, bounded
from invio.core.http.media_types import essence

PLAIN = FileFacts(Address("gauges", "a.txt"), 1, 1.7e9, "t", "text/plain")


def test_what_others_can_be_told_of_stays_as_it_is() -> None:
    for facts in (PLAIN, PLAIN._replace(modified=None, media_type=None), PLAIN._replace(modified=-5.0, size=0)):
        assert bounded(facts) is facts


@pytest.mark.parametrize("modified", [float("nan"), float("inf"), -float("inf"), 1e12, -1e12, "2026-01-01"])
def test_a_time_that_no_calendar_has_is_left_out(modified: Any) -> None:
    assert bounded(PLAIN._replace(modified=modified)) == PLAIN._replace(modified=None)


@pytest.mark.parametrize("modified", [-62_135_596_800, 253_402_300_799])
def test_the_first_and_the_last_time_that_a_calendar_has_are_told(modified: float) -> None:
    assert bounded(PLAIN._replace(modified=modified)).modified == modified


@pytest.mark.parametrize("size", [-1, 2**63, 1.5, None, "1"])
def test_a_size_that_is_none_is_refused_with_the_file(size: Any) -> None:
    with pytest.raises(ValueError, match="is said to have a size of"):
        bounded(PLAIN._replace(size=size))


class Header:
    """As a library has it, which is no text but can be told as one."""

    def __str__(self) -> str:
        return "Buoy"


def test_a_whole_number_of_any_kind_is_a_size() -> None:
    class Whole:
        def __index__(self) -> int:
            return 7

    size: Any = Whole()
    assert type(bounded(PLAIN._replace(size=size)).size) is int
    assert bounded(PLAIN._replace(size=size)) == PLAIN._replace(size=7)


@pytest.mark.parametrize(
    ("said", "told"),
    [("of the\npier", "of the\npier"), ("Gr\udcfcn", "Gr?n"), ("x" * 3000, "x" * 2000), (Header(), "Buoy"), (17, "17")],
)
def test_what_is_said_of_a_file_is_a_text_that_can_be_told(said: Any, told: str) -> None:
    facts = bounded(PLAIN._replace(name=said, description=said, about=(("station", said),)))
    assert (facts.name, facts.description, facts.about) == (told, told, (("station", told),))


@pytest.mark.parametrize("path", ["a\nb", "a\udcfc", "e\u0301"])
def test_what_no_address_names_is_refused(path: str) -> None:
    assert not is_proper(Address("gauges", path))
    with pytest.raises(ValueError, match="is no address"):
        bounded(PLAIN._replace(address=Address("gauges", path)))


@pytest.mark.parametrize(
    ("said", "media_type"),
    [
        ("Text/CSV; charset=utf-8", "text/csv"),
        (" image/svg+xml ", "image/svg+xml"),
        ("application/" + "x" * 243, "application/" + "x" * 243),
        ("application/" + "x" * 244, None),
        ("text/plain\r\nSet-Cookie: a=b", None),
        ("text/plain\n", None),
        ("text/pl\u00e4in", None),
        ("text", None),
        ("a/b/c", None),
        ("", None),
    ],
)
def test_a_media_type_is_a_type_and_a_subtype_or_none(said: str, media_type: str | None) -> None:
    assert essence(said) == media_type
    assert bounded(PLAIN._replace(media_type=said)).media_type == media_type

"""Lengths of time, as people are told them."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from invio.core.figures import duration_text, left_text

VECTORS = json.loads((Path(__file__).parent / "figures.json").read_text())


@pytest.mark.parametrize(("seconds", "text"), VECTORS)
def test_a_length_of_time_is_told_in_one_form(seconds: float, text: str) -> None:
    assert duration_text(seconds) == text


def test_what_is_left_is_told_where_something_is() -> None:
    assert left_text(250) == "4 min 10 s left"
    assert left_text(0) == left_text(None) == ""
    assert duration_text(None) == "–"

"""What is wrong with bodies that hold very much: told once, and soon. Without a process."""

from __future__ import annotations

import tracemalloc
from typing import Any

import pytest
from pydantic import ValidationError

from invio.service.people_schemas import RecipientChange
from invio.service.schemas import BundleAsk
from invio.service.validation import explained

MANY = 50_000


def faults(given: dict[str, Any]) -> list[Any]:
    with pytest.raises(ValidationError) as refused:
        BundleAsk.model_validate(given)
    # As the framework tells them: with where in the request they are.
    return [{**error, "loc": ("body", *error["loc"])} for error in refused.value.errors()]


@pytest.mark.parametrize(
    ("given", "says"),
    [
        ({str(number): 1 for number in range(MANY)}, "body: it has 50000 fields, and may have files, versions, name"),
        ({"files": list(range(MANY))}, "files.0 is 0: input should be a valid string"),
        ({"files": ["a/b", *range(MANY)]}, "files.1 is 0: input should be a valid string"),
        ({"files": ["a/b"], "versions": {f"a/{number}": "x" for number in range(MANY)}},
         "versions: 'a/0' is 'x': Input should be a valid integer"),
        ({"files": ["a/b"], "versions": {f"a/{number}": 1 for number in range(100_001)}},
         "versions: it has 100001 entries, and may have 100000"),
        ({"files": ["a/b"] * 100_001}, "files: list should have at most 100000 items"),
    ],
)  # fmt: skip
def test_of_a_body_with_very_much_that_is_wrong_the_first_is_told(given: dict[str, Any], says: str) -> None:
    [fault] = faults(given)
    assert explained([fault], list(BundleAsk.model_fields)).startswith(says)


def test_it_takes_no_memory_to_tell_it() -> None:
    given = {"files": ["a/b"], "versions": {f"a/{number}": "x" for number in range(MANY)}}
    tracemalloc.start()
    try:
        faults(given)
        assert tracemalloc.get_traced_memory()[1] < 200_000
    finally:
        tracemalloc.stop()


def test_a_body_may_have_as_much_as_is_allowed() -> None:
    asked = BundleAsk(files=["a/b"] * 100_000, versions={f"a/{number}": number + 1 for number in range(100_000)})
    assert (len(asked.files), asked.versions["a/999"]) == (100_000, 1000)
    assert len(faults({"files": ["a/b"], **{f"field-{number}": 1 for number in range(99)}})) == 99, "each is told"
    assert RecipientChange(add_groups=["crew"]).add_groups == ["crew"]
    with pytest.raises(ValidationError, match="1 validation error"):
        RecipientChange.model_validate({"add_groups": ["no group", "nor this"]})


def test_ten_faults_are_explained_and_the_others_counted() -> None:
    given = {f"field-{number}": 1 for number in range(30)} | {"files": ["a/b"], "nme": "x"}
    said = explained(faults(given), list(BundleAsk.model_fields))
    assert said.count("the body has no 'field-") == 10
    assert said.endswith("; and 21 more")

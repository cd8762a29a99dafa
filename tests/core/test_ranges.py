import pytest
from hypothesis import given
from hypothesis import strategies as st

from invio.core.http.ranges import RANGES, Unsatisfiable, parse_range


@pytest.mark.parametrize(
    ("field", "expected"),
    [
        ("bytes=0-0", [(0, 1)]),
        ("bytes=-20", [(0, 10)]),
        ("bytes=2-4", [(2, 5)]),
        ("bytes=5-", [(5, 10)]),
        ("bytes=-3", [(7, 10)]),
        ("bytes=-30", [(0, 10)]),
        ("bytes=8-100", [(8, 10)]),
        ("BYTES=0-1", [(0, 2)]),
        ("bytes=0-1, 4-5", [(0, 2), (4, 6)]),
        ("bytes=,0-1,", [(0, 2)]),
        ("bytes=0-1,50-60", [(0, 2)]),
        ("bytes=0-1,2-3", [(0, 4)]),
        ("bytes=5-7,0-1,6-8", [(5, 9), (0, 2)]),
        ("bytes=0-0,2-2,1-1,9-", [(0, 3), (9, 10)]),
        ("bytes=0-,0-,0-", [(0, 10)]),
    ],
)
def test_ranges_are_cut_to_the_file(field: str, expected: list[tuple[int, int]]) -> None:
    assert parse_range(field, 10) == expected


@pytest.mark.parametrize(
    "field",
    ["", "bytes", "bytes=", "bytes=-", "bytes=a-b", "bytes=4-2", "bytes=1-2-3", "lines=0-1", "bytes=0-1;2-3", "bytes=+1-2",
     "bytes=1 - 2", "bytes=0x1-2", "bytes=١-٢", "bytes=--1"],
)  # fmt: skip
def test_what_is_malformed_is_ignored(field: str) -> None:
    assert parse_range(field, 10) is None


@pytest.mark.parametrize(
    ("field", "size"), [("bytes=10-", 10), ("bytes=10-20", 10), ("bytes=-0", 10), ("bytes=-0", 0), ("bytes=0-", 0)]
)
def test_a_range_outside_the_file_is_unsatisfiable(field: str, size: int) -> None:
    with pytest.raises(Unsatisfiable):
        parse_range(field, size)


def test_a_suffix_of_an_empty_file_is_the_whole_of_it() -> None:
    assert parse_range("bytes=-5", 0) is None
    assert parse_range("bytes=3-4,-5", 0) is None
    assert parse_range("bytes=-1", 0) is None


def test_more_ranges_than_anyone_needs_are_ignored() -> None:
    field = "bytes=" + ",".join(f"{10 * n}-{10 * n}" for n in range(RANGES))
    assert len(parse_range(field, 10_000) or []) == RANGES
    assert parse_range(field + ",9999-", 10_000) is None


@given(st.integers(0, 50), st.integers(0, 60), st.integers(0, 60))
def test_a_range_gives_what_slicing_would(size: int, first: int, extra: int) -> None:
    content = bytes(range(size))
    field = f"bytes={first}-{first + extra}"
    try:
        ranges = parse_range(field, size)
    except Unsatisfiable:
        assert first >= size
        return
    assert ranges is not None
    [(start, stop)] = ranges
    assert content[start:stop] == content[first : first + extra + 1]


def test_a_position_of_any_length_lies_behind_the_end() -> None:
    for field in ("bytes=9999999999999999999-", f"bytes={'9' * 60}-{'9' * 60}"):
        with pytest.raises(Unsatisfiable):
            parse_range(field, 10)
    assert parse_range(f"bytes=5-{'9' * 40}", 10) == [(5, 10)]
    assert parse_range(f"bytes=-{'9' * 40}", 10) == [(0, 10)]

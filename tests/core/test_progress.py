from unittest.mock import patch

from hypothesis import example, given
from hypothesis import strategies as st

from invio.core import progress
from invio.core.progress import MOST_RANGES, Coverage

RANGES = st.lists(st.tuples(st.integers(0, 60), st.integers(0, 60)), max_size=15)


@given(RANGES)
def test_coverage_is_the_union_of_what_was_added(ranges: list[tuple[int, int]]) -> None:
    coverage = Coverage(ranges)
    covered = {byte for start, stop in ranges for byte in range(start, stop)}
    assert coverage.total == len(covered)
    assert {byte for start, stop in coverage.ranges for byte in range(start, stop)} == covered
    # Neither overlapping nor touching, and in order.
    for (_, stop), (start, _) in zip(coverage.ranges, coverage.ranges[1:], strict=False):
        assert stop < start


def test_of_more_ranges_than_are_kept_the_smallest_counts_as_not_arrived() -> None:
    most = [(10 * number, 10 * number + (2 if number == 7 else 5)) for number in range(MOST_RANGES)]
    coverage = Coverage(most)
    assert (coverage.ranges, coverage.total) == (most, 5 * MOST_RANGES - 3)
    coverage.add(99_990, 99_999)
    assert coverage.ranges == [*most[:7], *most[8:], (99_990, 99_999)]
    assert coverage.total == 5 * (MOST_RANGES - 1) + 9


@given(st.lists(st.tuples(st.integers(0, 40), st.integers(1, 6)), max_size=40))
@example([(0, 5), (10, 5), (20, 5), (30, 6), (15, 5), (0, 1), (50, 3)])  # two become one, and a small one has room
@example([(0, 4), (6, 4), (51, 5), (22, 3), (2, 5), (48, 1), (28, 4)])  # two become one, and a small one is the last
def test_of_too_many_ranges_the_largest_are_kept_whatever_came_before(added: list[tuple[int, int]]) -> None:
    coverage = Coverage()
    with patch.object(progress, "MOST_RANGES", 3):
        for start, size in added:
            with patch.object(progress, "MOST_RANGES", 100):
                every = Coverage([*coverage.ranges, (start, start + size)]).ranges
            coverage.add(start, start + size)
            assert set(coverage.ranges) <= set(every)
            assert sizes(coverage.ranges) == sizes(every)[-3:]
            assert coverage.total == sum(sizes(coverage.ranges))


def sizes(ranges: list[tuple[int, int]]) -> list[int]:
    return sorted(stop - start for start, stop in ranges)


def test_ranges_that_touch_on_either_side_become_one() -> None:
    coverage = Coverage([(5, 9), (0, 5), (12, 15)])
    assert coverage.ranges == [(0, 9), (12, 15)]
    coverage.add(20, 20)
    coverage.add(9, 12)
    assert (coverage.ranges, coverage.total) == ([(0, 15)], 15)


def test_an_overlap_is_counted_by_its_bytes() -> None:
    coverage = Coverage([(10, 20), (30, 40)])
    assert [coverage.overlap(*span) for span in ((0, 10), (20, 30), (15, 35), (0, 100), (12, 13))] == [0, 0, 10, 20, 1]


def test_a_part_fetched_twice_counts_once() -> None:
    coverage = Coverage([(0, 100), (50, 150), (150, 200)])
    assert coverage.ranges == [(0, 200)]


def test_a_copy_goes_its_own_way() -> None:
    first = Coverage([(0, 5)])
    second = first.copy()
    second.add(5, 9)
    assert (first.ranges, first.total) == ([(0, 5)], 5)
    assert (second.ranges, second.total) == ([(0, 9)], 9)

import pytest
from hypothesis import given
from hypothesis import strategies as st

from invio.core.progress import MOST_RANGES, Coverage, Pace, percent, seconds_left

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


def test_ranges_that_touch_on_either_side_become_one() -> None:
    coverage = Coverage([(5, 9), (0, 5), (12, 15)])
    assert coverage.ranges == [(0, 9), (12, 15)]
    coverage.add(9, 12)
    assert (coverage.ranges, coverage.total) == ([(0, 15)], 15)


def test_an_overlap_is_counted_by_its_bytes() -> None:
    coverage = Coverage([(10, 20), (30, 40)])
    assert [coverage.overlap(*span) for span in ((0, 10), (20, 30), (15, 35), (0, 100), (12, 13))] == [0, 0, 10, 20, 1]


def test_a_part_fetched_twice_counts_once() -> None:
    coverage = Coverage([(0, 100), (50, 150), (150, 200)])
    assert coverage.ranges == [(0, 200)]


@pytest.mark.parametrize(
    ("covered", "size", "expected"),
    [
        (0, 200, 0.0),
        (100, 200, 50.0),
        (333, 1000, 33.3),
        (1, 1000, 0.1),
        (9_999, 10_000, 99.9),
        (5_999, 10_000, 59.9),
        (199_999, 200_000, 99.9),
        (200, 200, 100.0),
        (0, 0, 100.0),
        (5, None, None),
    ],
)
def test_a_hundred_percent_means_every_byte(covered: int, size: int | None, expected: float | None) -> None:
    assert percent(covered, size) == expected


def test_the_rate_follows_the_last_seconds() -> None:
    pace = Pace(window=5.0)
    assert pace.rate is None
    for second in range(10):
        pace.sample(second, second * 1000)
    assert pace.rate == pytest.approx(1000)
    for second in range(10, 20):
        pace.sample(second, 9000)
    assert pace.rate == 0


def test_a_sample_older_than_the_window_counts_no_more() -> None:
    pace = Pace(window=5.0)
    for at, count in ((0.0, 50), (4.0, 50), (6.0, 150)):
        pace.sample(at, count)
    assert pace.rate == 50.0, "since the fourth second"
    pace = Pace(window=5.0)
    for at, count in ((0.0, 50), (2.0, 50), (5.0, 150)):
        pace.sample(at, count)
    assert pace.rate == 20.0, "the window's own length is within it"


def test_time_left_is_the_rest_at_that_rate() -> None:
    assert seconds_left(25, 100, 25.0) == 3.0
    assert seconds_left(100, 100, None) == 0.0
    assert seconds_left(25, 100, None) is None
    assert seconds_left(25, 100, 0.0) is None
    assert seconds_left(25, None, 25.0) is None


def test_two_samples_of_one_moment_give_no_rate() -> None:
    pace = Pace()
    pace.sample(1.0, 0)
    pace.sample(1.0, 5)
    assert pace.rate is None
    pace.sample(2.0, 10)
    assert pace.rate == 10.0


def test_samples_further_apart_than_the_window_still_give_a_rate_to_the_newest() -> None:
    pace = Pace(window=5.0)
    for at, count in ((0.0, 0), (10.0, 100), (20.0, 400)):
        pace.sample(at, count)
    assert pace.rate == 30.0
    assert percent(499, 1000) == 49.9


def test_a_copy_goes_its_own_way() -> None:
    first = Coverage([(0, 5)])
    second = first.copy()
    second.add(5, 9)
    assert (first.ranges, first.total) == ([(0, 5)], 5)
    assert (second.ranges, second.total) == ([(0, 9)], 9)

"""The progress meter: percentages, rates and the time left, with a clock that is an argument."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from invio.core.meter import LEFT_WINDOW, RATE_WINDOW, STALLED_AFTER, ProgressMeter, percent


@pytest.mark.parametrize(
    ("count", "total", "expected"),
    [
        (0, 200, 0),
        (100, 200, 50),
        (333, 1000, 33),
        (9_999, 10_000, 99),
        (199_999, 200_000, 99),
        (200, 200, 100),
        (0, 0, 100),
        (10**18 - 1, 10**18, 99),
        (5, None, None),
    ],
)
def test_a_hundred_per_cent_mean_every_byte(count: int, total: int | None, expected: int | None) -> None:
    assert percent(count, total) == expected


@given(st.integers(0, 10**15), st.integers(1, 10**15))
def test_percentages_are_rounded_down(count: int, total: int) -> None:
    shown = percent(count, total)
    assert shown is not None
    assert (shown == 100) is (count >= total)
    assert shown == 100 or shown * total <= 100 * count < (shown + 1) * total


def fed(*samples: tuple[float, int]) -> ProgressMeter:
    meter = ProgressMeter()
    for at, count in samples:
        meter.sample(at, count)
    return meter


def steady(rate: int, seconds: int, start: float = 0.0, count: int = 0) -> list[tuple[float, int]]:
    """Samples four times a second at an even rate."""
    return [(start + step / 4, count + rate * step // 4) for step in range(4 * seconds + 1)]


def test_the_rate_is_of_the_last_seconds() -> None:
    meter = fed(*steady(1000, 30))
    assert meter.rate(30.0) == pytest.approx(1000)
    for at, count in steady(100, int(RATE_WINDOW), 30.0, 30_000):
        meter.sample(at, count)
    assert meter.rate(35.0) == pytest.approx(100)


def test_there_is_no_rate_before_there_are_two_moments() -> None:
    assert fed().rate(1.0) is None
    assert fed((1.0, 5)).rate(1.0) is None
    assert fed((1.0, 0), (1.0, 5)).rate(1.0) is None
    assert fed((1.0, 0), (2.0, 10)).rate(2.0) == 10


def test_samples_further_apart_than_the_window_still_give_a_rate_to_the_newest() -> None:
    assert fed((0.0, 0), (10.0, 100), (20.0, 400)).rate(20.0) == 30


def test_a_rate_falls_as_nothing_comes_though_nobody_samples() -> None:
    meter = fed(*steady(1000, 10))
    assert meter.rate(12.0) == pytest.approx(5000 / 7, rel=0.2)


def test_what_has_stalled_has_no_rate_and_no_time_left() -> None:
    meter = fed(*steady(1000, 10))
    just, late = 10.0 + STALLED_AFTER - 0.01, 10.0 + STALLED_AFTER
    assert not meter.progress(just, 20_000).stalled
    shown = meter.progress(late, 20_000)
    assert (shown.stalled, shown.rate, shown.seconds_left) == (True, 0.0, None)
    meter.sample(late, 10_000)
    assert meter.progress(late, 20_000).stalled, "a sample that brings nothing ends no stall"
    meter.sample(late + 1, 10_500)
    assert meter.progress(late + 1, 20_000).seconds_left is not None


def test_the_time_left_does_not_jump_with_the_rate() -> None:
    meter, left = fed(*steady(1000, 20)), []
    for at, count in steady(10_000, 5, 20.0, 20_000):
        meter.sample(at, count)
        left.append(meter.progress(at, 1_000_000).seconds_left)
    assert left[0] == pytest.approx(980)
    assert meter.rate(25.0) == pytest.approx(10_000), "while the rate has followed"
    for before, after in zip(left, left[1:], strict=False):
        assert before is not None
        assert after is not None
        assert 0.85 < after / before < 1, "a step of a quarter of a second"


def test_the_time_left_is_the_rest_at_the_mean_rate() -> None:
    meter = fed(*steady(1000, int(LEFT_WINDOW)))
    assert meter.progress(LEFT_WINDOW, 50_000).seconds_left == pytest.approx(30)
    assert meter.progress(LEFT_WINDOW, 20_000).seconds_left == 0
    assert meter.progress(LEFT_WINDOW, None).seconds_left is None


def test_an_unknown_total_gives_neither_percentage_nor_fraction() -> None:
    shown = fed((0.0, 0), (1.0, 10)).progress(1.0, None)
    assert (shown.bytes, shown.percent, shown.fraction, shown.estimated) == (10, None, None, False)


def test_an_estimate_is_never_all() -> None:
    meter = fed((0.0, 0), (1.0, 1000))
    shown = meter.progress(1.0, 900, estimated=True)
    assert (shown.total, shown.percent, shown.estimated) == (1001, 99, True)
    assert shown.fraction is not None
    assert shown.fraction < 1
    assert meter.progress(1.0, 900).fraction == 1


@given(st.lists(st.tuples(st.floats(0, 1), st.integers(0, 10**9)), min_size=1, max_size=300))
def test_whatever_comes_it_is_bounded_and_never_negative(steps: list[tuple[float, int]]) -> None:
    meter, now, count = ProgressMeter(), 0.0, 0
    for seconds, more in steps:
        now, count = now + seconds, count + more
        meter.sample(now, count)
        shown = meter.progress(now, count + 5)
        assert shown.rate is None or shown.rate >= 0
        assert shown.seconds_left is None or shown.seconds_left >= 0
    assert len(meter._samples) <= 4 * LEFT_WINDOW + 4

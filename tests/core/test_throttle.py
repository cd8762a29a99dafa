from hypothesis import given
from hypothesis import strategies as st

from invio.core.throttle import SLACK, Throttle


@given(st.integers(1, 10**9), st.integers(1, 20), st.lists(st.floats(0, 0.3), min_size=30, max_size=60))
def test_no_more_leaves_than_the_rate_allows_however_many_ask_and_whenever(
    rate: int, users: int, pauses: list[float]
) -> None:
    throttle = Throttle(rate)
    throttle.users = users
    now = begin = 1000.0
    let_through = 0
    last = begin
    for pause in pauses:
        now += pause
        step = throttle.step
        last = max(last, throttle.reserve(now, step))
        # by the moment at which the step may leave, what left before is within the rate and its slack
        assert let_through <= rate * (last - begin + SLACK) + 1
        let_through += step


def test_a_line_that_is_always_busy_gets_all_of_the_rate() -> None:
    throttle = Throttle(1_000_000)
    now, count = 50.0, 0
    while now < 60.0:
        now = max(now, throttle.reserve(now, throttle.step)) + 0.003  # woken up three milliseconds late
        count += throttle.step
    assert 0.95 * 10_000_000 < count < 1.05 * 10_000_000


def test_a_step_is_short_in_time_and_never_nothing() -> None:
    for rate in (1, 10, 1000, 65536, 10**6, 10**9):
        throttle = Throttle(rate)
        assert 1 <= throttle.step <= max(1, rate * 0.25)
        throttle.users = 1000
        assert throttle.step >= 1

"""How failed sign-ins slow down the next ones."""

from __future__ import annotations

from invio.core.sign_ins import FORGOTTEN, Count, Counter, password_counters, token_counters, wait_for


def _guesses_within(counters: list[Counter], seconds: float) -> int:
    """How many attempts that fail can be made in so many seconds when all is tried as soon as it may be."""
    counts = {counter.key: Count() for counter in counters}
    now, made = 1_000_000.0, 0
    end = now + seconds
    while True:
        now += max(wait_for(counter, counts[counter.key], now) for counter in counters)
        if now > end:
            return made
        made += 1
        counts = {key: Count(count.attempts + 1, now) for key, count in counts.items()}
        now += 0.05  # what it takes to look at one


def test_guessing_one_password_is_slow_wherever_it_comes_from() -> None:
    anywhere = [counter for counter in password_counters("ann", "192.0.2.1", None) if counter.key.startswith("account")]
    assert _guesses_within(anywhere, 3600) < 80


def test_guessing_many_accounts_from_one_network_is_slow() -> None:
    network = [counter for counter in password_counters("x", "2001:db8::1", None) if counter.key.startswith("network")]
    assert _guesses_within(network, 3600) < 400
    assert _guesses_within(token_counters("192.0.2.1"), 3600) < 80


def test_a_device_that_signed_in_before_is_not_slowed_by_others() -> None:
    own = password_counters("ann", "192.0.2.1", "device-1")
    others = password_counters("ann", "192.0.2.1", None)
    assert not {counter.key for counter in own} & {counter.key for counter in others}


def test_what_is_long_ago_and_a_clock_that_went_back_make_nobody_wait() -> None:
    counter = Counter("account:ann", 5, 60.0)
    assert wait_for(counter, Count(5, 1000.0), 1000.0) == 0
    assert wait_for(counter, Count(6, 1000.0), 1000.0) == 2
    assert wait_for(counter, Count(600, 1000.0), 1000.0) == 60
    assert wait_for(counter, Count(600, 1000.0), 1000.0 + FORGOTTEN) == 0
    assert wait_for(counter, Count(600, 1000.0), 10.0) == 0

"""What long bodies hold together: counted without a process."""

from __future__ import annotations

import pytest
from starlette.exceptions import HTTPException

from invio.service.long_bodies import LongBodies, LongBody

LONGEST = 1_000_000


@pytest.fixture
def bodies() -> LongBodies:
    return LongBodies(LONGEST)


def begun(bodies: LongBodies, network: str, count: int = 0) -> LongBody:
    body = bodies.begin(lambda: network)
    body.grown(count)
    return body


def test_a_short_body_holds_nothing_and_nobody_is_asked_where_it_comes_from(bodies: LongBodies) -> None:
    def ask() -> str:
        raise AssertionError("asked")

    body = bodies.begin(ask)
    for count in (0, 1000, 65536):
        body.grown(count)
    assert bodies.held == 0
    body.end()


def test_a_long_body_counts_whole_as_it_grows_and_until_its_end(bodies: LongBodies) -> None:
    body = begun(bodies, "ours")
    for count in (60_000, 65_537, 70_000, 70_000, LONGEST):
        body.grown(count)
        assert bodies.held == (count if count > 65_536 else 0)
    other = begun(bodies, "ours", 100_000)
    body.end()
    body.end()  # twice is once
    assert bodies.held == 100_000
    other.end()
    assert bodies.held == 0


def test_a_network_holds_four_of_the_longest_and_others_hold_theirs(bodies: LongBodies) -> None:
    held = [begun(bodies, "theirs", LONGEST) for _ in range(4)]
    with pytest.raises(HTTPException, match="from your network") as refused:
        begun(bodies, "theirs", 65_537)
    assert refused.value.status_code == 503
    with pytest.raises(HTTPException):
        held[0].grown(LONGEST + 1)
    assert bodies.held == 4 * LONGEST, "what is refused is not counted"
    begun(bodies, "ours", LONGEST).end()
    begun(bodies, "theirs", 65_536).end()
    held[0].end()
    begun(bodies, "theirs", LONGEST).end()


def test_all_networks_hold_no_more_than_thirty_two(bodies: LongBodies) -> None:
    held = [begun(bodies, f"network-{number // 4}", LONGEST) for number in range(32)]
    with pytest.raises(HTTPException, match="as many long requests as it can"):
        begun(bodies, "ours", 65_537)
    for body in held:
        body.end()
    assert bodies.held == 0
    begun(bodies, "ours", 65_537)

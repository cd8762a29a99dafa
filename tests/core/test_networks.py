"""What counts as one place, wherever something is counted by it."""

from __future__ import annotations

import asyncio

import pytest

from invio.core.files import Caller
from invio.core.networks import is_host_name, network_of, principal
from invio.core.reasons import Refusal
from invio.delivery.sending.uvicorn.protocol import _counted_as
from invio.service.planners import _OF_ONE, Planners
from invio.service.streams import Streams

ONE, SAME, OTHER = "2001:db8:1:2::3", "2001:db8:1:2:ffff::9", "2001:db8:1:3::3"


@pytest.mark.parametrize(
    ("name", "is_one"),
    [("files.example.org", True), ("files.example.org.", True), ("localhost", True), ("127.0.0.1", True), ("::1", True),
     ("süd.example", True), ("a" * 63, True), ("a" * 64, False), ("a..b", False), (".a", False), ("", False),
     (".", False), ("a\udcff", False)],
)  # fmt: skip
def test_what_can_be_looked_up_is_the_name_of_a_host(name: str, is_one: bool) -> None:
    assert is_host_name(name) is is_one


def test_a_network_is_what_one_household_is_given() -> None:
    assert network_of(ONE) == network_of(SAME) == "2001:db8:1:2::/64"
    assert network_of(OTHER) != network_of(ONE)
    assert network_of("::ffff:192.0.2.7") == network_of("192.0.2.7") == "192.0.2.7"
    assert network_of(None) == network_of("/run/front.sock") == "unknown"


def test_who_did_not_sign_in_is_known_by_the_network() -> None:
    assert principal("ann", ONE) == "recipient:ann"
    assert principal(None, ONE) == principal(None, SAME) == "network:2001:db8:1:2::/64"
    assert principal(None, OTHER) != principal(None, ONE)
    assert principal(None, "192.0.2.7") == "network:192.0.2.7"


def test_connections_and_event_streams_are_counted_by_networks() -> None:
    assert _counted_as(ONE) == _counted_as(SAME) != _counted_as(OTHER)
    streams = Streams(10, 10, 1)
    watching = streams.begin_following("one", ONE)
    with pytest.raises(Refusal, match="your network address has 1 event streams open"):
        streams.begin_following("two", SAME)
    streams.begin_following("three", OTHER)
    watching.end()
    streams.begin_following("two", SAME)


def test_plans_wait_for_others_of_their_network() -> None:
    async def work() -> None:
        planners = Planners()

        async def plan(address: str, ends: asyncio.Event) -> None:
            async with planners.turn(Caller(network=address)):
                begun.append(address)
                await ends.wait()

        begun: list[str] = []
        ends = asyncio.Event()
        asked = [*[ONE] * _OF_ONE, SAME, OTHER]
        plans = [asyncio.ensure_future(plan(address, ends)) for address in asked]
        for _ in range(5):
            await asyncio.sleep(0)
        assert begun == [*[ONE] * _OF_ONE, OTHER]
        ends.set()
        await asyncio.gather(*plans)
        assert sorted(begun) == sorted(asked)

    asyncio.run(work())

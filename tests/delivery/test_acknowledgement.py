"""Acknowledgement: when an answer has ended, how often that is looked at, and who is cut off."""

from __future__ import annotations

import asyncio
import socket
from dataclasses import dataclass, field

from invio.delivery.sending.acknowledgement import AcknowledgementMonitor, PendingResponse, Stopped
from invio.delivery.sending.errors import ClientGone, ReaderStuck
from tests.clocks import run


@dataclass
class Wire:
    """A connection, as far as its answers look at it."""

    left: int = 0  # bytes that are not acknowledged
    arrived: int = 0
    gone: bool = False
    taken: bool = False
    looks: list[float] = field(default_factory=list)
    cuts: list[tuple[float, str]] = field(default_factory=list)
    given_up: int = 0
    detached: int = 0

    def unacknowledged(self) -> int:
        self.looks.append(asyncio.get_running_loop().time())
        return self.left

    def waiting(self) -> bool:
        return self.left > 0

    def cut(self, why: str) -> None:
        self.cuts.append((asyncio.get_running_loop().time(), why))

    def give_up(self) -> None:
        self.given_up += 1

    def detach(self, _: object) -> None:
        self.detached += 1


class Body(PendingResponse):
    """An answer of which something is still to be handed over."""

    pushed = 0
    more = True
    sock: socket.socket | None = None

    @property
    def sending(self) -> bool:
        return self.more

    def push(self) -> None:
        """Sends what the socket takes."""
        self.pushed += 1
        assert self.sock is not None
        fill(self.sock)


def fill(sock: socket.socket) -> None:
    while True:
        try:
            sock.send(bytes(65536))
        except BlockingIOError:
            return


def answer(wire: Wire, watch: AcknowledgementMonitor, ends: list[object], kind: type[PendingResponse] = Body) -> Body:
    return kind(wire, watch, ends.append)  # type: ignore[arg-type, return-value]


def test_an_answer_ends_when_its_last_byte_is_acknowledged_and_is_looked_at_less_and_less_often() -> None:
    async def work() -> None:
        watch, wire, ends = AcknowledgementMonitor(60), Wire(left=5), []  # type: ignore[var-annotated]
        watch.arrives(answer(wire, watch, ends, PendingResponse))
        begin = asyncio.get_running_loop().time()
        await asyncio.sleep(0.505)
        assert [round((at - begin) * 100) for at in wire.looks] == [2, 6, 14, 24, 34, 44]
        assert (ends, wire.taken) == ([], False)
        wire.left = 0
        await asyncio.sleep(0.1)
        assert (ends, wire.taken, wire.detached) == ([None], True, 1)
        seen = len(wire.looks)
        await asyncio.sleep(10)
        assert len(wire.looks) == seen, "nothing is looked at any more"
        assert (watch._arriving, watch._ticking) == ({}, None)

    run(work())


def test_an_answer_whose_client_is_gone_has_ended() -> None:
    async def work() -> None:
        watch, wire, ends = AcknowledgementMonitor(60), Wire(left=5, gone=True), []  # type: ignore[var-annotated]
        one = answer(wire, watch, ends, PendingResponse)
        watch.arrives(one)
        await asyncio.sleep(0.1)
        assert (ends, wire.taken) == ([None], False)
        one.end(RuntimeError("a second time"))
        assert ends == [None]

    run(work())


def test_a_reader_that_takes_nothing_is_cut_off_and_a_slow_one_is_not() -> None:
    async def work() -> None:
        watch, ends = AcknowledgementMonitor(8), []  # type: ignore[var-annotated]
        stuck, slow, done = Wire(left=5, arrived=3), Wire(left=5), Wire()
        begin = asyncio.get_running_loop().time()
        for wire in (stuck, slow):
            watch.arrives(answer(wire, watch, ends, PendingResponse))
        idle = answer(done, watch, ends)
        idle.more = False  # everything was sent and taken: there is nothing to wait for
        watch._sending[idle] = -1
        for _ in range(30):
            await asyncio.sleep(1)
            slow.arrived += 1
        assert stuck.cuts
        assert 8 <= stuck.cuts[0][0] - begin <= 12
        assert stuck.cuts[0][1] == "the client took nothing for 8 seconds"
        assert (slow.cuts, done.cuts, ends) == ([], [], [])

    run(work())


def test_a_reader_whose_socket_stays_full_is_cut_off() -> None:
    async def work() -> None:
        near, far = socket.socketpair()
        with near, far:
            watch, wire, ends = AcknowledgementMonitor(8), Wire(left=5), []  # type: ignore[var-annotated]
            near.setblocking(False)
            fill(near)
            watch.sends(answer(wire, watch, ends), near.fileno())
            await asyncio.sleep(30)
            assert wire.cuts
            watch.stop()

    run(work())


def test_a_full_socket_is_watched_until_it_takes_more() -> None:
    async def work() -> None:
        near, far = socket.socketpair()
        with near, far:
            near.setblocking(False)
            fill(near)
            watch, wire, ends = AcknowledgementMonitor(60), Wire(left=1), []  # type: ignore[var-annotated]
            one = answer(wire, watch, ends)
            one.sock = near
            watch.sends(one, near.fileno())
            watch.sends(one, near.fileno())
            await asyncio.sleep(1)
            assert one.pushed == 0
            far.setblocking(False)
            far.recv(1 << 20)
            await asyncio.sleep(1)
            assert one.pushed > 0
            one.break_off(RuntimeError("the file changed"))
            assert (wire.given_up, [str(end) for end in ends]) == (1, ["the file changed"])
            pushed = one.pushed
            far.recv(1 << 20)
            await asyncio.sleep(1)
            assert one.pushed == pushed, "it is watched no more"
            # The same socket may be watched for the next answer.
            watch.sends(answer(wire, watch, ends), near.fileno())
            full = watch._full
            assert full is not None
            descriptor = full.fileno()
            watch.stop()
            assert full.closed
            assert not asyncio.get_running_loop().remove_reader(descriptor), "the loop looks at it no more"

    run(work())


def test_a_stop_ends_what_is_under_way_and_lets_what_has_arrived_be_complete() -> None:
    async def work() -> None:
        watch, ends = AcknowledgementMonitor(60), []  # type: ignore[var-annotated]
        wires = [Wire(left=5), Wire(), Wire(left=5)]
        near, far = socket.socketpair()
        with near, far:
            for wire in wires[:2]:
                watch.arrives(answer(wire, watch, ends, PendingResponse))
            watch.sends(answer(wires[2], watch, ends), near.fileno())
            watch.stop()
        assert [isinstance(end, Stopped) for end in ends] == [True, False, True]
        assert [wire.given_up for wire in wires] == [1, 0, 1]
        await asyncio.sleep(100)
        assert len(ends) == 3
        AcknowledgementMonitor(60).stop()  # of nothing

    run(work())


def test_whoever_wants_to_be_told_waits_a_few_moments_for_the_last_acknowledgements() -> None:
    async def work() -> None:
        watch, ends = AcknowledgementMonitor(60), []  # type: ignore[var-annotated]
        loop = asyncio.get_running_loop()
        late, soon = Wire(left=5), Wire(left=5)
        watch.arrives(answer(late, watch, ends, PendingResponse))
        await asyncio.sleep(1)
        begin = loop.time()
        await watch.arrivals()
        assert loop.time() == begin, "what is late already is not waited for"
        watch.arrives(answer(soon, watch, ends, PendingResponse))
        loop.call_later(0.025, setattr, soon, "left", 0)
        await watch.arrivals()
        assert ends == [None]
        assert 0.02 < loop.time() - begin < 0.05
        watch.arrives(answer(Wire(left=1), watch, ends, PendingResponse))
        begin = loop.time()
        await watch.arrivals()
        assert 0.03 < loop.time() - begin < 0.08

    run(work())


def test_an_answer_that_waits_ends_with_its_connection_and_a_stuck_reader_is_told_of() -> None:
    async def work() -> None:
        for why, told in ((ClientGone("reset"), None), (ReaderStuck("took nothing"), "took nothing")):
            watch, ends = AcknowledgementMonitor(60), []  # type: ignore[var-annotated]
            one = answer(Wire(left=5), watch, ends, PendingResponse)
            watch.arrives(one)
            one.lost(why)
            assert [end and str(end) for end in ends] == [told]

    run(work())


def test_an_answer_that_is_sent_breaks_off_with_its_connection() -> None:
    async def work() -> None:
        watch, wire, ends = AcknowledgementMonitor(60), Wire(left=5), []  # type: ignore[var-annotated]
        answer(wire, watch, ends).lost(ClientGone("reset"))
        assert [str(end) for end in ends] == ["reset"]

    run(work())

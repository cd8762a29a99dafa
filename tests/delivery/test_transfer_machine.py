"""A transfer by a state machine: ranges that overlap, break off and go on, against the set of acknowledged bytes."""

from __future__ import annotations

import asyncio
import tempfile
from pathlib import Path

import sqlalchemy as sa
from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, precondition, rule

from invio.core.addresses import parse_address
from invio.core.http.replies import Reply
from invio.core.links.seals import link_target, make_link, parse_link
from invio.core.reasons import Refusal
from invio.delivery.sending.meter import Meter
from invio.delivery.transfers.keys import TransferKey
from invio.delivery.transfers.limits import Limits
from invio.delivery.transfers.live import LiveTransfer, RequestProgress
from invio.delivery.transfers.transfers import Transfers
from invio.records.database import open_database, write
from invio.records.journal import Journal
from invio.records.links import revoke
from invio.records.rows import COMPLETE, RUNNING, TransferRow
from invio.records.transfers import break_off_orphans, newest

SIZE = 12
LINK = link_target(make_link(parse_address("files/a"), "k1", bytes(32), [("id", "L1")], ()))


class OneTransfer(RuleBasedStateMachine):
    """One caller asks for ranges of one file of a few bytes, by a link with an id or without one."""

    def __init__(self) -> None:
        super().__init__()
        self.runner = asyncio.Runner()
        self.folder = tempfile.TemporaryDirectory()
        self.engine: sa.Engine = open_database(Path(self.folder.name) / "records.sqlite")
        self.under_way: list[tuple[LiveTransfer, RequestProgress, int]] = []
        self.acknowledged: set[int] = set()
        self.revoked = False

    @initialize(by_link=st.booleans())
    def begin(self, by_link: bool) -> None:
        path, _, query = LINK.removeprefix("/get/").partition("?")
        link = parse_link(f"{path}?{query}") if by_link else None
        who = "recipient:ann" if link is None else f"recipient:ann|{link.mark}"
        self.key = TransferKey(who, "files/a", "ann", "192.0.2.7", link, principal="recipient:ann")
        self._start()

    def _start(self) -> None:
        self.journal = Journal(self.engine)
        self.transfers = Transfers(self.engine, self.journal, Limits())

    @rule(start=st.integers(0, SIZE - 1), length=st.integers(1, SIZE))
    @precondition(lambda self: len(self.under_way) < 3)
    def ask(self, start: int, length: int) -> None:
        length = min(length, SIZE - start)
        reply = Reply(206, [], [bytes(length)], length, ((0, start, length),))
        meter = Meter(None)

        async def admitted() -> tuple[LiveTransfer, RequestProgress]:
            earlier = await self.transfers.admission.earlier(self.key, "etag")
            return await self.transfers.admission.admit(
                self.key, reply, meter=meter, etag="etag", size=SIZE, earlier=earlier
            )

        try:
            live, progress = self.runner.run(admitted())
        except Refusal as refusal:
            assert refusal.reason.word == "revoked"
            assert self.revoked
            assert self.key.link is not None
            return
        assert not (self.revoked and self.key.link is not None)
        if not self.under_way and self._is_whole():
            self.acknowledged = set()  # what was had whole is begun anew
        self.under_way.append((live, progress, start))

    @rule(which=st.integers(0, 2), arrives=st.integers(0, SIZE), broken=st.booleans())
    @precondition(lambda self: self.under_way)
    def end(self, which: int, arrives: int, broken: bool) -> None:
        live, progress, start = self.under_way.pop(which % len(self.under_way))
        [(_, _, length)] = progress.spans
        arrives = min(arrives, length) if broken else length
        progress.meter.counted = arrives
        self.acknowledged |= set(range(start, start + arrives))

        async def settled() -> None:
            self.transfers.settlement.settle(live, progress, "the client went away" if broken else None)
            await self.transfers.recorded()

        self.runner.run(settled())

    @rule()
    def revoke_link(self) -> None:
        with write(self.engine).begin() as connection:
            revoke(connection, "L1")
        self.revoked = True

    @rule()
    def die(self) -> None:
        """The process is killed: what was under way is lost, and somebody else puts the records in order."""
        self.under_way.clear()
        before = self._last()
        with write(self.engine).begin() as connection:
            break_off_orphans(connection, "the service ended")
        kept = self._last()
        assert (kept is None) == (before is None)
        if kept is not None and kept.state != COMPLETE:
            told = {byte for start, stop in kept.coverage for byte in range(start, stop)}
            assert told <= self.acknowledged, "nothing is said to have arrived that has not"
            self.acknowledged = told
        self._start()

    @invariant()
    def the_records_say_what_has_arrived(self) -> None:
        last = self._last()
        if self.under_way or last is None:
            return
        assert last.state != RUNNING
        told = {byte for start, stop in last.coverage for byte in range(start, stop)}
        assert (told, last.covered) == (self.acknowledged, len(self.acknowledged))
        assert (last.state == COMPLETE) == self._is_whole()

    def _is_whole(self) -> bool:
        return len(self.acknowledged) == SIZE

    def _last(self) -> TransferRow | None:
        with self.engine.connect() as connection:
            rows = newest(connection, 1)
        return rows[0] if rows else None

    def teardown(self) -> None:
        self.runner.run(self.journal.stop())
        self.runner.close()
        self.engine.dispose()
        self.folder.cleanup()


TestOneTransfer = OneTransfer.TestCase
TestOneTransfer.settings = settings(max_examples=40, stateful_step_count=20, deadline=None)

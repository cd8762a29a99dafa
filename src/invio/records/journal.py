"""The journal: writes lines down, and commits what came together in one transaction.

Lines of one turn of the event loop gather, and are committed at its end, on the loop itself. A
thread for it was tried and was four times slower: a commit in WAL mode is one short write into
the page cache, less than handing the lines over costs while the loop keeps the interpreter busy.
What can take long is kept off the loop: another process's transaction (the lines then wait in a
worker thread, in order), and the checkpoints that bring the WAL into the database file.

Whoever must know that a line is durable awaits it; what nobody waits for (progress, settlements)
rides along. One failed line does not fail its neighbours.
"""

from __future__ import annotations

import asyncio
import logging
import time
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import partial
from typing import Any, NamedTuple, TypeVar

import sqlalchemy as sa

from invio.core.quotas import Claim
from invio.records import lines, quotas, transfers
from invio.records.database import impatient, patient
from invio.records.quotas import QuotaReached
from invio.records.rows import TransferRow
from invio.records.transfers import LinkSpent, TooMany

log = logging.getLogger("invio.records")
T = TypeVar("T")
# Told when a line is durable, with None, or why it was not written.
Told = Callable[[BaseException | None], None]
# How long a line that nobody waits for may wait for company. Seconds.
_LINGER = 0.05
# A checkpoint waits for the disk: one for so many lines (some 12 MB of the WAL), and for the few of a quiet time
# now and then.
_CHECKPOINT_LINES = 20_000
_CHECKPOINT_EVERY = 30.0  # seconds


class _Begin(NamedTuple):
    row: TransferRow
    counts: str | None  # the link's id that a use is counted for
    limit: int | None
    most: int | None  # transfers of the same recipient that may run at once, this one among them
    claims: Sequence[Claim]  # what it takes of quotas
    told: Told


@dataclass(slots=True)
class _Call:
    work: Callable[[sa.Connection], Any]
    done: asyncio.Future[Any]


class _Batch:
    """Lines that are written in one transaction."""

    __slots__ = ("begins", "calls", "changed", "plain", "whole")

    def __init__(self) -> None:
        self.begins: list[_Begin] = []
        self.changed: dict[str, TransferRow] = {}  # the last word on a transfer is the one that counts
        self.whole: list[TransferRow] = []
        self.calls: list[_Call] = []
        self.plain = True  # whether nothing has to be read before it is written

    def __len__(self) -> int:
        return len(self.begins) + len(self.changed) + len(self.whole) + len(self.calls)

    def begin(self, item: _Begin) -> None:
        self.begins.append(item)
        if item.counts is not None or item.most is not None or item.claims:
            self.plain = False

    def call(self, item: _Call) -> None:
        self.calls.append(item)
        self.plain = False

    def change(self, row: TransferRow) -> None:
        self.changed[row.id] = row
        if row.requests > 1:
            self.plain = False


_Outcome = tuple["Told | asyncio.Future[Any]", Any, BaseException | None]


class Journal:
    """Owns the writing side of the records' database for this process's event loop."""

    def __init__(self, engine: sa.Engine) -> None:
        self._engine = engine
        self._waiting = _Batch()
        self._scheduled = False
        self._lingering: asyncio.TimerHandle | None = None
        self._connection: sa.Connection | None = None
        # One worker, so that what waits for another process's transaction keeps its order.
        self._worker = ThreadPoolExecutor(1, thread_name_prefix="journal")
        self._in_worker = False  # what is to be written waits, for another process or a checkpoint
        self._since_checkpoint = 0  # lines
        self._checkpointed = time.monotonic()

    async def begin(
        self,
        row: TransferRow,
        counts: str | None = None,
        limit: int | None = None,
        most: int | None = None,
        claims: Sequence[Claim] = (),
    ) -> None:
        """Returns when the transfer's row is durable.

        With `counts`, a use of that link id is counted in the same transaction, `limit` at most.
        With `most`, no more than that many transfers of the same recipient run at once. What is claimed
        of quotas is reserved.

        Raises:
            LinkSpent: the link's id was revoked or has no use left; nothing was written.
            TooMany: `most` are running; nothing was written.
            QuotaReached: a quota has no room; nothing was written.
        """
        done = asyncio.get_running_loop().create_future()
        self.begin_and_tell(partial(_fulfil, done), row, counts, limit, most, claims)
        await done

    def begin_and_tell(
        self,
        told: Told,
        row: TransferRow,
        counts: str | None = None,
        limit: int | None = None,
        most: int | None = None,
        claims: Sequence[Claim] = (),
    ) -> None:
        """Like `begin`, for whoever does not wait: `told` is called once, later on, in the event loop."""
        self._waiting.begin(_Begin(row, counts, limit, most, claims, told))
        self._schedule()

    async def call(self, work: Callable[[sa.Connection], T]) -> T:
        """Runs `work`, which must be short, in the next transaction; returns what it gave, once durable."""
        done = asyncio.get_running_loop().create_future()
        self._waiting.call(_Call(work, done))
        self._schedule()
        result: T = await done
        return result

    def note(self, work: Callable[[sa.Connection], object]) -> None:
        """Runs `work` in the next transaction; nobody waits for it."""
        done = asyncio.get_running_loop().create_future()
        done.add_done_callback(_logged)
        self._waiting.call(_Call(work, done))
        self._schedule()

    def write(self, row: TransferRow) -> None:
        """Writes a transfer's progress or end, soon."""
        self._waiting.change(row)
        self._linger()

    def write_whole(self, row: TransferRow) -> None:
        """Writes, soon, that all of a transfer has arrived, in its one request; its size was known at its beginning."""
        self._waiting.whole.append(row)
        self._linger()

    async def checkpoint(self) -> None:
        """Brings what was committed from the WAL into the database file, beside the loop, when it is worth it."""
        now = time.monotonic()
        due = self._since_checkpoint and now - self._checkpointed > _CHECKPOINT_EVERY
        if due or self._since_checkpoint > _CHECKPOINT_LINES:
            self._since_checkpoint, self._checkpointed = 0, now
            await asyncio.to_thread(self._checkpoint)
            if self._in_worker:
                return
            # What was written meanwhile is little. Once that is in the database file too, and nobody
            # has written since, the WAL begins anew; otherwise it would grow as long as there is work.
            self._in_worker = True
            try:
                await asyncio.to_thread(self._checkpoint)
            finally:
                self._in_worker = False
                self._flush()

    def close(self) -> None:
        """Writes what is waiting. To be called when the loop takes no more."""
        self._worker.shutdown(wait=True)
        batch, self._waiting = self._waiting, _Batch()
        if batch:
            with patient(self._engine).connect() as connection:
                self._commit(connection, batch)
        if self._connection is not None:
            self._connection.close()

    def _linger(self) -> None:
        if not self._scheduled and self._lingering is None:
            self._lingering = asyncio.get_running_loop().call_later(_LINGER, self._flush)

    def _schedule(self) -> None:
        if not self._scheduled:
            self._scheduled = True
            # After one more look at the sockets: requests that came together are admitted together.
            loop = asyncio.get_running_loop()
            loop.call_soon(loop.call_soon, self._flush)

    def _flush(self) -> None:
        self._scheduled = False
        if self._lingering is not None:
            self._lingering.cancel()
            self._lingering = None
        if self._in_worker or not self._waiting:
            return  # what waits goes when the worker is done
        batch, self._waiting = self._waiting, _Batch()
        if self._connection is None:
            self._connection = impatient(self._engine).connect()
        try:
            outcomes = self._commit(self._connection, batch)
        except sa.exc.OperationalError:
            # Another process is writing. Nothing was: the same lines wait for it in the worker.
            self._in_worker = True
            waiting = asyncio.get_running_loop().run_in_executor(self._worker, self._commit_patiently, batch)
            waiting.add_done_callback(self._worker_done)
            return
        _resolve(outcomes)

    def _commit_patiently(self, batch: _Batch) -> list[_Outcome]:
        try:
            with patient(self._engine).connect() as connection:
                return self._commit(connection, batch)
        except sa.exc.SQLAlchemyError as error:
            # Nothing of the batch is durable: whoever waits is told so, and nothing is delivered.
            said = {"error": str(error.__cause__ or error), "lines": len(batch)}
            log.error("records.write-failed", extra={"fields": said})
            return [(item.told, None, error) for item in batch.begins] + [
                (item.done, None, error) for item in batch.calls
            ]

    def _worker_done(self, waiting: asyncio.Future[list[_Outcome]]) -> None:
        self._in_worker = False
        if not waiting.cancelled():
            _resolve(waiting.result())
        self._flush()

    def _commit(self, connection: sa.Connection, batch: _Batch) -> list[_Outcome]:
        """Writes all of it in one transaction, or raises and has written nothing."""
        self._since_checkpoint += len(batch)
        if batch.plain:
            driver = connection.connection.driver_connection
            assert driver is not None
            begun = [item.row for item in batch.begins]
            lines.write_plain(driver, begun, list(batch.changed.values()), batch.whole)
            return [(item.told, None, None) for item in batch.begins]
        outcomes: list[_Outcome] = []
        with connection.begin():
            # What has ended is not to stand in the way of what begins.
            transfers.update(connection, list(batch.changed.values()))
            lines.end_whole(connection, batch.whole)
            began = (self._begun(connection, item, outcomes) for item in batch.begins)
            if any(item.most is not None or item.claims for item in batch.begins):
                for row in began:  # one by one, for the next one to be counted with it
                    lines.insert(connection, [row] if row else [])
            else:
                lines.insert(connection, [row for row in began if row])
            outcomes += [(item.done, *self._attempt(connection, item.work)) for item in batch.calls]
        return outcomes

    @staticmethod
    def _begun(connection: sa.Connection, item: _Begin, outcomes: list[_Outcome]) -> TransferRow | None:
        """The row to insert for a line that begins a transfer, unless it may not begin."""
        try:
            if item.most is not None:
                transfers.check_running(connection, item.row.who, item.most)
            if item.counts is not None:
                transfers.check_link_use(connection, item.counts, item.limit)
            if item.claims:
                quotas.reserve(connection, item.row.id, item.claims, begins=True)
            if item.counts is not None:
                transfers.use_link(connection, item.counts, item.limit)
        except (LinkSpent, TooMany, QuotaReached) as refused:
            outcomes.append((item.told, None, refused))
            return None
        outcomes.append((item.told, None, None))
        return item.row

    @staticmethod
    def _attempt(connection: sa.Connection, work: Callable[[sa.Connection], Any]) -> tuple[Any, BaseException | None]:
        try:
            with connection.begin_nested():
                return work(connection), None
        except Exception as error:  # handed to whoever asked for the work
            return None, error

    def _checkpoint(self) -> None:
        with self._engine.connect().execution_options(isolation_level="AUTOCOMMIT") as connection:
            connection.exec_driver_sql("PRAGMA wal_checkpoint(PASSIVE)")


def _logged(done: asyncio.Future[object]) -> None:
    if not done.cancelled() and (error := done.exception()) is not None:
        log.error("records.write-failed", extra={"fields": {"error": str(error)}})


def _fulfil(future: asyncio.Future[Any], error: BaseException | None, result: object = None) -> None:
    if future.done():
        return
    if error is not None:
        future.set_exception(error)
    else:
        future.set_result(result)


def _resolve(outcomes: list[_Outcome]) -> None:
    for whom, result, error in outcomes:
        if isinstance(whom, asyncio.Future):
            _fulfil(whom, error, result)
            continue
        try:
            whom(error)
        except Exception:  # theirs, of which the others are to know nothing
            log.exception("records.not-told")

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
from typing import Any, TypeVar

import sqlalchemy as sa

from invio.core.quotas import Claim
from invio.records import quotas, transfers
from invio.records.database import impatient, patient
from invio.records.quotas import QuotaReached
from invio.records.transfers import LinkSpent, TooMany, TransferRow

log = logging.getLogger("invio.records")
T = TypeVar("T")
# How long a line that nobody waits for may wait for company. Seconds.
_LINGER = 0.05
# A checkpoint waits for the disk: one for so many lines, and for the few of a quiet time now and then.
_CHECKPOINT_LINES = 10_000
_CHECKPOINT_EVERY = 30.0  # seconds


@dataclass(slots=True)
class _Begin:
    row: TransferRow
    counts: str | None  # the link's id that a use is counted for
    limit: int | None
    most: int | None  # transfers of the same recipient that may run at once, this one among them
    claims: Sequence[Claim]  # what it takes of quotas
    done: asyncio.Future[None]


@dataclass(slots=True)
class _Call:
    work: Callable[[sa.Connection], Any]
    done: asyncio.Future[Any]


_Item = _Begin | _Call | TransferRow
_Outcome = tuple["asyncio.Future[Any]", Any, BaseException | None]


class Journal:
    """Owns the writing side of the records' database for this process's event loop."""

    def __init__(self, engine: sa.Engine) -> None:
        self._engine = engine
        self._waiting: list[_Item] = []
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
        self._put(_Begin(row, counts, limit, most, claims, done))
        await done

    async def call(self, work: Callable[[sa.Connection], T]) -> T:
        """Runs `work`, which must be short, in the next transaction; returns what it gave, once durable."""
        done = asyncio.get_running_loop().create_future()
        self._put(_Call(work, done))
        result: T = await done
        return result

    def note(self, work: Callable[[sa.Connection], object]) -> None:
        """Runs `work` in the next transaction; nobody waits for it."""
        done = asyncio.get_running_loop().create_future()
        done.add_done_callback(_logged)
        self._put(_Call(work, done))

    def write(self, row: TransferRow) -> None:
        """Writes a transfer's progress or end, soon."""
        self._waiting.append(row)
        if not self._scheduled and self._lingering is None:
            self._lingering = asyncio.get_running_loop().call_later(_LINGER, self._flush)

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
        batch, self._waiting = self._waiting, []
        if batch:
            with patient(self._engine).connect() as connection:
                self._commit(connection, batch)
        if self._connection is not None:
            self._connection.close()

    def _put(self, item: _Begin | _Call) -> None:
        self._waiting.append(item)
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
        batch, self._waiting = self._waiting, []
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

    def _commit_patiently(self, batch: list[_Item]) -> list[_Outcome]:
        try:
            with patient(self._engine).connect() as connection:
                return self._commit(connection, batch)
        except sa.exc.SQLAlchemyError as error:
            # Nothing of the batch is durable: whoever waits is told so, and nothing is delivered.
            said = {"error": str(error.__cause__ or error), "lines": len(batch)}
            log.error("records.write-failed", extra={"fields": said})
            return [(item.done, None, error) for item in batch if not isinstance(item, TransferRow)]

    def _worker_done(self, waiting: asyncio.Future[list[_Outcome]]) -> None:
        self._in_worker = False
        if not waiting.cancelled():
            _resolve(waiting.result())
        self._flush()

    def _commit(self, connection: sa.Connection, batch: list[_Item]) -> list[_Outcome]:
        """Writes all of it in one transaction, or raises and has written nothing."""
        self._since_checkpoint += len(batch)
        if all(_is_plain(item) for item in batch):
            return self._commit_plain(connection, batch)
        outcomes: list[_Outcome] = []
        with connection.begin():
            began = (self._begun(connection, item, outcomes) for item in batch)
            if any(isinstance(item, _Begin) and (item.most is not None or item.claims) for item in batch):
                for row in began:  # one by one, for the next one to be counted with it
                    transfers.insert(connection, [row] if row else [])
            else:
                transfers.insert(connection, [row for row in began if row])
            # The last word on a transfer is the one that counts.
            latest = {item.id: item for item in batch if isinstance(item, TransferRow)}
            transfers.update(connection, list(latest.values()))
            calls = [item for item in batch if isinstance(item, _Call)]
            outcomes += [(item.done, *self._attempt(connection, item.work)) for item in calls]
        return outcomes

    @staticmethod
    def _commit_plain(connection: sa.Connection, batch: list[_Item]) -> list[_Outcome]:
        begins = [item for item in batch if isinstance(item, _Begin)]
        latest = {item.id: item for item in batch if isinstance(item, TransferRow)}
        driver = connection.connection.driver_connection
        assert driver is not None
        transfers.write_plain(driver, [item.row for item in begins], list(latest.values()))
        return [(item.done, None, None) for item in begins]

    @staticmethod
    def _begun(connection: sa.Connection, item: _Item, outcomes: list[_Outcome]) -> TransferRow | None:
        """The row to insert for a line that begins a transfer, unless it may not begin."""
        if not isinstance(item, _Begin):
            return None
        try:
            if item.most is not None:
                transfers.check_running(connection, item.row.who, item.most)
            if item.counts is not None:
                transfers.check_link_use(connection, item.counts, item.limit)
            if item.claims:
                quotas.reserve(connection, item.row.who, item.row.id, item.claims, begins=True)
            if item.counts is not None:
                transfers.use_link(connection, item.counts, item.limit)
        except (LinkSpent, TooMany, QuotaReached) as refused:
            outcomes.append((item.done, None, refused))
            return None
        outcomes.append((item.done, None, None))
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


def _is_plain(item: _Item) -> bool:
    """Whether nothing has to be read before the line is written."""
    if isinstance(item, TransferRow):
        return item.requests == 1
    return isinstance(item, _Begin) and item.counts is None and item.most is None and not item.claims


def _logged(done: asyncio.Future[object]) -> None:
    if not done.cancelled() and (error := done.exception()) is not None:
        log.error("records.write-failed", extra={"fields": {"error": str(error)}})


def _resolve(outcomes: list[_Outcome]) -> None:
    for future, result, error in outcomes:
        if future.done():
            continue
        if error is not None:
            future.set_exception(error)
        else:
            future.set_result(result)

"""The journal: writes lines, and commits those that arrive together in one transaction.

Lines of one turn of the event loop gather, and are committed at its end, on the loop itself. A
thread for it was tried and was four times slower: a commit in WAL mode is one short write into
the page cache, less than handing the lines over costs while the loop keeps the interpreter busy.
What can take long is kept off the loop: another process's transaction, if it does not end within milliseconds (the
lines then wait in a worker thread, in order), and the checkpoints that bring the WAL into the database file.

Whoever must know that a line is durable awaits it; what nobody waits for (progress, settlements)
rides along. One failed line does not fail its neighbours.

Orders of events that were considered:
- Another process is writing: its transaction is short, as this one's are. The loop tries again shortly, with what has
  come meanwhile; nothing of the batch was written, so nothing of it was sent, and no end of it can be in what came.
- A batch cannot be written (the disk is full, another program has locked the records): whoever waits is told so.
  What ended, and what nobody waits for, is kept and written with a later batch, which is tried every second:
  what a client has whole is not to stand as broken off because the disk was full for a moment.
- What is kept and is followed by news of the same transfer: the news are the last word, and are what is written.
- The records stay locked: what waits behind the batch that waits is not to wait for both. It is refused.
- The database is damaged, so that a batch fails in another way than by being locked: the same; nobody hangs.
- A stop: the loop takes no more lines, what waits is written by a connection of its own, and the loop's own
  connection is closed by the loop. No two threads use one connection at once.
"""

from __future__ import annotations

import asyncio
import logging
import sqlite3
import time
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass
from functools import partial
from typing import Any, TypeVar

import sqlalchemy as sa

from invio.core.rules.quotas import Claim
from invio.records import quotas, statements, transfers
from invio.records.database import driver_of, write, write_nowait
from invio.records.quotas import QuotaReached
from invio.records.rows import TransferRow, principal_of
from invio.records.transfers import ConcurrencyLimitReached, LinkExhausted, any_broken_off, resumable
from invio.workers.pool import Pool

log = logging.getLogger("invio.records")
T = TypeVar("T")
# Told when a line is durable, with None, or why it was not written.
OnWritten = Callable[[BaseException | None], None]
# How long a line that nobody waits for may wait for company. Seconds.
_LINGER = 0.05
# A checkpoint waits for the disk: one for so many lines (some 12 MB of the WAL), and for the few of a quiet time
# now and then.
_CHECKPOINT_LINES = 20_000
_CHECKPOINT_EVERY = 30.0  # seconds
# When a batch is tried again that another process's transaction kept out, and how often before a thread waits for it:
# handing it over costs several such transactions.
_SHORTLY = 0.001  # seconds
_TRIES = 5
_AGAIN = 1.0  # seconds after which what could not be written is tried again
_PATIENCE = 4.0  # seconds for which a line waits behind others that wait
_KEPT_AT_MOST = 200_000  # transfers whose ends are kept while they cannot be written
_ENDS_WITHIN = 10.0  # seconds for which a stop waits for what is being written


def _unheard(_: BaseException | None) -> None:
    """The callback of a line that nobody waits for."""


@dataclass(slots=True)
class Beginning:
    """The line that begins a transfer.

    `counts` is the id of a link of which a use is counted in the same transaction, `limit` at most. No more than `most`
    transfers of the same recipient run at once, this one among them. `claims` are reserved of quotas. `joins`: it may
    be one more request of a transfer that another process has begun meanwhile.
    """

    row: TransferRow
    counts: str | None = None
    limit: int | None = None
    most: int | None = None
    claims: Sequence[Claim] = ()
    joins: bool = False
    on_written: OnWritten = _unheard


@dataclass(slots=True)
class _Call:
    work: Callable[[sa.Connection], Any]
    done: asyncio.Future[Any]


class Joined(Exception):
    """A transfer was not begun, because another process has just begun it; `row` is its row."""

    def __init__(self, row: TransferRow) -> None:
        super().__init__(row.id)
        self.row = row


class _Batch:
    """Lines that are written in one transaction."""

    __slots__ = ("begins", "calls", "changed", "kept", "plain", "whole")

    def __init__(self) -> None:
        self.begins: list[Beginning] = []
        self.changed: dict[str, TransferRow] = {}  # the last word on a transfer is the one that counts
        self.whole: list[TransferRow] = []
        self.calls: list[_Call] = []
        self.plain = True  # whether nothing has to be read before it is written
        self.kept = False  # whether it could not be written, and holds what is to be

    def __len__(self) -> int:
        return len(self.begins) + len(self.changed) + len(self.whole) + len(self.calls)

    def begin(self, item: Beginning) -> None:
        self.begins.append(item)
        if item.counts is not None or item.most is not None or item.claims or item.joins:
            self.plain = False

    def call(self, item: _Call) -> None:
        self.calls.append(item)
        self.plain = False

    def change(self, row: TransferRow) -> None:
        self.changed[row.id] = row
        if row.requests > 1:
            self.plain = False

    def followed_by(self, later: _Batch) -> None:
        """Appends the lines of a later batch."""
        self.begins += later.begins
        self.calls += later.calls
        self.whole += later.whole
        self.changed |= later.changed
        self.plain = self.plain and later.plain

    def take_back(self, other: _Batch) -> None:
        """Takes over the endings and progress of an earlier batch that could not be written."""
        for row in other.changed.values():
            if row.id not in self.changed:
                self.change(row)
        self.whole = [*other.whole, *self.whole]


_Outcome = tuple["OnWritten | asyncio.Future[Any]", Any, BaseException | None]


class Journal:
    """Owns the writing side of the records' database for this process's event loop."""

    def __init__(self, engine: sa.Engine, held_by: int | None = None) -> None:
        """`held_by` is the number of this process among those that serve."""
        self._engine = engine
        self.held_by = held_by
        self._waiting = _Batch()
        self._scheduled = False
        self._tries = 0  # how often what waits was kept out by another process's transaction
        self._lingering: asyncio.TimerHandle | None = None
        self._connection: sa.Connection | None = None
        # One worker, so that what waits for another process's transaction keeps its order.
        self._worker = Pool("journal", 1, waiting=4)
        self._checkpoints = Pool("checkpoint", 1, waiting=4)
        self._in_worker = False  # what is to be written waits, for another process or a checkpoint
        self._giving_up: asyncio.TimerHandle | None = None
        self._since_checkpoint = 0  # lines
        self._checkpointed = time.monotonic()
        self._stopped = False
        self.fault: str | None = None  # why the last batch could not be written

    async def begin(self, beginning: Beginning) -> None:
        """Writes the row that begins a transfer; returns when it is durable.

        Raises:
            LinkExhausted: the link's id was revoked or has no use left; nothing was written.
            ConcurrencyLimitReached: `most` are running; nothing was written.
            QuotaReached: a quota has no room; nothing was written.
            Joined: with `joins`, when there is such a transfer already; what is claimed of quotas was reserved for it.
        """
        done = asyncio.get_running_loop().create_future()
        self.begin_and_tell(partial(_fulfil, done), beginning)
        await done

    def begin_and_tell(self, on_written: OnWritten, beginning: Beginning) -> None:
        """Like `begin`, for whoever does not wait: `on_written` is called once, later on, in the event loop."""
        beginning.on_written = on_written
        self._waiting.begin(beginning)
        self._schedule()

    async def call(self, work: Callable[[sa.Connection], T]) -> T:
        """Runs `work`, which must be short, in the next transaction; returns what it gave, once durable.

        Raises:
            OperationalError: the records cannot be written; and what `work` raises.
        """
        done = asyncio.get_running_loop().create_future()
        self._waiting.call(_Call(work, done))
        self._schedule()
        result: T = await done
        return result

    async def any_broken_off(self, who: str) -> bool:
        """Whether any transfer of a caller has broken off, what waits to be written among them.

        Raises:
            OperationalError: the records cannot be written.
        """
        waits = self._in_worker or self._waiting.changed or self._waiting.calls
        # What only begins, and what has arrived whole, broke nothing off, and can be written later.
        if self._connection is not None and not waits:
            with suppress(sa.exc.OperationalError):  # it is told by the call
                return any_broken_off(driver_of(self._connection), who)
        return await self.call(lambda connection: any_broken_off(driver_of(connection), who))

    def note(self, work: Callable[[sa.Connection], object]) -> None:
        """Runs `work` in the next possible transaction; nobody waits for it."""
        done = asyncio.get_running_loop().create_future()
        done.add_done_callback(partial(self._noted, work))
        self._waiting.call(_Call(work, done))
        self._schedule()

    def _noted(self, work: Callable[[sa.Connection], object], done: asyncio.Future[object]) -> None:
        error = None if done.cancelled() else done.exception()
        if isinstance(error, sa.exc.OperationalError) and not self._stopped and len(self._waiting) < _KEPT_AT_MOST:
            asyncio.get_running_loop().call_later(_AGAIN, self.note, work)
        elif error is not None:
            log.error("records.write-failed", extra={"fields": {"error": str(error)}})

    def write(self, row: TransferRow) -> None:
        """Queues a transfer's progress or end for writing."""
        self._waiting.change(row)
        self._linger()

    def write_whole(self, row: TransferRow) -> None:
        """Queues the end of a transfer that arrived whole in its one request; its size was known at the beginning."""
        self._waiting.whole.append(row)
        self._linger()

    async def checkpoint(self) -> None:
        """Brings what was committed from the WAL into the database file, beside the loop, when it is worth it.

        Raises:
            SQLAlchemyError: as when the disk is full; it is tried again the next time.
        """
        now = time.monotonic()
        due = self._since_checkpoint and now - self._checkpointed > _CHECKPOINT_EVERY
        if self._stopped or not (due or self._since_checkpoint > _CHECKPOINT_LINES):
            return
        lines_before = self._since_checkpoint
        self._checkpointed = now
        await self._checkpoints.run(self._checkpoint)
        self._since_checkpoint -= lines_before
        if self._in_worker:
            return
        # What was written meanwhile is little. Once that is in the database file too, and nobody
        # has written since, the WAL begins anew; otherwise it would grow as long as there is work.
        self._in_worker = True
        try:
            await self._checkpoints.run(self._checkpoint)
        finally:
            self._in_worker = False
            self._flush()

    async def stop(self) -> None:
        """Writes what is waiting, and takes no more. Call it in the event loop, after the last delivery."""
        self._stopped = True
        self._unschedule()
        end = time.monotonic() + _ENDS_WITHIN
        while self._in_worker and time.monotonic() < end:
            await asyncio.sleep(0.01)
        batch, self._waiting = self._waiting, _Batch()
        if batch:
            _resolve(await self._worker.run(self._commit_patiently, batch))
        if batch.kept:
            log.error("records.lines-lost", extra={"fields": {"transfers": len(batch)}})
        if self._connection is not None:
            self._connection.close()
            self._connection = None

    def close(self) -> None:
        """Like `stop`, when no event loop runs any more."""
        self._stopped = True
        batch, self._waiting = self._waiting, _Batch()
        if batch:
            _resolve(self._commit_patiently(batch))
        if self._connection is not None:
            self._connection.close()
            self._connection = None

    def _unschedule(self) -> None:
        for timer in (self._lingering, self._giving_up):
            if timer is not None:
                timer.cancel()
        self._lingering = self._giving_up = None

    def _linger(self) -> None:
        if not self._scheduled and self._lingering is None and not self._stopped:
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
        if self._in_worker or self._stopped or not self._waiting:
            return  # what waits goes when the worker is done
        batch, self._waiting = self._waiting, _Batch()
        try:
            if self._connection is None:
                self._connection = write_nowait(self._engine).connect()
            outcomes = self._commit(self._connection, batch)
        except sa.exc.OperationalError:
            # Another process is writing. Nothing was.
            self._tries += 1
            if self._tries < _TRIES:
                batch.followed_by(self._waiting)
                self._waiting, self._scheduled = batch, True
                asyncio.get_running_loop().call_later(_SHORTLY, self._flush)
            else:
                self._tries = 0
                self._wait_in_worker(batch)
            return
        except (sa.exc.SQLAlchemyError, sqlite3.Error) as error:
            self._drop_connection()
            _resolve(self._not_written(batch, error))
            self._keep(batch)
            return
        self.fault, self._tries = None, 0
        self._since_checkpoint += len(batch)
        _resolve(outcomes)

    def _wait_in_worker(self, batch: _Batch) -> None:
        self._in_worker = True
        loop = asyncio.get_running_loop()
        waiting = asyncio.wrap_future(self._worker.submit(self._commit_patiently, batch))
        waiting.add_done_callback(partial(self._worker_done, batch))
        self._giving_up = loop.call_later(_PATIENCE, self._give_up)

    def _give_up(self) -> None:
        """Refuses the lines behind a batch that has waited too long."""
        self._giving_up = None
        if not self._in_worker or self._stopped:
            return
        error = sa.exc.OperationalError("a batch of lines", None, sqlite3.OperationalError("the records are locked"))
        batch, self._waiting = self._waiting, _Batch()
        _resolve(self._not_written(batch, error))
        self._waiting.take_back(batch)
        self._giving_up = asyncio.get_running_loop().call_later(_AGAIN, self._give_up)

    def _drop_connection(self) -> None:
        """After a failure the connection may be unusable."""
        connection, self._connection = self._connection, None
        if connection is not None:
            with suppress(sa.exc.SQLAlchemyError, sqlite3.Error):
                connection.close()

    def _not_written(self, batch: _Batch, error: BaseException) -> list[_Outcome]:
        """Tells the waiters that a batch could not be written, and keeps its endings."""
        said = str(error.__cause__ or error)
        if self.fault != said:
            log.error("records.write-failed", extra={"fields": {"error": said, "lines": len(batch)}})
        self.fault = said
        batch.kept = bool(batch.changed or batch.whole)
        shown = error
        if not isinstance(error, sa.exc.SQLAlchemyError):
            shown = sa.exc.DatabaseError("a batch of lines", None, error)
        return [(item.on_written, None, shown) for item in batch.begins] + [
            (item.done, None, shown) for item in batch.calls
        ]

    def _commit_patiently(self, batch: _Batch) -> list[_Outcome]:
        try:
            with write(self._engine).connect() as connection:
                outcomes = self._commit(connection, batch)
                self.fault = None
                self._since_checkpoint += len(batch)
                return outcomes
        except (sa.exc.SQLAlchemyError, sqlite3.Error) as error:
            # Nothing of the batch is durable: whoever waits is told so, and nothing is delivered.
            return self._not_written(batch, error)

    def _worker_done(self, batch: _Batch, waiting: asyncio.Future[list[_Outcome]]) -> None:
        self._in_worker = False
        if self._giving_up is not None:
            self._giving_up.cancel()
            self._giving_up = None
        if not waiting.cancelled():
            _resolve(waiting.result())
        self._keep(batch)
        if not batch.kept:
            self._flush()

    def _keep(self, batch: _Batch) -> None:
        """Keeps lines that nobody was told about for a later batch."""
        if not batch.kept:
            return
        self._waiting.take_back(batch)
        if len(self._waiting) > _KEPT_AT_MOST:
            log.error("records.lines-lost", extra={"fields": {"transfers": len(self._waiting)}})
            self._waiting.changed, self._waiting.whole = {}, []
        if self._lingering is None and not self._stopped:
            self._lingering = asyncio.get_running_loop().call_later(_AGAIN, self._flush)

    def _commit(self, connection: sa.Connection, batch: _Batch) -> list[_Outcome]:
        """Writes the batch in one transaction, or raises and writes nothing."""
        if batch.plain:
            driver = driver_of(connection)
            begun = [item.row for item in batch.begins]
            statements.write_plain(driver, begun, list(batch.changed.values()), batch.whole)
            return [(item.on_written, None, None) for item in batch.begins]
        outcomes: list[_Outcome] = []
        with connection.begin():
            # Endings come first, so that they do not count against beginnings.
            transfers.update(connection, list(batch.changed.values()))
            statements.end_whole(connection, batch.whole)
            began = (self._begun(connection, item, outcomes) for item in batch.begins)
            if any(item.most is not None or item.claims for item in batch.begins):
                for row in began:  # one by one, for the next one to be counted with it
                    statements.insert(connection, [row] if row else [])
            else:
                statements.insert(connection, [row for row in began if row])
            outcomes += [(item.done, *self._attempt(connection, item.work)) for item in batch.calls]
        return outcomes

    def _joined(self, connection: sa.Connection, item: Beginning) -> TransferRow | None:
        """The transfer of another process that a request joins after all."""
        row = item.row
        found = None if row.etag is None else resumable(connection, row.who, row.address, row.etag, row.tag)
        if found is None or found.held_by == self.held_by:
            return None  # what this process has is known to whoever asks
        if item.counts is not None:
            transfers.check_link_use(connection, item.counts, None)
        quotas.reserve(connection, found.id, item.claims, begins=False)
        return transfers.go_on(connection, found.id, 0, self.held_by)

    def _begun(self, connection: sa.Connection, item: Beginning, outcomes: list[_Outcome]) -> TransferRow | None:
        """The row to insert for a beginning transfer. Raises if it may not begin."""
        try:
            if item.joins and (joined := self._joined(connection, item)) is not None:
                outcomes.append((item.on_written, None, Joined(joined)))
                return None
            if item.most is not None:
                transfers.check_running(connection, principal_of(item.row.who), item.most)
            if item.counts is not None:
                transfers.check_link_use(connection, item.counts, item.limit)
            if item.claims:
                quotas.reserve(connection, item.row.id, item.claims, begins=True)
            if item.counts is not None:
                transfers.use_link(connection, item.counts, item.limit)
        except (LinkExhausted, ConcurrencyLimitReached, QuotaReached) as refused:
            outcomes.append((item.on_written, None, refused))
            return None
        outcomes.append((item.on_written, None, None))
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
        except Exception:  # their own error, which must not affect the other lines
            log.exception("records.not-told")

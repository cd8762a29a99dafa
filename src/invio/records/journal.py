"""The journal: one thread that writes, and commits what came together in one transaction.

Whoever must know that a line is durable awaits it; while one commit is under way the next lines
gather, so that the cost of a commit is shared by as many as there are waiting. What nobody waits
for (progress, settlements) rides along. One failed line does not fail its neighbours.
"""

from __future__ import annotations

import asyncio
import queue
import threading
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, TypeVar

import sqlalchemy as sa
import structlog

from invio.records import transfers
from invio.records.database import writing
from invio.records.transfers import LinkSpent, TransferRow

log = structlog.get_logger()
T = TypeVar("T")
_BATCH = 512


@dataclass(slots=True)
class _Begin:
    row: TransferRow
    counts: str | None  # the link's id that a use is counted for
    limit: int | None
    done: asyncio.Future[None]


@dataclass(slots=True)
class _Call:
    work: Callable[[sa.Connection], Any]
    done: asyncio.Future[Any]


class Journal:
    """Owns the writing side of the records' database for this process."""

    def __init__(self, engine: sa.Engine) -> None:
        self._engine = writing(engine)
        self._queue: queue.SimpleQueue[_Begin | _Call | TransferRow | None] = queue.SimpleQueue()
        self._thread = threading.Thread(target=self._run, name="journal", daemon=True)
        self._thread.start()

    async def begin(self, row: TransferRow, counts: str | None = None, limit: int | None = None) -> None:
        """Returns when the transfer's row is durable.

        With `counts`, a use of that link id is counted in the same transaction, `limit` at most.

        Raises:
            LinkSpent: the link's id was revoked or has no use left; nothing was written.
        """
        done = asyncio.get_running_loop().create_future()
        self._queue.put(_Begin(row, counts, limit, done))
        await done

    def write(self, row: TransferRow) -> None:
        """Writes a transfer's progress or end, soon."""
        self._queue.put(row)

    async def call(self, work: Callable[[sa.Connection], T]) -> T:
        """Runs `work` in the next transaction and returns what it gave, once that is durable."""
        done = asyncio.get_running_loop().create_future()
        self._queue.put(_Call(work, done))
        result: T = await done
        return result

    def close(self) -> None:
        """Writes what is waiting and ends the thread."""
        self._queue.put(None)
        self._thread.join()

    def _run(self) -> None:
        with self._engine.connect() as connection:
            while True:
                batch, last = self._gather()
                if batch:
                    self._commit(connection, batch)
                if last:
                    return

    def _gather(self) -> tuple[list[_Begin | _Call | TransferRow], bool]:
        batch: list[_Begin | _Call | TransferRow] = []
        item = self._queue.get()
        while item is not None:
            batch.append(item)
            if len(batch) >= _BATCH:
                return batch, False
            try:
                item = self._queue.get_nowait()
            except queue.Empty:
                return batch, False
        return batch, True

    def _commit(self, connection: sa.Connection, batch: list[_Begin | _Call | TransferRow]) -> None:
        outcomes: list[tuple[asyncio.Future[Any], Any, BaseException | None]] = []
        try:
            with connection.begin():
                self._begin_all(connection, [item for item in batch if isinstance(item, _Begin)], outcomes)
                # The last word on a transfer is the one that counts.
                latest = {item.id: item for item in batch if isinstance(item, TransferRow)}
                transfers.update(connection, list(latest.values()))
                for item in batch:
                    if isinstance(item, _Call):
                        outcomes.append((item.done, *self._attempt(connection, item.work)))
        except sa.exc.SQLAlchemyError as error:
            # Nothing of the batch is durable: whoever waits is told so, and nothing is delivered.
            log.error("records.write-failed", error=str(error.__cause__ or error))
            outcomes = [(item.done, None, error) for item in batch if not isinstance(item, TransferRow)]
        _tell(outcomes)

    def _begin_all(
        self,
        connection: sa.Connection,
        begins: list[_Begin],
        outcomes: list[tuple[asyncio.Future[Any], Any, BaseException | None]],
    ) -> None:
        rows = []
        for item in begins:
            error: LinkSpent | None = None
            if item.counts is not None:
                try:
                    transfers.use_link(connection, item.counts, item.limit)
                except LinkSpent as spent:
                    error = spent
            if error is None:
                rows.append(item.row)
            outcomes.append((item.done, None, error))
        transfers.insert(connection, rows)

    @staticmethod
    def _attempt(connection: sa.Connection, work: Callable[[sa.Connection], Any]) -> tuple[Any, BaseException | None]:
        try:
            with connection.begin_nested():
                return work(connection), None
        except Exception as error:  # handed to whoever asked for the work
            return None, error


def _tell(outcomes: list[tuple[asyncio.Future[Any], Any, BaseException | None]]) -> None:
    """Resolves the futures, in one call a loop."""
    loops: dict[asyncio.AbstractEventLoop, list[tuple[asyncio.Future[Any], Any, BaseException | None]]] = {}
    for outcome in outcomes:
        loops.setdefault(outcome[0].get_loop(), []).append(outcome)
    for loop, group in loops.items():
        try:
            loop.call_soon_threadsafe(_resolve, group)
        except RuntimeError:  # the loop was closed while the commit was under way
            log.warning("records.nobody-waits", lines=len(group))


def _resolve(outcomes: list[tuple[asyncio.Future[Any], Any, BaseException | None]]) -> None:
    for future, result, error in outcomes:
        if future.done():
            continue
        if error is not None:
            future.set_exception(error)
        else:
            future.set_result(result)

"""SQLite's handles on the contents of rows, kept open while a content is being read.

To come to a place in a content, SQLite follows its pages from the first one on; a handle remembers them. One that was
opened anew for each piece would make a long content take time with the square of its length. But an open handle is a
reader of the database: nothing is checkpointed past it and, without a write-ahead log, nobody writes. So a handle is
let go when it was not used for `IDLE` seconds, and in any case after `LONGEST`.

A handle reads the content as of its opening. So the reader checks the row again whenever a handle was opened, and at
the end.
"""

from __future__ import annotations

import sqlite3
import threading
import time
from collections.abc import Callable, Hashable
from dataclasses import dataclass
from typing import Any

import sqlalchemy as sa

IDLE = 0.25  # seconds
LONGEST = 2.0  # seconds
_LOOKED_EVERY = 0.1  # seconds
_CACHE = -512  # KiB of pages that a connection keeps, as SQLite writes it


@dataclass(slots=True)
class _Handle:
    connection: sqlite3.Connection
    blob: Any
    opened: float
    used: float


class Blobs:
    """The handles of one column of one table."""

    def __init__(self, engine: sa.Engine, table: str, column: str, timeout: float) -> None:
        self._file = str(engine.url.database)
        self._schema, _, self._table = table.rpartition(".")
        self._column, self._timeout = column, timeout
        self._free: dict[Hashable, list[_Handle]] = {}
        self._lock = threading.Lock()
        self._sweeps = False

    def read(
        self, key: Hashable, find: Callable[[sqlite3.Connection], int], offset: int, count: int
    ) -> tuple[bytes, bool]:
        """Bytes of the content that `key` stands for, and whether a handle was opened for them.

        `find` gives the number of its row.

        Raises:
            ContentChanged: as `find`. sqlite3.Error: the database does not answer.
        """
        kept = self._taken(key)
        handle = kept or self._opened(find)
        try:
            handle.blob.seek(offset)
            data: bytes = handle.blob.read(count)
        except BaseException:
            _close(handle)
            raise
        handle.used = time.monotonic()
        if handle.used - handle.opened > LONGEST:
            _close(handle)
        else:
            self._put_back(key, handle)
        return data, kept is None

    def _opened(self, find: Callable[[sqlite3.Connection], int]) -> _Handle:
        connection = sqlite3.connect(
            f"file:{_escaped(self._file)}?mode=ro", uri=True, timeout=self._timeout, check_same_thread=False
        )
        try:
            connection.execute(f"PRAGMA cache_size = {_CACHE}")
            blob = connection.blobopen(
                self._table, self._column, find(connection), readonly=True, name=self._schema or "main"
            )
        except BaseException:
            connection.close()
            raise
        now = time.monotonic()
        return _Handle(connection, blob, now, now)

    def _taken(self, key: Hashable) -> _Handle | None:
        with self._lock:
            free = self._free.get(key)
            if not free:
                return None
            handle = free.pop()
            if not free:
                del self._free[key]
            return handle

    def _put_back(self, key: Hashable, handle: _Handle) -> None:
        with self._lock:
            self._free.setdefault(key, []).append(handle)
            if self._sweeps:
                return
            self._sweeps = True
        threading.Thread(target=self._sweep, name="blobs", daemon=True).start()

    def _sweep(self) -> None:
        """Closes idle handles, until none are left."""
        while True:
            time.sleep(_LOOKED_EVERY)
            now, idle = time.monotonic(), []
            with self._lock:
                for key in list(self._free):
                    kept = [one for one in self._free[key] if now - one.used < IDLE]
                    idle += [one for one in self._free[key] if now - one.used >= IDLE]
                    if kept:
                        self._free[key] = kept
                    else:
                        del self._free[key]
                if not self._free:
                    self._sweeps = False
            for handle in idle:
                _close(handle)
            if not self._sweeps:
                return


def _close(handle: _Handle) -> None:
    handle.blob.close()
    handle.connection.close()


def _escaped(path: str) -> str:
    """A path as SQLite takes it in a URI."""
    return path.replace("%", "%25").replace("?", "%3f").replace("#", "%23")

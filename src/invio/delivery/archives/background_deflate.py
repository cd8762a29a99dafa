"""Deflates contents in the background that an archive had to store, for the next archive."""

from __future__ import annotations

import logging
import threading
from collections import deque
from collections.abc import Iterable
from functools import partial

import sqlalchemy as sa

from invio.core.readable import ContentChanged
from invio.delivery.archives.deflate_cache import DeflateCache
from invio.records.bundles import known_deflated, save_crcs, save_deflated
from invio.records.database import write
from invio.stores.sources import DiskFile

log = logging.getLogger("invio.delivery")

LATER = 1000  # contents that wait, at most


class _Ended(Exception):
    """The service stops; unfinished work is abandoned."""


class BackgroundDeflater:
    """Deflates contents that archives had to store, one at a time, at lower priority than deliveries."""

    def __init__(self, engine: sa.Engine, packing: DeflateCache) -> None:
        self._engine = engine
        self._packing = packing
        self._waiting: deque[tuple[DiskFile, str]] = deque(maxlen=LATER)
        self._wake = threading.Event()
        self._ends = False
        self._thread: threading.Thread | None = None

    def ask(self, some: Iterable[tuple[DiskFile, str]]) -> None:
        """Queues contents for deflating; `some` are files with their tags."""
        self._waiting.extend(some)
        if self._waiting and self._thread is None:
            thread = threading.Thread(target=self._work, name="packing-behind", daemon=True)
            try:
                thread.start()
            except RuntimeError:  # the system gives no thread: the next one who asks may have one
                return
            self._thread = thread
        self._wake.set()

    def _work(self) -> None:
        while not self._ends:
            if not self._waiting:
                self._wake.wait()
                self._wake.clear()
                continue
            source, tag = self._waiting.popleft()
            try:
                self._pack(source, tag)
            except _Ended:
                return
            except (ContentChanged, OSError, sa.exc.SQLAlchemyError) as error:
                log.info("bundle.not-packed", extra={"fields": {"error": str(error)}})

    def _pack(self, source: DiskFile, tag: str) -> None:
        with self._engine.connect() as connection:
            if known_deflated(connection, [tag]):
                return
        made = self._packing.pack(source, self._go_on)
        self._packing.syncing.settle(made.name, partial(self._go_on, 0))
        with write(self._engine).begin() as connection:
            save_crcs(connection, {tag: made.crc})
            save_deflated(connection, {tag: (made.name, None if made.file is None else made.file.size)})

    def _go_on(self, _: int) -> None:
        if self._ends:
            raise _Ended

    def close(self) -> None:
        """Gives up what waits to be deflated."""
        self._ends = True
        self._wake.set()
        if self._thread is not None:
            self._thread.join()

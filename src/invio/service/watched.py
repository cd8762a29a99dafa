"""Files that hold what is in force, read again when they change; a broken one leaves what was before it."""

from __future__ import annotations

import asyncio
import logging
import time
from collections.abc import Callable
from pathlib import Path
from typing import Generic, TypeVar

from invio.core.errors import Unusable

log = logging.getLogger("invio.service")
_LOOKED_EVERY = 1.0  # seconds
T = TypeVar("T")


class Watched(Generic[T]):
    """One file, what it says, and whom to tell when that changes."""

    def __init__(self, what: str, path: Path, read: Callable[[Path], T]) -> None:
        """`what` it holds, for the log.

        Raises:
            Unusable: as `read` does; there is nothing before it that could be left in force.
        """
        self._what = what
        self._read = read
        self.path = path
        self._seen = self._signature()
        self.value = read(path)
        self.since = time.time()  # when it was read, Unix seconds
        self.fault: str | None = None  # what is wrong with the file that came after it

    def _signature(self) -> tuple[int, ...] | None:
        try:
            status = self.path.stat()
        except OSError:
            return None
        return status.st_ino, status.st_size, status.st_mtime_ns

    def look(self) -> bool:
        """Reads the file if it has changed; whether there is something new in force."""
        signature = self._signature()
        if signature == self._seen:
            return False
        self._seen = signature
        try:
            self.value = self._read(self.path)
        except Unusable as error:
            self.fault = str(error)
            log.error(f"{self._what}.broken", extra={"fields": {"error": self.fault, "in_force_since": self.since}})
            return False
        self.since, self.fault = time.time(), None
        log.info(f"{self._what}.read", extra={"fields": {"file": self.path.name}})
        return True

    async def keep(self, tell: Callable[[T], None]) -> None:
        """Runs for the life of the service; `tell` is called in the event loop."""
        while True:
            await asyncio.sleep(_LOOKED_EVERY)
            if await asyncio.to_thread(self.look):
                tell(self.value)

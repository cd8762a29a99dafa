"""Reloading: rules and key files are read again when they change; a broken file leaves the previous one in force."""

from __future__ import annotations

import logging
import time
from collections.abc import Callable
from pathlib import Path
from typing import Generic, TypeVar

from invio.core.errors import ConfigurationError
from invio.service.audit import Audit
from invio.workers.pool import Pool

log = logging.getLogger("invio.service")
T = TypeVar("T")


class Watched(Generic[T]):
    """One file, its parsed content, and the callback for changes."""

    def __init__(self, what: str, path: Path, read: Callable[[Path], T], audit: Audit, reader: Pool) -> None:
        """`what` it holds, for the log and the audit; `reader` has a thread for each file that may hang.

        Raises:
            ConfigurationError: as `read` does; there is nothing before it that could be left in force.
        """
        self._what = what
        self._read = read
        self._audit = audit
        self.path = path
        self._reader = reader
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

    def expire(self) -> None:
        """Forces the next look to read the file, whether it changed or not."""
        self._seen = (-1,)

    def look(self) -> bool:
        """Reads the file if it has changed; returns whether something new is in force."""
        signature = self._signature()
        if signature == self._seen:
            return False
        self._seen = signature
        try:
            self.value = self._read(self.path)
        except Exception as error:  # a file may be odd in any way, and an operator's module raise anything
            self.fault = str(error) if isinstance(error, ConfigurationError) else f"{type(error).__name__}: {error}"
            log.error(f"{self._what}.broken", extra={"fields": {"error": self.fault, "in_force_since": self.since}})
            return False
        self.since, self.fault = time.time(), None
        self._audit(f"{self._what}.read", None, file=self.path.name)
        return True

    async def keep(self, tell: Callable[[T], None]) -> None:
        """Looks at the file; `tell` is called in the event loop when there is something new in force."""
        if await self._reader.run(self.look):
            tell(self.value)


def required(file: Watched[T] | None) -> Watched[T]:
    """A file that every service has, in routes that are not in an application which decides and seals by itself.

    Raises:
        TypeError: there is none.
    """
    if file is None:
        raise TypeError("an application that decides and seals by itself has no such file")
    return file

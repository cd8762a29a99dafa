"""The audit: a line in the log, and in the records, for whatever changes who may have what.

Signing in and failing to, recipients, tokens, passwords, keys, rules and links. Tokens, passwords and seals stand
in none of them. The log has a line at once; the records have it within a second, or when they can be written again.
"""

from __future__ import annotations

import asyncio
import logging
import threading
import time
from collections import deque

from invio.core.files import Caller
from invio.records.audit import AuditLine, add_lines
from invio.records.journal import Journal

log = logging.getLogger("invio.audit")

_WAITING = 10_000  # lines that wait for the records
_FAILED_A_SECOND = 100  # attempts to sign in that are written down: a stranger makes as many as they like
_OF_STRANGERS = ("sign-in.attempt", "sign-in.slowed")


class Audit:
    """Takes lines from any thread, and writes them with the records' journal."""

    def __init__(self) -> None:
        self._waiting: deque[AuditLine] = deque(maxlen=_WAITING)
        self._lock = threading.Lock()
        self._writing = asyncio.Lock()
        self._second, self._attempts = 0, 0

    def __call__(self, event: str, caller: Caller | None, **about: object) -> None:
        """Writes down that `caller` (None: the service itself) did something; `about` says to what."""
        by = None if caller is None else caller.recipient or "anyone"
        network = None if caller is None else caller.network
        credential = None if caller is None else caller.credential
        details = {name: value for name, value in about.items() if value is not None}
        who = {"by": by, "network": network, "credential": credential}
        log.info(event, extra={"fields": {name: value for name, value in who.items() if value is not None} | details})
        now = time.time()
        with self._lock:
            if event in _OF_STRANGERS and not self._has_room(int(now)):
                return
            self._waiting.append(AuditLine(now, event, by, network, credential, details))

    def _has_room(self, second: int) -> bool:
        if second != self._second:
            self._second, self._attempts = second, 0
        self._attempts += 1
        return self._attempts <= _FAILED_A_SECOND

    async def write(self, journal: Journal) -> None:
        """Brings what waits into the records; what could not be written waits on."""
        async with self._writing:  # whoever comes meanwhile waits until what is on its way is written
            with self._lock:
                lines = list(self._waiting)
                self._waiting.clear()
            if not lines:
                return
            try:
                await journal.call(lambda connection: add_lines(connection, lines))
            except BaseException:
                with self._lock:
                    self._waiting.extendleft(reversed(lines))
                raise

"""The rules in force: read again when their file changes; a broken file leaves those before it in force."""

from __future__ import annotations

import asyncio
import logging
import time
from collections.abc import Collection
from pathlib import Path

from invio.core.rules import RuleSet
from invio.core.rules_file import BadRules, read_rules
from invio.delivery.catalogue import Catalogue

log = logging.getLogger("invio.rules")
_LOOKED_EVERY = 1.0  # seconds


class RulesInForce:
    """Watches the rules file of a service."""

    def __init__(self, path: Path, stores: Collection[str]) -> None:
        """Raises BadRules: there is nothing before it that could be left in force."""
        self.path = path
        self._stores = stores
        self._seen = self._signature()
        self.rules = read_rules(path, stores)
        self.since = time.time()  # when these were read, Unix seconds
        self.fault: str | None = None  # what is wrong with a file that came after them

    def _signature(self) -> tuple[int, ...] | None:
        try:
            status = self.path.stat()
        except OSError:
            return None
        return status.st_ino, status.st_size, status.st_mtime_ns

    def look(self) -> RuleSet | None:
        """The rules, if their file has changed and can be used."""
        signature = self._signature()
        if signature == self._seen:
            return None
        self._seen = signature
        try:
            self.rules = read_rules(self.path, self._stores)
        except BadRules as error:
            self.fault = str(error)
            log.error("rules.broken", extra={"fields": {"error": self.fault, "in_force_since": self.since}})
            return None
        self.since, self.fault = time.time(), None
        log.info("rules.read", extra={"fields": {"rules": len(self.rules.rules), "file": self.path.name}})
        return self.rules

    async def keep(self, catalogue: Catalogue) -> None:
        """Runs for the life of the service: has the catalogue decide by what the file says now."""
        while True:
            await asyncio.sleep(_LOOKED_EVERY)
            fresh = await asyncio.to_thread(self.look)
            if fresh is not None:
                catalogue.rules = fresh

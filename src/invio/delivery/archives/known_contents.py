"""What is known of contents by their tags: looked up for some files together, and saved for many together.

Tags are digests, so that the rows of a few files lie all over a table, and are written page by page: five hundred at a
time take three times as long for each as thousands do. With many more, others would wait for the records.
"""

from __future__ import annotations

import time
from collections.abc import Sequence
from concurrent.futures import Future
from dataclasses import dataclass
from typing import NamedTuple

import sqlalchemy as sa

from invio.records.bundles import (
    known_crcs,
    known_deflated,
    known_digests,
    save_crcs,
    save_deflated,
    save_digests,
)
from invio.records.database import write
from invio.workers.pool import Pool, PoolBusy

_MANY = 4000  # contents whose saving is due
# Threads that save, of all plans; where all are taken, the planner saves.
_SAVERS = Pool("saving", 2)
_LONG = 5.0  # seconds after which what was learnt is saved: whoever kills the process loses no more


@dataclass(frozen=True, slots=True)
class Known:
    """What is known of the contents of some files, by their tags; `worth`: those that deflating may make smaller."""

    crcs: dict[str, int]
    digests: dict[str, bytes]
    deflated: dict[str, tuple[str, int | None]]
    worth: frozenset[str] = frozenset()


def look_up(
    engine: sa.Engine, tags: Sequence[str], *, digests: bool, deflated: bool, worth: frozenset[str] = frozenset()
) -> Known:
    """What the records know of contents; `digests` and `deflated` tell whether those are wanted, too."""
    with engine.connect() as connection:
        return Known(
            known_crcs(connection, tags),
            known_digests(connection, tags) if digests else {},
            known_deflated(connection, list(worth)) if deflated else {},
            worth,
        )


class _Computed(NamedTuple):
    """What was computed of contents, by their tags."""

    crcs: dict[str, int]
    digests: dict[str, bytes]
    deflated: dict[str, tuple[str, int | None]]

    def save(self, engine: sa.Engine) -> None:
        if any(self):
            with write(engine).begin() as connection:
                save_crcs(connection, self.crcs)
                save_digests(connection, self.digests)
                save_deflated(connection, self.deflated)


class Learnt:
    """What was computed of contents, by their tags, and is not saved yet.

    What is much is saved while more is computed.
    """

    def __init__(self, engine: sa.Engine) -> None:
        self._engine = engine
        self.crcs: dict[str, int] = {}
        self.digests: dict[str, bytes] = {}
        self.deflated: dict[str, tuple[str, int | None]] = {}
        self._saved = time.monotonic()  # when it was last begun to save it
        self._saving: Future[None] | None = None

    def save_if_due(self) -> None:
        """Begins to save what is much, or was learnt a while ago. Raises what went wrong with what was before."""
        if len(self.crcs) + len(self.digests) < _MANY and time.monotonic() - self._saved <= _LONG:
            return
        self._wait()
        learnt = self._taken()
        try:
            self._saving = _SAVERS.submit(learnt.save, self._engine)
        except PoolBusy:
            learnt.save(self._engine)

    def save(self) -> None:
        """Saves all of it, and returns when it is."""
        self._wait()
        self._taken().save(self._engine)

    def _taken(self) -> _Computed:
        learnt = _Computed(self.crcs, self.digests, self.deflated)
        self.crcs, self.digests, self.deflated = {}, {}, {}
        self._saved = time.monotonic()
        return learnt

    def _wait(self) -> None:
        saving, self._saving = self._saving, None
        if saving is not None:
            saving.result()

"""What is known of contents by their tags: looked up for some files together, and saved for many together.

Tags are digests, so that the rows of a few files lie all over a table, and are written page by page: five hundred at a
time take three times as long for each as thousands do. With many more, others would wait for the records.
"""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import dataclass, field

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

_MANY = 4000  # contents whose saving is due
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


@dataclass(slots=True)
class Learnt:
    """What was computed of contents, by their tags, and is not saved yet."""

    engine: sa.Engine
    crcs: dict[str, int] = field(default_factory=dict)
    digests: dict[str, bytes] = field(default_factory=dict)
    deflated: dict[str, tuple[str, int | None]] = field(default_factory=dict)
    saved: float = field(default_factory=time.monotonic)  # when it was last saved

    def save_if_due(self) -> None:
        """Saves what is much, or was learnt a while ago."""
        if len(self.crcs) + len(self.digests) >= _MANY or time.monotonic() - self.saved > _LONG:
            self.save()

    def save(self) -> None:
        """Saves all of it."""
        if self.crcs or self.digests or self.deflated:
            with write(self.engine).begin() as connection:
                save_crcs(connection, self.crcs)
                save_digests(connection, self.digests)
                save_deflated(connection, self.deflated)
            for learnt in (self.crcs, self.digests, self.deflated):
                learnt.clear()
        self.saved = time.monotonic()

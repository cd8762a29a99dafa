"""Facts of the records themselves: their id, and the last seen clock.

A store knows its records by the id (see invio.stores.managed); the last clock shows whether time has jumped.
"""

from __future__ import annotations

import secrets
import time
from dataclasses import dataclass

import sqlalchemy as sa

from invio.records.tables import facts

_ID = "records"
_CLOCK, _DISTRUSTED = "clock", "clock-distrusted"
# A service may have been stopped for days; a wrong clock is usually wrong by more.
JUMP = 2 * 86_400.0  # seconds
_TRUSTED_AFTER = 168  # looks, an hour apart, after which a clock that jumped is believed


def fact(connection: sa.Connection, name: str) -> str | None:
    """A fact by its name."""
    value: str | None = connection.execute(sa.select(facts.c.value).where(facts.c.name == name)).scalar()
    return value


def save_fact(connection: sa.Connection, name: str, value: str) -> None:
    """Saves a fact, replacing the one before it."""
    connection.execute(sa.insert(facts).prefix_with("OR REPLACE").values(name=name, value=value))


def records_id(connection: sa.Connection) -> str:
    """The records' id, wherever they lie; created on first use."""
    known = fact(connection, _ID)
    if known is None:
        known = secrets.token_hex(8)
        save_fact(connection, _ID, known)
    return known


@dataclass(frozen=True, slots=True)
class Clock:
    """The clock's state: whether retention may trust it, and by how many seconds it has jumped."""

    trusted: bool
    jumped: float = 0.0


def look_at_clock(connection: sa.Connection, now: float | None = None) -> Clock:
    """Compares the clock with the last seen one. Call it at the start and every hour.

    A clock that is days ahead would expire everything. So nothing is deleted after a jump until the service has run for
    a week by the new time: long enough for somebody to see the warning.
    """
    now = time.time() if now is None else now
    seen = fact(connection, _CLOCK)
    left = int(fact(connection, _DISTRUSTED) or 0)
    jumped = 0.0 if seen is None else now - float(seen)
    if abs(jumped) > JUMP:
        left = _TRUSTED_AFTER
    else:
        jumped, left = 0.0, max(0, left - 1)
    save_fact(connection, _CLOCK, repr(now))
    save_fact(connection, _DISTRUSTED, str(left))
    return Clock(left == 0, jumped)

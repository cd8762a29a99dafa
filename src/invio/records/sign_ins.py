"""Failed sign-ins in the records, so that all processes count alike, and the devices that signed in before.

An attempt is counted before its password is looked at, and taken back when it was right: a hundred at once are
a hundred attempts.
"""

from __future__ import annotations

import secrets
import time
from collections.abc import Sequence

import sqlalchemy as sa

from invio.core.sign_ins import FORGOTTEN, Count, Counter, wait_for
from invio.records.recipients import hashed
from invio.records.tables import known_devices, sign_in_attempts

DEVICE_LIFE = 180 * 86_400  # seconds


class MustWait(Exception):
    """There were too many attempts; the next one may be made in `seconds`."""

    def __init__(self, seconds: float) -> None:
        super().__init__(seconds)
        self.seconds = seconds


def attempt(connection: sa.Connection, counters: Sequence[Counter]) -> None:
    """Counts one attempt. Raises MustWait, and has counted nothing then."""
    now, held = time.time(), sign_in_attempts.c
    rows = connection.execute(sa.select(sign_in_attempts).where(held.key.in_([one.key for one in counters])))
    counts = {row.key: Count(row.attempts, row.last) for row in rows}
    wait = max(wait_for(one, counts.get(one.key, Count()), now) for one in counters)
    if wait:
        raise MustWait(wait)
    for one in counters:
        before = counts.get(one.key, Count())
        attempts = before.attempts + 1 if 0 <= now - before.last < FORGOTTEN else 1
        row = {"key": one.key, "attempts": attempts, "last": now}
        connection.execute(sa.insert(sign_in_attempts).prefix_with("OR REPLACE").values(row))
    connection.execute(sa.delete(sign_in_attempts).where(held.last < now - FORGOTTEN))


def succeeded(connection: sa.Connection, counters: Sequence[Counter]) -> None:
    """Takes back a successful attempt, and forgives the account's earlier failures."""
    held = sign_in_attempts.c
    for one in counters:
        if one.key.startswith("network:"):
            fewer = sa.update(sign_in_attempts).where(held.key == one.key, held.attempts > 0)
            connection.execute(fewer.values(attempts=held.attempts - 1))
        else:
            connection.execute(sa.delete(sign_in_attempts).where(held.key == one.key))


def device_of(connection: sa.Connection, secret: str, recipient: str) -> str | None:
    """The id of a device that signed in as this recipient before; None for any other device."""
    held = known_devices.c
    query = sa.select(held.hash).where(
        held.hash == hashed(secret), held.recipient == recipient, held.used > time.time() - DEVICE_LIFE
    )
    found: str | None = connection.execute(query).scalar()
    return found


def know_device(connection: sa.Connection, recipient: str, secret: str | None) -> str:
    """Remembers a device, by its secret or a new one; returns the secret."""
    now = time.time()
    connection.execute(sa.delete(known_devices).where(known_devices.c.used < now - DEVICE_LIFE))
    if secret is None:
        secret = secrets.token_urlsafe(32)
    row = {"hash": hashed(secret), "recipient": recipient, "used": now}
    connection.execute(sa.insert(known_devices).prefix_with("OR REPLACE").values(row))
    return secret


def forget_devices(connection: sa.Connection, recipient: str) -> None:
    """Forgets all devices of a recipient."""
    connection.execute(sa.delete(known_devices).where(known_devices.c.recipient == recipient))

"""The keys that sign receipts: in the records, so that every process signs with the same, and a backup has them."""

from __future__ import annotations

import time

import sqlalchemy as sa

from invio.records.tables import signing_keys


def signing_keys_of(connection: sa.Connection) -> list[bytes]:
    """The raw private keys, the newest first: that one signs, and the others still prove what they signed."""
    query = sa.select(signing_keys.c.raw).order_by(signing_keys.c.id.desc())
    return [bytes(raw) for raw in connection.execute(query).scalars()]


def first_signing_key(connection: sa.Connection, raw: bytes) -> list[bytes]:
    """Saves `raw` if there is no key yet; returns all keys."""
    if not signing_keys_of(connection):
        add_signing_key(connection, raw)
    return signing_keys_of(connection)


def add_signing_key(connection: sa.Connection, raw: bytes) -> None:
    """Saves `raw` as the newest key, which signs from now on."""
    connection.execute(sa.insert(signing_keys).values(raw=raw, created=time.time()))


def remove_signing_key(connection: sa.Connection, raw: bytes) -> None:
    """Removes a key: what it signed is no longer proved."""
    connection.execute(sa.delete(signing_keys).where(signing_keys.c.raw == raw))

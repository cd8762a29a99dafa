"""Recipients, their tokens and their console sessions. Secrets are stored hashed, never as such."""

from __future__ import annotations

import hashlib
import secrets
import time
from collections.abc import Iterable
from dataclasses import dataclass

import sqlalchemy as sa

from invio.records.tables import recipients, sessions, tokens

SESSION_LIFE = 12 * 3600  # seconds


@dataclass(frozen=True, slots=True)
class Recipient:
    id: str
    name: str
    groups: frozenset[str]


def hashed(secret: str) -> str:
    """SHA-256, hexadecimal: what the records keep of a token or a session."""
    return hashlib.sha256(secret.encode("utf-8", "surrogateescape")).hexdigest()


def save_recipient(connection: sa.Connection, recipient_id: str, name: str, groups: Iterable[str]) -> None:
    """Adds a recipient, or gives an existing one this name and these groups."""
    values = {"name": name, "groups": sorted(groups)}
    found = connection.execute(sa.update(recipients).where(recipients.c.id == recipient_id).values(values))
    if not found.rowcount:
        connection.execute(sa.insert(recipients).values(id=recipient_id, created=time.time(), **values))


def add_token(connection: sa.Connection, recipient_id: str, label: str) -> str:
    """Makes a token for a recipient and gives it, for the only time."""
    token = secrets.token_urlsafe(32)
    connection.execute(
        sa.insert(tokens).values(hash=hashed(token), recipient=recipient_id, label=label, created=time.time())
    )
    return token


def recipient_of_token(connection: sa.Connection, token: str) -> Recipient | None:
    return _recipient(
        connection,
        sa.select(recipients).join(tokens, tokens.c.recipient == recipients.c.id).where(tokens.c.hash == hashed(token)),
    )


def recipient_named(connection: sa.Connection, recipient_id: str) -> Recipient | None:
    return _recipient(connection, sa.select(recipients).where(recipients.c.id == recipient_id))


def all_recipients(connection: sa.Connection) -> list[Recipient]:
    """Everybody, in the order of their ids."""
    rows = connection.execute(sa.select(recipients).order_by(recipients.c.id))
    return [Recipient(row.id, row.name, frozenset(row.groups)) for row in rows]


def open_session(connection: sa.Connection, recipient_id: str) -> str:
    """Makes a session for a recipient and gives the secret for the cookie."""
    secret = secrets.token_urlsafe(32)
    now = time.time()
    connection.execute(sa.delete(sessions).where(sessions.c.expires < now))
    connection.execute(
        sa.insert(sessions).values(hash=hashed(secret), recipient=recipient_id, created=now, expires=now + SESSION_LIFE)
    )
    return secret


def recipient_of_session(connection: sa.Connection, secret: str) -> Recipient | None:
    return _recipient(
        connection,
        sa.select(recipients)
        .join(sessions, sessions.c.recipient == recipients.c.id)
        .where(sessions.c.hash == hashed(secret), sessions.c.expires > time.time()),
    )


def close_session(connection: sa.Connection, secret: str) -> None:
    connection.execute(sa.delete(sessions).where(sessions.c.hash == hashed(secret)))


def _recipient(connection: sa.Connection, query: sa.Select[tuple[object, ...]]) -> Recipient | None:
    row = connection.execute(query).first()
    return None if row is None else Recipient(row.id, row.name, frozenset(row.groups))

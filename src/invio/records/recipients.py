"""Recipients, their tokens and their console sessions. Secrets are stored hashed, never as such."""

from __future__ import annotations

import hashlib
import secrets
import time
from collections.abc import Iterable
from dataclasses import dataclass, replace
from typing import Any

import sqlalchemy as sa

from invio.core.moments import timestamp
from invio.records.tables import audit_lines, known_devices, recipients, sessions, tokens, transfers

BY_PASSWORD = "password"  # what the history says of a session that was opened with one
_SESSION_LIFE = 12 * 3600  # seconds
_TOKEN_ID = 12  # characters of its hash by which a token is called
_USED_TO = 60.0  # seconds, to which it is known when a token was last used


@dataclass(frozen=True, slots=True)
class Recipient:
    """Somebody known here, or by an identity provider's word."""

    id: str
    name: str
    groups: frozenset[str]
    disabled: float | None = None  # since when, Unix seconds
    credential: str | None = None  # what told that it is this one, in words for the history


@dataclass(frozen=True, slots=True)
class TokenFacts:
    """What is known of a token, which itself is not. Times in Unix seconds."""

    id: str
    recipient: str
    label: str
    created: float
    expires: float | None
    used: float | None


@dataclass(frozen=True, slots=True)
class Session:
    """A console session that was opened: the secret for the cookie, and for how many seconds it holds."""

    secret: str
    seconds: int


def hashed(secret: str) -> str:
    """SHA-256, hexadecimal: what the records keep of a token or a session."""
    return hashlib.sha256(secret.encode("utf-8", "surrogateescape")).hexdigest()


def save_recipient(connection: sa.Connection, recipient_id: str, name: str, groups: Iterable[str]) -> None:
    """Adds a recipient, or gives an existing one this name and these groups."""
    values = {"name": name, "groups": sorted(groups)}
    found = connection.execute(sa.update(recipients).where(recipients.c.id == recipient_id).values(values))
    if not found.rowcount:
        connection.execute(sa.insert(recipients).values(id=recipient_id, created=time.time(), **values))


def add_token(connection: sa.Connection, recipient_id: str, label: str, expires: float | None = None) -> str:
    """Makes a token for a recipient and gives it, for the only time. `expires` in Unix seconds."""
    token = secrets.token_urlsafe(32)
    connection.execute(
        sa.insert(tokens).values(
            hash=hashed(token), recipient=recipient_id, label=label, created=time.time(), expires=expires
        )
    )
    return token


def token_id(token: str) -> str:
    """A token's public id."""
    return hashed(token)[:_TOKEN_ID]


def tokens_of(connection: sa.Connection, recipient_id: str) -> list[TokenFacts]:
    """A recipient's tokens, the newest first."""
    rows = connection.execute(
        sa.select(tokens)
        .where(tokens.c.recipient == recipient_id, tokens.c.ended.is_(None))
        .order_by(tokens.c.created.desc())
    )
    return [
        TokenFacts(row.hash[:_TOKEN_ID], row.recipient, row.label, row.created, row.expires, row.used) for row in rows
    ]


def end_token(connection: sa.Connection, recipient_id: str, called: str) -> bool:
    """Ends a token by its id, and the sessions opened with it; returns whether there was one."""
    if len(called) != _TOKEN_ID or not called.isalnum():
        return False
    its = sa.and_(tokens.c.recipient == recipient_id, tokens.c.hash.startswith(called), tokens.c.ended.is_(None))
    ended = connection.execute(sa.update(tokens).where(its).values(ended=time.time()))
    held = sessions.c
    opened = sa.or_(held.opened_by == _token_said(called, ""), held.opened_by.startswith(_token_said(called, "") + " "))
    connection.execute(sa.delete(sessions).where(held.recipient == recipient_id, opened))
    return bool(ended.rowcount)


def _token_said(called: str, label: str) -> str:
    """A token as the history names it: its id and label, without separators."""
    seen = " ".join("".join(sign if sign.isprintable() else " " for sign in label).replace(";", ",").split())
    return f"token {called} ({seen})" if seen else f"token {called}"


def disable(connection: sa.Connection, recipient_id: str, *, disabled: bool) -> bool:
    """Disables or enables a recipient, with their tokens and sessions; returns whether there is one."""
    since = time.time() if disabled else None
    changed = connection.execute(sa.update(recipients).where(recipients.c.id == recipient_id).values(disabled=since))
    if disabled:  # an open session must not continue when they are enabled again
        connection.execute(sa.delete(sessions).where(sessions.c.recipient == recipient_id))
    return bool(changed.rowcount)


def remove(connection: sa.Connection, recipient_id: str) -> bool:
    """Removes a recipient with their personal data; returns whether there was one.

    That are the name, groups, password, tokens, sessions and devices, and in the history the network addresses and the
    names of tokens. What they obtained stays in the history, by the id; links that they had made are revoked.
    """
    for table in (tokens, sessions, known_devices):
        connection.execute(sa.delete(table).where(table.c.recipient == recipient_id))
    theirs = sa.update(transfers).where(transfers.c.recipient == recipient_id)
    connection.execute(theirs.values(network=None, credential=None))
    connection.execute(sa.update(audit_lines).where(audit_lines.c.by == recipient_id).values(network=None))
    # Of what was done to them, the names that they, or somebody for them, gave.
    about = audit_lines.c.about
    connection.execute(
        sa.update(audit_lines)
        .where(sa.func.json_extract(about, "$.recipient") == recipient_id)
        .values(about=sa.func.json_remove(about, "$.label", "$.name"))
    )
    return bool(connection.execute(sa.delete(recipients).where(recipients.c.id == recipient_id)).rowcount)


def set_password(connection: sa.Connection, recipient_id: str, kept: str | None) -> bool:
    """Keeps the hash of a password, or none; and ends the recipient's sessions. Whether there is such a recipient."""
    changed = connection.execute(sa.update(recipients).where(recipients.c.id == recipient_id).values(password=kept))
    connection.execute(sa.delete(sessions).where(sessions.c.recipient == recipient_id))
    return bool(changed.rowcount)


def signed_in_lately(connection: sa.Connection, secret: str, seconds: float) -> bool:
    """Whether a session was opened with a password within the last `seconds`."""
    held = sessions.c
    query = sa.select(held.created).where(held.hash == hashed(secret), held.opened_by == BY_PASSWORD)
    created: float | None = connection.execute(query).scalar()
    return created is not None and 0 <= time.time() - created < seconds


def password_of(connection: sa.Connection, recipient_id: str) -> str | None:
    """The hash of a recipient's password; None when there is none, or the recipient is disabled."""
    held = recipients.c
    query = sa.select(held.password).where(held.id == recipient_id, held.disabled.is_(None))
    kept: str | None = connection.execute(query).scalar()
    return kept


def recipient_of_token(connection: sa.Connection, token: str) -> Recipient | None:
    """The recipient of a token, if the token is valid."""
    found = connection.execute(
        sa.select(recipients, tokens.c.hash, tokens.c.label)
        .join(tokens, tokens.c.recipient == recipients.c.id)
        .where(
            tokens.c.hash == hashed(token),
            recipients.c.disabled.is_(None),
            tokens.c.ended.is_(None),
            sa.or_(tokens.c.expires.is_(None), tokens.c.expires > time.time()),
        )
    ).first()
    return None if found is None else replace(_read(found), credential=_token_said(found.hash[:_TOKEN_ID], found.label))


def why_refused(connection: sa.Connection, token: str) -> str:
    """Why a token is invalid, in words for its holder."""
    found = connection.execute(
        sa.select(tokens.c.expires, tokens.c.ended, recipients.c.id, recipients.c.disabled)
        .join(recipients, tokens.c.recipient == recipients.c.id)
        .where(tokens.c.hash == hashed(token))
    ).first()
    if found is None:
        return "no such access token is known here; check that all of it was copied"
    if found.disabled is not None:
        return f"{found.id} is disabled and cannot sign in; ask an administrator"
    if found.ended is not None:
        return f"this access token of {found.id} was revoked on {_day(found.ended)}; ask an administrator for another"
    if found.expires is not None and found.expires <= time.time():
        return f"this access token of {found.id} expired on {_day(found.expires)}; ask an administrator for another"
    return "the access token holds by now; send it again"


def _day(moment: float) -> str:
    return f"{timestamp(moment)[:16].replace('T', ' ')} UTC"


def note_use(connection: sa.Connection, token: str) -> None:
    """Notes that a token was used, unless that was noted within the minute."""
    now = time.time()
    lately = sa.or_(tokens.c.used.is_(None), tokens.c.used < now - _USED_TO)
    connection.execute(sa.update(tokens).where(tokens.c.hash == hashed(token), lately).values(used=now))


def recipient_named(connection: sa.Connection, recipient_id: str) -> Recipient | None:
    """A recipient by their id, disabled or not; None where there is none."""
    return _recipient(connection, sa.select(recipients).where(recipients.c.id == recipient_id))


def all_recipients(connection: sa.Connection) -> list[Recipient]:
    """Everybody, in the order of their ids."""
    rows = connection.execute(sa.select(recipients).order_by(recipients.c.id))
    return [_read(row) for row in rows]


def open_session(connection: sa.Connection, recipient_id: str, token: str | None = None) -> Session | None:
    """Makes a session for a recipient, who gave a token or else a password.

    It ends with the token, if that does so earlier; None when the token has ended.
    """
    secret = secrets.token_urlsafe(32)
    now = time.time()
    expires, opened_by = now + _SESSION_LIFE, BY_PASSWORD
    if token is not None:
        held = sa.and_(tokens.c.hash == hashed(token), tokens.c.ended.is_(None))
        facts = connection.execute(sa.select(tokens).where(held)).first()
        if facts is None:
            return None
        expires, opened_by = min(expires, facts.expires or expires), _token_said(facts.hash[:_TOKEN_ID], facts.label)
    connection.execute(sa.delete(sessions).where(sessions.c.expires < now))
    connection.execute(
        sa.insert(sessions).values(
            hash=hashed(secret), recipient=recipient_id, created=now, expires=expires, opened_by=opened_by
        )
    )
    return Session(secret, round(expires - now))


def recipient_of_session(connection: sa.Connection, secret: str) -> Recipient | None:
    """The recipient of a session; None when it has ended, or the recipient is disabled."""
    found = connection.execute(
        sa.select(recipients, sessions.c.opened_by)
        .join(sessions, sessions.c.recipient == recipients.c.id)
        .where(sessions.c.hash == hashed(secret), sessions.c.expires > time.time(), recipients.c.disabled.is_(None))
    ).first()
    if found is None:
        return None
    return replace(_read(found), credential=f"session by {found.opened_by}" if found.opened_by else "session")


@dataclass(frozen=True, slots=True)
class OpenSession:
    """A valid session, without its secret. Times in Unix seconds."""

    id: str
    created: float
    expires: float
    opened_by: str | None


def sessions_of(connection: sa.Connection, recipient_id: str) -> list[OpenSession]:
    """A recipient's valid sessions, the newest first."""
    held = sessions.c
    query = sa.select(held.hash, held.created, held.expires, held.opened_by).where(
        held.recipient == recipient_id, held.expires > time.time()
    )
    rows = connection.execute(query.order_by(held.created.desc()))
    return [OpenSession(digest[:_TOKEN_ID], created, expires, by) for digest, created, expires, by in rows]


def close_sessions(connection: sa.Connection, recipient_id: str) -> int:
    """Ends all sessions of a recipient; gives how many there were."""
    return connection.execute(sa.delete(sessions).where(sessions.c.recipient == recipient_id)).rowcount


def close_session(connection: sa.Connection, secret: str) -> None:
    """Ends a session."""
    connection.execute(sa.delete(sessions).where(sessions.c.hash == hashed(secret)))


def _recipient(connection: sa.Connection, query: sa.Select[tuple[object, ...]]) -> Recipient | None:
    row = connection.execute(query).first()
    return None if row is None else _read(row)


def _read(row: Any) -> Recipient:
    return Recipient(row.id, row.name, frozenset(row.groups), row.disabled)

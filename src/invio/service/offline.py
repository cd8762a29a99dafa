"""What an operator does on the service's own machine, with its records and without asking it.

Whoever may write to the records may do all of this anyway; it is how the first administrator is made, and how one who
lost their token gets in again.
"""

from __future__ import annotations

import time
from collections.abc import Collection, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import sqlalchemy as sa

from invio.core.errors import ConfigurationError
from invio.core.moments import timestamp
from invio.records import recipients as records
from invio.records import signing_keys
from invio.records.audit import AuditLine, add_lines
from invio.records.database import open_database, write
from invio.service.settings import Settings, read_settings

_CREDENTIAL = "the service's own machine"


class NotDone(ConfigurationError):
    """It cannot be done as asked; the message says why and what to do."""


def add_recipient(settings: Path, recipient: str, name: str | None, groups: Collection[str]) -> dict[str, Any]:
    """Adds a recipient to the records. Raises NotDone: there is one of that id; BadSettings."""
    with _records(read_settings(settings)) as connection:
        if records.recipient_named(connection, recipient) is not None:
            raise NotDone(f"there is a recipient {recipient} already, and nothing was changed")
        records.save_recipient(connection, recipient, name or recipient, groups)
        _note(connection, "recipient.saved", recipient=recipient, groups=sorted(groups))
    return {"id": recipient, "name": name or recipient, "groups": sorted(groups)}


def make_token(settings: Path, recipient: str, label: str, until: int | None) -> dict[str, Any]:
    """Makes a token for a recipient of the records; `until` in Unix seconds. Raises NotDone, BadSettings."""
    with _records(read_settings(settings)) as connection:
        if records.recipient_named(connection, recipient) is None:
            known = ", ".join(one.id for one in records.all_recipients(connection)[:20]) or "nobody"
            raise NotDone(f"there is no recipient {recipient} in these records, which know {known}")
        token = records.add_token(connection, recipient, label, until)
        called = records.token_id(token)
        _note(connection, "token.made", recipient=recipient, token=called, label=label)
    expires = None if until is None else timestamp(until)
    return {"id": called, "label": label, "expires": expires, "token": token}


def make_signing_key(settings: Path) -> dict[str, Any]:
    """Makes the key that signs receipts and webhooks from now on. Raises BadSettings, NotDone: there are no records."""
    from invio.core.signing import SigningKey

    new = SigningKey.new()
    with _records(read_settings(settings)) as connection:
        earlier = [SigningKey(raw).public()["kid"] for raw in signing_keys.signing_keys_of(connection)]
        signing_keys.add_signing_key(connection, new.raw)
        _note(connection, "signing-key.made", key=new.public()["kid"])
    return {"id": new.public()["kid"], "earlier": earlier}


def withdraw_signing_key(settings: Path, called: str) -> None:
    """Withdraws a key by its id (`kid`): what it signed is no longer proved by the service's public keys.

    Raises:
        NotDone: there is none of that id, or it is the one that signs; BadSettings.
    """
    from invio.core.signing import SigningKey

    with _records(read_settings(settings)) as connection:
        keys = {SigningKey(raw).public()["kid"]: raw for raw in signing_keys.signing_keys_of(connection)}
        if called not in keys:
            raise NotDone(f"there is no signing key {called!r}; keys are {', '.join(keys) or 'none yet'}")
        if called == next(iter(keys)):
            raise NotDone(f"{called} signs now; make another first, with 'invio receipt new-key'")
        signing_keys.remove_signing_key(connection, keys[called])
        _note(connection, "signing-key.withdrawn", key=called)


@contextmanager
def _records(settings: Settings) -> Iterator[sa.Connection]:
    """The records of a service that may be running."""
    if not settings.database.parent.is_dir():
        said = f"{settings.database.parent}: there is no data folder; correct 'data' in the settings"
        raise NotDone(f"{said}, or start the service once")
    engine = open_database(settings.database)
    try:
        with write(engine).begin() as connection:
            yield connection
    finally:
        engine.dispose()


def _note(connection: sa.Connection, event: str, **about: object) -> None:
    add_lines(connection, [AuditLine(time.time(), event, None, None, _CREDENTIAL, about)])

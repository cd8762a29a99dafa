"""Bundles in the records: a selection, not an archive; and the CRCs that archives need."""

from __future__ import annotations

import secrets
import time
from collections.abc import Sequence
from dataclasses import dataclass

import sqlalchemy as sa

from invio.records.tables import bundles, checksums

BUNDLE_LIFE = 24 * 3600  # seconds


@dataclass(frozen=True, slots=True)
class BundleRecord:
    """`files` are addresses of files and folders as they were asked for; `expires` in Unix seconds."""

    id: str
    recipient: str | None
    name: str
    files: tuple[str, ...]
    expires: float


def save_bundle(connection: sa.Connection, recipient: str | None, name: str, files: Sequence[str]) -> BundleRecord:
    """Keeps a selection; its id cannot be guessed. Selections that are over are dropped."""
    now = time.time()
    record = BundleRecord(secrets.token_urlsafe(16), recipient, name, tuple(files), now + BUNDLE_LIFE)
    connection.execute(sa.delete(bundles).where(bundles.c.expires < now))
    connection.execute(
        sa.insert(bundles).values(
            id=record.id, recipient=recipient, name=name, files=list(files), created=now, expires=record.expires
        )
    )
    return record


def bundle_named(connection: sa.Connection, bundle_id: str) -> BundleRecord | None:
    """The selection, unless it is over."""
    row = connection.execute(
        sa.select(bundles).where(bundles.c.id == bundle_id, bundles.c.expires > time.time())
    ).first()
    return None if row is None else BundleRecord(row.id, row.recipient, row.name, tuple(row.files), row.expires)


def known_crcs(connection: sa.Connection, tags: Sequence[str]) -> dict[str, int]:
    """CRC-32 by content tag, for those of `tags` that are known."""
    known: dict[str, int] = {}
    for begin in range(0, len(tags), 500):
        query = sa.select(checksums).where(checksums.c.tag.in_(tags[begin : begin + 500]))
        known.update({row.tag: row.crc for row in connection.execute(query)})
    return known


def save_crcs(connection: sa.Connection, crcs: dict[str, int]) -> None:
    if crcs:
        rows = [{"tag": tag, "crc": crc} for tag, crc in crcs.items()]
        connection.execute(sa.insert(checksums).prefix_with("OR IGNORE"), rows)

"""SHA-256 of contents in the records, each by the tag that changes with the content."""

from __future__ import annotations

import sqlalchemy as sa

from invio.records.tables import digests


def known_digest(connection: sa.Connection, tag: str) -> bytes | None:
    """The 32 bytes, or None."""
    found = connection.execute(sa.select(digests.c.sha256).where(digests.c.tag == tag)).scalar()
    return None if found is None else bytes(found)


def save_digest(connection: sa.Connection, tag: str, sha256: bytes) -> None:
    connection.execute(sa.insert(digests).prefix_with("OR IGNORE").values(tag=tag, sha256=sha256))

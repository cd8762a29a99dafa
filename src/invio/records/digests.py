"""SHA-256 of contents in the records, each by the tag that changes with the content."""

from __future__ import annotations

import sqlalchemy as sa

from invio.records.database import select_row, write
from invio.records.tables import digests


class RecordedDigests:
    """Digests that every process knows, now and later."""

    def __init__(self, engine: sa.Engine) -> None:
        self._engine = engine

    def known(self, tag: str) -> bytes | None:
        """The 32 bytes of the content with this tag, if they are known."""
        found = select_row(self._engine, "SELECT sha256 FROM digests WHERE tag = ?", tag)
        return None if found is None else bytes(found[0])

    def save(self, tag: str, sha256: bytes) -> None:
        """Keeps a digest. Raises OSError: the records cannot be written."""
        try:
            with write(self._engine).begin() as connection:
                connection.execute(sa.insert(digests).prefix_with("OR IGNORE").values(tag=tag, sha256=sha256))
        except sa.exc.SQLAlchemyError as error:
            raise OSError(f"the digest cannot be recorded: {error}") from error

"""A table that files can be put into: a row is added or replaced in one transaction, or nothing is changed."""

from __future__ import annotations

import os
import tempfile
import time
from datetime import UTC, datetime
from typing import Any

import sqlalchemy as sa

from invio.core.addresses import Address
from invio.core.versions import PathConflict, Putting
from invio.stores.arriving import Arriving
from invio.stores.store import Found, Missing, StoreFault
from invio.stores.table import Ambiguous, TableStore

_PIECE = 1024 * 1024  # bytes
# What other databases than SQLite are given in one statement, and so is in memory once, or twice. Bytes.
_LARGEST = 256 * 1024 * 1024


class WritableTableStore(TableStore):
    """A `TableStore` that takes files."""

    def _use_text(self) -> None:
        said = f"the column {self._columns.content!r} is text, and files may be any bytes; make it bytea"
        raise StoreFault(f"store {self.name!r}: {said}, or leave 'writable' out")

    @property
    def describes(self) -> bool:
        """Whether there is a column for it."""
        return self._columns.description is not None

    def begin(self) -> Arriving:
        """A content that is to become the file; until all of it has arrived it is a nameless file. Raises OSError."""
        return Arriving(os.fsencode(tempfile.gettempdir()), 0o600)

    def put(self, address: Address, arriving: Arriving, putting: Putting) -> tuple[Found, bool]:
        """Makes what has arrived the row's content; see `invio.stores.store.WritableStore`.

        The columns for size, time, digest, media type, description and who put it are written as well, where they are
        named in the settings; others are left as they are, and of a new row to their defaults.
        """
        if self._blobs is None and arriving.size > _LARGEST:
            raise StoreFault(f"store {self.name!r}: {self._dialect} takes {_LARGEST} bytes at most by this way")
        new = self._asked(lambda: self._put(address, arriving, putting))
        self.forget(address)
        return self.locate(address), new

    def remove(self, address: Address, number: int | None, putting: Putting) -> int:
        """Removes the row. Raises Missing, Refusal (`precondition`)."""
        if number is not None:
            raise Missing(str(address))

        def work() -> None:
            with self._engine.begin() as connection:
                before = self._facts(connection, address, self._row(connection, address))
                putting.check(address, before)
                connection.execute(sa.delete(self._table).where(self._keys.equals(address.path)))

        self._asked(work)
        self.forget(address)
        return 1

    def _put(self, address: Address, arriving: Arriving, putting: Putting) -> bool:
        with self._engine.begin() as connection:
            if self._dialect == "sqlite":
                connection.exec_driver_sql("BEGIN IMMEDIATE")  # nobody writes between what is read and what is written
            try:
                before = self._facts(connection, address, self._row(connection, address))
            except Ambiguous:
                raise StoreFault(f"store {self.name!r}: {address.path!r} is the key of several rows") from None
            except Missing:
                before = None
            putting.check(address, before)
            if before is None:
                self._require_place(connection, address)
            values = self._said(arriving, putting)
            if self._dialect == "sqlite":
                values[self._columns.content] = sa.func.zeroblob(arriving.size)
            else:
                values[self._columns.content] = _whole(arriving)
            if before is None:
                connection.execute(
                    sa.insert(self._table).values({self._columns.key: self._keys.value(address.path), **values})
                )
            else:
                connection.execute(sa.update(self._table).where(self._keys.equals(address.path)).values(values))
            if self._dialect == "sqlite" and arriving.size:
                self._fill(connection, address, arriving)
            return before is None

    def _require_place(self, connection: sa.Connection, address: Address) -> None:
        """Raises PathConflict, where the path is a folder's, or lies below a file."""
        parts = address.path.split("/")
        above = ["/".join(parts[:count]) for count in range(1, len(parts))]
        keys = self._keys
        taken = sa.or_(keys.below(Address(address.store, address.path + "/")), keys.text.in_(above))
        if connection.execute(sa.select(keys.text).where(taken).limit(1)).first() is not None:
            raise PathConflict(str(address))

    def _said(self, arriving: Arriving, putting: Putting) -> dict[str, Any]:
        """What the columns beside the content get."""
        columns, now = self._columns, datetime.now(UTC)
        given: dict[str | None, Any] = {
            columns.size: arriving.size,
            columns.modified: self._time(now),
            columns.digest: arriving.sha256.hex(),
            columns.media_type: putting.media_type,
            columns.description: putting.description,
            columns.by: putting.by,
        }
        return {name: value for name, value in given.items() if name is not None}

    def _time(self, now: datetime) -> object:
        """The time as the column has it: as a time where it is one, else as seconds or as text."""
        if self._columns.modified is None:
            return None
        kind = (self._types or {}).get(self._columns.modified)
        if isinstance(kind, sa.DateTime):
            return now if kind.timezone else now.replace(tzinfo=None)
        return time.time() if isinstance(kind, sa.Numeric | sa.Integer) else now.isoformat(timespec="milliseconds")

    def _fill(self, connection: sa.Connection, address: Address, arriving: Arriving) -> None:
        """Writes the content into the place that was made for it, a piece at a time."""
        driver: Any = connection.connection.driver_connection
        rowid = self._rowid(driver, address)
        with driver.blobopen(self._table.name, self._columns.content, rowid, name=self._table.schema or "main") as blob:
            for piece in arriving.pieces(_PIECE):
                blob.write(piece)


def _whole(arriving: Arriving) -> bytes:
    return b"".join(arriving.pieces(_PIECE))

"""Files in a table of the developer's own database: one row each, with the content in a column.

Where the database is SQLite, a content is read by the library's own handle on it, a piece at a time (`blobs`).
Elsewhere each piece is one `substring`. Nothing ever holds more of a content than a piece.

What tells one content from another (the file's tag) is made of the digest and the time that columns hold, the length,
and what the database itself knows of a row. That is `xmin` of PostgreSQL, which every change of a row changes; of
SQLite, some samples of the content, because a time that the application forgot to renew must not pass one content off
as another.
"""

from __future__ import annotations

import hashlib
import logging
import sqlite3
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from datetime import UTC, date, datetime
from decimal import Decimal
from itertools import islice
from typing import Any, cast

import sqlalchemy as sa

from invio.core.addresses import Address, BadAddress, parse_address, parse_file_address
from invio.core.files import FileFacts
from invio.core.memory import Memory
from invio.core.readable import ContentChanged
from invio.core.toml import did_you_mean
from invio.stores.blobs import Blobs
from invio.stores.blocking import BlockingStore, Reading, place_of
from invio.stores.store import Missing, StoreFault
from invio.stores.table_keys import Keys, as_text

log = logging.getLogger("invio.stores")

# In small pieces, few ahead: a content in a database is near, and a reader of it is to cost little memory.
_PIECE = 1024 * 1024  # bytes
_SAMPLES, _SAMPLE = 16, 512  # pieces of a content, of so many bytes, that tell whether it was replaced
# What the database itself knows a row by: SQLite its number, PostgreSQL the transaction that wrote it.
_ROW_MARKS = {"sqlite": "rowid", "postgresql": "xmin::text"}
_FOUND = 10_000  # files that a search finds, at most
_AMBIGUOUS = 1000  # keys of several rows of which it was said
_WALKED = 1000  # files and folders that are listed at once for a walk


@dataclass(frozen=True, slots=True)
class Columns:
    """What the columns are called. `key` holds the path, `content` the file; the others need not be there."""

    key: str
    content: str
    name: str | None = None
    media_type: str | None = None
    size: str | None = None
    modified: str | None = None
    digest: str | None = None
    description: str | None = None
    facts: tuple[str, ...] = ()
    by: str | None = None

    @property
    def all(self) -> list[str]:
        """The names of all columns that are used."""
        named = (self.name, self.media_type, self.size, self.modified, self.digest, self.description, self.by)
        return [self.key, self.content, *(name for name in named if name is not None), *self.facts]

    @property
    def shown(self) -> list[str]:
        """The names of those that say something of a file."""
        return [name for name in self.all if name not in (self.key, self.content)]


@dataclass(frozen=True, slots=True)
class _Row:
    """What was read of a row, but its content. `length` is the content's, in bytes."""

    key: str
    length: int
    row: Any
    said: Mapping[str, Any] = field(default_factory=dict)


class Ambiguous(Missing):
    """A key is of several rows, so that none of them is the file."""


class TableStore(BlockingStore):
    """Rows of a table as files."""

    kind = "table"

    def __init__(self, name: str, engine: sa.Engine, table: str, columns: Columns, *, timeout: float = 20.0) -> None:
        """`table` may have its schema before it, as in `survey.dumps`.

        A database that does not answer now is asked again when it is needed.

        Raises:
            StoreFault: there is no such table, or it lacks a column.
        """
        super().__init__(name, timeout=timeout, reading=Reading(largest=_PIECE, ahead=1))
        self._engine, self._columns = engine, columns
        schema, _, short = table.rpartition(".")
        self._table = sa.table(short, *(sa.column(one) for one in dict.fromkeys(columns.all)), schema=schema or None)
        self._ambiguous: Memory[str, str] = Memory(_AMBIGUOUS)
        self._dialect = engine.dialect.name
        self._content: sa.ColumnElement[Any] = self._table.c[columns.content]
        self._mark: str | None = _ROW_MARKS.get(self._dialect)
        self._types: Mapping[str, Any] | None = None  # of the columns; None where the database has not answered yet
        self._keys = Keys(self._table.c[columns.key], self._dialect)
        self._blobs = Blobs(engine, table, columns.content, timeout) if self._dialect == "sqlite" else None
        with suppress(sa.exc.DBAPIError):  # it does not answer: requests for files will say so
            self._learn_columns()

    def _learn_columns(self) -> None:
        """Asks for the columns' types. Raises StoreFault: there is no such table, or it lacks a column; DBAPIError."""
        table = self._table.name
        try:
            listed = sa.inspect(self._engine).get_columns(table, self._table.schema)
        except sa.exc.NoSuchTableError:
            raise StoreFault(f"store {self.name!r}: the database has no table {table!r}; correct 'table'") from None
        types = {column["name"]: column["type"] for column in listed}
        for column in self._columns.all:
            if column not in types:
                said = f"store {self.name!r}: the table {table!r} has no column {column!r}{did_you_mean(column, types)}"
                raise StoreFault(f"{said}; it has {', '.join(types)}")
        if self._blobs is not None:
            self._require_rowid(table)
        else:
            self._mark = self._row_mark(table)
        self._keys = Keys(self._table.c[self._columns.key], self._dialect, types[self._columns.key])
        if self._dialect == "postgresql" and isinstance(types[self._columns.content], sa.String):
            self._use_text()
        self._types = types

    def _use_text(self) -> None:
        """Takes the content's column for one of text, which PostgreSQL counts in characters: a file is its UTF-8."""
        self._content = sa.func.convert_to(self._table.c[self._columns.content], "UTF8")

    def _require_rowid(self, table: str) -> None:
        try:
            with self._engine.connect() as connection:
                connection.execute(sa.select(sa.column("rowid")).select_from(self._table).limit(0))
        except sa.exc.OperationalError:
            said = "is WITHOUT ROWID, or a view; SQLite reads contents piece by piece only of tables with row numbers"
            raise StoreFault(f"store {self.name!r}: the table {table!r} {said}") from None

    def _row_mark(self, table: str) -> str | None:
        """What the database itself knows a row's state by; of a view it knows none. Raises StoreFault, DBAPIError."""
        mark = _ROW_MARKS.get(self._dialect)
        if mark is not None:
            try:
                with self._engine.connect() as connection:
                    connection.execute(sa.select(sa.literal_column(mark)).select_from(self._table).limit(1))
            except sa.exc.ProgrammingError:
                mark = None
        if mark is None and not (self._columns.digest or self._columns.modified):
            raise StoreFault(
                f"store {self.name!r}: {self._dialect} does not tell whether a row of {table!r} has changed; "
                "give columns.digest, or columns.modified"
            )
        return mark

    # What `BlockingStore` asks.

    def look_up(self, address: Address) -> FileFacts:
        """See `BlockingStore.look_up`."""
        with self._connected() as connection:
            return self._facts(connection, address, self._row(connection, address))

    def look_into(self, folder: Address) -> Iterable[FileFacts | Address]:
        """See `BlockingStore.look_into`: two queries, one for the folders and one for the files."""
        with self._connected() as connection:
            yield from self._folders(connection, folder, None, None)
            yield from self._files(connection, folder, None, None)

    def page(self, folder: Address, after: Address | None, limit: int) -> Sequence[Address]:
        """See `invio.stores.store.PagedStore`: the database sorts, and gives no more than a page."""
        if not self._keys.is_sorted:
            listed = self.list(folder)
            return list(islice((one for one in listed if after is None or place_of(one) > place_of(after)), limit))
        page = self._entries(lambda: islice(self._following(folder, after, limit), limit))
        if not page and after is None and folder.path:
            raise Missing(str(folder))
        return page

    def _following(self, folder: Address, after: Address | None, limit: int) -> Iterator[FileFacts | Address]:
        """What follows in a folder, in order; read from the database in pages of `limit`."""
        with self._connected() as connection:
            if after is None or after.folder:
                yield from self._folders(connection, folder, after, limit)
                after = None
            yield from self._files(connection, folder, after, limit)

    def search(self, folder: Address, text: str) -> Sequence[Address]:
        """See `invio.stores.store.SearchableStore`: by descriptions, and by the other columns that are shown."""
        columns = [name for name in (self._columns.description, *self._columns.facts) if name is not None]
        if not columns or "\0" in text:  # which PostgreSQL takes in no text, so that none has it
            return []

        def work() -> list[Address]:
            has = sa.or_(*(sa.cast(self._table.c[name], sa.Text).icontains(text, autoescape=True) for name in columns))
            found = []
            with self._connected() as connection:
                keys = self._keys
                query = sa.select(keys.text).where(keys.below(folder), has).order_by(keys.text).limit(_FOUND)
                for (key,) in connection.execute(query):
                    with suppress(BadAddress):
                        found.append(parse_file_address(f"{self.name}/{key}"))
            return found

        return self._asked(work)

    def walk(self, folder: Address) -> Iterator[Any]:
        """Every file below a folder, each folder's own folders first. Raises Missing, StoreFault."""
        last: Address | None = None
        while some := self.page(folder, last, _WALKED):
            for address in some:
                with suppress(Missing):  # it was removed just now, its key is of several rows, or no address names it
                    if address.folder:
                        yield from self.walk(address)
                    else:
                        yield self.locate(address)
            last = some[-1]

    def read_at(self, address: Address, tag: str, offset: int, count: int) -> bytes:
        """See `BlockingStore.read_at`."""
        if self._blobs is None:
            return self._substring(address, offset, count)
        data, opened = self._blobs.read((address.path, tag), lambda at: self._rowid(at, address), offset, count)
        if opened and str(self.look_up(address).tag) != tag:
            raise ContentChanged("the row was altered while it was read")
        return data

    # Queries.

    @contextmanager
    def _connected(self) -> Iterator[sa.Connection]:
        if self._types is None:
            self._learn_columns()
        with self._engine.connect() as connection:
            if self._dialect != "sqlite":
                yield connection
                return
            # SQLite lets any bytes be a text, and its library gives no row of a query that has one which is not UTF-8.
            driver = cast(sqlite3.Connection, connection.connection.driver_connection)
            before, driver.text_factory = driver.text_factory, _lenient
            try:
                yield connection
            finally:
                driver.text_factory = before

    def _length(self) -> sa.ColumnElement[Any]:
        if self._dialect != "sqlite":
            return sa.func.octet_length(self._content)
        # Of a text it counts characters; of a BLOB it knows the length without reading it.
        kind = sa.func.typeof(self._content)
        as_bytes = sa.func.length(sa.cast(self._content, sa.LargeBinary))
        return sa.case((kind == "blob", sa.func.length(self._content)), (kind == "text", as_bytes))

    def _selected(self) -> sa.Select[Any]:
        mark = sa.null() if self._mark is None else sa.literal_column(self._mark)
        shown = [self._shown_column(name) for name in self._columns.shown]
        return sa.select(self._keys.raw(self._keys.text), self._length(), mark, *shown).where(self._keys.is_there())

    def _shown_column(self, name: str) -> sa.ColumnElement[Any]:
        """A column that says something of a file; a time that Python has no date for as NULL, as `infinity` is."""
        column = self._table.c[name]
        if self._dialect != "postgresql" or not isinstance((self._types or {}).get(name), sa.DateTime | sa.Date):
            return column
        first: sa.ColumnElement[Any] = sa.literal_column("'0001-01-02'")
        last: sa.ColumnElement[Any] = sa.literal_column("'9999-12-31'")
        return sa.case((sa.and_(sa.func.isfinite(column), column > first, column < last), column))

    def _read_row(self, row: Sequence[Any]) -> _Row:
        return _Row(row[0], row[1], row[2], dict(zip(self._columns.shown, row[3:], strict=True)))

    def _row(self, connection: sa.Connection, address: Address) -> _Row:
        found = connection.execute(self._selected().where(self._keys.equals(address.path)).limit(2)).all()
        if not found or found[0][1] is None or as_text(found[0][0]) != address.path:  # some compare regardless of case
            raise Missing(str(address))
        if len(found) > 1:
            self._tell_ambiguous(address)
            raise Ambiguous(str(address))
        return self._read_row(found[0])

    def _tell_ambiguous(self, address: Address) -> None:
        """Says once of a key that it is of several rows, none of which is the file."""
        if self._ambiguous.get(address.path) is None:
            self._ambiguous.keep(address.path, "told")
            said = f"{address.path!r} is the key of several rows, so it is no file; make keys unique"
            log.error("store.key-not-unique", extra={"fields": {"error": f"store {self.name!r}: {said}"}})

    def _rowid(self, driver: Any, address: Address) -> int:
        """The number of a row, for SQLite's handle on its content. Raises ContentChanged."""
        statement: Any = (
            sa.select(sa.literal_column("rowid"))
            .select_from(self._table)
            .where(self._table.c[self._columns.key] == sa.bindparam("key"))
        )
        row = driver.execute(str(statement.compile(dialect=self._engine.dialect)), (address.path,)).fetchone()
        if row is None:
            raise ContentChanged("the row is no longer there")
        return int(row[0])

    def _folders(
        self, connection: sa.Connection, folder: Address, after: Address | None, limit: int | None
    ) -> Iterator[Address]:
        """The folders in a folder; with a `limit`, in order, those that follow `after`."""
        keys = self._keys
        path = keys.folder_after(folder).label("path")
        inside = (keys.below(folder), keys.is_there(), keys.slash_after(folder) > 1)
        query = sa.select(keys.raw(path)).where(*inside).distinct()
        for row in _rows(connection, query, path, after, limit):
            with suppress(BadAddress, UnicodeDecodeError):
                yield parse_address(f"{self.name}/{as_text(row[0])}")

    def _files(
        self, connection: sa.Connection, folder: Address, after: Address | None, limit: int | None
    ) -> Iterator[FileFacts | Address]:
        """The files in a folder; with a `limit`, in order, those that follow `after`."""
        keys = self._keys
        query = self._selected().where(keys.below(folder), keys.slash_after(folder) == 0)
        last = None
        for row in _rows(connection, query, keys.plain(keys.text), after, limit):
            if limit is not None and row[0] == last:
                continue  # a key of several rows
            last = row[0]
            with suppress(BadAddress, UnicodeDecodeError):  # no address can name it
                address = parse_address(f"{self.name}/{as_text(row[0])}")
                if not address.folder and row[1] is not None:
                    # Samples of a hundred thousand contents would take seconds; those of a page do not.
                    yield address if self._blobs else self._facts(connection, address, self._read_row(row))

    def _substring(self, address: Address, offset: int, count: int) -> bytes:
        part = sa.func.substring(self._content, offset + 1, count)
        with self._connected() as connection:
            data = connection.execute(sa.select(part).where(self._keys.equals(address.path))).scalar()
        if data is None:
            raise ContentChanged("the row is no longer there")
        return bytes(data)

    # Facts.

    def _facts(self, connection: sa.Connection, address: Address, row: _Row) -> FileFacts:
        columns, said = self._columns, row.said
        sha256 = _sha256(said.get(columns.digest)) if columns.digest else None
        modified = _seconds(said.get(columns.modified)) if columns.modified else None
        media_type = said.get(columns.media_type) if columns.media_type else None
        name = said.get(columns.name) if columns.name else None
        description = said.get(columns.description) if columns.description else None
        return FileFacts(
            address,
            row.length,
            modified,
            self._tag(connection, address, row, (modified, sha256)),
            media_type=_text(media_type),
            name=_one_line(_text(name) or "") or None,
            sha256=sha256,
            description=_text(description),
            about=tuple((one, _shown(said[one])) for one in columns.facts if said.get(one) is not None),
        )

    def _tag(self, connection: sa.Connection, address: Address, row: _Row, said: object) -> str:
        marks: list[object] = [self.name, address.path, row.length, said]
        if self._dialect == "postgresql":  # None, of a view
            marks.append(row.row)
        elif self._dialect == "sqlite":
            driver = connection.connection.driver_connection
            marks.append(_sampled(driver, self._table.name, self._columns.content, int(row.row), row.length))
        return hashlib.blake2b(repr(marks).encode(), digest_size=12).hexdigest()


def _rows(
    connection: sa.Connection,
    query: sa.Select[Any],
    key: sa.ColumnElement[str],
    after: Address | None,
    limit: int | None,
) -> Iterator[Sequence[Any]]:
    """The rows of a query, whose first column is `key`; with a `limit`, in its order, so many at once."""
    if limit is None:
        yield from connection.execute(query)
        return
    last: str | bytes | None = None if after is None else after.path
    while True:
        raw = sa.cast(sa.literal(last), sa.Text) if isinstance(last, bytes) else last
        following = query if last is None else query.where(key > raw)
        rows = connection.execute(following.order_by(key).limit(limit)).all()
        yield from rows
        if len(rows) < limit:
            return
        last = rows[-1][0]


def _sampled(driver: Any, table: str, column: str, rowid: int, length: int) -> bytes:
    """A digest of some pieces of a content, its beginning and its end among them: all of one that is short.

    Only the beginning of a long one, and what lies near it, is had without following its pages from the first on.
    """
    if not length:
        return b""
    digest = hashlib.blake2b(digest_size=16)
    with driver.blobopen(table, column, rowid, readonly=True) as blob:
        if length <= _SAMPLES * _SAMPLE:
            digest.update(blob.read())
        else:
            reach = min(length, 4 * _PIECE)
            for number in range(_SAMPLES):
                blob.seek(number * (reach - _SAMPLE) // (_SAMPLES - 1))
                digest.update(blob.read(_SAMPLE))
    return digest.digest()


def _sha256(value: object) -> bytes | None:
    """The digest in a column: 32 bytes, or 64 hexadecimal digits; anything else is none."""
    if isinstance(value, bytes | memoryview):
        return bytes(value) if len(value) == 32 else None
    try:
        digest = bytes.fromhex(str(value))
    except ValueError:
        return None
    return digest if len(digest) == 32 else None


def _lenient(text: bytes) -> str:
    return text.decode("utf-8", "replace")


def _seconds(value: object) -> float | None:
    """A time in a column as Unix seconds: a date or time (without an offset: UTC), ISO 8601 text, or a number."""
    if isinstance(value, str):
        try:
            value = datetime.fromisoformat(value)
        except ValueError:
            return None
    if isinstance(value, datetime):
        return (value if value.tzinfo else value.replace(tzinfo=UTC)).timestamp()
    if isinstance(value, date):
        return datetime(value.year, value.month, value.day, tzinfo=UTC).timestamp()
    if isinstance(value, int | float | Decimal) and not isinstance(value, bool):
        return float(value)
    return None


def _text(value: object) -> str | None:
    """What a column says in words; None where it says nothing, or something that is no text."""
    return None if value is None or isinstance(value, bytes | memoryview) else str(value) or None


def _shown(value: object) -> str:
    if isinstance(value, datetime | date):
        return value.isoformat()
    if isinstance(value, bytes | memoryview):
        return f"{len(value)} bytes"
    return str(value)


def _one_line(text: str) -> str:
    return " ".join(text.split())[:255]

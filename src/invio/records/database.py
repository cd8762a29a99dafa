"""The records' database: SQLite in WAL mode, brought to the newest schema when it is opened."""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any
from urllib.parse import quote

import sqlalchemy as sa
from sqlalchemy import event

from invio.core.errors import ConfigurationError
from invio.records.serving_lock import serving

MIGRATIONS = Path(__file__).parent / "migrations"
# Seconds that a writer waits for another process's transaction.
BUSY = 5


# SQLite's file format, §1.3
_MAGIC = b"SQLite format 3\0"


class UnusableRecords(ConfigurationError):
    """Records that cannot be opened; the message says why and what to do."""


class OlderRecords(ConfigurationError):
    """Records that the next start brings up to date."""


class NewerRecords(ConfigurationError):
    """Records that this version does not know; the message says what to do."""


def open_database(path: str | Path, own: int | None = None) -> sa.Engine:
    """An engine on the SQLite file at `path`, which is made or migrated when it has to be.

    `own` is the number of this process among those that serve from the records (`ServingLock`), if it is one.

    Raises:
        UnusableRecords: they cannot be opened, or have to be migrated while a service of the version before runs.
        NewerRecords: they were written by a later version of this program.
    """
    if str(path) != ":memory:":
        _create_closed(path)
    engine = sa.create_engine(f"sqlite:///{path}", connect_args={"timeout": BUSY, "check_same_thread": False})
    event.listen(engine, "connect", _prepare)
    event.listen(engine, "begin", _begin)
    try:
        _bring_up_to_date(engine, path, own)
    except ConfigurationError:
        engine.dispose()
        raise
    except sa.exc.DatabaseError as error:
        engine.dispose()
        raise UnusableRecords(
            f"{path}: the records cannot be used: {error.orig}; make room or correct their rights, or put a backup back"
        ) from None
    return engine


def open_to_read(path: str | Path) -> sa.Engine:
    """An engine on the records at `path` that changes nothing of them, not even their schema.

    Raises:
        UnusableRecords: they cannot be read.
        OlderRecords, NewerRecords: another version of this program wrote them.
    """
    # Where no process has them open there is no WAL, and reading would leave an empty one behind.
    how = "mode=ro" if Path(f"{path}-wal").exists() else "mode=ro&immutable=1"

    def connect() -> sqlite3.Connection:
        return sqlite3.connect(f"file:{quote(str(path))}?{how}", uri=True, timeout=BUSY, check_same_thread=False)

    engine = sa.create_engine("sqlite://", creator=connect, poolclass=sa.pool.NullPool)
    try:
        with engine.connect() as connection:
            found = _revision(connection)
    except sa.exc.DatabaseError as error:
        raise UnusableRecords(f"{path}: the records cannot be read: {error.orig}") from None
    newest = _newest_revision()
    if found is not None and found > newest:
        raise _newer(path, found, newest)
    if found != newest:
        raise OlderRecords(f"{path}: the records are of an earlier version; the next start brings them up to date")
    return engine


def _newer(path: str | Path, found: str, newest: str) -> NewerRecords:
    return NewerRecords(
        f"{path}: these records are of a later version of Invio (schema {found}; this one knows {newest}); "
        "run that version, or give another data folder"
    )


def _bring_up_to_date(engine: sa.Engine, path: str | Path, own: int | None) -> None:
    with engine.connect() as connection:
        found, newest = _revision(connection), _newest_revision()
        if found is not None and found > newest:
            raise _newer(path, found, newest)
        if found != newest:
            if found is not None and any(number != own for number in serving(Path(path).parent)):
                raise UnusableRecords(
                    f"{path}: a service of an earlier version of Invio runs with these records; stop it first, for "
                    "they have to be brought up to date, or use its version"
                )
            migrate(connection)


def _create_closed(path: str | Path) -> None:
    """Makes the file for its owner alone, whatever the umask; the WAL and its index get the same rights.

    Raises:
        UnusableRecords: it cannot be opened.
    """
    try:
        descriptor = os.open(path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
        with os.fdopen(descriptor, "rb") as file:
            begin = file.read(len(_MAGIC))
    except OSError as error:
        said = f"{path}: the records cannot be opened: {error.strerror}; correct 'data', or its rights"
        raise UnusableRecords(said) from None
    if begin and begin != _MAGIC:
        raise UnusableRecords(f"{path}: this is no database of Invio's; give another data folder, or put a backup back")


def _revision(connection: sa.Connection) -> str | None:
    """The schema that the database has; None before the first."""
    if not sa.inspect(connection).has_table("alembic_version"):
        return None
    return str(connection.exec_driver_sql("SELECT version_num FROM alembic_version").scalar())


def _newest_revision() -> str:
    """The schema that this code expects: migrations' file names begin with their number."""
    return max(path.name.partition("_")[0] for path in (MIGRATIONS / "versions").glob("[0-9]*.py"))


def migrate(connection: sa.Connection) -> None:
    """Applies the migrations that are missing."""
    # Imported only for this: a service whose database is up to date saves a tenth of its memory.
    from alembic import command
    from alembic.config import Config

    config = Config()
    config.set_main_option("script_location", str(MIGRATIONS))
    config.attributes["connection"] = connection
    command.upgrade(config, "head")
    connection.commit()


def _prepare(connection: Any, _record: object) -> None:
    # The driver's own transaction handling begins too late for BEGIN IMMEDIATE; _begin does it.
    connection.isolation_level = None
    cursor = connection.cursor()
    cursor.execute("PRAGMA journal_mode=WAL")
    # A commit outlives the death of the process; the WAL is flushed to the disk at checkpoints.
    cursor.execute("PRAGMA synchronous=NORMAL")
    cursor.execute("PRAGMA foreign_keys=ON")
    cursor.execute("PRAGMA cache_size=-512")  # KiB of each connection; the kernel keeps the file, too
    cursor.close()


def driver_of(connection: sa.Connection) -> sqlite3.Connection:
    """The driver's own connection, for what is faster without the layers in between."""
    driver = connection.connection.driver_connection
    assert isinstance(driver, sqlite3.Connection)
    return driver


def _begin(connection: sa.Connection) -> None:
    options = connection.get_execution_options()
    if options.get("isolation_level") == "AUTOCOMMIT":
        return
    # A transaction that reads first and writes later would fail, not wait, when another process
    # wrote in between; so writers say at once that they are writers.
    driver = driver_of(connection)
    try:
        driver.execute("BEGIN IMMEDIATE" if options.get("writes") else "BEGIN")
    except sqlite3.OperationalError as error:
        raise sa.exc.OperationalError("BEGIN", None, error) from error


def write(engine: sa.Engine) -> sa.Engine:
    """The same database, for transactions that write and wait for each other."""
    return engine.execution_options(writes=True)


@contextmanager
def write_durable(engine: sa.Engine) -> Iterator[sa.Connection]:
    """A write transaction that survives a power failure once it has committed."""
    with write(engine).connect() as connection:
        driver = driver_of(connection)
        driver.execute("PRAGMA synchronous=FULL")
        try:
            with connection.begin():
                yield connection
        finally:
            driver.execute("PRAGMA synchronous=NORMAL")


def write_nowait(engine: sa.Engine) -> sa.Engine:
    """For one lasting connection that writes: it never waits, and leaves checkpoints to others.

    A transaction raises OperationalError at once when another one is writing.
    """
    own = sa.create_engine(engine.url, poolclass=sa.pool.NullPool, connect_args={"timeout": 0})
    event.listen(own, "connect", _prepare)
    event.listen(own, "connect", lambda connection, _: connection.execute("PRAGMA wal_autocheckpoint=0"))
    event.listen(own, "begin", _begin)
    return own.execution_options(writes=True)


def select_row(engine: sa.Engine, query: str, *given: object) -> tuple[Any, ...] | None:
    """The first row of a query, through the driver directly: an eighth of SQLAlchemy's work.

    Raises:
        OperationalError: the records cannot be read.
    """
    with engine.connect() as connection:
        driver = driver_of(connection)
        try:
            rows: list[tuple[Any, ...]] = driver.execute(query, given).fetchall()
        except sqlite3.Error as error:
            raise sa.exc.OperationalError(query, given, error) from error
    return rows[0] if rows else None


def insert_many(
    connection: sa.Connection, table: sa.Table, rows: Iterable[tuple[object, ...]], *, instead: bool = False
) -> None:
    """Inserts very many rows, through the driver directly: composing statements takes longer than the insert.

    A row holds the table's columns in their order. Of two rows with the same key the earlier stays, or with `instead`
    the later.
    """
    driver = driver_of(connection)
    marks = ", ".join("?" * len(table.columns))
    driver.executemany(f"INSERT OR {'REPLACE' if instead else 'IGNORE'} INTO {table.name} VALUES ({marks})", rows)

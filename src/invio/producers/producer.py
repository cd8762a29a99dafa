"""Producers: a Python function or one SQL query, each giving the rows of a table.

A producer is resolved when the service starts, so that a wrong name or a driver that is missing is
told then and not to the first person who asks. Whether a database answers is seen when a file is asked for.
"""

from __future__ import annotations

import importlib
from collections.abc import Callable, Iterable, Iterator, Sequence
from pathlib import Path
from typing import Any

import sqlalchemy as sa

Rows = Iterable[Sequence[object]]
_FETCH = 1000  # rows at a time
_WAITS_FOR_ONE = 5.0  # seconds for which a connection is waited for that others have


class ProducerFault(Exception):
    """The producer cannot be set up; the message is for the operator."""


def function_named(target: str) -> Callable[..., Any]:
    """The function that `module:name` names.

    Raises:
        ProducerFault: the module cannot be imported, or has no such function.
    """
    module_name, colon, name = target.partition(":")
    if not colon:
        raise ProducerFault(f"function {target!r}: expected 'module:function'")
    try:
        function = getattr(importlib.import_module(module_name), name)
    except ModuleNotFoundError as error:
        if error.name is None or not (module_name + ".").startswith(error.name + "."):
            raise ProducerFault(f"function {target!r}: {error}; install the package that has it") from None
        raise ProducerFault(
            f"function {target!r}: there is no module {error.name!r} here; name its folder in PYTHONPATH, or install it"
        ) from None
    except AttributeError:
        raise ProducerFault(f"function {target!r}: the module {module_name!r} has no {name!r}") from None
    except Exception as error:  # a module that is imported runs, and may raise anything
        raise ProducerFault(f"function {target!r}: {type(error).__name__}: {error}") from None
    if not callable(function):
        raise ProducerFault(f"function {target!r}: it is no function")
    return function  # type: ignore[no-any-return]


def function_rows(target: str) -> Callable[[], Rows]:
    """The function that `module:name` names; called without arguments, it gives rows, a header first.

    Raises:
        ProducerFault: as `function_named`.
    """
    return function_named(target)


class QueryRows:
    """The rows of one run of a query, column names first; it can be cancelled from another thread."""

    def __init__(self, engine: sa.Engine, query: str) -> None:
        self._engine = engine
        self._query = query
        self._connection: sa.Connection | None = None

    def __iter__(self) -> Iterator[Sequence[object]]:
        with self._engine.connect().execution_options(yield_per=_FETCH) as connection:
            self._connection = connection
            try:
                result = connection.execute(sa.text(self._query))
                yield tuple(result.keys())
                for row in result:
                    yield tuple(row)
            finally:
                self._connection = None

    def cancel(self) -> None:
        """Has the database give up the query, as far as its driver can: whoever waits for a row gets an error."""
        connection = self._connection
        driver = None if connection is None else connection.connection.driver_connection
        for name in ("interrupt", "cancel"):  # SQLite's and DuckDB's, PostgreSQL's
            if driver is not None and hasattr(driver, name):
                getattr(driver, name)()
                return


# One engine, and so one bounded pool of connections, for all tables of one database.
_engines: dict[tuple[str, int], sa.Engine] = {}


def query_rows(database: str, query: str, folder: Path = Path(), connections: int = 5) -> Callable[[], Rows]:
    """Rows of one SQL query, column names first, fetched as they are taken. For the others see `database_engine`.

    Raises:
        ProducerFault: the URL cannot be read.
    """
    engine = database_engine(database, folder, connections)
    return lambda: QueryRows(engine, query)


def database_engine(database: str, folder: Path = Path(), connections: int = 5) -> sa.Engine:
    """The one engine for all that is read of a database.

    `database` is an SQLAlchemy URL; the file of an SQLite one is relative to `folder`. At most `connections` are open
    at once, and one more is waited for for some seconds; one that was lost meanwhile is replaced.

    Raises:
        ProducerFault: the URL cannot be read.
    """
    try:
        url = sa.make_url(database)
        arguments: dict[str, Any] = {}
        pooled: dict[str, Any] = {"pool_pre_ping": True}
        if url.get_backend_name() == "sqlite":
            # Pieces of one result are taken by whichever thread is free, one at a time.
            arguments["check_same_thread"] = False
            if url.database and url.database != ":memory:":
                url = url.set(database=str(folder / url.database))
        if url.get_backend_name() != "sqlite" or (url.database and url.database != ":memory:"):
            pooled |= {
                "poolclass": sa.QueuePool, "pool_size": connections, "max_overflow": 0, "pool_timeout": _WAITS_FOR_ONE
            }  # fmt: skip
        key = (url.render_as_string(hide_password=False), connections)
        engine = _engines.get(key)
        if engine is None:
            engine = _engines[key] = sa.create_engine(url, connect_args=arguments, **pooled)
    except sa.exc.NoSuchModuleError as error:
        raise ProducerFault(f"no installed package reaches such a database: {error}") from None
    except ModuleNotFoundError as error:
        said = f"the driver {error.name!r} of this database is not installed"
        raise ProducerFault(f"{said}; install it, as in: pip install {error.name}") from None
    except (sa.exc.ArgumentError, ImportError) as error:
        raise ProducerFault(f"the database's address cannot be used: {error}") from None
    return engine

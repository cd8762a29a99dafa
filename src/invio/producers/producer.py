"""Producers: a Python function or one SQL query, each giving a file's content when it is asked for.

A producer is resolved when the service starts, so that a wrong name or a driver that is missing is told then and not to
the first person who asks. Whether a database answers is seen when a file is asked for.
"""

from __future__ import annotations

import importlib
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

import sqlalchemy as sa

from invio.producers.odd_dates import read_odd_dates_as_text
from invio.workers.pool import Pool

_FETCH = 1000  # rows at a time
_WAITS_FOR_ONE = 5.0  # seconds to wait for a free connection
_WAITING = 64  # contents that wait for a thread to be made by
# What a query or a function is given of who asks, where the file is each recipient's own.
CALLER_NAMES = ("recipient", "groups")


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
        module = importlib.import_module(module_name)
    except ModuleNotFoundError as error:
        if error.name is None or not (module_name + ".").startswith(error.name + "."):
            raise ProducerFault(f"function {target!r}: {error}; install the package that has it") from None
        raise ProducerFault(
            f"function {target!r}: there is no module {error.name!r} here; name its folder in PYTHONPATH, or install it"
        ) from None
    except Exception as error:  # a module that is imported runs, and may raise anything
        said = f"the module {module_name!r} cannot be imported: {type(error).__name__}: {error}"
        raise ProducerFault(f"function {target!r}: {said}") from None
    function = getattr(module, name, None)
    if function is None:
        raise ProducerFault(f"function {target!r}: the module {module_name!r} has no {name!r}")
    if not callable(function):
        raise ProducerFault(f"function {target!r}: it is no function")
    return function  # type: ignore[no-any-return]


class QueryRows:
    """The rows of one run of a query, column names first; it can be cancelled from another thread."""

    def __init__(self, engine: sa.Engine, statement: sa.TextClause, values: Mapping[str, object] | None = None) -> None:
        self._engine = engine
        self._statement = statement
        self._values = dict(values or {})
        self._connection: sa.Connection | None = None

    def __iter__(self) -> Iterator[Sequence[object]]:
        with self._engine.connect().execution_options(yield_per=_FETCH) as connection:
            self._connection = connection
            try:
                result = connection.execute(self._statement, self._values)
                yield tuple(result.keys())
                for some in result.partitions(_FETCH):
                    # As lists of the rows themselves: they are sequences, and a copy of each would take its time.
                    yield from map(tuple, some)
            finally:
                self._connection = None

    def cancel(self) -> None:
        """Cancels the query, as far as its driver can: a pending row raises an error."""
        connection = self._connection
        driver = None if connection is None else connection.connection.driver_connection
        for name in ("interrupt", "cancel"):  # SQLite's and DuckDB's, PostgreSQL's
            if driver is not None and hasattr(driver, name):
                getattr(driver, name)()
                return


class Query:
    """A query with named values, as in `WHERE station = :station`: these reach the database as bound values only."""

    def __init__(self, engine: sa.Engine, text: str, known: Iterable[str] = ()) -> None:
        """`known` are the names that it may have.

        Raises:
            ProducerFault: it has another.
        """
        self._engine = engine
        self._statement = sa.text(text)
        self.names = frozenset(self._statement.compile().params)
        known = set(known)
        for name in sorted(self.names - known):
            said = f"the query has the value :{name}, which is no parameter of the path"
            raise ProducerFault(f"{said}; write \\:{name} where a colon is meant, or declare parameters.{name}")
        if "groups" in self.names:
            self._statement = self._statement.bindparams(sa.bindparam("groups", expanding=True))

    def rows(self, values: Mapping[str, object]) -> QueryRows:
        """The rows with these values; values the query does not name are ignored."""
        return QueryRows(self._engine, self._statement, {name: values[name] for name in self.names})

    def first_column(self, values: Mapping[str, object], most: int) -> list[str]:
        """The first column of at most so many rows, as texts; NULL is left out."""
        with self._engine.connect() as connection:
            result = connection.execute(self._statement, {name: values[name] for name in self.names})
            return [str(row[0]) for row in result.fetchmany(most) if row[0] is not None]


# One engine, and so one bounded pool of connections, for all that is read of one database.
_engines: dict[tuple[str, int], sa.Engine] = {}


# Of each, the threads that make contents by it.
_making: dict[sa.Engine, Pool] = {}


def making_pool(engine: sa.Engine, connections: int) -> Pool:
    """The threads that make contents by the queries of a database of so many `connections`.

    They are one fewer, where there are several: a content has its connection until it is whole, and whoever only looks
    something up is to have one. What is beyond them waits for a thread, which may take longer than a connection does.
    """
    return _making.get(engine) or _making.setdefault(
        engine, Pool(f"database-{len(_making) + 1}", max(1, connections - 1), waiting=_WAITING)
    )


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
            read_odd_dates_as_text(engine)
    except sa.exc.NoSuchModuleError as error:
        raise ProducerFault(f"no installed package reaches such a database: {error}") from None
    except ModuleNotFoundError as error:
        said = f"the driver {error.name!r} of this database is not installed"
        raise ProducerFault(f"{said}; install it, as in: pip install {error.name}") from None
    except (sa.exc.ArgumentError, ImportError) as error:
        raise ProducerFault(f"the database's address cannot be used: {error}") from None
    return engine

"""Producers: a Python function or one SQL query, each giving the rows of a table.

A producer is resolved when the service starts, so that a wrong name or an unreachable database is
said then and not to the first person who asks.
"""

from __future__ import annotations

import importlib
from collections.abc import Callable, Iterable, Iterator, Sequence
from pathlib import Path
from typing import Any

import sqlalchemy as sa

Rows = Iterable[Sequence[object]]
_FETCH = 1000  # rows at a time


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
    except (ImportError, AttributeError) as error:
        raise ProducerFault(f"function {target!r}: {error}") from None
    if not callable(function):
        raise ProducerFault(f"function {target!r}: it is no function")
    return function  # type: ignore[no-any-return]


def function_rows(target: str) -> Callable[[], Rows]:
    """The function that `module:name` names; called without arguments, it gives rows, a header first.

    Raises:
        ProducerFault: as `function_named`.
    """
    return function_named(target)


def query_rows(database: str, query: str, folder: Path = Path()) -> Callable[[], Rows]:
    """Rows of one SQL query, column names first, fetched as they are taken.

    `database` is an SQLAlchemy URL; the file of an SQLite one is relative to `folder`.

    Raises:
        ProducerFault: the URL cannot be read.
    """
    try:
        url = sa.make_url(database)
        arguments = {}
        if url.get_backend_name() == "sqlite":
            # Pieces of one result are taken by whichever thread is free, one at a time.
            arguments["check_same_thread"] = False
            if url.database and url.database != ":memory:":
                url = url.set(database=str(folder / url.database))
        engine = sa.create_engine(url, connect_args=arguments)
    except (sa.exc.ArgumentError, ImportError) as error:
        raise ProducerFault(f"database: {error}") from None

    def rows() -> Iterator[Sequence[object]]:
        with engine.connect().execution_options(yield_per=_FETCH) as connection:
            result = connection.execute(sa.text(query))
            yield tuple(result.keys())
            for row in result:
                yield tuple(row)

    return rows

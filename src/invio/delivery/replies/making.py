"""Turns what a route generates into bytes: pieces, texts or rows; plain, asynchronous, or from a function.

The first piece is taken before anything is sent, so that what fails by then is an error of the application and no
broken body.
"""

from __future__ import annotations

import inspect
from collections.abc import AsyncIterable, AsyncIterator, Callable, Iterable, Iterator, Mapping, Sequence
from functools import partial
from typing import Any, Protocol

from invio.delivery.sending.production import waited
from invio.producers.csv_rows import Header, RowsAsCsv

# A piece of what a route makes: bytes or text; or the row of a table, which becomes CSV.
Piece = bytes | str | Sequence[object] | Mapping[str, object]
Pieces = Iterable[Piece] | AsyncIterable[Piece]
Making = Callable[[], Any] | Pieces | bytes | str
_END = object()
_FETCH = 1000  # rows at a time
_OF_A_RESULT = ("keys", "partitions", "mappings", "close")


class Statement(Protocol):
    """A statement for a database, as SQLAlchemy has it."""

    def compile(self, *given: Any, **named: Any) -> Any:
        """The statement as a database takes it."""
        ...


def require_makes(make: object) -> None:
    """Raises TypeError, unless this is something that a route can make a content of."""
    if isinstance(make, Mapping):
        raise TypeError("make is a mapping, which may be a row but is no list of them; give [row], or its items")
    if isinstance(make, bytes | str | Iterable | AsyncIterable) or inspect.isawaitable(make):
        return
    if not callable(make):
        expected = "expected a function without arguments, pieces, rows, bytes or a text"
        raise TypeError(f"make is {type(make).__name__}; {expected}")
    try:
        needed = [
            one.name
            for one in inspect.signature(make).parameters.values()
            if one.default is one.empty and one.kind not in (one.VAR_POSITIONAL, one.VAR_KEYWORD)
        ]
    except ValueError:  # a function of an extension that tells nothing of itself
        return
    if needed:
        raise TypeError(f"make takes the argument {needed[0]!r}, and is called without any; bind it, as by a lambda")


class Content:
    """The content that a route makes, once."""

    def __init__(self, make: Making | Statement, header: Header, connection: Any = None) -> None:
        """`header` is for rows: see `RowsAsCsv`; `connection` for a statement: see `StreamReply`."""
        self._make = make
        self._connection = connection
        self._header = header
        self._pieces: Iterator[bytes] | AsyncIterator[bytes] | None = None

    async def begin(self) -> None:
        """Generates the first piece. Raises what the route's own code raises."""
        given: Any = self._make
        if self._connection is not None:
            given = partial(executed, self._connection, given)
        if callable(given):
            given = await waited(None, _stays, None, given)
        if inspect.isawaitable(given):
            given = await given
        if given is None:
            raise TypeError("make gave None; expected pieces, rows, bytes or a text")
        if isinstance(given, bytes | str):
            given = [given]
        if _is_result(given):
            given = _NamedRowsAsync(given) if isinstance(given, AsyncIterable) else _NamedRows(given)
        if isinstance(given, AsyncIterable):
            asynchronous = aiter(given)
            self._pieces = _encoded_async(await anext(asynchronous, _END), asynchronous, self._header)
            return
        if not isinstance(given, Iterable):
            raise TypeError(f"make gave {type(given).__name__}; expected pieces, rows, bytes or a text")
        first, rest = await waited(None, _stays, None, _first_of, given)
        self._pieces = _EncodedPieces(first, rest, self._header, given)

    def chunks(self) -> Iterator[bytes] | AsyncIterator[bytes]:
        """The pieces, for the only time; after `begin`."""
        if self._pieces is None:
            raise RuntimeError("the content was not begun")
        return self._pieces


def all_pieces(make: Making, header: Header) -> Iterator[bytes]:
    """All of a content that is made plainly, for a worker thread. Raises TypeError, and what `make` raises."""
    given: Any = make() if callable(make) else make
    if isinstance(given, bytes | str):
        given = [given]
    if isinstance(given, AsyncIterable) or inspect.isawaitable(given):
        if inspect.iscoroutine(given):
            given.close()  # or Python warns that nobody awaited it
        raise TypeError("what is in an archive is made plainly, not asynchronously: its size is needed at first")
    first, rest = _first_of(given)
    return _EncodedPieces(first, rest, header, given)


def executed(connection: Any, statement: Any) -> Any:
    """The result of a statement, fetched as it is taken; of an asynchronous connection something to be awaited."""
    stream = getattr(connection, "stream", None)
    if stream is not None:
        return stream(statement)
    return connection.execution_options(yield_per=_FETCH).execute(statement)


def _is_result(given: Any) -> bool:
    """Whether this is what a database's library gives for a query: rows, which know the names of their columns."""
    return not isinstance(given, Mapping) and all(callable(getattr(given, one, None)) for one in _OF_A_RESULT)


class _NamedRows(Iterator[Any]):
    """The rows of a result, the names of the columns first; closed with it, and so is the database's cursor."""

    def __init__(self, result: Any) -> None:
        self._result, self._rows, self._begun = result, iter(result), False

    def __next__(self) -> Any:
        if self._begun:
            return tuple(next(self._rows))
        self._begun = True
        return tuple(self._result.keys())

    def cancel(self) -> None:
        """Cancels the pending query, where the driver can."""
        cancel = getattr(getattr(self._result, "cursor", None), "cancel", None)
        if cancel is not None:
            cancel()

    def close(self) -> None:
        self._result.close()


class _NamedRowsAsync(AsyncIterator[Any]):
    """Like `_NamedRows`, of a result that is had asynchronously."""

    def __init__(self, result: Any) -> None:
        self._result, self._rows, self._begun = result, aiter(result), False

    async def __anext__(self) -> Any:
        if self._begun:
            return tuple(await anext(self._rows))
        self._begun = True
        return tuple(self._result.keys())

    async def aclose(self) -> None:
        await self._result.close()


def _first_of(given: Iterable[Any]) -> tuple[Any, Iterator[Any]]:
    iterator = iter(given)
    return next(iterator, _END), iterator


def _stays() -> bool:
    """Never says that the client is gone: that shows once something is sent."""
    return False


class _Texts:
    """Pieces that are bytes or texts."""

    def add(self, piece: Any) -> bytes:
        if isinstance(piece, str):
            return piece.encode()
        if isinstance(piece, bytes | bytearray | memoryview):
            return bytes(piece)
        raise TypeError(f"a piece is {type(piece).__name__} where the first was bytes or a text")

    def end(self) -> bytes:
        return b""


def _encoder(first: Any, header: Header) -> _Texts | RowsAsCsv:
    if first is _END and not isinstance(header, bool):
        return RowsAsCsv(header)
    if first is _END or isinstance(first, bytes | bytearray | memoryview | str):
        return _Texts()
    if isinstance(first, Sequence | Mapping):
        return RowsAsCsv(header)
    raise TypeError(f"a piece is {type(first).__name__}; expected bytes, a text, or a row: a list, tuple or dict")


class _EncodedPieces(Iterator[bytes]):
    """Pieces as bytes; cancelled and closed as what they come from."""

    def __init__(self, first: Any, rest: Iterator[Any], header: Header, source: object) -> None:
        self._encoder = _encoder(first, header)
        self._first, self._rest, self._source = first, rest, source
        self._ended = False

    def __next__(self) -> bytes:
        while not self._ended:
            item = self._first if self._first is not _END else next(self._rest, _END)
            self._first = _END
            self._ended = item is _END
            data = self._encoder.end() if self._ended else self._encoder.add(item)
            if data:
                return data
        raise StopIteration

    def cancel(self) -> None:
        """Cancels a pending piece, where its source can."""
        cancel = getattr(self._source, "cancel", None)
        if cancel is not None:
            cancel()

    def close(self) -> None:
        """Closes the source."""
        for one in (self._rest, self._source):
            close = getattr(one, "close", None)
            if close is not None:
                close()


async def _encoded_async(first: Any, rest: AsyncIterator[Any], header: Header) -> AsyncIterator[bytes]:
    encoder = _encoder(first, header)
    try:
        item = first
        while item is not _END:
            if data := encoder.add(item):
                yield data
            item = await anext(rest, _END)
        if data := encoder.end():
            yield data
    finally:
        close = getattr(rest, "aclose", None)
        if close is not None:
            await close()

"""Rows as CSV, RFC 4180, in pieces: never more than one piece and one row in memory."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Iterator, Mapping, Sequence

PIECE = 64 * 1024  # characters, about

Header = bool | Sequence[str]
Row = Sequence[object] | Mapping[str, object]


class RowsAsCsv:
    """Takes rows one by one and gives UTF-8 CSV with CRLF line ends.

    Rows are sequences, written as they are; or mappings, whose columns are the keys of the first. `header` True: those
    keys are written first; False: not. As names, it is the columns, in their order, and is written first.
    """

    def __init__(self, header: Header) -> None:
        self._buffer = io.StringIO(newline="")
        self._writer = csv.writer(self._buffer, lineterminator="\r\n")
        self._header = header
        self._columns: list[str] | None = None if isinstance(header, bool) else list(header)
        self._begun = False

    def add(self, row: Row) -> bytes:
        """Takes a row; gives what is ready. Raises TypeError or ValueError: it is no row, or not like the first."""
        if isinstance(row, bytes | str) or not isinstance(row, Sequence | Mapping):
            raise TypeError(f"a row is {type(row).__name__}; expected a list, a tuple or a dict")
        if not self._begun:
            self._begin(row)
        self._writer.writerow(self._cells(row))
        return self._taken() if self._buffer.tell() >= PIECE else b""

    def _begin(self, first: Row) -> None:
        self._begun = True
        if self._columns is None and isinstance(first, Mapping):
            self._columns = list(first)
        if self._columns is not None and self._header is not False:
            self._writer.writerow(self._columns)

    def _cells(self, row: Row) -> Sequence[object]:
        if not isinstance(row, Mapping):
            return row
        columns = self._columns
        if columns is None:
            raise ValueError("a row is a dict where the first was none")
        if not row.keys() <= set(columns):
            odd = next(key for key in row if key not in columns)
            raise ValueError(f"a row has the key {odd!r}, which is none of the columns {', '.join(columns)}")
        return [row.get(column, "") for column in columns]

    def end(self) -> bytes:
        """What is left. Without a row, the header that was given."""
        if not self._begun and self._columns is not None:
            self._writer.writerow(self._columns)
        return self._taken()

    def _taken(self) -> bytes:
        data = self._buffer.getvalue().encode()
        self._buffer.seek(0)
        self._buffer.truncate()
        return data


def csv_pieces(rows: Iterable[Row]) -> Iterator[bytes]:
    """The rows as UTF-8 CSV; the first row is the header, if there is one."""
    written = RowsAsCsv(header=True)
    for row in rows:
        if data := written.add(row):
            yield data
    if data := written.end():
        yield data

"""Rows as CSV, RFC 4180, in pieces: never more than one piece, and what is added at a time, in memory."""

from __future__ import annotations

import csv
import io
from collections.abc import Mapping, Sequence
from itertools import chain
from typing import Any

from invio.producers.values import as_text, safe_cell

PIECE = 64 * 1024  # characters, about
MARK = "\ufeff"  # what some spreadsheets need to take a text for UTF-8

Header = bool | Sequence[str]
Row = Sequence[object] | Mapping[str, object]

# What the writer itself writes in the form that `values` has for it, but for floats that are no numbers.
_AS_THEY_ARE = frozenset({str, int, float, type(None)})


class RowsAsCsv:
    """Takes rows and gives UTF-8 CSV with CRLF line ends.

    Rows are sequences, written as they are; or mappings, whose columns are the keys of the first. `header` True: those
    keys are written first; False: not. As names, it is the columns, in their order, and is written first. `mark`: the
    file begins with a byte order mark. `safe`: no cell is one that a spreadsheet would take for a formula.
    """

    def __init__(self, header: Header, *, mark: bool = False, safe: bool = False) -> None:
        self._buffer = io.StringIO(newline="")
        self._writer = csv.writer(self._buffer, lineterminator="\r\n")
        self._header = header
        self._columns: list[str] | None = None if isinstance(header, bool) else list(header)
        self._begun = False
        self._safe = safe
        if mark:
            self._buffer.write(MARK)

    def add(self, row: Row) -> bytes:
        """Adds a row; returns the bytes that are ready. Raises TypeError, ValueError: it is not like the first."""
        return self.add_many((row,))

    def add_many(self, rows: Sequence[Row]) -> bytes:
        """Adds rows; returns the bytes that are ready. Raises as `add`."""
        if rows and not self._begun:
            self._begin(_checked(rows[0]))
        cells: Sequence[Sequence[object]] = [self._cells(_checked(row)) for row in rows]
        if self._safe or not _AS_THEY_ARE.issuperset(map(type, chain.from_iterable(cells))):
            cells = [[self._form(value) for value in row] for row in cells]
        before = self._buffer.tell()
        self._writer.writerows(cells)
        if not self._safe and self._has_no_number(before):
            self._buffer.seek(before)
            self._buffer.truncate()
            self._writer.writerows([[self._form(value) for value in row] for row in cells])
        return self._taken() if self._buffer.tell() >= PIECE else b""

    def _has_no_number(self, before: int) -> bool:
        """Whether what was just written may hold a float that is no number; a text with these letters may, as well."""
        self._buffer.seek(before)
        text = self._buffer.read()
        return "nan" in text or "inf" in text

    def _form(self, value: object) -> object:
        # A number is no formula, whatever it begins with.
        return safe_cell(as_text(value)) if self._safe and isinstance(value, str) else as_text(value)

    def _begin(self, first: Row) -> None:
        self._begun = True
        if self._columns is None and isinstance(first, Mapping):
            self._columns = list(first)
        if self._columns is not None and self._header is not False:
            self._write_columns()

    def _write_columns(self) -> None:
        self._writer.writerow([self._form(str(column)) for column in self._columns or ()])

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

    def flush(self) -> bytes:
        """The bytes so far."""
        return self._taken()

    def end(self) -> bytes:
        """The remaining bytes. Without a row, the given header."""
        if not self._begun and self._columns is not None:
            self._write_columns()
        return self._taken()

    def _taken(self) -> bytes:
        data = self._buffer.getvalue().encode()
        self._buffer.seek(0)
        self._buffer.truncate()
        return data


def _checked(row: Any) -> Row:
    if isinstance(row, tuple | list | dict):
        return row
    if isinstance(row, bytes | str) or not isinstance(row, Sequence | Mapping):
        raise TypeError(f"a row is {type(row).__name__}; expected a list, a tuple or a dict")
    return row

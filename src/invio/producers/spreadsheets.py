"""Rows as a spreadsheet (XLSX, ECMA-376), row by row into a file on the disk: memory stays the same however many.

Such a file is an archive whose directory comes last, so nothing of it can be sent before its last row is written.
"""

from __future__ import annotations

import tempfile
from collections.abc import Iterator, Mapping, Sequence
from datetime import UTC, date, datetime, time
from decimal import Decimal
from typing import Any

from invio.producers.csv_rows import Row
from invio.producers.values import as_text

MOST_ROWS = 1_048_576  # of a sheet, the header among them (ECMA-376)
_LONGEST = 32_767  # characters of a cell
_DIGITS = 15  # of a cell's number
_FIRST_DAY = date(1900, 3, 1)  # before it, a date's number is another in one program than in the next
_PIECE = 256 * 1024  # bytes
_FORMATS = {datetime: "yyyy-mm-dd hh:mm:ss", date: "yyyy-mm-dd", time: "hh:mm:ss"}


class TooManyRows(ValueError):
    """A sheet has no room for more."""


class RowsAsSheet:
    """Takes rows and gives a workbook of one sheet, at the end."""

    def __init__(self, columns: Sequence[str] | None = None, folder: str | None = None) -> None:
        """`folder` is where what is not finished lies; None: the system's own."""
        import xlsxwriter  # loaded by those who want a spreadsheet

        self._file = tempfile.TemporaryFile(dir=folder)  # noqa: SIM115 - closed by `pieces`
        self._book: Any = xlsxwriter.Workbook(
            self._file,
            {"constant_memory": True, "tmpdir": folder, "strings_to_formulas": False, "strings_to_urls": False,
             "strings_to_numbers": False},
        )  # fmt: skip
        self._book.set_properties({"created": datetime(2000, 1, 1)})
        self._sheet: Any = self._book.add_worksheet()
        self._formats = {kind: self._book.add_format({"num_format": text}) for kind, text in _FORMATS.items()}
        self._columns = None if columns is None else list(columns)
        self._row = 0
        self._begun = False

    def add_many(self, rows: Sequence[Row]) -> bytes:
        """Takes some rows. Raises TooManyRows, ValueError."""
        for row in rows:
            if not self._begun:
                self._begin(row)
            values = [row.get(column) for column in self._columns or ()] if isinstance(row, Mapping) else row
            self._write(values)
        return b""

    def _begin(self, first: Row | None) -> None:
        self._begun = True
        if self._columns is None and isinstance(first, Mapping):
            self._columns = list(first)
        if self._columns is not None:
            self._write(self._columns)

    def _write(self, values: Sequence[Any]) -> None:
        if self._row >= MOST_ROWS:
            raise TooManyRows(f"a sheet has {MOST_ROWS} rows at most; ask for the CSV")
        for place, value in enumerate(values):
            self._write_cell(place, value)
        self._row += 1

    def _write_cell(self, place: int, value: Any) -> None:
        at, sheet = (self._row, place), self._sheet
        if isinstance(value, bool):
            sheet.write_boolean(*at, value)
        elif isinstance(value, int | Decimal) and _is_exact(value):
            sheet.write_number(*at, value)
        elif isinstance(value, datetime):
            naive = value.astimezone(UTC).replace(tzinfo=None) if value.tzinfo else value
            self._write_moment(at, naive, value, self._formats[datetime])
        elif isinstance(value, date):
            self._write_moment(at, value, value, self._formats[date])
        elif isinstance(value, time) and value.tzinfo is None:
            sheet.write_datetime(*at, value, self._formats[time])
        else:
            self._write_text(at, as_text(value))

    def _write_moment(self, at: tuple[int, int], moment: date, value: date, form: Any) -> None:
        day = moment.date() if isinstance(moment, datetime) else moment
        if day < _FIRST_DAY:
            self._write_text(at, value.isoformat())
        else:
            self._sheet.write_datetime(*at, moment, form)

    def _write_text(self, at: tuple[int, int], text: object) -> None:
        if isinstance(text, float):
            self._sheet.write_number(*at, text)
        elif text != "":
            if len(str(text)) > _LONGEST:
                raise ValueError(f"a cell holds {_LONGEST} characters at most, and one has {len(str(text))}")
            self._sheet.write_string(*at, str(text))

    def pieces(self) -> Iterator[bytes]:
        """The whole file, once all rows are written."""
        if not self._begun:
            self._begin(None)
        with self._file as file:
            self._book.close()
            file.seek(0)
            while piece := file.read(_PIECE):
                yield piece

    def flush(self) -> bytes:
        """Nothing: the file is had from `pieces`, when it is finished."""
        return b""

    end = flush


def _is_exact(value: Any) -> bool:
    """Whether a cell's number has all digits of a value."""
    if isinstance(value, Decimal):
        return value.is_finite() and len(value.as_tuple().digits) <= _DIGITS
    return bool(abs(value) < 10**_DIGITS)

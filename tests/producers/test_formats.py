"""Rows in each format, read back by programs that others wrote."""

from __future__ import annotations

import base64
import csv
import io
import json
import math
from collections.abc import Iterable, Iterator
from datetime import UTC, date, datetime, time, timedelta, timezone
from decimal import Decimal
from enum import Enum
from typing import Any
from uuid import UUID

import openpyxl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from invio.producers.csv_rows import Row
from invio.producers.formats import BATCH, FORMATS, FormatOptions, batches
from invio.producers.spreadsheets import RowsAsSheet, TooManyRows

EAST = timezone(timedelta(hours=1))
MOMENT = datetime(2026, 1, 31, 6, 30, 15, tzinfo=EAST)


class Colour(Enum):
    RED = 1


class Depth(int):
    pass


# A value, and what it is in CSV, in JSON Lines and in a spreadsheet: the table of docs/sources.md.
FORMS: list[tuple[Any, str, Any, Any]] = [
    (None, "", None, None),
    ("Södra", "Södra", "Södra", "Södra"),
    (True, "true", True, True),
    (12, "12", 12, 12),
    (Depth(12), "12", 12, 12),
    (10**16, str(10**16), 10**16, str(10**16)),
    (2.5, "2.5", 2.5, 2.5),
    (math.nan, "", None, None),
    (-math.inf, "", None, None),
    (Decimal("2.170"), "2.170", 2.17, 2.17),
    (Decimal("1E+3"), "1000", 1000, 1000),
    (Decimal("1.00000000000000000001"), "1.00000000000000000001", 1.0, "1.00000000000000000001"),
    (Decimal("NaN"), "", None, None),
    (date(2026, 1, 31), "2026-01-31", "2026-01-31", datetime(2026, 1, 31)),
    (date(1850, 1, 31), "1850-01-31", "1850-01-31", "1850-01-31"),
    (time(6, 30), "06:30:00", "06:30:00", time(6, 30)),
    (MOMENT, "2026-01-31T06:30:15+01:00", "2026-01-31T06:30:15+01:00", datetime(2026, 1, 31, 5, 30, 15)),
    (timedelta(minutes=1.5), "90.0", 90.0, 90),
    (b"\x00\xff", "AP8=", "AP8=", "AP8="),
    ([1, "a", None], '[1, "a", null]', [1, "a", None], '[1, "a", null]'),
    ({"at": date(2026, 1, 1)}, '{"at": "2026-01-01"}', {"at": "2026-01-01"}, '{"at": "2026-01-01"}'),
    (UUID(int=1), str(UUID(int=1)), str(UUID(int=1)), str(UUID(int=1))),
    (Colour.RED, "Colour.RED", "Colour.RED", "Colour.RED"),
    ("=1+1", "=1+1", "=1+1", "=1+1"),
]


def made(word: str, rows: Iterable[Row], options: FormatOptions | None = None) -> bytes:
    return b"".join(FORMATS[word].pieces(rows, options or FormatOptions()))


@pytest.mark.parametrize(("value", "as_csv", "as_json", "in_sheet"), FORMS, ids=lambda one: str(one)[:20])
def test_a_value_has_one_form_in_each_format(value: Any, as_csv: str, as_json: Any, in_sheet: Any) -> None:
    rows: list[Row] = [("first", "it", "last"), ("a", value, "z")]
    read = list(csv.reader(io.StringIO(made("csv", rows).decode(), newline="")))
    assert read == [["first", "it", "last"], ["a", as_csv, "z"]]
    assert json.loads(made("jsonl", rows)) == {"first": "a", "it": as_json, "last": "z"}
    sheet = openpyxl.load_workbook(io.BytesIO(made("xlsx", rows))).active
    assert [cell.value for cell in sheet[2]] == ["a", in_sheet, "z"]
    assert sheet["B2"].data_type != "f", "nothing of it is a formula"


CELLS = st.one_of(
    st.none(), st.booleans(), st.integers(), st.floats(allow_nan=False, allow_infinity=False), st.binary(max_size=9),
    st.text(st.characters(exclude_categories=["Cs"]), max_size=12), st.decimals(allow_nan=False, allow_infinity=False),
)  # fmt: skip


@given(st.lists(st.tuples(CELLS, CELLS), max_size=60))
def test_what_was_written_is_read_back(rows: list[tuple[Any, Any]]) -> None:
    table: list[Row] = [("a", "b"), *rows]
    lines = [json.loads(line) for line in made("jsonl", table).splitlines()]
    cells = list(csv.reader(io.StringIO(made("csv", table).decode(), newline="")))
    assert cells[0] == ["a", "b"]
    for row, line, (one, other) in zip(rows, lines, cells[1:], strict=True):
        for value, as_json, as_csv in ((row[0], line["a"], one), (row[1], line["b"], other)):
            if isinstance(value, bytes):
                assert base64.b64decode(as_json) == base64.b64decode(as_csv) == value
            elif isinstance(value, bool) or value is None:
                assert (as_json, as_csv) == (value, {True: "true", False: "false", None: ""}[value])
            elif isinstance(value, Decimal):
                assert Decimal(as_csv) == value
            else:
                assert as_json == value
                assert type(value)(as_csv) == value


def test_dicts_are_rows_of_their_keys() -> None:
    rows: list[Row] = [{"a": 1, "b": 2}, {"b": 3}]
    assert made("csv", rows) == b"a,b\r\n1,2\r\n,3\r\n"
    assert made("jsonl", rows) == b'{"a": 1, "b": 2}\n{"b": 3}\n'
    sheet = openpyxl.load_workbook(io.BytesIO(made("xlsx", rows))).active
    assert [[cell.value for cell in row] for row in sheet.rows] == [["a", "b"], [1, 2], [None, 3]]


@pytest.mark.parametrize(("word", "nothing"), [("csv", b""), ("jsonl", b"")])
def test_no_rows_are_an_empty_file(word: str, nothing: bytes) -> None:
    assert made(word, []) == nothing
    assert openpyxl.load_workbook(io.BytesIO(made("xlsx", [("a", "b")]))).active["B1"].value == "b"


def test_cells_that_would_be_formulas_are_made_safe_where_it_is_wanted() -> None:
    rows: list[Row] = [("=head",), ("=1+1",), ("+49",), ("-5",), (-5,), ("@x",), ("\tx",), ("a=1",), (Decimal("-1.5"),)]
    safe = made("csv", rows, FormatOptions(safe=True)).decode().split("\r\n")
    assert safe == ["'=head", "'=1+1", "'+49", "'-5", "-5", "'@x", "'\tx", "a=1", "-1.5", ""]
    assert made("csv", rows).startswith(b"=head\r\n=1+1\r\n")


def test_csv_begins_with_a_mark_where_it_is_wanted() -> None:
    assert made("csv", [("ä",)], FormatOptions(mark=True)) == b"\xef\xbb\xbf\xc3\xa4\r\n"


def test_the_same_rows_are_the_same_spreadsheet() -> None:
    rows: list[Row] = [("at",), (datetime(2026, 1, 1, tzinfo=UTC),)]
    assert made("xlsx", rows) == made("xlsx", rows)


def test_what_does_not_go_into_a_sheet_is_said(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("invio.producers.spreadsheets.MOST_ROWS", 3)
    with pytest.raises(TooManyRows, match="a sheet has 3 rows at most; ask for the CSV"):
        made("xlsx", [("a",)] * 4)
    with pytest.raises(ValueError, match="32767 characters"):
        made("xlsx", [("x" * 40_000,)])
    sheet = RowsAsSheet()
    assert b"".join(sheet.pieces())[:2] == b"PK"


def test_a_row_of_another_length_is_no_row_of_the_table() -> None:
    with pytest.raises(ValueError, match="zip"):
        made("jsonl", [("a", "b"), (1,)])


def test_rows_of_a_slow_source_are_given_as_they_come() -> None:
    now = [0.0]

    def rows() -> Iterator[Row]:
        for number in range(3000):
            now[0] += 0.0 if number < 2500 else 0.5
            yield (number,)

    sizes = [len(batch) for batch in batches(rows(), lambda: now[0])]
    assert sum(sizes) == 3000
    assert max(sizes) == BATCH, "many at a time while they come fast"
    assert sizes[-499:] == [1] * 499, "and one by one when they do not"

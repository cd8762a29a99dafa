"""The formats that rows can have: what each is called, its media type, and how rows become its bytes."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from invio.producers.csv_rows import Row, RowsAsCsv
from invio.producers.json_lines import RowsAsJsonLines

BATCH = 1024  # rows that become bytes together, at most
_MOMENT = 0.02  # seconds within which rows have come that are taken together
_WITHHELD = 0.2  # seconds for which rows are held back to make a piece of them, about


@dataclass(frozen=True, slots=True)
class FormatOptions:
    """What of a format can be chosen.

    `mark`: CSV begins with a byte order mark. `safe`: no cell of it is taken for a formula. `folder` is where a
    spreadsheet lies until it is finished.
    """

    mark: bool = False
    safe: bool = False
    folder: str | None = None


@dataclass(frozen=True, slots=True)
class Format:
    """One format. `pieces` gives the bytes of some rows, of which the first may be the names of the columns."""

    name: str
    media_type: str
    pieces: Callable[[Iterable[Row], FormatOptions], Iterator[bytes]]


def _csv(rows: Iterable[Row], options: FormatOptions) -> Iterator[bytes]:
    encoder = RowsAsCsv(header=True, mark=options.mark, safe=options.safe)
    return _encoded(encoder, batches(rows))


def _json_lines(rows: Iterable[Row], options: FormatOptions) -> Iterator[bytes]:  # noqa: ARG001 - nothing to choose
    columns, rest = _columns_of(rows)
    return _encoded(RowsAsJsonLines(columns), batches(rest))


def _sheet(rows: Iterable[Row], options: FormatOptions) -> Iterator[bytes]:
    from invio.producers.spreadsheets import RowsAsSheet

    columns, rest = _columns_of(rows)
    sheet = RowsAsSheet(columns, options.folder)
    yield from _encoded(sheet, batches(rest))
    yield from sheet.pieces()


FORMATS: Mapping[str, Format] = {
    one.name: one
    for one in (
        Format("csv", "text/csv", _csv),
        Format("jsonl", "application/jsonl", _json_lines),
        Format("xlsx", "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet", _sheet),
    )
}


def batches(rows: Iterable[Row], now: Callable[[], float] = time.monotonic) -> Iterator[Sequence[Row]]:
    """Rows in batches: a slow source's one by one, a fast one's many at a time."""
    batch: list[Row] = []
    began = float("-inf")  # the first one goes alone: the second may take long, or fail
    for row in rows:
        batch.append(row)
        if len(batch) < BATCH and now() - began < _MOMENT:
            continue
        yield batch
        batch, began = [], now()
    if batch:
        yield batch


def _encoded(encoder: Any, some: Iterable[Sequence[Row]], now: Callable[[], float] = time.monotonic) -> Iterator[bytes]:
    """The bytes of rows: in pieces, or as they come where that takes longer."""
    given = now() - _WITHHELD  # the first ones at once, so that the reader gets something
    for batch in some:
        data = encoder.add_many(batch)
        at = now()
        if not data and at - given >= _WITHHELD:
            data = encoder.flush()
        if data:
            yield data
            given = at
    if data := encoder.end():
        yield data


def _columns_of(rows: Iterable[Row]) -> tuple[list[str] | None, Iterator[Row]]:
    """The names of the columns, where the first row is them, and the other rows."""
    iterator = iter(rows)
    first = next(iterator, None)
    if first is None:
        return None, iterator
    if isinstance(first, Mapping):
        return None, _with_first(first, iterator)
    return [str(name) for name in first], iterator


def _with_first(first: Row, rest: Iterator[Row]) -> Iterator[Row]:
    yield first
    yield from rest

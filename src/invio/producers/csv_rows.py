"""Rows as CSV, RFC 4180, in pieces: never more than one piece and one row in memory."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Iterator, Sequence

PIECE = 64 * 1024  # characters, about


def csv_pieces(rows: Iterable[Sequence[object]]) -> Iterator[bytes]:
    """The rows as UTF-8 CSV with CRLF line ends; the first row is the header, if there is one."""
    buffer = io.StringIO(newline="")
    writer = csv.writer(buffer, lineterminator="\r\n")
    for row in rows:
        writer.writerow(row)
        if buffer.tell() >= PIECE:
            yield buffer.getvalue().encode()
            buffer.seek(0)
            buffer.truncate()
    if buffer.tell():
        yield buffer.getvalue().encode()

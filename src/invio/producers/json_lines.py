"""Rows as JSON Lines: one JSON object a line, UTF-8, in pieces."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from invio.producers.csv_rows import PIECE, Row
from invio.producers.values import as_json


class RowsAsJsonLines:
    """Takes rows and gives lines. Rows are mappings, or sequences whose names are `columns`."""

    def __init__(self, columns: Sequence[str] | None = None) -> None:
        self._names = None if columns is None else [as_json(str(column)) for column in columns]
        self._lines: list[str] = []
        self._size = 0

    def add_many(self, rows: Sequence[Row]) -> bytes:
        """Adds rows; returns the bytes that are ready. Raises ValueError: a row has another number of values."""
        for row in rows:
            if isinstance(row, Mapping):
                pairs = [f"{as_json(str(key))}: {as_json(value)}" for key, value in row.items()]
            else:
                if self._names is None:
                    raise ValueError("a row is no dict, and nothing names its columns")
                pairs = [f"{name}: {as_json(value)}" for name, value in zip(self._names, row, strict=True)]
            line = "{" + ", ".join(pairs) + "}\n"
            self._lines.append(line)
            self._size += len(line)
        return self.flush() if self._size >= PIECE else b""

    def end(self) -> bytes:
        """The remaining bytes."""
        return self.flush()

    def flush(self) -> bytes:
        """The bytes so far."""
        data = "".join(self._lines).encode()
        self._lines, self._size = [], 0
        return data

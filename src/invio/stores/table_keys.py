"""Keys of rows: how a column, of text or not, is compared with the paths of addresses.

A key is compared as text, by code points, as addresses are; and as what it is where one row is looked for, because
there may be an index for that.
"""

from __future__ import annotations

import re
import uuid
from contextlib import suppress
from typing import Any

import sqlalchemy as sa

from invio.core.addresses import Address
from invio.core.versions import PathConflict

# Collations in the order of code points, in which addresses are listed.
_PLAIN_ORDERS = {"sqlite": "BINARY", "postgresql": "C"}
_AFTER_SLASH = "0"  # the character after `/`: what stands below a folder sorts before the folder's name with it
_WHOLE = re.compile(r"(?:0|-?[1-9][0-9]{0,17})\Z", re.ASCII)


class Keys:
    """The key's column of one table. `kind` is its type, where that is known, and `dialect` the database's."""

    def __init__(self, column: sa.ColumnElement[Any], dialect: str, kind: Any = None) -> None:
        self._column, self._dialect, self._kind = column, dialect, kind
        # SQLite compares a number with a text as texts, or both as numbers, by itself.
        self._is_text = kind is None or isinstance(kind, sa.String) or dialect == "sqlite"
        self.text: sa.ColumnElement[str] = column if self._is_text else sa.cast(column, sa.Text)

    @property
    def is_sorted(self) -> bool:
        """Whether the database sorts by code points."""
        return self._dialect in _PLAIN_ORDERS

    def equals(self, path: str) -> sa.ColumnElement[bool]:
        """Whether it is the key of a path."""
        if self._is_text:
            return self._column == path
        value = self._value(path)
        return sa.false() if value is None else self._column == value

    def value(self, path: str) -> Any:
        """What a new row for a path gets. Raises PathConflict: it cannot have that."""
        value = path if self._is_text else self._value(path)
        if value is None:
            raise PathConflict(path)
        return value

    def _value(self, path: str) -> Any:
        """A path as the column has it; None where it has none such."""
        if isinstance(self._kind, sa.Integer):
            return int(path) if _WHOLE.match(path) else None
        if isinstance(self._kind, sa.Uuid):
            with suppress(ValueError):
                if str(uuid.UUID(path)) == path:
                    return sa.cast(sa.literal(path, sa.Text), self._kind)
            return None
        return sa.cast(sa.literal(path, sa.Text), self._kind)

    def raw(self, text: sa.ColumnElement[str]) -> sa.ColumnElement[Any]:
        """A text as it is compared by: SQLite's may be no UTF-8, and then the text read of it is another."""
        return sa.cast(text, sa.LargeBinary) if self._dialect == "sqlite" else text

    def is_there(self) -> sa.ColumnElement[bool]:
        """Whether a row has a key: where anything may be one, BLOBs follow all texts, and no text equals them."""
        if self._dialect == "sqlite":
            return sa.func.typeof(self._column).in_(["text", "integer", "real"])
        return self._column.is_not(None)

    def plain(self, text: sa.ColumnElement[str]) -> sa.ColumnElement[str]:
        """A text that is compared by its code points, as addresses are."""
        order = _PLAIN_ORDERS.get(self._dialect)
        return text if order is None else sa.collate(text, order)

    def below(self, folder: Address) -> sa.ColumnElement[bool]:
        """Whether it lies below a folder."""
        path = folder.path
        if not path:
            return sa.true()
        exactly = sa.func.substr(self.text, 1, len(path)) == path
        if self._dialect == "sqlite":  # which finds these by an index
            return sa.and_(self.text > path, self.text < path[:-1] + _AFTER_SLASH, exactly)
        return exactly

    def slash_after(self, folder: Address) -> sa.ColumnElement[int]:
        """Where the first slash stands in what follows the folder; 0 in a file that lies in it."""
        rest = sa.func.substr(self.text, len(folder.path) + 1)
        return (sa.func.strpos if self._dialect == "postgresql" else sa.func.instr)(rest, "/")

    def folder_after(self, folder: Address) -> sa.ColumnElement[str]:
        """The path of the folder in a folder that it lies below."""
        return self.plain(sa.func.substr(self.text, 1, len(folder.path) + self.slash_after(folder)))


def as_text(key: str | bytes) -> str:
    """A key, as it is read. Raises UnicodeDecodeError, for one that is no text."""
    return key.decode() if isinstance(key, bytes) else key

"""A store of files that are made when they are asked for: each a table, sent as CSV."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping

from invio.core.addresses import Address
from invio.core.files import FileFacts
from invio.producers.csv_rows import csv_pieces
from invio.producers.producer import Rows
from invio.stores.sources import Made
from invio.stores.store import Found, Missing
from invio.workers.pool import Pool


class TablesStore:
    """`tables` maps a path in the store to what gives the table's rows, a header first."""

    kind = "tables"
    waits = False

    def __init__(self, name: str, tables: Mapping[str, Callable[[], Rows]]) -> None:
        self.name = name
        self._tables = dict(tables)
        # Threads of its own: a database or a function that hangs stands in nobody else's way.
        self._pool = Pool(f"tables-{name}", 16, waiting=32)

    def locate(self, address: Address) -> Found:
        rows = self._tables.get(address.path)
        if rows is None:
            raise Missing(str(address))
        facts = FileFacts(address, size=None, modified=None, tag=None, media_type="text/csv")
        return Found(facts, Made(lambda: TablePieces(rows), self._pool))

    def list(self, folder: Address) -> list[Address]:
        inside = [path[len(folder.path) :] for path in self._tables if path.startswith(folder.path)]
        if folder.path and not inside:
            raise Missing(str(folder))
        names = {name[: name.index("/") + 1] if "/" in name else name for name in inside}
        listed = [Address(self.name, folder.path + name) for name in names]
        return sorted(listed, key=lambda address: (not address.folder, address.path))


class TablePieces(Iterator[bytes]):
    """A table as CSV, piece by piece: nothing of it is made before the first piece is taken."""

    def __init__(self, rows: Callable[[], Rows]) -> None:
        self._begin = rows
        self._rows: Rows | None = None
        self._pieces: Iterator[bytes] | None = None

    def __next__(self) -> bytes:
        if self._pieces is None:
            self._rows = self._begin()
            self._pieces = csv_pieces(self._rows)
        return next(self._pieces)

    def cancel(self) -> None:
        """Ends what a piece is being waited for; called from another thread."""
        cancel = getattr(self._rows, "cancel", None)
        if cancel is not None:
            cancel()

    def close(self) -> None:
        """Lets go of the rows, and of what they come from."""
        for one in (self._pieces, self._rows):
            close = getattr(one, "close", None)
            if close is not None:
                close()

"""A store of files that are made when they are asked for: each a table, sent as CSV."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from invio.core.addresses import Address
from invio.core.files import FileFacts
from invio.producers.csv_rows import csv_pieces
from invio.producers.producer import Rows
from invio.stores.sources import Made
from invio.stores.store import Found, Missing


class TablesStore:
    """`tables` maps a path in the store to what gives the table's rows, a header first."""

    kind = "tables"
    waits = False

    def __init__(self, name: str, tables: Mapping[str, Callable[[], Rows]]) -> None:
        self.name = name
        self._tables = dict(tables)

    def locate(self, address: Address) -> Found:
        rows = self._tables.get(address.path)
        if rows is None:
            raise Missing(str(address))
        facts = FileFacts(address, size=None, modified=None, tag=None, media_type="text/csv")
        return Found(facts, Made(lambda: csv_pieces(rows())))

    def list(self, folder: Address) -> list[Address]:
        inside = [path[len(folder.path) :] for path in self._tables if path.startswith(folder.path)]
        if folder.path and not inside:
            raise Missing(str(folder))
        names = {name[: name.index("/") + 1] if "/" in name else name for name in inside}
        listed = [Address(self.name, folder.path + name) for name in names]
        return sorted(listed, key=lambda address: (not address.folder, address.path))

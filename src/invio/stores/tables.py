"""A store of files made on demand, by queries and functions, with parameters in their paths."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TypeVar

from invio.core.addresses import Address, BadAddress, parse_address
from invio.core.files import FileFacts
from invio.producers.made_files import MadeFile
from invio.stores.sources import Made, Recipe
from invio.stores.store import Found, Missing, StoreFault
from invio.workers.pool import DeadlinePassed, Pool, PoolBusy

T = TypeVar("T")
_AT_ONCE = 16  # contents that are made at once; four times as many wait, twice as many of one caller
_ANSWERS_WITHIN = 20.0  # seconds for the query that tells a parameter's values


class TablesStore:
    """`files` are the declarations; where two have the same path, the first one is it."""

    kind = "tables"

    def __init__(self, name: str, files: Sequence[MadeFile], at_once: int = _AT_ONCE) -> None:
        self.name = name
        self._files = list(files)
        # Threads of its own: a database or a function that hangs stands in nobody else's way.
        self._pool = Pool(f"tables-{name}", at_once, waiting=4 * at_once)
        self._asking = Pool(f"values-{name}", 4, waiting=16, deadline=_ANSWERS_WITHIN)
        self.waits = any(file.template.asks for file in self._files)

    def locate(self, address: Address) -> Found:
        """Finds a file. Raises Missing, StoreFault."""
        if address.folder:
            raise Missing(str(address))
        return self._asked(lambda: self._locate(address))

    def _locate(self, address: Address) -> Found:
        for file in self._files:
            given = file.template.match(address.path)
            if given is not None:
                break
        else:
            raise Missing(str(address))
        facts = FileFacts(address, None, None, None, media_type=file.media_type_of(given), name=file.name_of(given))
        recipe = Recipe(
            lambda caller: file.maker(given, caller), keep=file.keep, personal=file.personal, estimate=file.estimate
        )
        return Found(
            facts, Made(file.maker(given), file.pool or self._pool, recipe), passing=True, personal=file.personal
        )

    def list(self, folder: Address) -> Sequence[Address]:
        """What is in a folder, in order. Raises Missing, StoreFault."""
        return self._asked(lambda: self._list(folder))

    def _list(self, folder: Address) -> Sequence[Address]:
        parts = folder.path.rstrip("/").split("/") if folder.path else []
        names: dict[str, None] = {}
        for file in self._files:
            for name, is_folder in file.template.inside(parts):
                names[name + ("/" if is_folder else "")] = None
        if parts and not names and not any(file.template.is_folder(parts) for file in self._files):
            raise Missing(str(folder))
        listed = []
        for name in names:
            try:
                listed.append(parse_address(f"{folder}{name}"))
            except BadAddress:
                continue  # a value that no address can hold
        return sorted(listed, key=lambda address: (not address.folder, address.path))

    def _asked(self, work: Callable[[], T]) -> T:
        """Finds something out, by a thread where that asks a database. Raises Missing, StoreFault."""
        if not self.waits:
            return work()
        try:
            return self._asking.call(work)
        except Missing:
            raise
        except (PoolBusy, DeadlinePassed) as error:
            raise StoreFault(f"store {self.name!r}: {error}") from None
        except Exception as error:  # each database has errors of its own
            raise StoreFault(f"store {self.name!r}: {type(error).__name__}: {error}") from error

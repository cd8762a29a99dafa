"""The settings of files made on demand → a store of them; every fault is told with its line."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any

from invio.core.addresses import BadAddress, parse_file_address
from invio.core.memory import ExpiringMemory
from invio.producers.formats import FormatOptions
from invio.producers.made_files import FORMAT, MadeFile, Values, made_template
from invio.producers.parameters import (
    MOST,
    BadTemplate,
    Given,
    Parameter,
    Template,
    read_pattern,
)
from invio.producers.producer import CALLER_NAMES, ProducerFault, Query, database_engine, function_named, making_pool
from invio.service.settings import Settings
from invio.service.store_settings import ParameterSettings, TableSettings, TablesSettings
from invio.stores.tables import TablesStore

# For how long a parameter's values are good without asking again, and how soon one that is not among them is asked for.
_FRESH, _AGAIN = 10.0, 1.0
_KEPT = 1000

Place = tuple[str | int, ...]


def tables_store(settings: Settings, name: str, given: TablesSettings) -> TablesStore:
    """The store. Raises BadSettings."""
    files: list[MadeFile] = []
    for number, one in enumerate(given.file):
        place: Place = ("stores", name, "file", number)
        file = _made_file(settings, one, given.connections, place)
        if any(other.template.text == file.template.text for other in files):
            raise settings.fault((*place, "path"), f"the store has a file {one.path!r} already; rename one")
        try:
            parse_file_address(f"{name}/{_example(file.template)}")
        except BadAddress as error:
            raise settings.fault((*place, "path"), f"{one.path!r} cannot be the path of a file: {error}") from None
        files.append(file)
    return TablesStore(name, files, given.at_once)


def _example(template: Template) -> str:
    return template.filled(dict.fromkeys(template.parameters, "x"))


def making_folder(settings: Settings) -> Path:
    """Where what is being made lies: on the disk of the records, which is no memory."""
    return settings.path(settings.service.data) / "making"


def _made_file(settings: Settings, given: TableSettings, connections: int, place: Place) -> MadeFile:
    try:
        engine = None if given.database is None else database_engine(given.database, settings.folder, connections)
    except ProducerFault as error:
        raise settings.fault((*place, "database"), str(error)) from None
    parameters: dict[str, Parameter] = {}
    for name, one in given.parameters.items():
        where = (*place, "parameters", name)
        if name in (*CALLER_NAMES, FORMAT):
            raise settings.fault(where, f"{name!r} has a meaning of its own; call the parameter otherwise")
        try:
            parameters[name] = _parameter(engine, name, one, list(parameters))
        except ProducerFault as error:
            raise settings.fault((*where, "query"), str(error)) from None
        except BadTemplate as error:
            raise settings.fault((*where, "pattern"), str(error)) from None
    try:
        template, formats = made_template(given.path, parameters, tuple(given.formats))
    except BadTemplate as error:
        raise settings.fault((*place, "path"), str(error)) from None
    names = [*parameters, *(CALLER_NAMES if given.caller else ())]
    try:
        rows = _rows(engine, given, names)
    except ProducerFault as error:
        raise settings.fault((*place, "query" if given.function is None else "function"), str(error)) from None
    return MadeFile(
        template,
        rows,
        formats,
        media_type=given.media_type,
        name=given.name,
        keep=given.keep,
        personal=given.caller,
        estimate=given.estimate,
        options=FormatOptions(given.mark, given.formulas == "safe", str(making_folder(settings))),
        pool=making_pool(engine, connections) if engine is not None and given.function is None else None,
    )


def _rows(engine: Any, given: TableSettings, names: Sequence[str]) -> Callable[[Values], Any]:
    if given.function is None:
        return Query(engine, str(given.query), names).rows
    function = function_named(given.function)
    return lambda values: function(**values)


def _parameter(engine: Any, name: str, given: ParameterSettings, before: Sequence[str]) -> Parameter:
    if given.choices is not None:
        return Parameter(name, choices=tuple(dict.fromkeys(given.choices)), type=given.type)
    if given.pattern is not None:
        return Parameter(name, pattern=read_pattern(given.pattern), type=given.type)
    return Parameter(name, values=_Asked(Query(engine, str(given.query), before)), type=given.type)


class _Asked:
    """The values that a query gives, remembered for a while. To be called by a thread: it may wait for a database."""

    def __init__(self, query: Query) -> None:
        self._query = query
        self._known: ExpiringMemory[tuple[tuple[str, str], ...], _Listed] = ExpiringMemory(_KEPT, _FRESH)

    def __call__(self, before: Given) -> Sequence[str]:
        names = self._query.names
        key = tuple((name, value) for name, value in before.items() if name in names)
        now = time.monotonic()
        known = self._known.fresh(key, now, None)
        if known is None:
            known = self._known.keep_at(key, _Listed(self._ask, dict(key)), now)
        return known

    def _ask(self, given: Mapping[str, str]) -> list[str]:
        return self._query.first_column(given, MOST)


class _Listed(list[str]):
    """Values in their order; whether one is among them is looked up at once, and once more when it has just come."""

    def __init__(self, ask: Callable[[Mapping[str, str]], list[str]], given: Mapping[str, str]) -> None:
        super().__init__(dict.fromkeys(ask(given)))
        self._ask, self._given = ask, given
        self._set, self._at = frozenset(self), time.monotonic()

    def __contains__(self, value: object) -> bool:
        if value in self._set:
            return True
        if time.monotonic() - self._at < _AGAIN:
            return False
        self[:] = dict.fromkeys(self._ask(self._given))
        self._set, self._at = frozenset(self), time.monotonic()
        return value in self._set

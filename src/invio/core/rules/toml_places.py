"""Where in a TOML text a value stands, so that an error can name its line.

The parser of the standard library tells the line of a syntax error only. For an error of meaning
this finds the line again from the path of keys, over the forms that people write in settings:
tables, arrays of tables, dotted and quoted keys, and values inside them (found as their key).
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from functools import lru_cache

_HEADER = re.compile(r"\s*(\[\[?)\s*(.+?)\s*\]\]?\s*(?:#.*)?\Z")
_KEY = re.compile(r"""\s*((?:"[^"]*"|'[^']*'|[A-Za-z0-9_-]+)(?:\s*\.\s*(?:"[^"]*"|'[^']*'|[A-Za-z0-9_-]+))*)\s*=""")
_PIECE = re.compile(r""""([^"]*)"|'([^']*)'|([A-Za-z0-9_-]+)""")


def line_of(text: str, path: Sequence[str | int]) -> int:
    """The line, counted from 1, of the longest beginning of `path` that can be found; 1 if none can.

    `path` holds keys, and the index (from 0) of a table within an array of tables:
    `("rule", 2, "effect")`.
    """
    lines = _lines(text)
    for length in range(len(path), 0, -1):
        line = lines.get(tuple(path[:length]))
        if line is not None:
            return line
    return 1


@lru_cache(maxsize=4)
def _lines(text: str) -> dict[tuple[str | int, ...], int]:
    """Each place of a text with its first line. Kept: a file of rules asks for every rule of it."""
    lines: dict[tuple[str | int, ...], int] = {}
    for number, place in _places(text):
        lines.setdefault(place, number)
    return lines


def _places(text: str) -> list[tuple[int, tuple[str | int, ...]]]:
    places: list[tuple[int, tuple[str | int, ...]]] = []
    table: tuple[str | int, ...] = ()
    counts: dict[tuple[str | int, ...], int] = {}
    for number, line in enumerate(text.splitlines(), 1):
        header = _HEADER.match(line)
        if header:
            table = _resolved(_keys(header[2]), counts, array=header[1] == "[[")
            places.append((number, table))
            continue
        key = _KEY.match(line)
        if key:
            places.append((number, table + tuple(_keys(key[1]))))
    return places


def _keys(text: str) -> list[str]:
    return [first or second or third for first, second, third in _PIECE.findall(text)]


def _resolved(keys: list[str], counts: dict[tuple[str | int, ...], int], *, array: bool) -> tuple[str | int, ...]:
    """The keys with the index that each array of tables on the way has reached."""
    path: tuple[str | int, ...] = ()
    for place, key in enumerate(keys):
        path += (key,)
        if array and place == len(keys) - 1:
            counts[path] = counts.get(path, -1) + 1
        if path in counts:
            path += (counts[path],)
    return path

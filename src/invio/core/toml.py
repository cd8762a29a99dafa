"""TOML that people write: read once, and every error named with its file and line.

The parser of the standard library tells the line of a syntax error only. For an error of meaning, a
`Document` finds the line again from the path of keys: it walks over the text's tables, arrays of
tables and dotted or quoted keys, and skips values whole, so that a line within a text of several
lines is never taken for a key.
"""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any, TypeVar

from invio.core.errors import ConfigurationError

Place = tuple[str | int, ...]  # keys, and the index (from 0) of a table within an array of tables

_NAME = r"""(?:"[^"\n]*"|'[^'\n]*'|[A-Za-z0-9_-]+)"""
_NAMES = rf"{_NAME}(?:[ \t]*\.[ \t]*{_NAME})*"
_HEADER = re.compile(rf"[ \t]*(\[\[?)[ \t]*({_NAMES})[ \t]*\]")
_KEY = re.compile(rf"[ \t]*({_NAMES})[ \t]*=")
_PIECE = re.compile(r""""([^"]*)"|'([^']*)'|([A-Za-z0-9_-]+)""")
# What a value consists of, as far as its end is concerned: texts and comments may hold brackets and line ends.
_TOKEN = re.compile(
    r'"""(?:\\.|[^\\])*?"""+|'
    r"'{3}.*?'{3,}|"
    r""""(?:\\.|[^"\\\n])*"|'[^'\n]*'|#[^\n]*|[\[{\]}\n]|[^"'#\[\]{}\n]+""",
    re.DOTALL,
)

_Error = TypeVar("_Error", bound=ConfigurationError)


@dataclass(frozen=True, slots=True)
class Document:
    """A TOML text that was read: its `data`, and where each part of it stands in `file`."""

    file: str
    text: str = field(repr=False)
    data: dict[str, Any] = field(repr=False)

    def line_of(self, place: Sequence[str | int]) -> int:
        """The line, counted from 1, of the longest beginning of `place` that can be found; 1 if none can.

        `place` is as in `("rule", 2, "effect")`.
        """
        lines = _lines(self)
        return next((lines[tuple(place[:end])] for end in range(len(place), 0, -1) if tuple(place[:end]) in lines), 1)


_last: list[tuple[Document, dict[Place, int]]] = []


def _lines(document: Document) -> dict[Place, int]:
    """Each place of a document with its first line; the last document's are kept, for it is asked about many."""
    if not _last or _last[0][0] is not document:
        lines: dict[Place, int] = {}
        for number, place in _places(document.text):
            lines.setdefault(place, number)
        _last[:] = [(document, lines)]
    return _last[0][1]


def parse_toml(text: str, file: str, error: type[_Error]) -> Document:
    """Reads TOML; `file` is the name that errors give, and `error` what they are raised as.

    Raises:
        `error`: the text is not TOML.
    """
    try:
        return Document(file, text, tomllib.loads(text))
    except RecursionError:
        raise error.at(file, 1, "brackets are nested too deeply") from None
    except tomllib.TOMLDecodeError as fault:
        found = re.search(r"at line (\d+)", str(fault))
        line = int(found[1]) if found else len(text.splitlines()) or 1
        raise error.at(file, line, f"not TOML: {fault}") from None


def did_you_mean(word: object, allowed: Iterable[str]) -> str:
    """` (did you mean 'port'?)` for a word that looks like one of those allowed, else an empty text."""
    from difflib import get_close_matches  # for those who made a mistake

    found = get_close_matches(str(word), list(allowed), 1, 0.6)
    return f" (did you mean {found[0]!r}?)" if found else ""


def _places(text: str) -> Iterator[tuple[int, Place]]:
    table: Place = ()
    counts: dict[Place, int] = {}
    at, number = 0, 1
    while at < len(text):
        header, key = _HEADER.match(text, at), _KEY.match(text, at)
        if header:
            table = _resolved(_keys(header[2]), counts, array=header[1] == "[[")
            yield number, table
        elif key:
            place = (*table, *_keys(key[1]))
            # Dotted keys make the tables on their way, too.
            for length in range(len(table) + 1, len(place) + 1):
                yield number, place[:length]
        value = key.end() if key else header.end() if header else at
        end = _end_of_value(text, value)
        number += text.count("\n", at, end)
        at = end


def _end_of_value(text: str, at: int) -> int:
    """Where the line ends on which a value ends that begins at `at`."""
    depth = 0
    for token in _TOKEN.finditer(text, at):
        sign = token[0]
        depth += (sign in "[{") - (sign in "]}")
        if sign == "\n" and depth <= 0:
            return token.end()
    return len(text)


def _keys(text: str) -> list[str]:
    return [first or second or third for first, second, third in _PIECE.findall(text)]


def _resolved(keys: list[str], counts: dict[Place, int], *, array: bool) -> Place:
    """The keys with the index that each array of tables on the way has reached."""
    path: Place = ()
    for place, key in enumerate(keys):
        path += (key,)
        if array and place == len(keys) - 1:
            counts[path] = counts.get(path, -1) + 1
        if path in counts:
            path += (counts[path],)
    return path

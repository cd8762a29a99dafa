"""The one form that a value of a row has in each format. docs/sources.md has it as a table.

| value | CSV | JSON Lines | XLSX |
| --- | --- | --- | --- |
| NULL, None | an empty cell | null | an empty cell |
| text | as it is | a string | a text cell |
| true, false | true, false | true, false | a boolean cell |
| a whole number | digits | a number | a number cell; of more than 15 digits a text cell |
| a number with a fraction | its shortest exact form | a number | a number cell |
| not a number, infinite | an empty cell | null | an empty cell |
| a decimal | all its digits | a number of all its digits | a number cell; of more than 15 digits a text cell |
| a date | 2026-01-31 | "2026-01-31" | a date cell |
| a time of day | 06:30:00 | "06:30:00" | a time cell |
| a date and time | 2026-01-31T06:30:00+00:00 | the same, as a string | a date cell, in UTC where there is an offset |
| another date or time (`infinity`, 44 BC) | as the database writes it | the same, as a string | a text cell |
| a duration | seconds, as a number | seconds, as a number | a number cell |
| bytes | Base64 (RFC 4648 §4) | the same, as a string | the same, as a text cell |
| a list, a mapping | as JSON | as JSON | as JSON, in a text cell |
| anything else | its text | its text, as a string | its text, in a text cell |

Pure.
"""

from __future__ import annotations

import base64
import json
import math
from collections.abc import Callable, Mapping
from datetime import date, datetime, time, timedelta
from decimal import Decimal
from typing import Any

# What a spreadsheet takes for the beginning of a formula, or of a command to another program.
FORMULA_BEGINS = ("=", "+", "-", "@", "\t", "\r")


def as_text(value: Any) -> object:
    """A value as a cell of CSV: what the writer writes unaltered."""
    form = _TEXTS.get(type(value))
    return form(value) if form is not None else _other_text(value)


def as_json(value: Any) -> str:
    """A value as JSON (RFC 8259)."""
    form = _JSON.get(type(value))
    return form(value) if form is not None else _other_json(value)


def safe_cell(text: object) -> object:
    """A cell that no spreadsheet takes for a formula: an apostrophe stands before what would begin one."""
    return "'" + text if isinstance(text, str) and text.startswith(FORMULA_BEGINS) else text


def _itself(value: Any) -> Any:
    return value


def _float_text(value: float) -> object:
    return value if math.isfinite(value) else ""


def _float_json(value: float) -> str:
    return repr(value) if math.isfinite(value) else "null"


def _decimal(value: Decimal) -> str:
    return format(value, "f") if value.is_finite() else ""


def _decimal_json(value: Decimal) -> str:
    return _decimal(value) or "null"


def _bytes(value: bytes | bytearray | memoryview) -> str:
    return base64.b64encode(value).decode("ascii")


def _seconds(value: timedelta) -> object:
    return _float_text(value.total_seconds())


_quoted: Callable[[str], str] = json.encoder.encode_basestring  # not escaped to ASCII: a text stays readable


def _json_of_text(form: Callable[[Any], str]) -> Callable[[Any], str]:
    return lambda value: _quoted(form(value))


def _nested(value: Any) -> str:
    """A list or a mapping as JSON, its own values as those of rows."""
    if isinstance(value, Mapping):
        return "{" + ", ".join(f"{_quoted(str(key))}: {as_json(one)}" for key, one in value.items()) + "}"
    return "[" + ", ".join(as_json(one) for one in value) + "]"


def _none(_: None) -> str:
    return ""


def _null(_: None) -> str:
    return "null"


def _bool(value: bool) -> str:  # noqa: FBT001 - it is the value
    return "true" if value else "false"


def _iso(value: date | time) -> str:
    return value.isoformat()


_TEXTS: dict[type, Callable[[Any], object]] = {
    str: _itself, int: _itself, float: _float_text, type(None): _none, bool: _bool, Decimal: _decimal, date: _iso,
    datetime: _iso, time: _iso, timedelta: _seconds, bytes: _bytes, bytearray: _bytes, memoryview: _bytes,
    list: _nested, tuple: _nested, dict: _nested,
}  # fmt: skip
_JSON: dict[type, Callable[[Any], str]] = {
    str: _quoted, int: repr, float: _float_json, type(None): _null, bool: _bool, Decimal: _decimal_json,
    date: _json_of_text(_iso), datetime: _json_of_text(_iso), time: _json_of_text(_iso),
    timedelta: lambda value: _float_json(value.total_seconds()), bytes: _json_of_text(_bytes),
    bytearray: _json_of_text(_bytes), memoryview: _json_of_text(_bytes), list: _nested, tuple: _nested, dict: _nested,
}  # fmt: skip


def _other_text(value: Any) -> object:
    """A value of another type: as one that it is derived from, or as its own text."""
    for kind, form in _TEXTS.items():
        if isinstance(value, kind) and kind is not str:
            return form(value)
    return str(value)


def _plain(kind: type, value: Any) -> Any:
    """A number of a type that is derived from `kind`, as that."""
    return kind(value) if kind in {int, float} else value


def _other_json(value: Any) -> str:
    for kind, form in _JSON.items():
        if isinstance(value, kind) and kind is not str:
            return form(_plain(kind, value))
    return _quoted(str(value))

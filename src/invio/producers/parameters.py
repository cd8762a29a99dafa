"""Parameters of files made on demand, as they stand in the path: `gauges/{station}/{month}.{format}`.

A parameter's values are declared: by a list (`choices`), by a query (`values`), or by a regular expression
(`pattern`). A path either fits with values that are declared, or there is no such file. Values are found in this order
from left to right, so that the values of one may depend on those before it.

Invariants:
- What `match` gives is declared, whatever was asked for: no value reaches a producer that is not.
- `inside` lists exactly what `match` finds, except below a parameter that only a pattern declares.

Pure: where values come from a query, `values` asks for them.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field

Given = Mapping[str, str]
Typed = str | int | float

_NAME = re.compile(r"\{([a-z][a-z0-9_]{0,31})\}")
_BRACES = re.compile(r"[{}]")
# How many values of one parameter are listed, and tried for a path that could be read in several ways.
MOST = 100_000


class BadTemplate(ValueError):
    """A path or a parameter cannot be used; the message says why."""


@dataclass(frozen=True)
class Parameter:
    """One parameter: exactly one of `choices`, `values` and `pattern` says which values it has.

    `values` is called with the values of the parameters before it. `type` is what a producer is given:
    `text`, `integer` or `number`.
    """

    name: str
    choices: tuple[str, ...] = ()
    values: Callable[[Given], Sequence[str]] | None = None
    pattern: re.Pattern[str] | None = None
    type: str = "text"

    @property
    def listed(self) -> bool:
        """Whether its values can be listed."""
        return self.pattern is None

    def all(self, before: Given) -> Sequence[str]:
        """Its values, given those of the parameters before it."""
        return self.choices if self.values is None else self.values(before)

    def has(self, value: str, before: Given) -> bool:
        """Whether a value is one of its values."""
        if self.pattern is not None:
            return self.pattern.fullmatch(value) is not None and self._is_of_type(value)
        return value in self.all(before) and self._is_of_type(value)

    def _is_of_type(self, value: str) -> bool:
        try:
            self.typed(value)
        except ValueError:
            return False
        return True

    def typed(self, value: str) -> Typed:
        """A value converted to its type. Raises ValueError: it is not of that type."""
        if self.type == "integer":
            return int(value)
        return float(value) if self.type == "number" else value


@dataclass(frozen=True)
class _Segment:
    """What stands between two slashes: its text, the names in it, and both as pieces: texts and names in turn."""

    text: str
    names: tuple[str, ...]
    pieces: tuple[str, ...]

    def filled(self, given: Given) -> str:
        return _NAME.sub(lambda found: given[found[1]], self.text)


@dataclass(frozen=True)
class Template:
    """A path with parameters in it."""

    text: str
    parameters: Mapping[str, Parameter]
    _segments: tuple[_Segment, ...] = field(repr=False)

    @property
    def asks(self) -> bool:
        """Whether finding or listing something may take a query."""
        return any(one.values is not None for one in self.parameters.values())

    def match(self, path: str) -> dict[str, str] | None:
        """The values for which the template gives this path; None when there are none."""
        parts = path.split("/")
        if len(parts) != len(self._segments):
            return None
        return self._matched(parts)

    def typed(self, given: Given) -> dict[str, Typed]:
        """Values as a producer gets them."""
        return {name: self.parameters[name].typed(value) for name, value in given.items()}

    def filled(self, given: Given) -> str:
        """The path with these values."""
        return _NAME.sub(lambda found: given[found[1]], self.text)

    def is_folder(self, parts: Sequence[str]) -> bool:
        """Whether some file lies, or may lie, below the folder of these segments."""
        return len(parts) < len(self._segments) and self._matched(parts) is not None

    def inside(self, parts: Sequence[str]) -> Iterator[tuple[str, bool]]:
        """The names in a folder of these segments that this template gives, and whether each is a folder's."""
        if len(parts) >= len(self._segments):
            return
        given = self._matched(parts)
        if given is None:
            return
        segment, is_folder = self._segments[len(parts)], len(parts) + 1 < len(self._segments)
        for filled in self._fillings(segment.names, given):
            yield segment.filled(filled), is_folder

    def _matched(self, parts: Sequence[str]) -> dict[str, str] | None:
        return next(self._readings(parts, 0, {}), None)

    def _readings(self, parts: Sequence[str], place: int, given: dict[str, str]) -> Iterator[dict[str, str]]:
        """The values with which the first segments are these parts: mostly in one way, or in none."""
        if place == len(parts):
            yield given
            return
        for more in self._read(parts[place], self._segments[place].pieces, 0, given):
            yield from self._readings(parts, place + 1, more)

    def _read(self, part: str, pieces: tuple[str, ...], number: int, given: dict[str, str]) -> Iterator[dict[str, str]]:
        """The values with which what is left of a part is what is left of a segment, from piece `number` on."""
        if number == len(pieces):
            if not part:
                yield given
        elif number % 2 == 0:  # a text
            if part.startswith(pieces[number]):
                yield from self._read(part[len(pieces[number]) :], pieces, number + 1, given)
        else:
            name = pieces[number]
            for value in self._candidates(name, part, given, is_last=pieces[number + 1 :] == ("",)):
                yield from self._read(part[len(value) :], pieces, number + 1, {**given, name: value})

    def _candidates(self, name: str, part: str, given: Given, *, is_last: bool) -> Iterator[str]:
        """The values that a parameter may have at the beginning of a part."""
        if name in given:
            if part.startswith(given[name]):
                yield given[name]
            return
        parameter = self.parameters[name]
        if is_last:
            possible: Iterable[str] = (part,)
        elif parameter.choices:
            possible = (choice for choice in parameter.choices if part.startswith(choice))
        else:
            possible = (part[:end] for end in range(1, len(part) + 1))
        yield from (value for value in possible if is_value(value) and parameter.has(value, given))

    def _fillings(self, names: Sequence[str], given: Given) -> Iterator[Given]:
        """All values of some parameters, one after the other, with those that are given."""
        if not names:
            yield given
            return
        name, *others = names
        if name in given:
            yield from self._fillings(others, given)
            return
        parameter = self.parameters[name]
        if not parameter.listed:
            return
        for value in list(parameter.all(given))[:MOST]:
            if is_value(value) and parameter.has(value, given):
                yield from self._fillings(others, {**given, name: value})


def is_value(value: str) -> bool:
    """Whether a value can stand in a path."""
    return bool(value) and "/" not in value


def read_template(text: str, parameters: Mapping[str, Parameter]) -> Template:
    """A path with `{name}` for each parameter.

    Raises:
        BadTemplate: a name is not declared, a declared one is not used, or braces are left over.
    """
    segments: list[_Segment] = []
    seen: list[str] = []
    for part in text.split("/"):
        if _BRACES.search(_NAME.sub("", part)):
            raise BadTemplate(f"{part!r}: expected {{name}} with a name of a-z, 0-9 and _")
        names = tuple(dict.fromkeys(_NAME.findall(part)))
        for name in names:
            if name not in parameters:
                raise BadTemplate(f"{{{name}}} is in the path, but not among the parameters; declare parameters.{name}")
        segments.append(_Segment(part, names, tuple(_NAME.split(part))))
        seen += names
    for name in parameters:
        if name not in seen:
            raise BadTemplate(f"the parameter {name!r} is not in the path; write {{{name}}} where its value stands")
    return Template(text, {name: parameters[name] for name in dict.fromkeys(seen)}, tuple(segments))


def read_pattern(text: str) -> re.Pattern[str]:
    """A parameter's pattern. Raises BadTemplate."""
    try:
        pattern = re.compile(text, re.DOTALL)
    except re.error as error:
        raise BadTemplate(f"the pattern {text!r} is no regular expression: {error}") from None
    return pattern

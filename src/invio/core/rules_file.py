"""The rules file: TOML, one `[[rule]]` a rule. Every error names the line and what was expected."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Callable, Collection
from pathlib import Path
from typing import Any, TypeVar

from invio.core.caching import read_cache_control
from invio.core.errors import Unusable
from invio.core.patterns import BadPattern, Pattern, parse_pattern
from invio.core.rules import ACTIONS, EFFECTS, NO_TERMS, Rule, RuleSet, Terms, Who
from invio.core.toml_places import line_of

_NEEDED = ("effect", "who", "what", "actions")
_TERMS = ("speed", "disposition", "cache")
_KEYS = ("name", *_NEEDED, *_TERMS)
_ID = re.compile(r"[A-Za-z0-9._@-]{1,64}\Z")
_Item = TypeVar("_Item")


class BadRules(Unusable):
    """The rules file cannot be used. The message is `file:line: what is wrong; what was expected`."""

    def __init__(self, file: str, line: int, message: str) -> None:
        super().__init__(f"{file}:{line}: {message}")
        self.line = line


def read_rules(path: str | Path, stores: Collection[str] = ()) -> RuleSet:
    """Reads the rules file at `path`; `stores` are the stores that patterns may name (none: any).

    Raises:
        BadRules: the file is missing, is not TOML, or says something that is no rule.
    """
    try:
        text = Path(path).read_text("utf-8")
    except OSError as error:
        raise BadRules(str(path), 1, f"the rules file cannot be read: {error.strerror}") from None
    except UnicodeDecodeError:
        raise BadRules(str(path), 1, "the rules file is not UTF-8 text") from None
    return parse_rules(text, str(path), stores)


def parse_rules(text: str, file: str = "rules.toml", stores: Collection[str] = ()) -> RuleSet:
    """Like `read_rules`, for a text; `file` is the name that errors give."""
    try:
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        found = re.search(r"at line (\d+)", str(error))
        line = int(found[1]) if found else len(text.splitlines()) or 1
        raise BadRules(file, line, f"not TOML: {error}") from None
    reader = _Reader(text, file, stores)
    for key in data:
        if key != "rule":
            reader.refuse((key,), f"unknown entry {key!r}; expected [[rule]]")
    entries = data.get("rule", [])
    if not isinstance(entries, list):
        reader.refuse(("rule",), "a rule is written [[rule]], with two brackets")
    return RuleSet(reader.rule(place, entry) for place, entry in enumerate(entries))


class _Reader:
    def __init__(self, text: str, file: str, stores: Collection[str]) -> None:
        self._text = text
        self._file = file
        self._stores = stores

    def refuse(self, path: tuple[str | int, ...], message: str) -> Any:
        raise BadRules(self._file, line_of(self._text, path), message)

    def rule(self, place: int, entry: dict[str, Any]) -> Rule:
        at = ("rule", place)
        for key in entry:
            if key not in _KEYS:
                self.refuse((*at, key), f"a rule has no {key!r}; it has {', '.join(_KEYS)}")
        for key in _NEEDED:
            if key not in entry:
                self.refuse(at, f"the rule has no {key!r}")
        name = entry.get("name", f"rule {place + 1}")
        if not isinstance(name, str):
            self.refuse((*at, "name"), "name is a text")
        if entry["effect"] not in EFFECTS:
            self.refuse((*at, "effect"), f"effect is {entry['effect']!r}; expected 'allow' or 'deny'")
        return Rule(
            name=name,
            effect=entry["effect"],
            who=self._each((*at, "who"), entry["who"], self._who),
            what=self._each((*at, "what"), entry["what"], self._what),
            actions=frozenset(self._each((*at, "actions"), entry["actions"], self._action)),
            line=line_of(self._text, at),
            terms=self._terms(at, entry),
        )

    def _terms(self, at: tuple[str | int, ...], entry: dict[str, Any]) -> Terms:
        given = {key: entry[key] for key in _TERMS if key in entry}
        if not given:
            return NO_TERMS
        if entry["effect"] == "deny":
            self.refuse((*at, next(iter(given))), "a rule that denies says nothing of how a file is delivered")
        speed, cache = given.get("speed"), given.get("cache")
        if speed is not None and (type(speed) is not int or speed < 1):
            self.refuse((*at, "speed"), f"speed is {speed!r}; expected bytes a second, a whole number of 1 or more")
        if given.get("disposition") not in (None, "attachment", "inline"):
            self.refuse(
                (*at, "disposition"), f"disposition is {given['disposition']!r}; expected 'attachment' or 'inline'"
            )
        if cache is not None:
            try:
                cache = read_cache_control(str(cache))
            except ValueError as error:
                self.refuse((*at, "cache"), str(error))
        return Terms(speed, given.get("disposition"), cache)

    def _each(self, at: tuple[str | int, ...], value: Any, read: Callable[[str], _Item]) -> tuple[_Item, ...]:
        if not isinstance(value, list) or not value or not all(isinstance(item, str) for item in value):
            self.refuse(at, f'{at[-1]} is a list of one text or more, as in {at[-1]} = ["…"]')
        items = []
        for item in value:
            try:
                items.append(read(item))
            except ValueError as error:
                self.refuse(at, f"{item!r}: {error}")
        return tuple(items)

    def _who(self, text: str) -> Who:
        if text in ("anyone", "signed-in"):
            return Who(text)
        kind, _, name = text.partition(":")
        if kind not in ("recipient", "group") or not _ID.match(name):
            raise ValueError("expected 'anyone', 'signed-in', 'recipient:ID' or 'group:NAME'")
        return Who(kind, name)

    def _what(self, text: str) -> Pattern:
        pattern = parse_pattern(text)
        if self._stores and pattern.store is not None and pattern.store not in self._stores:
            raise BadPattern(f"there is no store {pattern.store!r}; stores are {', '.join(sorted(self._stores))}")
        return pattern

    def _action(self, text: str) -> str:
        if text not in ACTIONS:
            raise ValueError(f"expected one of {', '.join(ACTIONS)}")
        return text

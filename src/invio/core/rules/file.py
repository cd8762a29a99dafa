"""The rules file: TOML, one `[[rule]]` a rule. Every error names the line and what was expected."""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Sequence
from datetime import UTC, date, datetime, tzinfo
from ipaddress import ip_address
from typing import Any, TypeVar

from invio.core.addresses import parse_address
from invio.core.errors import ConfigurationError
from invio.core.http.caching import read_cache_control
from invio.core.http.forwarded import Network, read_networks
from invio.core.rules.conditions import ALWAYS, VERSIONS, Conditions, read_days, read_hours
from invio.core.rules.decisions import ADMINISTER, EFFECTS, RULE_ACTIONS, Expectation, Rule, RuleSet, Who
from invio.core.rules.external_checks import ExternalCheck
from invio.core.rules.patterns import BadPattern, Pattern, parse_pattern
from invio.core.rules.quotas import Quota, read_period
from invio.core.rules.terms import NO_TERMS, Terms
from invio.core.toml import Document, Place, did_you_mean, parse_toml

_NEEDED = ("effect", "who", "what", "actions")
_TERMS = ("speed", "disposition", "cache", "quota", "link_default", "link_longest")
_QUOTA = ("files", "bytes", "per", "text", "link")
_CONDITIONS = ("media_types", "min_size", "max_size", "version", "when", "networks", "ask")
_ASK = ("url", "function", "timeout")
_WHEN = ("from", "until", "days", "hours", "zone")
KEYS = ("name", *_NEEDED, *_CONDITIONS, *_TERMS)
_EXPECT_NEEDED = ("who", "action", "address", "outcome")
_EXPECT = (*_EXPECT_NEEDED, "groups", "size", "version", "at", "network", "applies")
_LONGEST_ASKED = 30.0  # seconds
_FUNCTION = re.compile(r"[A-Za-z_][\w.]*:[A-Za-z_]\w*\Z")
_ID = re.compile(r"[A-Za-z0-9._@-]{1,64}\Z")
_TYPE = re.compile(r"[a-zA-Z0-9.+*-]+/[a-zA-Z0-9.+*-]+\Z")
_Item = TypeVar("_Item")


class BadRules(ConfigurationError):
    """The rules file cannot be used. The message is `file:line: what is wrong; what was expected`."""


def parse_rules(text: str, file: str = "rules.toml", stores: Collection[str] = ()) -> RuleSet:
    """Reads the text of a rules file; `file` is the name that errors give, `stores` what patterns may name (none: any).

    Raises:
        BadRules: it is not TOML, or says something that is no rule.
    """
    document = parse_toml(text, file, BadRules)
    data, reader = document.data, _Reader(document, stores)
    for key, entries in data.items():
        if key not in ("rule", "expect"):
            reader.refuse((key,), f"unknown entry {key!r}; expected [[rule]] or [[expect]]")
        if not isinstance(entries, list) or not all(isinstance(entry, dict) for entry in entries):
            reader.refuse((key,), f"a {key} is written [[{key}]], with two brackets")
    rules = [reader.rule(place, entry) for place, entry in enumerate(data.get("rule", []))]
    expected = [reader.expectation(place, entry) for place, entry in enumerate(data.get("expect", []))]
    return RuleSet(rules, expected)


class _Reader:
    def __init__(self, document: Document, stores: Collection[str]) -> None:
        self._document = document
        self._stores = stores
        self._names: dict[str, int] = {}  # of rules, with their lines

    def refuse(self, path: Place, message: str) -> Any:
        raise BadRules.at(self._document.file, self._document.line_of(path), message)

    def _only(self, at: Place, entry: dict[str, Any], allowed: Sequence[str], what: str) -> None:
        """Refuses a key that is none of those allowed."""
        for key in entry:
            if key not in allowed:
                said = f"{what} has no {key!r}{did_you_mean(key, allowed)}; it has {', '.join(allowed)}"
                self.refuse((*at, key), said)

    def rule(self, place: int, entry: dict[str, Any]) -> Rule:
        at = ("rule", place)
        self._only(at, entry, KEYS, "a rule")
        for key in _NEEDED:
            if key not in entry:
                self.refuse(at, f"the rule has no {key!r}; it needs {', '.join(_NEEDED)}")
        name = self._name(at, entry, f"rule {place + 1}")
        if entry["effect"] not in EFFECTS:
            self.refuse((*at, "effect"), f"effect is {entry['effect']!r}; expected 'allow' or 'deny'")
        self._check_administer(at, entry)
        return Rule(
            name=name,
            effect=entry["effect"],
            who=tuple(sorted(self._each((*at, "who"), entry["who"], self._who), key=lambda who: who.excepted)),
            what=self._each((*at, "what"), entry["what"], self._what),
            actions=frozenset(self._each((*at, "actions"), entry["actions"], self._action)),
            line=self._document.line_of(at),
            terms=self._terms(at, entry),
            conditions=self._conditions(at, entry),
        )

    def _name(self, at: Place, entry: dict[str, Any], usual: str) -> str:
        """The rule's name, which no other rule has: the history and quotas tell rules apart by it."""
        name = entry.get("name", usual)
        if not isinstance(name, str) or not name:
            self.refuse((*at, "name"), 'name is a text, as in name = "pilots read charts"')
        if name in self._names:
            said = f"the rule of line {self._names[name]} is called {name!r}, too; the history and quotas tell rules"
            self.refuse((*at, "name"), f"{said} apart by their names, so give this one another")
        self._names[name] = self._document.line_of(at)
        return str(name)

    def _check_administer(self, at: Place, entry: dict[str, Any]) -> None:
        """The right on the whole service is of no store, and depends on no file."""
        if ADMINISTER not in entry["actions"]:
            return
        if entry["what"] != ["**"]:
            self.refuse((*at, "what"), f'{ADMINISTER} is a right on the whole service; it takes what = ["**"]')
        for key in ("media_types", "min_size", "max_size", "version"):
            if key in entry:
                self.refuse((*at, key), f"{ADMINISTER} is a right on the whole service; it depends on no file's {key}")

    def _conditions(self, at: Place, entry: dict[str, Any]) -> Conditions:
        if not any(key in entry for key in _CONDITIONS):
            return ALWAYS
        when = entry.get("when", {})
        if not isinstance(when, dict) or (not when and "when" in entry):
            self.refuse((*at, "when"), f"when is a table of {', '.join(_WHEN)}, one of them at least")
        self._only((*at, "when"), when, _WHEN, "when")
        zone = self._zone((*at, "when"), when.get("zone", "UTC"))
        hours = when.get("hours")
        networks: tuple[Network, ...] = ()
        media_types: tuple[str, ...] = ()
        if "networks" in entry:
            networks = self._each((*at, "networks"), entry["networks"], lambda text: read_networks([text])[0])
        if "media_types" in entry:
            media_types = self._each((*at, "media_types"), entry["media_types"], _media_type)
        try:
            days = read_days(when["days"]) if "days" in when else frozenset()
            minutes = None if hours is None else read_hours(str(hours))
        except (ValueError, TypeError) as error:
            self.refuse((*at, "when"), str(error))
        conditions = Conditions(
            media_types=media_types,
            min_size=self._size((*at, "min_size"), entry.get("min_size")),
            max_size=self._size((*at, "max_size"), entry.get("max_size")),
            version=self._version((*at, "version"), entry.get("version")),
            begins=self._moment((*at, "when", "from"), when.get("from"), zone),
            ends=self._moment((*at, "when", "until"), when.get("until"), zone),
            days=days,
            hours=minutes,
            zone=zone,
            networks=networks,
            ask=self._ask((*at, "ask"), entry["ask"]) if "ask" in entry else None,
        )
        if conditions.begins is not None and conditions.ends is not None and conditions.begins >= conditions.ends:
            self.refuse((*at, "when"), "'from' must be before 'until'")
        least, most = conditions.min_size, conditions.max_size
        if least is not None and most is not None and least > most:
            said = (
                f"min_size is {least} and max_size {most}: no file is both so large and so small; correct one of them"
            )
            self.refuse((*at, "min_size"), said)
        return conditions

    def _ask(self, at: Place, given: Any) -> ExternalCheck:
        example = 'as in ask = { url = "https://app.example.org/may" }'
        if not isinstance(given, dict) or (("url" in given) == ("function" in given)):
            self.refuse(at, f"ask is a table with a url or a function, {example}")
        self._only(at, given, _ASK, "ask")
        url, function, timeout = given.get("url"), given.get("function"), given.get("timeout", 2.0)
        if url is not None and not str(url).startswith(("http://", "https://")):
            self.refuse((*at, "url"), f"url is {url!r}; expected an address beginning with https:// or http://")
        if function is not None and not _FUNCTION.match(str(function)):
            self.refuse((*at, "function"), f"function is {function!r}; expected 'module:name'")
        if type(timeout) not in (int, float) or not 0 < timeout <= _LONGEST_ASKED:
            self.refuse((*at, "timeout"), f"timeout is {timeout!r}; expected seconds, {_LONGEST_ASKED:g} at most")
        return ExternalCheck(url, function, float(timeout))

    def _zone(self, at: Place, name: object) -> tzinfo:
        if name == "UTC":
            return UTC
        from zoneinfo import ZoneInfo, ZoneInfoNotFoundError  # half a megabyte, for rules that name a zone

        try:
            return ZoneInfo(str(name))
        except (ZoneInfoNotFoundError, ValueError, OSError):
            self.refuse(at, f"{name!r} is no time zone; expected one such as 'Europe/Stockholm'")
            raise

    def _moment(self, at: Place, value: object, zone: tzinfo) -> float | None:
        """Unix seconds; a date is its first moment, and what names no zone is in the rule's."""
        if value is None:
            return None
        if isinstance(value, date) and not isinstance(value, datetime):
            value = datetime(value.year, value.month, value.day)
        if not isinstance(value, datetime):
            self.refuse(at, f"{at[-1]} is {value!r}; expected a date or a time, without quotes: 2026-03-01")
            return None
        return (value if value.tzinfo else value.replace(tzinfo=zone)).timestamp()

    def _size(self, at: Place, value: object) -> int | None:
        if value is not None and (type(value) is not int or value < 0):
            self.refuse(at, f"{at[-1]} is {value!r}; expected bytes, a whole number")
        return value  # type: ignore[return-value]

    def _version(self, at: Place, value: object) -> str | int | None:
        if value is None or value in VERSIONS or (type(value) is int and value >= 1):
            return value
        self.refuse(at, f"version is {value!r}; expected 'current', 'earlier' or a whole number of 1 or more")
        return None

    def expectation(self, place: int, entry: dict[str, Any]) -> Expectation:
        """One `[[expect]]` of the file. Raises BadRules."""
        at = ("expect", place)
        self._only(at, entry, _EXPECT, "an expectation")
        for key in _EXPECT_NEEDED:
            if not isinstance(entry.get(key), str):
                self.refuse((*at, key), f"the expectation needs {key!r}, a text")
        if entry["outcome"] not in ("allowed", "refused"):
            self.refuse((*at, "outcome"), f"outcome is {entry['outcome']!r}; expected 'allowed' or 'refused'")
        groups = entry.get("groups")
        if groups is not None:
            groups = self._each((*at, "groups"), groups, _group)
        try:
            who, action, address = (
                self._who(entry["who"]),
                self._action(entry["action"]),
                parse_address(entry["address"]),
            )
            network = None if "network" not in entry else str(ip_address(entry["network"]))
        except ValueError as error:
            self.refuse(at, str(error))
        if who.kind == "signed-in" or who.excepted:
            self.refuse((*at, "who"), f"who is {who}; expected 'anyone', 'recipient:ID' or 'group:NAME'")
        if who.kind == "group":
            groups = (who.id, *(groups or ()))
        return Expectation(
            who=str(who),
            recipient=None if who.kind == "anyone" else who.id if who.kind == "recipient" else f"somebody-of-{who.id}",
            groups=groups,
            action=action,
            address=address,
            outcome=entry["outcome"],
            line=self._document.line_of(at),
            size=self._size((*at, "size"), entry.get("size")),
            version=self._version((*at, "version"), entry.get("version")),
            at=self._moment((*at, "at"), entry.get("at"), UTC),
            network=network,
            applies=self._yes_or_no((*at, "applies"), entry.get("applies")),
        )

    def _yes_or_no(self, at: Place, value: object) -> bool | None:
        if value not in (None, True, False):
            self.refuse(at, f"{at[-1]} is {value!r}; expected true or false")
        return value  # type: ignore[return-value]

    def _terms(self, at: Place, entry: dict[str, Any]) -> Terms:
        given = {key: entry[key] for key in _TERMS if key in entry}
        if not given:
            return NO_TERMS
        if entry["effect"] == "deny":
            self.refuse((*at, next(iter(given))), "a rule that denies cannot say how a file is delivered")
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
            if "public" in str(cache) and (entry["who"] != ["anyone"] or "networks" in entry or "ask" in entry):
                said = "'public' lets any cache give the file to anybody; only a rule for who = [\"anyone\"] may say so"
                self.refuse((*at, "cache"), said)
        quotas = () if "quota" not in given else (self._quota(at, entry),)
        default, longest = (self._period(at, entry, key) for key in ("link_default", "link_longest"))
        if default is not None and longest is not None and default > longest:
            self.refuse((*at, "link_default"), "link_default must not be longer than link_longest")
        return Terms(speed, given.get("disposition"), cache, quotas, default, longest)

    def _period(self, at: Place, entry: dict[str, Any], key: str) -> int | None:
        if key not in entry:
            return None
        try:
            return read_period(str(entry[key]))
        except ValueError as error:
            self.refuse((*at, key), str(error))
            raise

    def _quota(self, at: Place, entry: dict[str, Any]) -> Quota:
        given, where = entry["quota"], (*at, "quota")
        if not isinstance(given, dict):
            self.refuse(where, 'quota is a table, as in quota = { files = 100, per = "1d" }')
        self._only(where, given, _QUOTA, "quota")
        if "name" not in entry:
            self.refuse(at, "a rule with a quota needs a name: what somebody had is counted by it")
        for key in ("files", "bytes"):
            if key in given and (type(given[key]) is not int or given[key] < 1):
                self.refuse((*where, key), f"{key} is {given[key]!r}; expected a whole number of 1 or more")
        if "files" not in given and "bytes" not in given:
            self.refuse(where, "quota says how many files or bytes")
        link = given.get("link", "")
        if link and not str(link).startswith(("https://", "http://", "mailto:", "/")):
            self.refuse(where, f"link is {link!r}; expected an address beginning with https://, mailto: or /")
        try:
            period = read_period(str(given.get("per", "")))
        except ValueError as error:
            self.refuse(where, str(error))
        return Quota(
            entry["name"], given.get("files"), given.get("bytes"), period, str(given.get("text", "")), str(link)
        )

    def _each(self, at: Place, value: Any, read: Callable[[str], _Item]) -> tuple[_Item, ...]:
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
        excepted = text.startswith("not ")
        text = text.removeprefix("not ")
        if text == "signed-in" or (text == "anyone" and not excepted):
            return Who(text, "", excepted)
        kind, _, name = text.partition(":")
        if kind not in ("recipient", "group") or not _ID.match(name):
            raise ValueError("expected 'anyone', 'signed-in', 'recipient:ID' or 'group:NAME', or 'not' before the last")
        return Who(kind, name, excepted)

    def _what(self, text: str) -> Pattern:
        pattern = parse_pattern(text)
        if self._stores and pattern.store is not None and pattern.store not in self._stores:
            said = f"there is no store {pattern.store!r}{did_you_mean(pattern.store, self._stores)}"
            raise BadPattern(f"{said}; stores are {', '.join(sorted(self._stores))}")
        return pattern

    def _action(self, text: str) -> str:
        if text not in RULE_ACTIONS:
            raise ValueError(f"expected one of {', '.join(RULE_ACTIONS)}{did_you_mean(text, RULE_ACTIONS)}")
        return text


def _media_type(text: str) -> str:
    if not _TYPE.match(text):
        raise ValueError("expected a media type such as 'application/pdf' or 'image/*'")
    return text.lower()


def _group(text: str) -> str:
    if not _ID.match(text):
        raise ValueError("expected the name of a group")
    return text

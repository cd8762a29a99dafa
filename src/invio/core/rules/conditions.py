"""Further conditions of a rule: the file's type, size and version, the time, and the request's network.

Pure: the time is an argument. A condition on the file stays undecided until the file's facts are known.
"""

from __future__ import annotations

import fnmatch
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, tzinfo

from invio.core.addresses import Address
from invio.core.files import Caller, FileFacts
from invio.core.http.forwarded import Network, is_among
from invio.core.http.media_types import media_type_of
from invio.core.rules.external_checks import ExternalCheck

VERSIONS = ("current", "earlier")
DAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")


@dataclass(frozen=True, slots=True)
class Conditions:
    """All conditions must hold; an empty one or None always does.

    Sizes in bytes, both ends included. `begins` and `ends` in Unix seconds, the end excluded. `hours`
    are minutes of the day in `zone`, the end excluded; from 22:00 to 6:00 belongs to the day that
    it begins on. `days` count from Monday, 0. `version` is one of VERSIONS or a number. Whom `ask` names
    is asked last, and by the rules.
    """

    media_types: tuple[str, ...] = ()
    min_size: int | None = None
    max_size: int | None = None
    version: str | int | None = None
    begins: float | None = None
    ends: float | None = None
    days: frozenset[int] = frozenset()
    hours: tuple[int, int] | None = None
    zone: tzinfo = UTC
    networks: tuple[Network, ...] = ()
    ask: ExternalCheck | None = None

    @property
    def of_the_file(self) -> bool:
        """Whether the file has to be looked at."""
        return bool(self.media_types) or not self.min_size is self.max_size is self.version is None

    @property
    def of_the_time(self) -> bool:
        """Whether it matters when somebody asks."""
        return bool(self.days) or self.hours is not None or not self.begins is self.ends is None

    def unmet_condition(self, caller: Caller, address: Address, facts: FileFacts | None, now: float) -> str | None:
        """The first condition that fails, in words; None when all hold. Those on the file only with `facts`."""
        return self._misfit_of_time(now) or self._misfit_of_place(caller) or self._misfit_of_file(address, facts)

    def fits_file(self, address: Address, facts: FileFacts) -> bool:
        """Whether the conditions on the file itself hold."""
        return self._misfit_of_file(address, facts) is None

    def _misfit_of_time(self, now: float) -> str | None:
        if self.begins is not None and now < self.begins:
            return f"it applies from {_moment(self.begins)} on"
        if self.ends is not None and now >= self.ends:
            return f"it applied until {_moment(self.ends)}"
        if not self.days and self.hours is None:
            return None
        local = datetime.fromtimestamp(now, self.zone)
        minute, day = local.hour * 60 + local.minute, local.weekday()
        if self.hours is not None:
            start, stop = self.hours
            if start < stop:
                within = start <= minute < stop
            else:
                within = minute >= start or minute < stop
                day = (day - 1) % 7 if minute < stop else day
            if not within:
                return f"it applies from {_clock(start)} to {_clock(stop)} ({self.zone}), and it was {local:%H:%M}"
        if self.days and day not in self.days:
            days = ", ".join(DAYS[one] for one in sorted(self.days))
            return f"it applies on {days} ({self.zone}), not on {DAYS[day]}"
        return None

    def _misfit_of_place(self, caller: Caller) -> str | None:
        if self.networks and not is_among(caller.network, self.networks):
            where = caller.network or "an address that is not known"
            return f"it applies to requests from {', '.join(map(str, self.networks))}, not from {where}"
        return None

    def _misfit_of_file(self, address: Address, facts: FileFacts | None) -> str | None:
        if facts is None or not self.of_the_file:
            return None
        media_type = facts.media_type or media_type_of(address.name)
        if self.media_types and not any(fnmatch.fnmatchcase(media_type, wanted) for wanted in self.media_types):
            return f"it is about {', '.join(self.media_types)}, and this is {media_type}"
        if self.version is not None and not _is_version(self.version, facts):
            which = f"version {self.version}" if type(self.version) is int else f"{self.version} versions"
            return f"it is about {which}, and this is {_version_text(facts)}"
        if self.min_size is None and self.max_size is None:
            return None
        if facts.size is None:
            return "it is about files of a certain size, and this one is made as it is sent"
        if self.min_size is not None and facts.size < self.min_size:
            return f"it is about files of {self.min_size} bytes or more, and this one has {facts.size}"
        if self.max_size is not None and facts.size > self.max_size:
            return f"it is about files of at most {self.max_size} bytes, and this one has {facts.size}"
        return None


ALWAYS = Conditions()


def _is_version(wanted: str | int, facts: FileFacts) -> bool:
    """What a store without versions has is the current one."""
    return facts.version == wanted if type(wanted) is int else facts.current == (wanted == "current")


def _version_text(facts: FileFacts) -> str:
    if facts.version is None:
        return "a file without versions"
    return f"version {facts.version}, " + ("the current one" if facts.current else "an earlier one")


def read_hours(text: str) -> tuple[int, int]:
    """Minutes of the day from a text such as `08:00-17:30`. Raises ValueError."""
    first, dash, last = text.partition("-")
    if not dash:
        raise ValueError("expected two times of day, as in '08:00-17:30'")
    start, stop = _minute(first), _minute(last)
    if start == stop or start == 24 * 60:
        raise ValueError("the two times of day must differ, and the first be before 24:00")
    return start, stop


def read_days(names: Sequence[str]) -> frozenset[int]:
    """Days of the week by their names in DAYS. Raises ValueError."""
    for name in names:
        if name not in DAYS:
            raise ValueError(f"{name!r} is no day; days are {', '.join(DAYS)}")
    return frozenset(map(DAYS.index, names))


def _minute(text: str) -> int:
    hours, colon, minutes = text.strip().partition(":")
    if not (colon and len(minutes) == 2 and hours.isdecimal() and minutes.isdecimal()):
        raise ValueError(f"{text!r} is no time of day; expected one such as '08:00'")
    minute = int(hours) * 60 + int(minutes)
    if int(minutes) > 59 or minute > 24 * 60:
        raise ValueError(f"{text!r} is no time of day; they end with 24:00")
    return minute


def _moment(seconds: float) -> str:
    return datetime.fromtimestamp(seconds, UTC).strftime("%Y-%m-%d %H:%M UTC")


def _clock(minute: int) -> str:
    return f"{minute // 60:02}:{minute % 60:02}"

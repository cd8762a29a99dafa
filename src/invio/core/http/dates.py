"""HTTP dates, RFC 9110 §5.6.7: written in one form, read in three."""

from __future__ import annotations

import calendar
import re
import time
from functools import lru_cache

from invio.core.moments import FIRST_DATE, LAST_MOMENT

_DAYS = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")
_MONTHS = ("Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec")
_MONTH = "(?P<month>" + "|".join(_MONTHS) + ")"
_CLOCK = r"(?P<hour>[0-9]{2}):(?P<minute>[0-9]{2}):(?P<second>[0-9]{2})"
_FORMS = (
    # IMF-fixdate, RFC 850 (obsolete), asctime (obsolete)
    re.compile(rf"[A-Z][a-z]{{2}}, (?P<day>[0-9]{{2}}) {_MONTH} (?P<year>[0-9]{{4}}) {_CLOCK} GMT\Z"),
    re.compile(rf"[A-Z][a-z]+day, (?P<day>[0-9]{{2}})-{_MONTH}-(?P<year>[0-9]{{2}}) {_CLOCK} GMT\Z"),
    re.compile(rf"[A-Z][a-z]{{2}} {_MONTH} (?P<day>[0-9 ][0-9]) {_CLOCK} (?P<year>[0-9]{{4}})\Z"),
)


@lru_cache(maxsize=4096)
def http_date(seconds: int) -> str:
    """IMF-fixdate of Unix seconds, or of the first or last that has one. Months and days are English everywhere."""
    when = time.gmtime(min(max(seconds, FIRST_DATE), LAST_MOMENT))
    return (
        f"{_DAYS[when.tm_wday]}, {when.tm_mday:02} {_MONTHS[when.tm_mon - 1]} {when.tm_year:04} "
        f"{when.tm_hour:02}:{when.tm_min:02}:{when.tm_sec:02} GMT"
    )


def parse_http_date(text: str, now: float | None = None) -> int | None:
    """Unix seconds, or None when the text is no HTTP date.

    `now` (Unix seconds) settles the century of a two-digit year: one that would lie more than 50
    years ahead is taken to be past.
    """
    for form in _FORMS:
        match = form.match(text)
        if match:
            break
    else:
        return None
    year = int(match["year"])
    if year < 100:
        this_year = time.gmtime(now).tm_year
        year += this_year - this_year % 100
        if year > this_year + 50:
            year -= 100
    hour, minute, second = int(match["hour"]), int(match["minute"]), int(match["second"])
    day, month = int(match["day"]), _MONTHS.index(match["month"]) + 1
    # A second of 60 is a leap second, which §5.6.7's grammar allows.
    if hour > 23 or minute > 59 or second > 60 or year < 1:
        return None
    if not 1 <= day <= calendar.monthrange(year, month)[1]:
        return None
    return calendar.timegm((year, month, day, hour, minute, second))

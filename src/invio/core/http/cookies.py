"""One cookie out of a Cookie field (RFC 6265 §4.2.1), in one pass.

A field holds whatever a stranger put into it, so it is never parsed as a whole: only the wanted cookie is searched for,
and its value is used unchanged.
"""

from __future__ import annotations

_LONGEST = 200  # characters of a value that this service sets


def cookie_named(field: str, name: str) -> str | None:
    """The value of the cookie `name`; None when there is none, or none that this service could have set.

    Of several of the name the first counts: user agents send the one with the longest path first (§5.4).
    """
    begin = f"{name}="
    at = field.find(begin)
    while at >= 0:
        # A cookie begins the field, or follows a semicolon and blanks.
        if at == 0 or field[max(0, at - 8) : at].rstrip(" \t").endswith(";"):
            stop = field.find(";", at)
            value = field[at + len(begin) : stop if stop >= 0 else None].strip(" \t").strip('"')
            return value if len(value) <= _LONGEST else None
        at = field.find(begin, at + 1)
    return None

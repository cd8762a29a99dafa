"""Preconditions, RFC 9110 §13: whether a request is carried out, answered 304, or refused with 412.

`evaluate` follows the steps of §13.2.2 in their order and under their numbers; `range_applies` is
§13.1.5 (`If-Range`).
"""

from __future__ import annotations

import re
from enum import Enum

from invio.core.http.dates import parse_http_date
from invio.core.http.request_head import RequestHead

# §8.8.3: entity-tag = [ "W/" ] DQUOTE *etagc DQUOTE
_ENTITY_TAG = re.compile(r'(W/)?"([\x21\x23-\x7e\x80-\xff]*)"')
_BETWEEN = re.compile(r"[ \t,]*")


class Outcome(Enum):
    """What the preconditions of a request come to."""

    PROCEED = "proceed"
    NOT_MODIFIED = "not modified"
    FAILED = "failed"


def _tags(field: str) -> list[tuple[bool, str]]:
    """(weak, opaque) of each entity tag of a list; none when the list is malformed."""
    tags: list[tuple[bool, str]] = []
    at = _end(_BETWEEN, field, 0)  # §5.6.1.2: empty list elements are skipped
    while at < len(field):
        match = _ENTITY_TAG.match(field, at)
        if not match:
            return []  # a truncated list names no tag reliably
        tags.append((bool(match[1]), match[2]))
        after = _end(_BETWEEN, field, match.end())
        if after < len(field) and "," not in field[match.end() : after]:
            return []
        at = after
    return tags


def _end(pattern: re.Pattern[str], text: str, at: int) -> int:
    match = pattern.match(text, at)
    return match.end() if match else at


def _strong_match(field: str, tag: str | None) -> bool:
    if field == "*":
        return True
    return tag is not None and any(not weak and opaque == tag for weak, opaque in _tags(field))


def _weak_match(field: str, tag: str | None) -> bool:
    if field == "*":
        return True
    return tag is not None and any(opaque == tag for _, opaque in _tags(field))


def evaluate(head: RequestHead, tag: str | None, modified: int | None) -> Outcome:
    """What the preconditions of a request for an existing file say.

    `tag` is the opaque part of the file's strong entity tag, `modified` its Last-Modified in Unix
    seconds; either may be None (not known).
    """
    if not head.conditional:
        return Outcome.PROCEED
    reading = head.method in ("GET", "HEAD")
    if_match = head.get(b"if-match")
    if if_match is not None:  # step 1
        if not _strong_match(if_match, tag):
            return Outcome.FAILED
    else:  # step 2
        unmodified_since = _date(head, b"if-unmodified-since")
        if unmodified_since is not None and modified is not None and modified > unmodified_since:
            return Outcome.FAILED
    if_none_match = head.get(b"if-none-match")
    if if_none_match is not None:  # step 3
        if _weak_match(if_none_match, tag):
            return Outcome.NOT_MODIFIED if reading else Outcome.FAILED
    elif reading:  # step 4
        modified_since = _date(head, b"if-modified-since")
        if modified_since is not None and modified is not None and modified <= modified_since:
            return Outcome.NOT_MODIFIED
    return Outcome.PROCEED  # step 5 is range_applies; step 6


def range_applies(head: RequestHead, tag: str | None, modified: int | None) -> bool:
    """Whether `Range` is to be looked at (§13.2.2 step 5): no `If-Range`, or one that still fits."""
    if_range = head.get(b"if-range")
    if if_range is None:
        return True
    match = _ENTITY_TAG.fullmatch(if_range)
    if match:
        # §13.1.5: strong comparison, so a weak tag never fits.
        return not match[1] and tag is not None and match[2] == tag
    since = parse_http_date(if_range)
    # §13.1.5 step 1: the date must match exactly. That it is a strong validator (§8.8.2.2) is the
    # client's to see to: it may send a date here only when it got it a second or more after that
    # date, so that no second change can hide within the same second.
    return since is not None and modified is not None and since == modified


def _date(head: RequestHead, name: bytes) -> int | None:
    value = head.get(name)
    return None if value is None else parse_http_date(value)

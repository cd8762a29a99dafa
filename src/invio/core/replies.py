"""Planning: a request head and a representation → a reply. Pure; nothing is opened, nothing is sent.

A reply is a status, headers, and a list of parts: literal bytes, or slices (source, offset,
length). A file is one slice, a range of it a smaller one, an archive slices between literal
headers; so a range of anything is a cut through a list of parts. A representation whose length
is not known yet (it is made as it is sent) has the one part `Streamed`.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property, lru_cache
from itertools import accumulate

from invio.core.http_dates import http_date
from invio.core.media_types import content_type, may_be_inline
from invio.core.names import content_disposition
from invio.core.preconditions import Outcome, evaluate, range_applies
from invio.core.ranges import Unsatisfiable, parse_range
from invio.core.reasons import Refusal
from invio.core.request_head import RequestHead

Headers = list[tuple[bytes, bytes]]

METHODS = "GET, HEAD"

# A file from a store runs nothing and loads nothing, even where a browser shows it.
_SANDBOX = "sandbox; default-src 'none'; style-src 'unsafe-inline'; img-src data:"


@dataclass(frozen=True, slots=True)
class Slice:
    """`length` bytes from `offset` of a source, which only the sender knows how to open."""

    source: object
    offset: int
    length: int


@dataclass(frozen=True, slots=True)
class Streamed:
    """A content that is made while it is sent; its length is known when it has ended."""

    source: object


Part = bytes | Slice | Streamed


def part_length(part: Part) -> int:
    if isinstance(part, Slice):
        return part.length
    if isinstance(part, Streamed):
        raise TypeError("a streamed part has no length yet")
    return len(part)


class Content:
    """What a representation consists of: a list of parts, cut by byte offset."""

    def __init__(self, parts: Sequence[Part]) -> None:
        self.parts = list(parts)

    @cached_property
    def _ends(self) -> list[int]:
        return list(accumulate(part_length(part) for part in self.parts))

    def cut(self, start: int, stop: int) -> list[Part]:
        """The parts that hold bytes `start` to `stop` (not included); takes O(log n + parts cut)."""
        ends = self._ends
        cut: list[Part] = []
        place = bisect_right(ends, start)
        while start < stop:
            part = self.parts[place]
            begin = ends[place] - part_length(part)
            upto = min(stop, ends[place])
            if isinstance(part, Slice):
                cut.append(Slice(part.source, part.offset + start - begin, upto - start))
            elif isinstance(part, bytes):
                cut.append(part[start - begin : upto - begin])
            start = upto
            place += 1
        return cut


@dataclass(frozen=True, slots=True, eq=False)
class Representation:
    """What is known of what is to be delivered, and how it is offered.

    `size` in bytes, None when the content is streamed; `tag` the opaque part of a strong entity
    tag; `modified` in Unix seconds; `disposition` is what was asked for (`attachment` or
    `inline`), and is not granted to a type that a browser must not be shown. `own_policy` is the
    Content-Security-Policy of a page of the service itself, which is always shown.
    """

    content: Content
    size: int | None
    tag: str | None
    modified: float | None
    media_type: str
    name: str
    disposition: str | None = None
    cache: str = "private, no-cache"
    sealed: bool = False
    own_policy: str | None = None

    @property
    def modified_second(self) -> int | None:
        """What Last-Modified says: whole seconds."""
        return None if self.modified is None else int(self.modified)


@dataclass(frozen=True, slots=True)
class Reply:
    """`length` is of the body in bytes, None when it is known only at its end.

    `start` is the place of the body's first byte in the representation.
    """

    status: int
    headers: Headers
    parts: list[Part]
    length: int | None
    start: int = 0


def plan(head: RequestHead, representation: Representation) -> Reply:
    """The reply to a GET or HEAD for an existing file that the caller may have.

    Raises:
        Refusal: `wrong-method`, `precondition` (412) or `range` (416, with the size).
    """
    if head.method not in ("GET", "HEAD"):
        raise Refusal("wrong-method", f"{head.method} is not for files; use {METHODS}", allow=METHODS)
    if head.method == "GET" and not head.conditional:
        return _whole(representation)
    modified = representation.modified_second
    validators = _validators(representation)
    outcome = evaluate(head, representation.tag, modified)
    if outcome is Outcome.FAILED:
        raise Refusal("precondition", "the file is another than If-Match or If-Unmodified-Since names")
    if outcome is Outcome.NOT_MODIFIED:
        return Reply(304, validators, [], 0)
    whole = _whole(representation)
    if head.method == "HEAD":
        # §14.2: range handling is defined for GET alone; any other method ignores Range.
        return Reply(200, whole.headers, [], 0)
    size = representation.size
    if size is None:
        return whole
    wanted = _wanted(head, representation.tag, modified, size)
    if wanted is None:
        return whole
    start, stop = wanted
    headers = [field for field in whole.headers if field[0] != b"content-length"]
    headers.append((b"content-range", b"bytes %d-%d/%d" % (start, stop - 1, size)))
    headers.append((b"content-length", b"%d" % (stop - start)))
    return Reply(206, headers, representation.content.cut(start, stop), stop - start, start)


@lru_cache(maxsize=4096)
def _whole(representation: Representation) -> Reply:
    """The answer to a GET without conditions. Kept, for it depends on nothing else; not to be changed."""
    headers = _validators(representation) + _description(representation)
    size = representation.size
    if size is None:
        return Reply(200, [*headers, (b"accept-ranges", b"none")], representation.content.parts, None)
    headers += [(b"accept-ranges", b"bytes"), (b"content-length", b"%d" % size)]
    return Reply(200, headers, representation.content.parts, size)


def _wanted(head: RequestHead, tag: str | None, modified: int | None, size: int) -> tuple[int, int] | None:
    """The one range to answer with, or None for the whole file."""
    field = head.get(b"range")
    if field is None or not range_applies(head, tag, modified):
        return None
    try:
        ranges = parse_range(field, size)
    except Unsatisfiable:
        raise Refusal("range", f"the file has {size} bytes", size=size) from None
    # §14.2 lets a server answer several ranges with the whole file.
    return ranges[0] if ranges and len(ranges) == 1 else None


def _validators(representation: Representation) -> Headers:
    """The headers that a 304 carries as well (§15.4.5); without Last-Modified where it is not known."""
    headers: Headers = []
    if representation.tag is not None:
        headers.append((b"etag", b'"%s"' % representation.tag.encode()))
    if representation.modified_second is not None:
        headers.append((b"last-modified", http_date(representation.modified_second).encode()))
    headers.append((b"cache-control", representation.cache.encode()))
    if representation.sealed:
        # A seal is a key: it must not travel on in a Referer.
        headers.append((b"referrer-policy", b"no-referrer"))
    return headers


def _description(representation: Representation) -> Headers:
    """What a person or a browser is told of the content."""
    media_type, own_policy = representation.media_type, representation.own_policy
    headers: Headers = [
        (b"content-type", content_type(media_type).encode()),
        (b"x-content-type-options", b"nosniff"),
        (b"content-security-policy", (own_policy or _SANDBOX).encode()),
    ]
    if own_policy is None:
        kind = "inline" if representation.disposition == "inline" and may_be_inline(media_type) else "attachment"
        headers.append((b"content-disposition", content_disposition(kind, representation.name).encode("latin-1")))
    return headers

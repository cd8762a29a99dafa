"""Planning: a request head and a representation → a reply. Pure; nothing is opened, nothing is sent.

A reply is a status, headers, and a list of parts: literal bytes, or slices (source, offset,
length). A file is one slice, a range of it a smaller one, an archive slices between literal
headers; so a range of anything is a cut through a list of parts, and several ranges are cuts
between boundary lines. A representation whose length is not known yet (it is made as it is sent)
has the one part `Streamed`.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property, lru_cache
from itertools import accumulate

from invio.core.http.caching import USUAL
from invio.core.http.dates import http_date
from invio.core.http.digests import digest_field, wants_sha256
from invio.core.http.media_types import content_type, may_be_inline, security_policy
from invio.core.http.multipart import Multipart, Span, multipart
from invio.core.http.names import content_disposition
from invio.core.http.preconditions import Outcome, evaluate, range_applies
from invio.core.http.ranges import Unsatisfiable, parse_range
from invio.core.http.request_head import RequestHead
from invio.core.readable import Readable
from invio.core.reasons import RangeRefused, Refusal

Headers = list[tuple[bytes, bytes]]

METHODS = "GET, HEAD, OPTIONS"

# The whole body is the representation from its first byte on, however long it turns out to be.
FROM_THE_START: tuple[Span, ...] = ((0, 0, 1 << 62),)


@dataclass(slots=True)  # not frozen: an archive has a hundred thousand, and freezing takes most of their making
class Slice:
    """`length` bytes from `offset` of a source, which only the sender knows how to open."""

    source: Readable
    offset: int
    length: int


@dataclass(frozen=True, slots=True)
class Streamed:
    """A content generated while it is sent; its length is known at the end."""

    source: object


Part = bytes | Slice | Streamed


def part_length(part: Part) -> int:
    """How many bytes of a body a part is. Raises TypeError: nobody knows, for it is made as it is sent."""
    if isinstance(part, Slice):
        return part.length
    if isinstance(part, Streamed):
        raise TypeError("a streamed part has no length yet")
    return len(part)


class Content:
    """What a representation consists of: a list of parts, cut by byte offset.

    `kept`: a reply with it may be kept for the next request. `may_block`: something of it has to be read from
    another system while the rest is sent.
    """

    kept = True
    may_block = False

    def __init__(self, parts: Sequence[Part]) -> None:
        self._parts = list(parts)
        if any(isinstance(part, Slice) and part.source.may_block for part in self._parts):
            self.may_block = True

    @property
    def parts(self) -> Sequence[Part]:
        """All of the content."""
        return self._parts

    @cached_property
    def _ends(self) -> list[int]:
        return list(accumulate(part_length(part) for part in self.parts))

    def cut(self, start: int, stop: int) -> Sequence[Part]:
        """The parts that hold bytes `start` to `stop` (not included); takes O(log n + parts cut)."""
        only = self._parts[0] if len(self._parts) == 1 else None
        if isinstance(only, Slice) and start < stop <= only.length:
            return [Slice(only.source, only.offset + start, stop - start)]
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
    tag, and `earlier_tag` one that the same content had before more was known of it; `modified` in Unix
    seconds. `charset` is a text's, None when it is not known. `disposition` is what was asked for
    (`attachment` or `inline`), and is not granted to a type that a browser must not be shown.
    `coding` is the content coding that the content is in. `sha256` is the digest of these bytes,
    where it is known. `vary` and `resource_policy` are the values of those fields. `own_policy`
    is the Content-Security-Policy of a page of the service itself, which is always shown. Of what is known to be other
    bytes elsewhere, a range is had `by_tag_alone` (If-Range): nobody is to put together what does not belong together.
    `resumable`: parts of it can be had once its size is known, though that is not yet; `estimate` is how many bytes it
    has then, about.
    """

    content: Content
    size: int | None
    tag: str | None
    modified: float | None
    media_type: str
    name: str
    disposition: str | None = None
    cache: str = USUAL
    sealed: bool = False
    own_policy: str | None = None
    charset: str | None = "utf-8"
    earlier_tag: str | None = None
    coding: str | None = None
    sha256: bytes | None = None
    vary: str = ""
    resource_policy: str = "same-origin"
    by_tag_alone: bool = False
    resumable: bool = False
    estimate: int | None = None

    @property
    def modified_second(self) -> int | None:
        """What Last-Modified says: whole seconds."""
        return None if self.modified is None else int(self.modified)


@dataclass(slots=True)  # not frozen, for the same reason: each request has one. Nothing alters it.
class Reply:
    """`length` is of the body in bytes, None when it is known only at its end.

    `spans` tell which of the body's bytes are bytes of the representation, and which of them. `may_block`: something
    of the body has to be read from another system.
    """

    status: int
    headers: Headers
    parts: Sequence[Part]
    length: int | None
    spans: tuple[Span, ...] = FROM_THE_START
    may_block: bool = False

    @property
    def said(self) -> bytes:
        """The body of a reply that no file has a part in, such as a refusal."""
        return b"".join(part for part in self.parts if isinstance(part, bytes))


def plan(head: RequestHead, representation: Representation) -> Reply:
    """The reply to a GET or HEAD for an existing file that the caller may have.

    Raises:
        Refusal: `wrong-method`, `precondition` (412) or `range` (416, with the size).
    """
    if head.method not in ("GET", "HEAD"):
        raise Refusal("wrong-method", f"{head.method} is not for files; use {METHODS}", allow=METHODS)
    if head.method == "GET" and not head.particular:
        return _whole_of(representation)
    if representation.earlier_tag is not None and head.names_tag(representation.earlier_tag):
        # The client knows this content by its earlier tag, so the response uses that tag: with another one the client
        # could neither refresh its copy (RFC 9111 §4.3.4) nor combine parts.
        representation = replace(representation, tag=representation.earlier_tag, earlier_tag=None)
    modified = representation.modified_second
    outcome = evaluate(head, representation.tag, modified)
    if outcome is Outcome.FAILED:
        raise Refusal("precondition", "the file does not match If-Match or If-Unmodified-Since")
    if outcome is Outcome.NOT_MODIFIED:
        return Reply(304, _validators(representation), [], 0)
    whole = _whole_of(representation)
    digests = _digests(head, representation)
    if head.method == "HEAD":
        # §14.2: range handling is defined for GET alone; any other method ignores Range.
        return Reply(200, [*whole.headers, *digests], [], 0)
    wanted, size = _wanted(head, representation, modified), representation.size
    if wanted is None or size is None:
        return replace(whole, headers=[*whole.headers, *digests]) if digests else whole
    # What a part of the content has a digest of is the whole: Repr-Digest, not Content-Digest.
    digests = [field for field in digests if field[0] == b"repr-digest"]
    return _partial(representation, size, whole, wanted, digests)


def _whole_of(representation: Representation) -> Reply:
    return _whole(representation) if representation.content.kept else _whole.__wrapped__(representation)


@lru_cache(maxsize=4096)
def _whole(representation: Representation) -> Reply:
    """The response to a GET without conditions. Cached, because it depends on nothing else; do not modify it."""
    headers = _validators(representation) + _description(representation)
    size = representation.size
    if size is None:
        ranges = b"bytes" if representation.resumable else b"none"
        return Reply(200, [*headers, (b"accept-ranges", ranges)], representation.content.parts, None)
    headers += [(b"accept-ranges", b"bytes"), (b"content-length", b"%d" % size)]
    return Reply(200, headers, representation.content.parts, size, may_block=representation.content.may_block)


def _partial(
    representation: Representation, size: int, whole: Reply, wanted: list[tuple[int, int]], digests: Headers
) -> Reply:
    """One range as it is, several as multipart/byteranges; the whole file where that is no longer."""
    content = representation.content
    headers = [*whole.headers[:-1], *digests]  # but for its length, which stands last
    if len(wanted) == 1:
        [(start, stop)] = wanted
        headers += (
            (b"content-range", b"bytes %d-%d/%d" % (start, stop - 1, size)),
            (b"content-length", b"%d" % (stop - start)),
        )
        return Reply(
            206, headers, content.cut(start, stop), stop - start, ((0, start, stop - start),), content.may_block
        )
    described = content_type(representation.media_type, representation.charset)
    laid_out = multipart(wanted, size, described, representation.tag)
    if laid_out.length >= size:
        return whole
    # §15.3.7.2: each part has its own Content-Range, and the message must have none.
    headers = [field for field in headers if field[0] != b"content-type"]
    headers.append((b"content-type", f"multipart/byteranges; boundary={laid_out.boundary}".encode()))
    headers.append((b"content-length", b"%d" % laid_out.length))
    return Reply(206, headers, _joined(laid_out, content), laid_out.length, laid_out.spans, content.may_block)


def _joined(laid_out: Multipart, content: Content) -> list[Part]:
    parts: list[Part] = []
    for run in laid_out.runs:
        if isinstance(run, bytes):
            parts.append(run)
        else:
            parts += content.cut(*run)
    return parts


def _wanted(head: RequestHead, representation: Representation, modified: int | None) -> list[tuple[int, int]] | None:
    """The ranges to answer with, or None for the whole file."""
    field, size = head.get(b"range"), representation.size
    if representation.by_tag_alone and b"if-range" not in head:
        return None  # RFC 9110 §14.2: a server may ignore Range
    if field is None or size is None or not range_applies(head, representation.tag, modified):
        return None
    try:
        return parse_range(field, size)
    except Unsatisfiable:
        raise RangeRefused(f"the file has {size} bytes", size) from None


def _digests(head: RequestHead, representation: Representation) -> Headers:
    """RFC 9530: of the representation, and of the content of a message that carries all of it."""
    if representation.sha256 is None or not head.wants_digest:
        return []
    value = digest_field(representation.sha256)
    fields = ((b"repr-digest", b"want-repr-digest"), (b"content-digest", b"want-content-digest"))
    return [(name, value) for name, wish in fields if wants_sha256(head.get(wish))]


def _validators(representation: Representation) -> Headers:
    """The headers that a 304 carries as well (§15.4.5); without Last-Modified where it is not known."""
    headers: Headers = []
    if representation.tag is not None:
        headers.append((b"etag", b'"%s"' % representation.tag.encode()))
    if representation.modified_second is not None:
        headers.append((b"last-modified", http_date(representation.modified_second).encode()))
    headers.append((b"cache-control", representation.cache.encode()))
    if representation.vary:
        headers.append((b"vary", representation.vary.encode()))
    if representation.sealed:
        # A seal is a key: it must not travel on in a Referer.
        headers.append((b"referrer-policy", b"no-referrer"))
    return headers


def _description(representation: Representation) -> Headers:
    """The fields that describe the content to people and browsers."""
    media_type, own_policy = representation.media_type, representation.own_policy
    headers: Headers = [
        (b"content-type", content_type(media_type, representation.charset).encode()),
        (b"x-content-type-options", b"nosniff"),
        (b"content-security-policy", (own_policy or security_policy(media_type)).encode()),
        (b"cross-origin-resource-policy", representation.resource_policy.encode()),
    ]
    if representation.coding is not None:
        headers.append((b"content-encoding", representation.coding.encode()))
    if own_policy is None:
        kind = "inline" if representation.disposition == "inline" and may_be_inline(media_type) else "attachment"
        headers.append((b"content-disposition", content_disposition(kind, representation.name).encode("latin-1")))
    return headers

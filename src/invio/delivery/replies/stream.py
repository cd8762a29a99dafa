"""`invio.StreamReply`: what a route makes while it is sent."""

from __future__ import annotations

from collections.abc import Mapping

from starlette.background import BackgroundTask

from invio.core.http.caching import USUAL
from invio.core.http.codings import choose_coding, encoded_tag
from invio.core.http.media_types import compresses, media_type_of
from invio.core.http.replies import Content as Contents
from invio.core.http.replies import Representation, Streamed
from invio.core.http.request_head import RequestHead
from invio.delivery.replies.account import OnEnd, OnProgress
from invio.delivery.replies.base import RouteReply, require_text, written_media_type
from invio.delivery.replies.making import Content, Making, Statement, require_makes
from invio.delivery.representation.codings import CODINGS, Compressed
from invio.producers.csv_rows import Header
from invio.stores.sources import Made


class StreamReply(RouteReply):
    """What is made while it is sent: `return invio.StreamReply(rows, name="tides.csv")`.

    Text types are compressed for clients that take it. What fails before the first piece is raised, for the
    application to answer; what fails later breaks the connection, so that nobody takes a half for the whole.
    """

    media_type = "application/octet-stream"

    def __init__(
        self,
        make: Making | Statement,
        *,
        name: str = "download",
        media_type: str | None = None,
        disposition: str = "attachment",
        tag: str | None = None,
        header: Header = True,
        connection: object = None,
        cache: str | None = None,
        speed: int | None = None,
        status_code: int = 200,
        headers: Mapping[str, str] | None = None,
        background: BackgroundTask | None = None,
        on_progress: OnProgress | None = None,
        on_end: OnEnd | None = None,
    ) -> None:
        """`make` is a function without arguments, called once when there is a body to send, or what one would give.

        That is bytes or a text; or pieces of them; or rows (lists, tuples, dicts), which become CSV (RFC 4180): as a
        list, a generator or any iterable, plain or asynchronous, or a coroutine of one. `header` says of dicts whether
        their keys are written first, or names the columns.

        An SQLAlchemy result is rows, too, the names of its columns first. With a `connection` of SQLAlchemy, plain or
        asynchronous, `make` is a statement: it is executed there, its rows are fetched as they are sent, and its cursor
        is closed when the client has them, or leaves. The connection stays the route's own.

        `tag` names the content: with it, a repeated request is answered 304 and makes nothing. `name` is what it is
        saved as, and tells its `media_type` where that is not given; `disposition`, `cache`, `speed` and
        `status_code`, `on_progress` and `on_end` are as of `FileReply`.

        Raises:
            TypeError, ValueError: an argument is not of its kind.
        """
        super().__init__(disposition, cache, speed, headers, background, status_code, on_progress, on_end)
        if tag is not None and not (isinstance(tag, str) and tag.isascii() and tag.isprintable() and '"' not in tag):
            raise ValueError(f"tag is {tag!r}; expected printable ASCII without quotes")
        if connection is None:
            require_makes(make)
        require_text("name", name)
        self._content = Content(make, header, connection)
        self._made = Made(self._content.chunks)
        self._name = name
        self._media_type, charset = media_type_of(name), None
        if media_type is not None:
            self._media_type, charset = written_media_type(media_type)
        self._charset = charset or "utf-8"
        self._tag = tag

    async def begin(self) -> None:
        """Generates the first piece, so that a failure still gets a status."""
        await self._content.begin()

    async def represent(self, head: RequestHead) -> Representation:
        """The generated content, in a coding the client accepts."""
        varies = compresses(self._media_type)
        coding = choose_coding(head.get(b"accept-encoding"), CODINGS) if varies else None
        source = self._made if coding is None else Compressed(self._made, coding)
        return Representation(
            content=Contents([Streamed(source)]),
            size=None,
            tag=self._tag if coding is None or self._tag is None else encoded_tag(self._tag, coding),
            modified=None,
            media_type=self._media_type,
            charset=self._charset,
            name=self._name,
            disposition=self._terms.disposition,
            cache=self._terms.cache or USUAL,
            coding=coding,
            vary="accept-encoding" if varies else "",
        )

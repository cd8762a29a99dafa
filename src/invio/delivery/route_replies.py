"""Replies for one's own routes: responses of any FastAPI or Starlette application, in one line.

Each takes the last steps of the one way through (plan, send) with what the route gives it; who may have
what is the route's own business. Ranges, conditions, names, codings and breaking off altered files
are as everywhere. Under `invio.ZeroCopyProtocol` files leave without being read.
"""

from __future__ import annotations

import itertools
import os
from collections.abc import AsyncIterable, AsyncIterator, Callable, Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any, cast

from starlette.background import BackgroundTask
from starlette.concurrency import run_in_threadpool
from starlette.responses import Response

from invio.core.addresses import Address, BadAddress, parse_address
from invio.core.archive.entry_names import EntryNames
from invio.core.archive.plan import ENDINGS
from invio.core.archive.tar_layout import TarLayout
from invio.core.archive.zip_layout import Entry, ZipLayout
from invio.core.http.caching import USUAL, read_cache_control
from invio.core.http.codings import choose_coding, encoded_tag
from invio.core.http.media_types import compresses, media_type_of
from invio.core.http.names import safe_name
from invio.core.http.replies import Content, Reply, Representation, Streamed, plan
from invio.core.http.request_head import RequestHead
from invio.core.memory import Memory
from invio.core.reasons import Refusal
from invio.core.rules.terms import Terms
from invio.core.throttle import Throttle
from invio.delivery.archives.checksums import crc_of
from invio.delivery.archives.plan import Chosen, Plan
from invio.delivery.problem_details import Pages, refusal_reply
from invio.delivery.representation.codings import CODINGS, Compressed
from invio.delivery.representation.digests import Digests
from invio.delivery.representation.negotiation import Negotiator
from invio.delivery.representation.presentation import Presentation
from invio.delivery.sending.errors import ClientGone, ProducerFailed, ReplyBroken
from invio.delivery.sending.senders import Sender
from invio.producers.csv_rows import csv_pieces
from invio.stores.directory import DirectoryStore
from invio.stores.single import found_at
from invio.stores.sources import Made
from invio.stores.store import Found, Missing, StoreFault

_PAGES = Pages(sign_in=None)  # a route's application has its own
_IDLE = 60.0  # seconds for which a reader may take nothing

# A piece of what a route makes: bytes or text, or the row of a table, which is written as CSV.
Piece = bytes | str | Sequence[object]
Pieces = Iterable[Piece] | AsyncIterable[bytes | str]


class _Reply(Response):
    """What the responses have in common: a plan that is made when the request is known."""

    def __init__(
        self,
        disposition: str,
        cache: str | None,
        speed: int | None,
        headers: Mapping[str, str] | None,
        background: BackgroundTask | None,
    ) -> None:
        if disposition not in ("attachment", "inline"):
            raise ValueError(f"disposition is {disposition!r}; expected 'attachment' or 'inline'")
        if speed is not None and speed < 1:
            raise ValueError(f"speed is {speed!r}; expected bytes a second, 1 or more")
        super().__init__(headers=headers, background=background)
        self._terms = Terms(speed, disposition, None if cache is None else read_cache_control(cache))

    async def represent(self, head: RequestHead) -> Representation:
        """What is to be delivered. Raises Refusal."""
        raise NotImplementedError

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        head = RequestHead(scope["method"], scope["headers"])
        sender = Sender(scope, receive, send, _IDLE)
        try:
            reply = plan(head, await self.represent(head))
            if self._terms.speed is not None:
                sender.limit([Throttle(self._terms.speed)])
        except Refusal as refusal:
            reply = refusal_reply(refusal, head.method, head.get(b"accept"), pages=_PAGES)
        try:
            await sender.send(self._with_own_fields(reply))
        except ClientGone:
            pass
        except ReplyBroken as error:
            if not sender.untouched:
                raise
            said = Refusal("changed", str(error))
            if isinstance(error, ProducerFailed):
                said = Refusal("not-made", "the content could not be produced; the log says why")
            await sender.send(refusal_reply(said, head.method, head.get(b"accept"), pages=_PAGES))
        if self.background is not None:
            await self.background()

    def _with_own_fields(self, reply: Reply) -> Reply:
        """The reply with what the route, or its dependencies, set on this response."""
        own = [field for field in self.raw_headers if field[0] not in (b"content-length", b"content-type")]
        if not own:
            return reply
        names = {name for name, _ in own if name != b"set-cookie"}
        kept = [field for field in reply.headers if field[0] not in names]
        return Reply(reply.status, [*kept, *own], reply.parts, reply.length, reply.spans)


class FileReply(_Reply):
    """A file on the disk: `return invio.FileReply("report.pdf")`.

    With `within`, `path` is relative to that folder, may come from anybody, and never leaves it.
    `name` is what it is saved as; `disposition` is `attachment` or `inline`; `cache` the value of
    Cache-Control; `speed` in bytes a second. A file that is not there is answered 404.
    """

    def __init__(
        self,
        path: str | os.PathLike[str],
        *,
        within: str | os.PathLike[str] | None = None,
        name: str | None = None,
        media_type: str | None = None,
        disposition: str = "attachment",
        cache: str | None = None,
        speed: int | None = None,
        headers: Mapping[str, str] | None = None,
        background: BackgroundTask | None = None,
    ) -> None:
        super().__init__(disposition, cache, speed, headers, background)
        self._path = os.fspath(path)
        self._within = None if within is None else os.fspath(within)
        self._presentation = Presentation(name=name)
        self._media_type = media_type

    async def represent(self, head: RequestHead) -> Representation:
        found = self._found()
        offer = await _offering.offer(head, found, self._presentation, self._terms, self._media_type)
        return offer.representation

    def _found(self) -> Found:
        try:
            if self._within is None:
                return found_at(self._path)
            return _folder(self._within).locate(parse_address(f"files/{self._path}"))
        except (Missing, BadAddress):
            raise Refusal("missing", "there is no such file") from None


class StreamReply(_Reply):
    """What a function makes while it is sent: `return invio.StreamReply(rows, name="tides.csv")`.

    `make` is called without arguments, once, when there is a body to send. It gives bytes or text in
    pieces, plainly or asynchronously; or rows (lists, tuples), which are sent as CSV. Text types
    are compressed for clients that take it. `tag` names the content: with it, a repeated request
    is answered 304 and makes nothing.
    """

    def __init__(
        self,
        make: Callable[[], Pieces],
        *,
        name: str = "download",
        media_type: str | None = None,
        disposition: str = "attachment",
        tag: str | None = None,
        cache: str | None = None,
        speed: int | None = None,
        headers: Mapping[str, str] | None = None,
        background: BackgroundTask | None = None,
    ) -> None:
        super().__init__(disposition, cache, speed, headers, background)
        if tag is not None and not (tag.isascii() and tag.isprintable() and '"' not in tag):
            raise ValueError(f"tag is {tag!r}; expected printable ASCII without quotes")
        self._made = Made(lambda: _as_bytes(make()))
        self._name = name
        self._media_type = media_type or media_type_of(name)
        self._tag = tag

    async def represent(self, head: RequestHead) -> Representation:
        varies = compresses(self._media_type)
        coding = choose_coding(head.get(b"accept-encoding"), CODINGS) if varies else None
        source = self._made if coding is None else Compressed(self._made, coding)
        return Representation(
            content=Content([Streamed(source)]),
            size=None,
            tag=self._tag if coding is None or self._tag is None else encoded_tag(self._tag, coding),
            modified=None,
            media_type=self._media_type,
            name=self._name,
            disposition=self._terms.disposition,
            cache=self._terms.cache or USUAL,
            coding=coding,
            vary="accept-encoding" if varies else "",
        )


class BundleReply(_Reply):
    """A selection of files as one archive that is never written: `return invio.BundleReply(paths)`.

    `files` are paths of files and folders, or a mapping of names in the archive to paths. It is a ZIP
    archive, or with a `name` in `.tar` a TAR archive; `flat`: without folders. Its length is known
    before its first byte, and it can be resumed at any of them. A path that is not there is answered
    404 before anything is sent.
    """

    def __init__(
        self,
        files: Iterable[str | os.PathLike[str]] | Mapping[str, str | os.PathLike[str]],
        *,
        name: str = "files.zip",
        flat: bool = False,
        cache: str | None = None,
        speed: int | None = None,
        headers: Mapping[str, str] | None = None,
        background: BackgroundTask | None = None,
    ) -> None:
        super().__init__("attachment", cache, speed, headers, background)
        pairs = files.items() if isinstance(files, Mapping) else ((None, path) for path in files)
        self._files = [(called, Path(path)) for called, path in pairs]
        self._name = name if name.lower().endswith(ENDINGS) else f"{name}.zip"
        self._flat = flat

    async def represent(self, head: RequestHead) -> Representation:  # noqa: ARG002
        content = (await run_in_threadpool(self._plan)).content
        return Representation(
            content=content,
            size=content.size,
            tag=content.tag,
            modified=None,
            media_type=content.media_type,
            name=self._name,
            cache=self._terms.cache or USUAL,
        )

    def _plan(self) -> Plan:
        if not self._files:
            raise Refusal("no-selection", "the selection is empty")
        plan = Plan(TarLayout() if self._name.lower().endswith(".tar") else ZipLayout())
        names = EntryNames(flat=self._flat)
        for called, path in self._files:
            for within, found in _below(called or path.name, path):
                plan.add(_entry(names.name(within), found))
        return plan.end()


def _nothing_beside(address: Address) -> Found:
    raise Missing(str(address))


_offering = Negotiator(_nothing_beside, Digests())
_folders: dict[str, DirectoryStore] = {}
_crcs: Memory[object, int] = Memory(100_000)


def _folder(path: str) -> DirectoryStore:
    folder = _folders.get(path)
    if folder is None:
        try:
            folder = _folders[path] = DirectoryStore("files", path)
        except StoreFault:
            raise Refusal("missing", "there is no such folder") from None
    return folder


def _below(called: str, path: Path) -> Iterator[tuple[str, Found]]:
    """The file at `path`, or every file below it, with what each is called in the archive."""
    if not path.is_dir():
        try:
            yield called, found_at(path)
        except Missing:
            raise Refusal("missing", f"there is no file {safe_name(called)!r}") from None
        return
    for found in _folder(os.fspath(path)).walk(Address("files", "")):
        yield f"{called}/{found.facts.address.path}", found


def _entry(name: str, found: Found) -> Chosen:
    source = found.on_disk
    assert source is not None
    crc = _crcs.get(source)
    if crc is None:
        crc = _crcs.keep(source, crc_of(source, name))
    return Chosen(found.facts, source, Entry(name, source.size, crc, found.facts.modified))


def _as_bytes(pieces: Pieces) -> Iterator[bytes] | AsyncIterator[bytes]:
    """What a route makes, as bytes; rows become CSV."""
    if isinstance(pieces, AsyncIterable):
        return _encoded_async(pieces)
    iterator = iter(pieces)
    first = next(iterator, b"")
    whole = itertools.chain([first], iterator)
    if isinstance(first, bytes | str):
        return _encoded(cast(Iterable[bytes | str], whole))
    return csv_pieces(cast(Iterable[Sequence[object]], whole))


def _encoded(pieces: Iterable[bytes | str]) -> Iterator[bytes]:
    for piece in pieces:
        yield piece.encode() if isinstance(piece, str) else piece


async def _encoded_async(pieces: AsyncIterable[bytes | str]) -> AsyncIterator[bytes]:
    async for piece in pieces:
        yield piece.encode() if isinstance(piece, str) else piece

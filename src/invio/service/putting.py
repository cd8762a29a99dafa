"""Putting files into stores, and removing them: by the caller's rights, whole or not at all."""

from __future__ import annotations

import asyncio
import errno
import logging
from collections.abc import AsyncIterator, Callable, Coroutine
from functools import partial
from typing import Annotated, Any

from fastapi import Query, Request, Response
from starlette.requests import ClientDisconnect

from invio.core.addresses import Address, quoted
from invio.core.files import Caller, FileFacts
from invio.core.http.digests import content_tag, said_sha256
from invio.core.http.media_types import essence, media_type_by_name
from invio.core.http.request_head import RequestHead
from invio.core.reasons import Refusal
from invio.core.versions import PathConflict, Putting
from invio.delivery.access.catalogue import no_file
from invio.delivery.sending.eager import in_pool
from invio.service.assembly import Parts
from invio.service.deciding import decided
from invio.service.dependencies import TheCaller, TheParts, address_in_path, caller_of, head_of
from invio.service.files import shape
from invio.service.routes import Routes
from invio.service.schemas import FileShape
from invio.stores.store import Found, Missing, VersionedStore, WritableStore

log = logging.getLogger("invio.service")
routes = Routes("files")

_PIECE = 4 * 1024 * 1024  # bytes that are written together
_LARGE = 16 * 1024  # bytes of pieces that are not joined before
_SHORT = 64 * 1024  # bytes that are, once all uploads together hold much
# Media types that programs send by default.
_SAYS_NOTHING = ("application/octet-stream", "application/x-www-form-urlencoded")
Write = Callable[..., Coroutine[Any, Any, None]]  # writes the pieces that it is given
_FULL = (errno.ENOSPC, errno.EDQUOT)


@routes.put(
    "/api/files/{address:path}",
    summary="Put a file, or a further version of it",
    status_code=200,
    responses={201: {"model": FileShape, "description": "There was no such file before"}},
    openapi_extra={"requestBody": {"content": {"*/*": {"schema": {"type": "string", "format": "binary"}}}}},
)
async def put_file(
    *,
    address: str,
    request: Request,
    response: Response,
    caller: TheCaller,
    parts: TheParts,
    description: Annotated[str | None, Query(max_length=1000, description="what it is about, in a few words")] = None,
) -> FileShape:
    """Stores the body as the file. Takes the right `put`.

    An existing file stays unchanged until everything has arrived. `If-None-Match: *` stores it only if there is no
    file, `If-Match` only in place of that content. With `Content-Digest` or `Repr-Digest` (SHA-256), the content is
    verified. A content equal to the newest version makes no new one.
    """
    head, where = head_of(request), _file(request)
    media_type, wanted = _said_type(head, where), _said_digest(head)
    length = int(head.get(b"content-length") or -1)
    pool, whose = parts.catalogue.writing_pool_of(where), caller.principal
    await decided(pool, _require, parts, caller, where, media_type, None if length < 0 else length, whose=whose)
    store = _store(parts, where)
    about = _said_description(store, where, description)
    putting = Putting(head, parts.digests.known, caller.recipient, media_type, about)
    await in_pool(pool, _check, parts, where, putting, whose=whose)
    try:
        with await in_pool(pool, store.begin, whose=whose) as arriving:
            body = _pieces(request, parts.settings.limits.idle)
            await take(body, partial(in_pool, pool, arriving.write, whose=whose), partial(_require_room, parts))
            if length >= 0 and arriving.size != length:  # whatever the server made of the request
                short = f"{length} bytes were announced and {arriving.size} arrived; nothing was changed"
                raise Refusal("bad-request", short)
            # The upload may have taken hours: the caller's credentials are checked again, and the rules.
            caller = await caller_of(request)
            await decided(pool, _require, parts, caller, where, media_type, arriving.size, whose=whose)
            if wanted is not None and wanted != arriving.sha256:
                raise Refusal("bad-request", "the content does not match its digest; send it again")
            found, new = await in_pool(pool, store.put, where, arriving, putting, whose=whose)
    except PathConflict:
        raise Refusal("in-the-way", f"{where} cannot be put there") from None
    except OSError as error:
        raise _not_written(where, error) from None
    return await _told(request, response, parts, caller, found=found, new=new)


@routes.post(
    "/api/versions/{address:path}",
    summary="Make an earlier version the newest again",
    responses={201: {"model": FileShape, "description": "There was no such file before"}},
)
async def renew_version(
    *,
    address: str,
    request: Request,
    response: Response,
    caller: TheCaller,
    parts: TheParts,
    version: Annotated[int, Query(ge=1, le=10**15 - 1, description="the earlier one")],
    description: Annotated[
        str | None, Query(max_length=1000, description="what it is about; else what was said of that version")
    ] = None,
) -> FileShape:
    """Makes an earlier version the newest, as a further version. Takes the rights `put`, and `read` on that version.

    For the newest version only the `description` changes. `If-Match` applies it only while that is the newest content.
    """
    where = address_in_path(request, "/api/versions/")
    pool, whose = parts.catalogue.writing_pool_of(where), caller.principal
    await decided(pool, parts.catalogue.require, caller, "put", where, whose=whose)
    await decided(pool, parts.catalogue.obtain, caller, "read", where, version, whose=whose)
    store = parts.catalogue.stores.get(where.store)
    if where.folder or not isinstance(store, VersionedStore):
        raise Refusal("missing", no_file(where))
    try:
        about = _said_description(store, where, description) if isinstance(store, WritableStore) else None
        putting = Putting(head_of(request), parts.digests.known, caller.recipient, description=about)
        found, new = await in_pool(pool, store.renew, where, version, putting, whose=whose)
    except Missing:
        raise Refusal("missing", no_file(where)) from None
    except OSError as error:
        raise _not_written(where, error) from None
    return await _told(request, response, parts, caller, found=found, new=new)


async def _told(
    request: Request, response: Response, parts: Parts, caller: Caller, *, found: Found, new: bool
) -> FileShape:
    """The response after a file was stored."""
    facts, where = found.facts, found.facts.address
    parts.audit("file.put", caller, address=str(where), version=facts.version, size=facts.size)
    response.status_code = 201 if new else 200
    which = "" if facts.version is None else f"?version={facts.version}"
    response.headers["Location"] = f"{request.scope.get('root_path', '')}/get/{quoted(where)}{which}"
    sha256 = parts.digests.known(facts.tag)
    response.headers["ETag"] = f'"{facts.tag if sha256 is None else content_tag(sha256)}"'
    return await decided(
        parts.catalogue.writing_pool_of(where), shape, parts, caller, where, found, whose=caller.principal
    )


def _said_description(store: WritableStore, address: Address, text: str | None) -> str | None:
    """What the file is about. Raises Refusal."""
    if text is None:
        return None
    if not store.describes:
        raise Refusal("bad-request", f"the store {address.store!r} keeps no descriptions; leave 'description' out")
    text = " ".join(text.split())
    if not text.isprintable():
        raise Refusal("bad-request", "a description has no control characters")
    return text


@routes.delete("/api/files/{address:path}", status_code=204, summary="Remove a file, or a version of it")
async def remove_file(
    address: str,
    request: Request,
    caller: TheCaller,
    parts: TheParts,
    version: Annotated[
        int | None, Query(ge=1, le=10**15 - 1, description="this one; without it the file with all of them")
    ] = None,
) -> None:
    """Removes a file or a version. Takes the right `manage`.

    Downloads under way continue; a version's number is not used again. `If-Match` removes it only while that is its
    content.
    """
    where = _file(request)
    pool, whose = parts.catalogue.writing_pool_of(where), caller.principal
    await decided(pool, parts.catalogue.require, caller, "manage", where, whose=whose)
    store = _store(parts, where)
    await decided(pool, parts.catalogue.obtain, caller, "manage", where, version, whose=whose)
    putting = Putting(head_of(request), parts.digests.known, caller.recipient)
    try:
        count = await in_pool(pool, store.remove, where, version, putting, whose=whose)
    except Missing:
        raise Refusal("missing", no_file(where)) from None
    parts.audit("file.removed", caller, address=str(where), version=version, versions=count)


def _file(request: Request) -> Address:
    """The address of the request. Raises Refusal."""
    address = address_in_path(request, "/api/files/")
    if address.folder:
        raise Refusal("bad-request", f"{address} is a folder; name the file")
    return address


def _store(parts: Parts, address: Address) -> WritableStore:
    """The store, if files can be put into it. Raises Refusal."""
    store = parts.catalogue.stores.get(address.store)
    if store is None:
        raise Refusal("missing", no_file(address))
    if not isinstance(store, WritableStore):
        raise Refusal("wrong-method", f"the store {address.store!r} is read-only", allow="GET, HEAD")
    return store


def _require(parts: Parts, caller: Caller, address: Address, media_type: str | None, size: int | None) -> None:
    """Raises Refusal, unless the caller may store a file with the facts known so far."""
    facts = FileFacts(address, size or 0, None, None, media_type)
    if size and parts.rules.looks_at_files and not parts.rules.allows(caller, "put", address, facts):
        # Whoever may put a smaller one may know why this one is refused.
        parts.catalogue.require(caller, "put", address, FileFacts(address, 1, None, None, media_type))
        raise Refusal("file-too-large", f"the rules let you put a file here, but none of {size} bytes")
    parts.catalogue.require(caller, "put", address, facts)
    if size is not None:
        _require_room(parts, size)


def _check(parts: Parts, address: Address, putting: Putting) -> None:
    """Refuses early what would be refused after the whole upload. Raises Refusal (`precondition`)."""
    try:
        facts = parts.catalogue.locate(address).facts
    except Missing:
        facts = None
    putting.check(address, facts)


def _require_room(parts: Parts, size: int) -> None:
    most = parts.settings.limits.put_bytes
    if most is not None and size > most:
        raise Refusal("file-too-large", f"an uploaded file may have at most {most} bytes")


class Held:
    """The bytes of all uploads that have come and are not written yet: a thousand slow ones must not fill the memory.

    Long pieces are written faster. Once `most` bytes are held, each upload writes what it has from a short piece on.
    """

    def __init__(self, most: int) -> None:
        self.most = most
        self.bytes = 0

    def is_due(self, count: int) -> bool:
        """Whether an upload that holds `count` bytes should write them."""
        return count >= _PIECE or (count >= _SHORT and self.bytes >= self.most)

    def written(self, count: int, _writing: object) -> None:
        """Forgets bytes whose writing has ended, however it has."""
        self.bytes -= count


held = Held(64 * 1024 * 1024)


async def take(pieces: AsyncIterator[bytes], write: Write, on_bytes: Callable[[int], None]) -> None:
    """Has a body be written, piece by piece, as it comes; `on_bytes` is told how many have come, and may raise."""
    waiting: list[bytes] = []
    count = total = 0
    writing: asyncio.Future[None] | None = None  # of the pieces before, while the next ones come
    try:
        async for piece in pieces:
            waiting.append(piece)
            count += len(piece)
            total += len(piece)
            held.bytes += len(piece)
            on_bytes(total)
            if held.is_due(count):
                taken = _taken(waiting, count)
                await _ended(writing)
                writing, count = _begun(write, taken, count), 0
        await _ended(writing)
        if count:
            writing = _begun(write, _taken(waiting, count), count)
            count = 0
            await _ended(writing)
    finally:
        held.bytes -= count
        if writing is not None:  # nothing is closed under a thread that writes
            await asyncio.wait({writing})


def _taken(waiting: list[bytes], count: int) -> list[bytes]:
    """What waits to be written: as it came, or joined where it came in small pieces, of which each has its price."""
    taken = waiting[:] if count >= len(waiting) * _LARGE else [b"".join(waiting)]
    waiting.clear()
    return taken


def _begun(write: Write, pieces: list[bytes], count: int) -> asyncio.Future[None]:
    writing = asyncio.ensure_future(write(*pieces))
    writing.add_done_callback(partial(held.written, count))
    return writing


async def _ended(writing: asyncio.Future[None] | None) -> None:
    """Waits for a write without cancelling it. Raises its OSError."""
    if writing is not None:
        await asyncio.wait({writing})
        writing.result()


async def _pieces(request: Request, idle: float) -> AsyncIterator[bytes]:
    """The body. Raises Refusal, when the body ends early or stalls."""
    pieces = request.stream()
    while True:
        try:
            async with asyncio.timeout(idle):
                piece = await anext(pieces)
        except StopAsyncIteration:
            return
        except ClientDisconnect:
            raise Refusal(
                "bad-request", "the connection ended before the file was complete; nothing was changed"
            ) from None
        except TimeoutError:
            raise Refusal("bad-request", f"no data arrived for {idle:g} seconds; nothing was changed") from None
        yield piece


def _said_type(head: RequestHead, address: Address) -> str | None:
    """The media type, where it is other than the name tells. Raises Refusal."""
    if head.get(b"content-range") is not None:  # RFC 9110 §14.5
        raise Refusal("bad-request", "a file is uploaded whole; leave Content-Range out")
    if (head.get(b"content-encoding") or "identity").lower() != "identity":
        raise Refusal("bad-request", "a file is uploaded as it is; leave Content-Encoding out")
    said = (head.get(b"content-type") or "").strip()
    if not said:
        return None
    media_type = essence(said)
    if media_type is None:
        raise Refusal("bad-request", f"Content-Type: {said[:80]!r} is no media type")
    if media_type == "multipart/form-data":
        raise Refusal("bad-request", "the body is the file itself, not a form; with curl, use -T")
    return None if media_type in (*_SAYS_NOTHING, media_type_by_name(address.name)) else media_type


def _said_digest(head: RequestHead) -> bytes | None:
    try:
        return said_sha256(head.get(b"content-digest")) or said_sha256(head.get(b"repr-digest"))
    except ValueError as error:
        raise Refusal("bad-request", f"the digest: {error}") from None


def _not_written(address: Address, error: OSError) -> Refusal:
    log.error("file.not-put", extra={"fields": {"address": str(address), "error": str(error)}})
    if error.errno in _FULL:
        return Refusal("no-space", "the disk is full; nothing was changed")
    if error.errno == errno.ENAMETOOLONG:
        return Refusal("bad-request", "a name in the address is too long for the disk")
    return Refusal("unavailable", "the file cannot be written; the operator's log says why")

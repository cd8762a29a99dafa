"""Reading what is sent: slices of files, as they were found or not at all."""

from __future__ import annotations

import logging
import os
from collections.abc import AsyncIterator, Sequence

from invio.core.archive.plan import Stretch
from invio.core.http.replies import Part, Slice, Streamed
from invio.delivery.archives.plan import Literal, RunOfFiles
from invio.delivery.sending.eager import in_a_task
from invio.delivery.sending.errors import NotMade, ReplyBroken
from invio.stores.contents import SmallContents
from invio.stores.sources import ContentChanged, RemoteFile, SliceSource
from invio.stores.store import StoreFault

log = logging.getLogger("invio.delivery")

# The end of a slice is read, then the file is looked at once more, and only then it is sent: a file
# that was altered under way is broken off before its announced length, never completed.
TAIL = 4 * 1024  # bytes
_AWAY = 1024 * 1024  # bytes asked for at a time of another system
_CONTENTS = SmallContents()


def source_of(part: Slice) -> SliceSource:
    return part.source  # type: ignore[return-value]


def opened(source: SliceSource) -> int:
    """A descriptor, which the caller closes. Raises ReplyBroken when the file is not the one that was found."""
    try:
        return source.open()
    except ContentChanged as error:
        raise ReplyBroken(str(error)) from None


def is_run(part: Slice) -> bool:
    """Whether it is read in one go, though it is not small: several files of an archive, or what it says itself."""
    return isinstance(part.source, RunOfFiles | Literal)


def is_remote(part: Slice) -> bool:
    """Whether reading it means waiting for another system."""
    return type(part.source) is RemoteFile


def waits(parts: Sequence[Part]) -> bool:
    """Whether something of them has to be made, or read from another system, while the others are sent."""
    if type(parts) is Stretch:
        return parts.waits
    for part in parts:  # noqa: SIM110 - a loop, for it is passed through at every download
        if isinstance(part, Streamed) or (isinstance(part, Slice) and is_remote(part)):
            return True
    return False


async def remote_pieces(part: Slice) -> AsyncIterator[bytes]:
    """A slice of a remote file; its last piece is given only after the file was found unaltered.

    Raises:
        ReplyBroken: it was not, or the other system failed.
    """
    source = part.source
    assert isinstance(source, RemoteFile)
    at, stop = part.offset, part.offset + part.length
    await in_a_task()
    try:
        while at < stop:
            count = min(_AWAY, stop - at)
            piece = await source.read_async(at, count)
            at += count
            if at == stop and not await source.is_unaltered_async():
                raise ReplyBroken("the remote file was altered while it was sent")
            yield piece
    except ContentChanged as error:
        raise ReplyBroken(str(error)) from None
    except StoreFault as error:
        log.error("store.failed", extra={"fields": {"error": str(error)}})
        raise NotMade("the system that keeps the file failed while it was read") from None


def read_slice(part: Slice) -> bytes:
    """All of a slice. Raises ReplyBroken."""
    if isinstance(part.source, RunOfFiles | Literal):
        return part.source.read(part.offset, part.length)
    source = source_of(part)
    kept = _CONTENTS.get(source, part.offset, part.length)
    if kept is not None:
        return kept
    descriptor = opened(source)
    try:
        content = read_unaltered(source, descriptor, part.length, part.offset)
    finally:
        os.close(descriptor)
    _CONTENTS.keep(source, content)
    return content


def read_unaltered(source: SliceSource, descriptor: int, count: int, offset: int) -> bytes:
    """`count` bytes of a file that, after they were read, still is what was found. Raises ReplyBroken."""
    data = pread(descriptor, count, offset)
    if not source.is_at(descriptor):
        raise ReplyBroken("the file was altered while it was sent")
    return data


def pread(descriptor: int, count: int, offset: int) -> bytes:
    """`count` bytes, no fewer. Raises ReplyBroken."""
    data = os.pread(descriptor, count, offset)
    while len(data) < count:
        more = os.pread(descriptor, count - len(data), offset + len(data))
        if not more:
            raise ReplyBroken("the file ended before its announced length")
        data += more
    return data

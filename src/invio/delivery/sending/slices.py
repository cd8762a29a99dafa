"""Reading what is sent: slices of contents, as they were found or not at all."""

from __future__ import annotations

import logging
from collections.abc import AsyncIterator

from invio.core.http.replies import Slice
from invio.core.readable import ContentChanged, Readable
from invio.delivery.sending.eager import ensure_task
from invio.delivery.sending.errors import ProducerFailed, ReplyBroken
from invio.stores import sources
from invio.stores.contents import LARGEST, SmallContents
from invio.stores.sources import Samples
from invio.stores.store import StoreFault

log = logging.getLogger("invio.delivery")

# The end of a slice is read, then the file is looked at once more, and only then it is sent: a file
# that was altered under way is broken off before its announced length, never completed.
TAIL = 4 * 1024  # bytes
_CONTENTS = SmallContents()


def opened(source: Readable) -> int | None:
    """A descriptor, which the caller closes, or None where there is none.

    Raises:
        ReplyBroken: the file is not the one that was found.
    """
    try:
        return source.open()
    except ContentChanged as error:
        raise ReplyBroken(str(error)) from None


async def blocking_pieces(part: Slice) -> AsyncIterator[bytes]:
    """A slice of what another system has; its last piece is given only after nothing was found altered.

    Raises:
        ReplyBroken: it was, or the other system failed.
    """
    await ensure_task()
    try:
        async for piece in part.source.pieces(part.offset, part.length):
            yield piece
    except ContentChanged as error:
        raise ReplyBroken(str(error)) from None
    except StoreFault as error:
        log.error("store.failed", extra={"fields": {"error": str(error)}})
        raise ProducerFailed("the system that keeps the file failed while it was read") from None


def read_slice(part: Slice) -> bytes:
    """All of a slice. Raises ReplyBroken."""
    source = part.source
    if part.length <= LARGEST:
        kept = _CONTENTS.get(source, part.offset, part.length)
        if kept is not None:
            return kept
    try:
        content = source.read(part.offset, part.length)
    except ContentChanged as error:
        raise ReplyBroken(str(error)) from None
    _CONTENTS.keep(source, content)
    return content


def read_unaltered(source: Readable, descriptor: int, count: int, offset: int, samples: Samples | None = None) -> bytes:
    """`count` bytes of a file that, after they were read, still is what was found, with its samples if there are any.

    Raises:
        ReplyBroken: it is not.
    """
    try:
        data = sources.read_unaltered(source, descriptor, count, offset)
        if samples is not None:
            samples.check(source, descriptor)
        return data
    except ContentChanged as error:
        raise ReplyBroken(str(error)) from None


def check_samples(samples: Samples, source: Readable, descriptor: int) -> None:
    """Raises ReplyBroken: the open file was cut, or written anew, since its samples were taken."""
    try:
        samples.check(source, descriptor)
    except ContentChanged as error:
        raise ReplyBroken(str(error)) from None


def read_fully(descriptor: int, count: int, offset: int) -> bytes:
    """`count` bytes, no fewer. Raises ReplyBroken."""
    try:
        return sources.read_fully(descriptor, count, offset)
    except ContentChanged as error:
        raise ReplyBroken(str(error)) from None

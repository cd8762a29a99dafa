"""CRC-32 of contents, as archives need them before their first byte."""

from __future__ import annotations

from invio.core.readable import ContentChanged, Readable
from invio.core.reasons import Refusal
from invio.stores.arriving import crc32
from invio.stores.sources import read_through

_AT_ONCE = 1024 * 1024  # bytes


def crc_of(source: Readable, name: object) -> int:
    """The CRC-32 of a content, which is read for it; a refusal calls it `name`.

    Raises:
        Refusal: `changed`, when it is not, or no longer, the content that was found.
        StoreFault: another system has it, and failed.
    """
    crc = 0
    try:
        if source.size <= _AT_ONCE and not source.may_block:
            return crc32()(source.read(0, source.size), 0)
        for piece in read_through(source):
            crc = crc32()(piece, crc)
    except ContentChanged as error:
        raise Refusal("changed", f"{name}: {error}") from None
    return crc

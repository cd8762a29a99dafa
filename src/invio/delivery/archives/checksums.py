"""CRC-32 of contents, as archives need them before their first byte."""

from __future__ import annotations

from invio.core.readable import ContentChanged, Readable
from invio.core.reasons import Refusal
from invio.stores.arriving import crc32
from invio.stores.sources import read_through


def crc_of(source: Readable, name: str) -> int:
    """The CRC-32 of a content, which is read for it; `name` is what a refusal calls it.

    Raises:
        Refusal: `changed`, when it is not, or no longer, the content that was found.
        StoreFault: another system has it, and failed.
    """
    crc = 0
    try:
        for piece in read_through(source):
            crc = crc32()(piece, crc)
    except ContentChanged as error:
        raise Refusal("changed", f"{name}: {error}") from None
    return crc

"""CRC-32 of contents, as archives need them before their first byte."""

from __future__ import annotations

from collections.abc import Callable
from functools import cache

from invio.core.reasons import Refusal
from invio.stores.sources import ContentChanged, RemoteFile, SliceSource

_READ = 1024 * 1024  # bytes


@cache
def crc32() -> Callable[[bytes, int], int]:
    """The function, whose library is loaded with the first archive."""
    from isal import isal_zlib

    function: Callable[[bytes, int], int] = isal_zlib.crc32
    return function


def crc_of(source: SliceSource | RemoteFile, name: str) -> int:
    """The CRC-32 of a file, which is read for it; `name` is what a refusal calls it.

    Raises:
        Refusal: `changed`, when it is not, or no longer, the file that was found.
        StoreFault: another system has it, and failed.
    """
    if isinstance(source, RemoteFile):
        return _remote_crc(source, name)
    try:
        descriptor = source.open()
    except ContentChanged as error:
        raise Refusal("changed", f"{name}: {error}") from None
    crc, left = 0, source.size
    with open(descriptor, "rb", buffering=0) as file:
        while left and (piece := file.read(min(_READ, left))):  # it may grow meanwhile
            crc = crc32()(piece, crc)
            left -= len(piece)
        if left:
            raise Refusal("changed", f"{name} was cut short while it was read")
        if not source.is_at(descriptor):
            raise Refusal("changed", f"{name} was altered while it was read")
    return crc


def _remote_crc(source: RemoteFile, name: str) -> int:
    crc = 0
    try:
        for at in range(0, source.size, _READ):
            crc = crc32()(source.read(at, min(_READ, source.size - at)), crc)
    except ContentChanged as error:
        raise Refusal("changed", f"{name}: {error}") from None
    if not source.is_unaltered():
        raise Refusal("changed", f"{name} was altered while it was read")
    return crc

"""Caches what is known of the contents of a route's archives, while the files are unchanged.

CRCs are keyed by the file's identity; deflated forms lie in unnamed files, which end with the process. Both caches are
bounded, and the oldest entries go first.
"""

from __future__ import annotations

import hashlib
import os
import tempfile
import threading
from collections import OrderedDict

from invio.core.memory import Memory
from invio.delivery.archives.checksums import crc_of
from invio.delivery.archives.deflate_cache import WORTH, deflated_piece
from invio.stores.arriving import write_all
from invio.stores.sources import DiskFile, SpooledFile, read_through

KEPT_BYTES = 256 * 1024 * 1024  # of deflated contents
_KEPT_FILES = 256  # each is an open file
_KNOWN = 100_000

_crcs: Memory[object, int] = Memory(_KNOWN)
_sums: Memory[object, bytes] = Memory(_KNOWN)
_deflated: OrderedDict[object, SpooledFile | None] = OrderedDict()  # None: it is no shorter deflated
_lock = threading.Lock()


def known_crc(source: DiskFile | SpooledFile, name: str) -> int:
    """The CRC-32 of a content, which is read once. Raises Refusal (`changed`); `name` is what that calls it."""
    crc = _crcs.get(source)
    if crc is None:
        crc = crc_of(source, name)
        if isinstance(source, DiskFile):  # an unnamed file belongs to this archive alone, and must not stay open
            _crcs.keep(source, crc)
    return crc


def known_sha256(source: DiskFile | SpooledFile) -> bytes:
    """The SHA-256 of a content, which is read once. Raises ContentChanged."""
    sha256 = _sums.get(source)
    if sha256 is not None:
        return sha256
    digest = hashlib.sha256()
    for piece in read_through(source):
        digest.update(piece)
    return _sums.keep(source, digest.digest()) if isinstance(source, DiskFile) else digest.digest()


def deflated(source: DiskFile | SpooledFile) -> SpooledFile | None:
    """A content's deflated form, or None where that is hardly shorter. Raises ContentChanged, OSError."""
    with _lock:
        if source in _deflated:
            _deflated.move_to_end(source)
            return _deflated[source]
    made = _deflate(source)
    if isinstance(source, SpooledFile):
        return made
    with _lock:
        _deflated[source] = made
        while len(_deflated) > _KEPT_FILES or sum(one.size for one in _deflated.values() if one) > KEPT_BYTES:
            _deflated.popitem(last=False)
    return made


def _deflate(source: DiskFile | SpooledFile) -> SpooledFile | None:
    with tempfile.TemporaryFile(prefix="invio-") as file:
        at = length = 0
        for piece in read_through(source):
            at += len(piece)
            data = deflated_piece(piece, is_last=at >= source.size)
            write_all(file.fileno(), data)
            length += len(data)
        return SpooledFile(os.dup(file.fileno()), length) if at and length <= source.size * WORTH else None

"""Caches what is known of the contents of a route's archives, while the files are unchanged.

CRCs are keyed by the file's identity; deflated forms lie in unnamed files, which end with the process. Both caches are
bounded, and the oldest entries go first. Small forms are kept in memory, and lie in one file for an archive: a process
may have few descriptors.
"""

from __future__ import annotations

import hashlib
import os
import tempfile
import threading
from collections import OrderedDict
from collections.abc import Callable

from invio.core.memory import Memory
from invio.core.readable import Readable
from invio.delivery.archives.checksums import crc_of
from invio.delivery.archives.deflate_cache import WORTH, deflated_piece
from invio.delivery.archives.spools import SMALL, SharedFile
from invio.stores.arriving import write_all
from invio.stores.sources import SpooledFile, on_disk, read_through

_Form = SpooledFile | bytes | None  # a file, or a small content in memory; None: it is no shorter deflated

KEPT_SMALL = 16 * 1024 * 1024  # bytes of deflated contents that are small
KEPT_BYTES = 256 * 1024 * 1024  # of deflated contents
_KEPT_FILES = 256  # each is an open file
_KNOWN = 100_000


class _Forms(OrderedDict[object, _Form]):
    """Deflated forms by their sources, the least used first."""

    def __init__(self) -> None:
        super().__init__()
        self.size = 0

    def keep(self, source: object, form: _Form, most_bytes: int, most: int) -> None:
        """Keeps a form. The least used ones go while there are more than `most_bytes` or `most` of them."""
        self.drop(source)
        self[source] = form
        self.size += _size(form)
        while self and (self.size > most_bytes or len(self) > most):
            self.drop(next(iter(self)))

    def drop(self, source: object) -> None:
        """Drops a form, if it is there."""
        self.size -= _size(self.pop(source, None))


_crcs: Memory[object, int] = Memory(_KNOWN)
_sums: Memory[object, bytes] = Memory(_KNOWN)
_deflated, _small = _Forms(), _Forms()
_lock = threading.Lock()


def known_crc(source: Readable, name: str) -> int:
    """The CRC-32 of a content, which is read once. Raises Refusal (`changed`); `name` is what that calls it."""
    crc = _crcs.get(source)
    if crc is None:
        crc = crc_of(source, name)
        if on_disk(source) is not None:  # an unnamed file belongs to this archive alone, and must not stay open
            _crcs.keep(source, crc)
    return crc


def known_sha256(source: Readable) -> bytes:
    """The SHA-256 of a content, which is read once. Raises ContentChanged."""
    sha256 = _sums.get(source)
    if sha256 is not None:
        return sha256
    digest = hashlib.sha256()
    for piece in read_through(source):
        digest.update(piece)
    return _sums.keep(source, digest.digest()) if on_disk(source) is not None else digest.digest()


def deflated(source: Readable, shared: SharedFile) -> Readable | None:
    """A content's deflated form, or None where that is hardly shorter; a small one lies in `shared`.

    Raises:
        ContentChanged, OSError.
    """
    made = _kept(source, lambda: _deflate(source))
    return shared.add([made]) if isinstance(made, bytes) else made


def _kept(source: Readable, make: Callable[[], _Form]) -> _Form:
    """What is kept of a file, or is made now."""
    with _lock:
        for kept in (_small, _deflated):
            if source in kept:
                kept.move_to_end(source)
                return kept[source]
    made = make()
    if on_disk(source) is None:
        return made
    with _lock:
        if isinstance(made, bytes):
            _small.keep(source, made, KEPT_SMALL, _KNOWN)
        else:
            _deflated.keep(source, made, KEPT_BYTES, _KEPT_FILES)
    return made


def _size(form: _Form) -> int:
    return 0 if form is None else len(form) if isinstance(form, bytes) else form.size


def _deflate(source: Readable) -> _Form:
    with tempfile.TemporaryFile(prefix="invio-") as file:
        at = length = 0
        for piece in read_through(source):
            at += len(piece)
            data = deflated_piece(piece, is_last=at >= source.size)
            write_all(file.fileno(), data)
            length += len(data)
        if not at or length > source.size * WORTH:
            return None
        if length <= SMALL:
            return os.pread(file.fileno(), length, 0)
        return SpooledFile(os.dup(file.fileno()), length)

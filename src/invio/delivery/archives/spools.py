"""Files made on demand, made once for an archive and kept open without a name."""

from __future__ import annotations

import os
import tempfile
import threading
import time
from collections import OrderedDict
from collections.abc import Iterator
from dataclasses import dataclass, field

from invio.core.addresses import Address
from invio.stores.arriving import crc32
from invio.stores.sources import Made, SpooledFile


@dataclass(frozen=True, slots=True)
class Spool:
    """A content, its CRC-32, and when it was made, Unix seconds."""

    file: SpooledFile
    crc: int
    made: float


@dataclass(slots=True)
class Spools:
    """The files made for each bundle; the oldest go first, and are closed when nobody holds them."""

    limit: int
    _kept: OrderedDict[tuple[str, str], Spool] = field(default_factory=OrderedDict)
    _lock: threading.Lock = field(default_factory=threading.Lock)

    def take(self, bundle: str, address: Address, made: Made) -> Spool:
        """The content that this bundle has of this address; made now if it has none."""
        key = (bundle, str(address))
        with self._lock:
            kept = self._kept.get(key)
            if kept is not None:
                self._kept.move_to_end(key)
                return kept
        spool = spooled(made)
        with self._lock:
            # Another request for the same bundle may have been faster: all must get one content.
            kept = self._kept.setdefault(key, spool)
            while len(self._kept) > self.limit:
                self._kept.popitem(last=False)
            return kept

    def close(self) -> None:
        """Forgets all files that were made."""
        with self._lock:
            self._kept.clear()


def spooled(made: Made) -> Spool:
    """Makes the content into a file that has no name and ends with its descriptor."""
    size = crc = 0
    with tempfile.TemporaryFile(prefix="invio-") as file:
        pieces = made.chunks()
        if not isinstance(pieces, Iterator):
            raise TypeError("only an application's own reply is made asynchronously")
        for piece in pieces:
            file.write(piece)
            crc = crc32()(piece, crc)
            size += len(piece)
        file.flush()
        return Spool(SpooledFile(os.dup(file.fileno()), size), crc, time.time())

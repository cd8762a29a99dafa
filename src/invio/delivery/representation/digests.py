"""SHA-256 of contents: computed once, beside the deliveries, and kept in the records.

The hash of a large file takes seconds, so nobody waits for it: whoever asks for a digest that is
not known has it computed, and the next one gets it. A small file is hashed while one waits.
"""

from __future__ import annotations

import hashlib
import logging
import os
import threading
import time
from collections import OrderedDict
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from itertools import groupby
from typing import Protocol

from invio.core.http.replies import Part, Slice
from invio.core.readable import ContentChanged
from invio.delivery.sending.eager import ensure_task, in_thread
from invio.stores.sources import DiskFile
from invio.stores.store import StoreFault

log = logging.getLogger("invio.delivery")

# Up to this size an answer waits for its digest.
AT_ONCE = 4 * 1024 * 1024  # bytes
_READ = 1024 * 1024  # bytes
_KNOWN = 50_000  # digests
# When to look again whether another process has learnt one. Seconds.
_AGAIN = 30.0


class DigestRecords(Protocol):
    """Where digests are kept for other processes, and for later."""

    def known(self, tag: str) -> bytes | None:
        """The 32 bytes of the content with this tag, if they are known."""
        ...

    def save(self, tag: str, sha256: bytes) -> None:
        """Keeps a digest. Raises OSError."""
        ...


class Digests:
    """What is known of contents by their tags; without records, for as long as the process runs."""

    def __init__(self, records: DigestRecords | None = None) -> None:
        self._records = records
        self._known: OrderedDict[str, tuple[float, bytes | None]] = OrderedDict()
        self._asked: set[str] = set()
        self._closed = False
        self._lock = threading.Lock()
        # One worker, so that hashing leaves the other core to deliveries.
        self._worker = ThreadPoolExecutor(1, thread_name_prefix="digests")

    def known(self, tag: str | None) -> bytes | None:
        """The 32 bytes of the content with this tag, if they are known."""
        if tag is None:
            return None
        kept = self._known.get(tag)
        if kept is not None and (kept[1] is not None or time.monotonic() - kept[0] < _AGAIN):
            return kept[1]
        return self._remember(tag, self._look_up(tag))

    def of(self, source: DiskFile, tag: str) -> bytes:
        """The digest, computed now if it has to be; blocks for as long as that takes.

        Raises:
            ContentChanged: the file is not the one that has the tag.
        """
        known = self.known(tag)
        return known if known is not None else self._compute(source, tag)

    def ask(self, source: DiskFile, tag: str) -> None:
        """Queues the digest for computing."""
        with self._lock:
            if tag in self._asked:
                return
            self._asked.add(tag)
        self._worker.submit(self._answer, source, tag)

    def close(self) -> None:
        """Drops the queue."""
        self._closed = True
        self._worker.shutdown(wait=True, cancel_futures=True)

    def _answer(self, source: DiskFile, tag: str) -> None:
        try:
            self._compute(source, tag)
        except ContentChanged:
            pass  # another content, another tag: it will be asked for by that
        except OSError as error:
            log.warning("digest.failed", extra={"fields": {"error": str(error)}})
        finally:
            with self._lock:
                self._asked.discard(tag)

    def _compute(self, source: DiskFile, tag: str) -> bytes:
        descriptor = source.open()
        digest = hashlib.sha256()
        buffer = memoryview(bytearray(min(_READ, max(1, source.size))))
        with open(descriptor, "rb", buffering=0) as file:
            left = source.size
            while left and (count := file.readinto(buffer[: min(len(buffer), left)])):  # it may grow meanwhile
                digest.update(buffer[:count])
                left -= count
                if self._closed:
                    raise ContentChanged("the service ends")
            if not source.is_at(descriptor):
                raise ContentChanged("the file was altered while its digest was computed")
            # One that has grown may have been written anew: what was read of it is not surely what had the tag.
            sure = source.fits(os.fstat(descriptor))
        sha256 = digest.digest()
        if not sure:
            return sha256
        if self._records is not None:
            self._records.save(tag, sha256)
        self._remember(tag, sha256)
        return sha256

    def _look_up(self, tag: str) -> bytes | None:
        return None if self._records is None else self._records.known(tag)

    def _remember(self, tag: str, sha256: bytes | None) -> bytes | None:
        with self._lock:
            self._known[tag] = (time.monotonic(), sha256)
            if len(self._known) > _KNOWN:
                self._known.popitem(last=False)
        return sha256


async def digest_of(parts: Sequence[Part]) -> bytes:
    """SHA-256 of a few literal bytes and short slices, which are read for it.

    Should a file change before they are sent, the sender breaks off what it then finds altered.
    """
    digest = hashlib.sha256()
    for waits, group in groupby(parts, key=_waits):
        some = list(group)
        # What waits for another system takes none of the threads that all share.
        await (_add_pieces(digest, some) if waits else in_thread(_add, digest, some))
    return digest.digest()


def _waits(part: Part) -> bool:
    return isinstance(part, Slice) and part.source.may_block


def _add(digest: hashlib._Hash, parts: Sequence[Part]) -> None:
    for part in parts:
        if isinstance(part, bytes):
            digest.update(part)
        elif isinstance(part, Slice):
            with suppress(ContentChanged):  # what is sent instead is broken off
                digest.update(part.source.read(part.offset, part.length))


async def _add_pieces(digest: hashlib._Hash, parts: Sequence[Part]) -> None:
    await ensure_task()
    for part in parts:
        if isinstance(part, Slice):
            with suppress(ContentChanged, StoreFault):  # as above
                async for piece in part.source.pieces(part.offset, part.length):
                    await in_thread(digest.update, piece)

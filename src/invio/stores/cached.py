"""A disk cache for contents of other systems: each is fetched once for all callers, and read from the disk afterwards.

The first request fetches the content, from first byte to last, into a nameless file; concurrent requests read what has
arrived. A request for a part far ahead does not wait: it is read from the other system directly. So is the rest of what
could not be fetched to its end, as when the disk is full. Once everything has arrived and the file was found unaltered,
the content is cached.

Invariants:
- No last byte of a content is given before the file was found unaltered.
- What is kept is known by the file's address, its tag and its length; another tag is another content.
"""

from __future__ import annotations

import logging
import os
import threading
from collections import OrderedDict
from collections.abc import AsyncIterator, Callable
from contextlib import suppress
from dataclasses import dataclass
from typing import BinaryIO

from invio.core.readable import ContentChanged
from invio.producers.failures import NotProduced
from invio.producers.room import Room
from invio.producers.spooling import Production
from invio.stores.disk_cache import DiskCache
from invio.stores.sources import BlockingFile, DiskFile, read_through
from invio.stores.store import Found
from invio.workers.pool import Pool, PoolBusy

log = logging.getLogger("invio.stores")

# How far ahead of the fetched bytes a part may begin and still wait for them. Bytes.
_AHEAD = 16 * 1024 * 1024
_PIECE = 1024 * 1024  # bytes
_SENT = 256 * 1024  # bytes of what is kept that are read at a time, in the event loop, and held for each reader
_FETCHES = 64  # contents that are fetched, or were just now


class ContentCache:
    """The cached contents of one store."""

    def __init__(self, name: str, cache: DiskCache, room: Room) -> None:
        self._cache, self.room = cache, room
        self._pool = Pool(f"fetch-{name}", 8, waiting=64)
        self._keeping = Pool(f"keep-{name}", 1, waiting=64)
        self._fetches: OrderedDict[str, Production] = OrderedDict()  # those under way, the oldest first
        self._copied: set[str] = set()  # what is being copied into the cache
        self._lock = threading.Lock()

    def of(self, found: Found) -> Found:
        """The file, read from the disk if it is cached; otherwise reading it caches it."""
        source = found.blocking
        if source is None or not source.size or source.size > self._cache.limit // 2:
            return found
        key = DiskCache.key(str(source.address), source.tag, source.size)
        fetched = CachedFile(source.store, source.address, source.size, source.tag, key, self)
        kept = self._cache.find(key)
        if kept is not None:
            return found._replace(source=kept.file, lasting=fetched)
        return found._replace(source=fetched)

    def fetch(self, source: CachedFile) -> Production | DiskFile | None:
        """The run that fetches a content, or the content, kept meanwhile; None where as many are fetched as may be."""
        key, plain = source.key, BlockingFile(source.store, source.address, source.size, source.tag)
        with self._lock:
            running = self._fetches.get(key)
            if running is None or running.failed is not None:
                # A run is forgotten once its content is kept; who found the file before that reads what is kept.
                kept = self._cache.at_hand(key)
                if kept is not None:
                    return kept.file
                running = self._fetches[key] = Production(lambda: read_through(plain), self._pool, self.room)
            while len(self._fetches) > _FETCHES:
                self._fetches.popitem(last=False)
        try:
            running.start()
        except NotProduced:
            return None
        return running

    def keep(self, key: str, fetched: Production) -> None:
        """Caches a complete content, in a thread, once."""
        with self._lock:
            if key in self._copied:
                return
            self._copied.add(key)

        def copy(target: BinaryIO) -> str:
            descriptor = fetched.descriptor()
            try:
                for at in range(0, fetched.length, _PIECE):
                    target.write(os.pread(descriptor, _PIECE, at))
            finally:
                os.close(descriptor)
            return ""

        try:
            self._keeping.submit(self._kept, key, copy)
        except PoolBusy:
            self._let_go(key)
            log.warning("cache.busy", extra={"fields": {"key": key}})

    def _kept(self, key: str, copy: Callable[[BinaryIO], str]) -> None:
        try:
            self._cache.obtain(key, copy)
        except OSError as error:  # as when the disk is full: it is fetched again
            log.error("cache.not-kept", extra={"fields": {"error": str(error)}})
        finally:
            self._let_go(key)

    def _let_go(self, key: str) -> None:
        """Forgets a fetch; later requests use the cache or fetch anew."""
        with self._lock:
            self._fetches.pop(key, None)
            self._copied.discard(key)

    def kept(self, key: str) -> DiskFile | None:
        """A content that is kept."""
        kept = self._cache.find(key)
        return None if kept is None else kept.file


@dataclass(frozen=True, slots=True)
class CachedFile(BlockingFile):
    """A file of another system on its way into a cache."""

    key: str
    cache: ContentCache

    def read(self, offset: int, count: int) -> bytes:
        """`count` bytes from `offset` on, from the disk where they are kept there."""
        fetched = self.cache.kept(self.key) or self._fetched(offset)
        if isinstance(fetched, DiskFile):
            try:
                return fetched.read(offset, count)
            except ContentChanged:
                fetched = None  # evicted in this moment
        data = None
        if fetched is not None:
            with suppress(NotProduced):
                fetched.reach(offset + count, whole=offset + count >= self.size)
                data = self._part(fetched, offset, count)
        return self.store.read(self, offset, count) if data is None else data

    async def pieces(self, offset: int, count: int) -> AsyncIterator[bytes]:
        """The same in pieces, of which those that are not kept yet are read from the other system, and kept."""
        stop = offset + count
        fetched = self._fetched(offset)
        while offset < stop and fetched is not None:
            upto = min(offset + _SENT, stop)
            if isinstance(fetched, DiskFile):
                try:
                    piece = fetched.read(offset, upto - offset)
                except ContentChanged:
                    break  # evicted meanwhile
                offset = upto
                yield piece
                continue
            try:
                await fetched.reach_async(upto, whole=upto >= self.size)
            except NotProduced:
                break
            part = self._part(fetched, offset, upto - offset)
            if part is None:
                break
            if upto == stop and not fetched.whole and not await self.store.is_unaltered_async(self):
                raise ContentChanged("the file was altered while it was sent")
            offset = upto
            yield part
        if offset < stop:  # it is evicted, or could not be fetched to its end
            async for piece in self.store.pieces(self, offset, stop - offset):
                yield piece

    def _fetched(self, offset: int) -> Production | DiskFile | None:
        """The run that a part is read from, or the kept content; None where it begins far ahead of what has come."""
        fetched = self.cache.fetch(self)
        if isinstance(fetched, DiskFile):
            return fetched
        if fetched is None or (not fetched.whole and offset > fetched.length + _AHEAD):
            return None
        return fetched

    def _part(self, fetched: Production, offset: int, count: int) -> bytes | None:
        """A part of what was fetched; None where there is no more of it."""
        if fetched.whole:
            self.cache.keep(self.key, fetched)
        data = fetched.part(offset, count)
        return data if len(data) == count and fetched.failed is None else None

"""Renditions of stored images: each made once a content, kept on the disk, and delivered like any file."""

from __future__ import annotations

import errno
import logging
import os
import tempfile
import time
from collections.abc import AsyncIterator, Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from functools import partial
from typing import BinaryIO, ClassVar

from invio.core.files import Caller
from invio.core.http.media_types import media_type_by_name
from invio.core.memory import ExpiringMemory, Memory
from invio.core.readable import ContentChanged
from invio.core.reasons import Refusal
from invio.core.renditions import ENDINGS, FORMATS, Rendition
from invio.delivery.sending.eager import in_pool
from invio.producers.image_workers import ImageWorkers
from invio.producers.imaging import NotAnImage
from invio.stores.directory import unchanged
from invio.stores.disk_cache import CacheFull, DiskCache
from invio.stores.sources import PIECE, DiskFile, opened_unaltered, read_through
from invio.stores.store import Found, StoreFault
from invio.workers.pool import Pool, PoolsByName

log = logging.getLogger("invio.delivery")

_KNOWN = 4096
_REFUSED = 1024  # images of which none can be made
_REFUSED_FOR = 60.0  # seconds for which that is remembered: one may have been slow because the machine was busy
_FULL = (errno.ENOSPC, errno.EDQUOT)


class Renditions:
    """The renditions of the settings, by name.

    An image of another system is fetched before a rendition is made of it, by threads for that store: one that hangs
    keeps nobody from renditions of other images.
    """

    def __init__(
        self, named: Mapping[str, Rendition], workers: ImageWorkers, cache: DiskCache, largest: int = 256 << 20
    ) -> None:
        """`largest` is how many bytes an image may have of which one is made."""
        self._named, self._workers, self._cache, self._largest = dict(named), workers, cache, largest
        self._pool = Pool("renditions", 4, waiting=800)
        self._pools = PoolsByName("renditions", 4, waiting=240)  # by the store that is waited for
        # What was made of a finding; good for as long as its file is what it was.
        self._known: Memory[tuple[Found, str], Found] = Memory(_KNOWN)
        # Of what none can be made, and why, by the key in the cache: to try it takes a process for seconds.
        self._refused: ExpiringMemory[str, str] = ExpiringMemory(_REFUSED, _REFUSED_FOR)

    def names(self) -> list[str]:
        """What they are called."""
        return list(self._named)

    def at_hand(self, found: Found, name: str) -> Found | None:
        """The rendition of an image, if it is cached; may be called anywhere."""
        known = self._known.get((found, name))
        return known if known is not None and unchanged(known.source) else None

    async def made(self, found: Found, name: str, caller: Caller) -> Found:
        """The rendition of an image for who asks, awaited where it has to be made. Raises as `of`."""
        known = self.at_hand(found, name)
        if known is not None:
            return known
        return await in_pool(self.pool_of(found), self.of, found, name, whose=caller.principal)

    def pool_of(self, found: Found) -> Pool:
        """The threads that make renditions of an image."""
        if found.blocking is None:
            return self._pool
        return self._pools.of(found.facts.address.store)

    def of(self, found: Found, name: str) -> Found:
        """The rendition of an image, made now if it has to be. To be called by a thread.

        Raises:
            Refusal: `missing`, when none is called so; `not-an-image`; `changed`, `no-space`.
            StoreFault: another system has the image, and failed.
        """
        rendition = self._named.get(name)
        facts = found.facts
        if rendition is None:
            raise Refusal("missing", f"there is no rendition {name!r}")
        if found.made is not None:
            raise Refusal("not-an-image", f"{facts.address} is made on demand; there is no rendition of it")
        if found.content.size > self._largest:
            raise Refusal("not-an-image", f"{facts.address} has more than {self._largest} bytes")
        key = DiskCache.key(str(facts.address), facts.tag, facts.size, rendition.mark)

        def make(target: BinaryIO) -> str:
            self._check(key)  # whoever asked before may have been told while this one waited
            try:
                with _opened(found) as source:
                    return self._workers.make(source, target.fileno(), rendition)
            except NotAnImage as error:
                self._refused.keep_at(key, str(error), time.monotonic())
                raise

        try:
            self._check(key)
            cached = self._cache.obtain(key, make)
        except NotAnImage as error:
            raise Refusal("not-an-image", f"{facts.address}: {error}") from None
        except ContentChanged as error:
            raise Refusal("changed", f"{facts.address}: {error}") from None
        except OSError as error:
            log.error("rendition.failed", extra={"fields": {"address": str(facts.address), "error": str(error)}})
            if error.errno in _FULL:
                why = "the cache is full of what is being sent" if isinstance(error, CacheFull) else "the disk is full"
                raise Refusal("no-space", f"the rendition of {facts.address} could not be made: {why}") from None
            raise Refusal("not-made", f"the rendition of {facts.address} could not be made") from None
        stem = facts.address.name.rpartition(".")[0] or facts.address.name
        its = facts._replace(
            size=cached.file.size,
            tag=f"{key[:24]}",
            media_type=FORMATS[cached.said],
            name=f"{stem}-{name}.{ENDINGS[cached.said]}",
            sha256=None,
        )
        again = RenditionFile(cached.file, partial(self.of, found, name), self.pool_of(found))
        return self._known.keep((found, name), Found(its, cached.file, lasting=again))

    def _check(self, key: str) -> None:
        """Raises NotAnImage, if none could be made a moment ago."""
        said = self._refused.fresh(key, time.monotonic(), None)
        if said is not None:
            raise NotAnImage(said)

    def of_images(self, found: Found, name: str) -> Found:
        """Like `of` for an image; a file of another type is returned unchanged."""
        media_type = found.facts.media_type or media_type_by_name(found.facts.address.name) or ""
        return self.of(found, name) if media_type.startswith("image/") and "svg" not in media_type else found

    def close(self) -> None:
        """Ends the processes that make them."""
        self._workers.close()


@dataclass(frozen=True, slots=True)
class RenditionFile:
    """A rendition that may be read long after it was found, as in an archive: evicted meanwhile, it is made again.

    Its file is named after its content's digest, so what is made again is known to be the same.
    """

    file: DiskFile
    obtain: Callable[[], Found]
    pool: Pool
    may_block: ClassVar[bool] = True

    @property
    def size(self) -> int:
        """Bytes of all of it."""
        return self.file.size

    def read(self, offset: int, count: int) -> bytes:
        """`count` bytes from `offset` on. Raises ContentChanged, StoreFault."""
        try:
            return self.file.read(offset, count)
        except ContentChanged:
            return self._made_again().read(offset, count)

    def _made_again(self) -> DiskFile:
        try:
            file = self.obtain().on_disk
        except Refusal as error:
            raise ContentChanged(f"the rendition was evicted, and could not be made again: {error.detail}") from None
        if file is None or file.path != self.file.path:
            raise ContentChanged("the rendition was evicted, and is another now")
        return file

    def open(self) -> int:
        """A descriptor, for the caller to close. Raises ContentChanged, StoreFault."""
        try:
            return self.file.open()
        except ContentChanged:
            return self._made_again().open()

    def is_at(self, descriptor: int) -> bool:
        """Whether the open file has the length that was made."""
        return os.fstat(descriptor).st_size == self.size

    def is_unaltered(self) -> bool:
        """It is one content, by its name."""
        return True

    async def pieces(self, offset: int, count: int) -> AsyncIterator[bytes]:
        """The same in the event loop, where nothing is made."""
        for at in range(offset, offset + count, PIECE):
            size = min(PIECE, offset + count - at)
            try:
                yield self.file.read(at, size)
            except ContentChanged:
                yield await self._read_by_thread(at, size)

    async def _read_by_thread(self, offset: int, count: int) -> bytes:
        try:
            return await in_pool(self.pool, self.read, offset, count)
        except Refusal as error:
            raise StoreFault(error.detail or "", word=error.reason.word) from None


@contextmanager
def _opened(found: Found) -> Iterator[int]:
    """A descriptor of an image, unaltered: of the file itself, or of a copy where only its store can read it.

    Raises:
        ContentChanged, StoreFault, OSError.
    """
    source = found.content
    if found.lasting is not None and not unchanged(found.source):  # a cache has evicted it
        source = found.lasting
    with opened_unaltered(source) as descriptor:
        if descriptor is not None:
            yield descriptor
            return
    with tempfile.TemporaryFile(prefix="invio-") as copy:
        for piece in read_through(source):
            copy.write(piece)
        copy.flush()
        yield copy.fileno()

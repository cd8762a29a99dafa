"""Deflated forms for one plan: which contents are worth it, and those found among what is kept, or made now."""

from __future__ import annotations

import logging
from collections.abc import Callable, Iterable
from functools import lru_cache, partial

from invio.core.files import FileFacts
from invio.core.http.media_types import is_compressed, media_type_by_name
from invio.core.readable import ContentChanged, Readable
from invio.core.reasons import Refusal
from invio.delivery.archives.deflate_cache import CacheFull, DeflateCache, Packed
from invio.delivery.archives.known_contents import Known, Learnt
from invio.stores.sources import DiskFile, is_settled

log = logging.getLogger("invio.delivery")

_LEAST = 512  # bytes of a content that is worth deflating


class NotDeflatedFirst(Exception):
    """Contents cannot be deflated first: there are more bytes of them than the limit, or the disk did not take them."""


class Deflating:
    """Finds or makes the deflated forms of contents, while what has to be deflated first is within its limit."""

    def __init__(
        self, cache: DeflateCache, learnt: Learnt, *, limit: int | None, on_read: Callable[[int], None]
    ) -> None:
        """`limit` is in bytes that may be deflated first; None: as many as there are. `on_read` may raise to end it."""
        self._cache = cache
        self._learnt = learnt
        self._limit = None if limit is None else min(limit, cache.limit // 2)
        self._on_read = on_read
        self._cold = 0  # bytes that were deflated for this plan
        self._is_full = False  # the cache, of what is being sent: the rest is stored
        self._made: list[str] = []  # names of what is kept of what was deflated for this plan

    def of_file(self, source: DiskFile, facts: FileFacts, known: Known) -> DiskFile | None:
        """A content's deflated form; None where it is no gain.

        Raises:
            NotDeflatedFirst; or Refusal: `changed`.
        """
        tag = str(facts.tag)
        if tag in known.deflated:
            name, length = known.deflated[tag]
            if length is None:
                return None
            kept = self._cache.find(name, length, partial(self._on_read, 0))
            if kept is not None:
                return kept
        made = self._pack(source, facts)
        if made is None:
            return None
        if is_settled(facts.modified):
            self._learnt.crcs[tag] = made.crc
            self._learnt.deflated[tag] = (made.name, None if made.file is None else made.file.size)
        return made.file

    def of_spool(self, source: Readable, facts: FileFacts) -> DiskFile | None:
        """The deflated form of what was made for this archive. Raises as `of_file`."""
        if not is_worth_deflating(facts._replace(size=source.size)):
            return None
        made = self._pack(source, facts)
        return None if made is None else made.file

    def check(self) -> None:
        """Looks whether the disk took what was deflated for this plan, as far as that is known.

        Raises:
            NotDeflatedFirst: it did not.
        """
        for name in self._made:
            try:
                self._cache.syncing.check(name, partial(self._on_read, 0))
            except OSError as error:
                log.error("bundle.not-packed", extra={"fields": {"error": str(error)}})
                raise NotDeflatedFirst from None

    def _pack(self, source: Readable, facts: FileFacts) -> Packed | None:
        """None where it cannot be kept."""
        if self._is_full:
            return None
        self._cold += source.size
        if self._limit is not None and self._cold > self._limit:
            raise NotDeflatedFirst
        try:
            made = self._cache.pack(source, self._on_read)
        except ContentChanged as error:
            raise Refusal("changed", f"{facts.address}: {error}") from None
        except CacheFull:
            self._is_full = True
            log.warning("bundle.cache-full", extra={"fields": {"limit": self._cache.limit}})
            return None
        except OSError as error:  # of the folder of deflated contents, as when the disk is full
            log.error("bundle.not-packed", extra={"fields": {"address": str(facts.address), "error": str(error)}})
            return None
        if made.file is not None:
            self._made.append(made.name)
        return made


def is_worth_deflating(facts: FileFacts) -> bool:
    """Whether deflating a content may make it shorter, by what is known without reading it."""
    return bool(_worth([facts]))


def tags_worth_deflating(some: Iterable[FileFacts]) -> frozenset[str]:
    """The tags of those contents that deflating may make shorter; those without a tag are not among them."""
    return frozenset([facts.tag for facts in _worth(some) if facts.tag])


def _worth(some: Iterable[FileFacts]) -> list[FileFacts]:
    worth = []
    for facts in some:
        size, media_type = facts.size, facts.media_type
        if size is None or size < _LEAST:
            continue
        if media_type is None:
            path = facts.address.path
            if _shrinks(path[path.rfind(".") :]):
                worth.append(facts)
        elif not is_compressed(media_type):
            worth.append(facts)
    return worth


@lru_cache(maxsize=1024)
def _shrinks(ending: str) -> bool:
    """Whether contents of files may shrink whose names end so; there are few endings, and many files."""
    media_type = media_type_by_name(ending)
    return media_type is None or not is_compressed(media_type)

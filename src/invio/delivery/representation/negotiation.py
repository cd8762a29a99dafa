"""Content negotiation: what a store found → the representation that this client gets of it.

Chosen here are the media type (by the name, else by the content), the coding (compressed where the
client takes it), the entity tag (by the content once its digest is known), and what the rules and
the settings say of caching and showing. A representation is kept for as long as the store finds the
file unaltered.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import lru_cache

from invio.core.addresses import Address
from invio.core.files import ANYONE, Caller
from invio.core.http.caching import PERSONAL, PINNED, USUAL
from invio.core.http.codings import ENDINGS, choose_coding, encoded_tag
from invio.core.http.cors import SAME_ORIGIN, CrossOrigin
from invio.core.http.digests import content_tag, wants_sha256
from invio.core.http.media_types import OCTETS, compresses, is_text, media_type_by_name
from invio.core.http.replies import Content, Part, Representation, Slice, Streamed
from invio.core.http.request_head import RequestHead
from invio.core.http.sniffing import SNIFFED, charset_of, sniffed_media_type
from invio.core.memory import Memory
from invio.core.readable import ContentChanged
from invio.core.reasons import Refusal
from invio.core.rules.terms import NO_TERMS, Terms
from invio.delivery.representation.codings import CODINGS, Compressed
from invio.delivery.representation.digests import AT_ONCE, Digests
from invio.delivery.representation.made_once import Productions
from invio.delivery.representation.presentation import Presentation
from invio.delivery.sending.eager import in_pool, in_thread
from invio.producers.room import Room
from invio.stores.sources import DiskFile, is_settled
from invio.stores.store import Found, Missing
from invio.workers.pool import PoolsByName

_REPRESENTATIONS = 4096  # that are kept


@dataclass(frozen=True, slots=True)
class Kind:
    """What a file is. `charset` is a text's, None when it is not known."""

    media_type: str
    charset: str | None


@dataclass(frozen=True, slots=True)
class Negotiated:
    """A representation, and what was found to make it of."""

    representation: Representation
    found: Found


class Negotiator:
    """Makes representations of found files."""

    def __init__(
        self,
        locate: Callable[[Address], Found],
        digests: Digests,
        cross_origin: CrossOrigin = SAME_ORIGIN,
        *,
        always_digest: bool = False,
        productions: Productions | None = None,
    ) -> None:
        """`locate` finds files, for what lies compressed beside one; it raises Missing.

        `always_digest`: have the digest of each file computed that is delivered, asked for or not.
        """
        self._locate = locate
        self._digests = digests
        self._cross_origin = cross_origin
        self._always_digest = always_digest
        self._productions = productions or Productions(Room())
        self._kept: Memory[tuple[object, ...], Negotiated] = Memory(_REPRESENTATIONS)
        self._pools = PoolsByName("kinds", 8, waiting=24)

    async def offer(
        self,
        head: RequestHead,
        found: Found,
        presentation: Presentation,
        terms: Terms = NO_TERMS,
        *,
        caller: Caller = ANYONE,
        kind: Kind | None = None,
    ) -> Negotiated:
        """The representation of a file for a request; `kind` is what it is, where the caller knows better.

        Raises:
            Refusal: `changed`, when the file was replaced while it was looked at; or as of `Productions.choose`.
        """
        coded = found.neighbours
        if found.made is not None:
            found, coded = await self._productions.choose(head, found, caller), True
        coding, chosen, varies = self._coded(head, found) if coded else (None, found, False)
        tag = chosen.facts.tag
        sha256 = chosen.facts.sha256 or self._digests.known(tag)
        if sha256 is None and tag is not None and (head.wants_digest or self._always_digest):
            sha256 = await self._wanted_digest(head, chosen.on_disk, tag)
        key = (found, chosen, coding, presentation, terms, sha256, kind)
        kept = None if found.passing else self._kept.get(key)
        if kept is None:
            if found.blocking is not None:  # it may have to be read, and another system may hang
                await in_pool(self._pools.of(found.facts.address.store), kind_of, found)
            kept = self._made(
                found, chosen, coding, varies=varies, presentation=presentation, terms=terms, sha256=sha256
            )
            if kind is not None:
                known = kept.representation
                charset = kind.charset or known.charset
                kept = Negotiated(replace(known, media_type=kind.media_type, charset=charset), chosen)
            if not found.passing:
                self._kept.keep(key, kept)
        return kept

    def _coded(self, head: RequestHead, found: Found) -> tuple[str | None, Found, bool]:
        """The coding for this client, what has the content in it, and whether others may get another."""
        if found.made is not None:
            if not compresses(kind_of(found).media_type):
                return None, found, False
            return choose_coding(head.get(b"accept-encoding"), CODINGS), found, True
        if not found.neighbours:
            return None, found, False
        beside = {coding: other for coding in ENDINGS if (other := self._beside(found, coding)) is not None}
        coding = choose_coding(head.get(b"accept-encoding"), tuple(beside))
        return coding, found if coding is None else beside[coding], bool(beside)

    def _beside(self, found: Found, coding: str) -> Found | None:
        """The same content in a coding, if it lies beside the file, is no older, and is not being written just now."""
        address = found.facts.address
        try:
            other = self._locate(Address(address.store, address.path + ENDINGS[coding]))
        except Missing:
            return None
        is_older = (other.facts.modified or 0) < (found.facts.modified or 0)
        return None if is_older or not is_settled(other.facts.modified) else other

    async def _wanted_digest(self, head: RequestHead, file: DiskFile | None, tag: str) -> bytes | None:
        if file is None:
            return None
        wanted = any(wants_sha256(head.get(name)) for name in (b"want-repr-digest", b"want-content-digest"))
        if wanted and file.size <= AT_ONCE:
            try:
                return await in_thread(self._digests.of, file, tag)
            except ContentChanged as error:
                raise Refusal("changed", str(error)) from None
        if wanted or self._always_digest:
            self._digests.ask(file, tag)
        return None

    def _made(
        self,
        found: Found,
        chosen: Found,
        coding: str | None,
        *,
        varies: bool,
        presentation: Presentation,
        terms: Terms,
        sha256: bytes | None,
    ) -> Negotiated:
        facts, made = chosen.facts, chosen.made
        kind = kind_of(found) if not found.passing else kind_of.__wrapped__(found)
        part: Part
        if made is not None:
            part = Streamed(made if coding is None else Compressed(made, coding))
        else:
            part = Slice(chosen.content, 0, chosen.content.size)
        vary = [name for name in ("accept-encoding" if varies else "", self._cross_origin.vary) if name]
        representation = Representation(
            content=Content([part]) if not found.passing else _PassingContent([part]),
            size=facts.size,
            tag=_tag(facts.tag, sha256, coding if made is not None else None),
            earlier_tag=None if sha256 is None else facts.tag,
            # §8.8.2.1: never later than the answer itself.
            modified=None if facts.modified is None else min(facts.modified, time.time()),
            media_type=kind.media_type,
            charset=kind.charset,
            name=presentation.name or found.facts.name or found.facts.address.name,
            disposition=presentation.disposition or terms.disposition,
            cache=_caching(presentation, terms, found),
            sealed=presentation.sealed,
            coding=coding,
            sha256=sha256,
            vary=", ".join(vary),
            resource_policy=self._cross_origin.resource_policy,
            resumable=made is not None and made.production is not None and coding is None,
            estimate=made.recipe.estimate if made is not None and made.recipe is not None and coding is None else None,
        )
        return Negotiated(representation, chosen)


class _PassingContent(Content):
    """A content that is dropped when nobody downloads it, so no reply with it is cached."""

    kept = False


def _tag(tag: str | None, sha256: bytes | None, coding: str | None) -> str | None:
    """The entity tag: by the content where its digest is known. What is coded on its way is other bytes."""
    if sha256 is not None:
        return content_tag(sha256)
    return tag if tag is None or coding is None else encoded_tag(tag, coding)


def _caching(presentation: Presentation, terms: Terms, found: Found) -> str:
    if found.personal:
        return PERSONAL
    # A version never changes; how large its renditions are, the settings say.
    pinned = presentation.version is not None and presentation.rendition is None
    return PINNED if pinned else terms.cache or USUAL


@lru_cache(maxsize=4 * _REPRESENTATIONS)
def kind_of(found: Found) -> Kind:
    """A file's type: from its store, from its name, or else from its first bytes.

    Raises:
        Refusal: `changed`, when the file was replaced after it was found.
    """
    address = found.facts.address
    known = found.facts.media_type or media_type_by_name(address.name)
    if found.made is not None or (known is not None and not is_text(known)):
        return Kind(known or OCTETS, "utf-8")
    begin = _begin(found)
    media_type = known or sniffed_media_type(begin)
    return Kind(media_type, charset_of(begin))


def _begin(found: Found) -> bytes:
    source = found.content
    try:
        return source.read(0, min(SNIFFED, source.size))
    except ContentChanged as error:
        raise Refusal("changed", f"{found.facts.address}: {error}") from None

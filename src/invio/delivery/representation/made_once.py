"""Which run of a producer a request gets: one under way, one that is kept, or a new one.

In the order in which it is looked:
1. A request that names a content by its tag (If-Range, If-Match) gets that content, for as long as it is there: what
   was cut off goes on with the same bytes.
2. A part without a tag is of the newest content there is, for what follows it will be asked for next.
3. Anybody else gets the newest content if it is still being made, or is kept for others (`keep`); else it is made anew.

A part of what is still being made waits until that is whole: only then its length is known, which an answer with a part
has to say (RFC 9110 §14.4).
"""

from __future__ import annotations

import threading
import time
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass

from invio.core.files import Caller
from invio.core.http.digests import content_tag
from invio.core.http.request_head import RequestHead
from invio.core.reasons import Refusal
from invio.producers.failures import NotProduced
from invio.producers.room import Room
from invio.producers.spooling import Production
from invio.stores.sources import Made, SpooledFile
from invio.stores.store import Found

# How long a complete content can be resumed after it expired for other callers. Seconds.
RESUMES_FOR = 120.0
_KEPT = 512  # contents that are kept open, at most
_SWEPT_EVERY = 1.0  # seconds
_BEGINS_WITHIN = 60.0  # seconds within which whoever asked has begun to obtain it, or is refused

Key = tuple[str, str | None]


@dataclass(frozen=True, slots=True)
class _Kept:
    """A run: what it makes, until when others may get it, and when it was requested."""

    key: Key
    production: Production
    keep: float
    at: float

    def good(self, now: float) -> bool:
        """Whether a new caller may get it."""
        one = self.production
        return one.failed is None and (not one.whole or now - one.ended < self.keep)

    def over(self, now: float) -> bool:
        """Whether it has expired for everyone."""
        one = self.production
        if one.whole:
            return now - one.ended > max(self.keep, RESUMES_FOR)
        return one.failed is not None or (not one.began and now - self.at > _BEGINS_WITHIN)


class Productions:
    """The runs of all producers of a process, by the tags of what they make; the newest last."""

    def __init__(
        self,
        room: Room,
        now: Callable[[], float] = time.monotonic,
        sleep: Callable[[float], None] = time.sleep,
    ) -> None:
        self._room, self._now, self._sleep = room, now, sleep
        room.gives_room = self.give_room
        self._kept: OrderedDict[str, _Kept] = OrderedDict()
        self._lock = threading.Lock()
        self._sweeps = False

    async def choose(self, head: RequestHead, found: Found, caller: Caller) -> Found:
        """The file as a request gets it: with the facts of a content that is whole, or that is being made.

        Raises:
            Refusal: `not-made`, `no-space` or `busy`.
        """
        made = found.made
        if made is None or made.recipe is None or made.pool is None:
            return found
        pool, key = made.pool, (str(found.facts.address), caller.recipient if made.recipe.personal else None)

        def anew() -> Production:
            return Production(made.of(caller).chunks, pool, self._room, caller.principal)  # type: ignore[arg-type]

        production = self._taken(head, key, made.recipe.keep, anew)
        if production is None:
            return found
        if head.method == "GET" and b"range" in head:
            try:
                await production.all()
            except NotProduced as error:
                raise Refusal(error.word, f"{found.facts.address}: {error}", retry_after=5) from None
        return found_of(found, made, production)

    def _taken(self, head: RequestHead, key: Key, keep: float, anew: Callable[[], Production]) -> Production | None:
        """A run that is there and fits the request, or else a new one; for a HEAD there is no new one."""
        with self._lock:
            now = self._now()
            kept = self._fitting(key, head, now)
            if kept is not None:
                return kept.production
            if head.method == "HEAD":
                return None
            production = anew()
            self._kept[production.tag] = _Kept(key, production, keep, now)
            while len(self._kept) > _KEPT:
                self._kept.popitem(last=False)
            sweeps, self._sweeps = self._sweeps, True
        if not sweeps:
            try:
                threading.Thread(target=self._sweep_regularly, name="productions", daemon=True).start()
            except RuntimeError:  # the system gives no thread: the next production may have one
                self._sweeps = False
        return production

    def _fitting(self, key: Key, head: RequestHead, now: float) -> _Kept | None:
        there = [one for one in reversed(self._kept.values()) if one.key == key and one.production.failed is None]
        named = [text for text in (head.get(b"if-range"), head.get(b"if-match")) if text is not None]
        for one in there:
            if any(_names(text, one.production) for text in named):
                return one
        if not there:
            return None
        good = there[0].good(now) or (b"range" in head and not named and not there[0].over(now))
        return there[0] if good else None

    def _sweep_regularly(self) -> None:
        while self.sweep():
            self._sleep(_SWEPT_EVERY)

    def sweep(self) -> bool:
        """Drops expired contents, which frees their disk space; whether any are left."""
        with self._lock:
            now = self._now()
            over = [self._kept.pop(tag) for tag in [tag for tag, one in self._kept.items() if one.over(now)]]
            self._sweeps = left = bool(self._kept)
        over.clear()  # not under the lock: large files take their time to close, and the event loop looks in here
        return left

    def give_room(self, whose: str | None = None) -> bool:
        """Drops one that is whole: the oldest that is kept for no new caller, or else the oldest.

        `whose`: of those that were made for this caller. Returns whether there was one. Those who obtain it have it to
        its end, and hold its room for as long.
        """
        with self._lock:
            now = self._now()
            whole = {tag: one for tag, one in self._kept.items() if one.production.whole}
            theirs = [tag for tag, one in whole.items() if whose is None or one.production.whose == whose]
            if not theirs:
                return False
            dropped = self._kept.pop(next((tag for tag in theirs if not whole[tag].good(now)), theirs[0]))
        whole.clear()
        del dropped  # not under the lock, as in `sweep`
        return True

    def close(self) -> None:
        """Drops all of them; runs under way end when nobody reads them."""
        with self._lock:
            self._kept.clear()


def found_of(found: Found, made: Made, production: Production) -> Found:
    """The file with the facts of a run: all of them, once it is whole."""
    facts = found.facts._replace(tag=production.tag)
    if not production.whole:
        return found._replace(
            facts=facts, source=Made(production.pieces, made.pool, made.recipe, production), passing=True
        )
    facts = facts._replace(size=production.length, modified=production.began, sha256=production.sha256)
    return found._replace(
        facts=facts, source=SpooledFile(production.descriptor(), production.length, production), passing=True
    )


def _names(text: str, production: Production) -> bool:
    """Whether a field names the content: by the tag it had from the first byte on, or by the one of its digest."""
    if f'"{production.tag}"' in text:
        return True
    return production.whole and f'"{content_tag(production.sha256)}"' in text

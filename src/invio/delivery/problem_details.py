"""Refusals as answers: problem details (RFC 9457), or for a browser a page that says the same."""

from __future__ import annotations

import json
import logging
from collections.abc import Iterable
from dataclasses import asdict, dataclass, replace
from typing import Any
from urllib.parse import quote

from invio.core.http.replies import Headers, Reply
from invio.core.reasons import Refusal
from invio.pages.rendering import SHIPPED, Renderer
from invio.stores.store import StoreFault

log = logging.getLogger("invio.delivery")


SIGN_IN_PAGE = "/sign-in"


@dataclass(frozen=True, slots=True)
class Pages:
    """What a service says besides a refusal: where one signs in (None: nowhere), and whom one may ask.

    `quota` and `refusal` are pages of the operator's own that people are sent to; `base` is what a page of another
    site is told that they wanted, before the path. `renderer` makes the pages that are the service's own.
    """

    sign_in: str | None = SIGN_IN_PAGE
    contact: str = ""
    contact_link: str = ""
    quota: str | None = None
    refusal: str | None = None
    base: str = ""
    renderer: Renderer = SHIPPED

    def below(self, root: str) -> Pages:
        """The same for a service that is offered below a path."""
        if not root or self.sign_in is None or not self.sign_in.startswith("/"):
            return self
        return replace(self, sign_in=root + self.sign_in)

    def elsewhere(self, refusal: Refusal, target: str, *, helps: bool) -> str | None:
        """Where somebody is sent instead of being shown a refusal, with where they wanted to go and why not."""
        word = refusal.reason.word
        if helps and target and self.sign_in:
            return _with(self.sign_in, then=self._seen_from(self.sign_in, target))
        own = self.quota if word == "quota" and self.quota else self.refusal
        if own is None:
            return None
        return _with(own, then=self._seen_from(own, target), reason=word)

    def _seen_from(self, page: str, target: str) -> str:
        """A path of the service, as a full URL for another site."""
        return target if page.startswith("/") else self.base + target


def _with(page: str, **given: str) -> str:
    query = "&".join(f"{name}={quote(value, safe='')}" for name, value in given.items())
    return f"{page}{'&' if '?' in page else '?'}{query}"


USUAL_PAGES = Pages()
_BARE = b"default-src 'none'; style-src 'unsafe-inline'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'"


def wants_page(accept: str | None) -> bool:
    """Whether the client prefers a page: browsers name `text/html`, programs do not."""
    return accept is not None and "text/html" in accept.lower()


def problem(refusal: Refusal, pages: Pages = USUAL_PAGES) -> dict[str, Any]:
    """The problem document; `names` lists the addresses that the refusal is about, `reasons` the rules' own."""
    document: dict[str, Any] = {
        "type": f"urn:invio:reason:{refusal.reason.word}",
        "title": refusal.reason.title,
        "status": refusal.reason.status,
        "detail": refusal.detail,
        "reason": refusal.reason.word,
    }
    if refusal.names:
        document["names"] = list(refusal.names)
    if refusal.text:
        document["text"] = refusal.text
    if refusal.link:
        document["link"] = refusal.link
    if pages.contact:
        document["contact"] = pages.contact
    if refusal.reasons:
        document["reasons"] = [asdict(reason) for reason in refusal.reasons]
    return document


_SAID = {
    "unreachable": "did not answer as expected",
    "no-answer": "did not answer in time",
    "busy": "is asked for as much as it can give at present",
}


def unreachable(fault: StoreFault) -> Refusal:
    """What callers learn about a store that does not answer; the details are for the operator."""
    log.error("store.failed", extra={"fields": {"error": str(fault)}})
    which = "the system that stores this file" if fault.store is None else f"the store {fault.store!r}"
    return Refusal(fault.word, f"{which} {_SAID[fault.word]}", retry_after=10)


def refusal_reply(
    refusal: Refusal,
    method: str,
    accept: str | None,
    target: str = "",
    pages: Pages = USUAL_PAGES,
    *,
    signed_in: bool = True,
) -> Reply:
    """The answer to a refused request; `target` is its path and query, to come back to from signing in.

    `signed_in`: somebody is, so that signing in does not help with what is for somebody else.
    """
    headers = _headers(refusal)
    if wants_page(accept):
        helps = refusal.reason.word == "sign-in" or (refusal.reason.word == "wrong-recipient" and not signed_in)
        where = pages.elsewhere(refusal, target, helps=helps)
        if where is not None:
            return _reply(303, [*headers, (b"location", where.encode())], b"", method)
        page = pages.renderer.render(
            "refusal.html", refusal=refusal, reason=refusal.reason, pages=pages, helps=refusal.reason.status == 401
        )
        headers += [(b"content-type", b"text/html; charset=utf-8"), (b"content-security-policy", _BARE)]
        return _reply(refusal.reason.status, headers, page.encode(), method)
    headers.append((b"content-type", b"application/problem+json"))
    return _reply(refusal.reason.status, headers, json.dumps(problem(refusal, pages)).encode(), method)


def _headers(refusal: Refusal) -> Headers:
    headers: Headers = [
        (b"cache-control", b"no-store"),
        (b"referrer-policy", b"no-referrer"),
        (b"x-content-type-options", b"nosniff"),
        (b"vary", b"accept"),
    ]
    if refusal.reason.status == 401:
        error = b', error="invalid_token"' if refusal.reason.word == "bad-token" else b""
        headers.append((b"www-authenticate", b'Bearer realm="invio"' + error))
    if refusal.allow:
        headers.append((b"allow", refusal.allow.encode()))
    if refusal.size is not None:
        headers.append((b"content-range", b"bytes */%d" % refusal.size))
    if refusal.reason.status in (429, 502, 503, 504):
        headers.append((b"retry-after", b"%d" % refusal.retry_after))
    return headers


def _reply(status: int, headers: Iterable[tuple[bytes, bytes]], body: bytes, method: str) -> Reply:
    complete = [*headers, (b"content-length", b"%d" % len(body))]
    return Reply(status, complete, [] if method == "HEAD" else [body], len(body))

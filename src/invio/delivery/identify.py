"""Identify: a request's head → the caller. Bearer token, session cookie, or anonymous."""

from __future__ import annotations

import time
from collections.abc import Callable
from http.cookies import CookieError, SimpleCookie
from typing import Any, Protocol

import sqlalchemy as sa
from starlette.concurrency import run_in_threadpool

from invio.core.files import Caller
from invio.core.reasons import Refusal
from invio.core.request_head import RequestHead
from invio.records.recipients import Recipient, recipient_of_session, recipient_of_token

COOKIE = "invio-session"
# How long another process may go on honouring a credential that was ended. Seconds.
_KEPT = 2.0
_KEPT_COUNT = 4096
_NO_GROUPS: frozenset[str] = frozenset()


class Identifies(Protocol):
    """Who tells who is asking: the records of a service, or the application that Invio is part of."""

    async def identify(self, head: RequestHead, network: str | None, scope: Any) -> Caller:
        """The caller of a request that came from `network`."""
        ...

    def forget(self, secret: str) -> None:
        """Drops what is remembered of a session that ended."""
        ...


class Identifier:
    """Looks credentials up in the records, and remembers the answer for two seconds."""

    def __init__(self, engine: sa.Engine) -> None:
        self._engine = engine
        self._kept: dict[tuple[str, str], tuple[float, Recipient | None]] = {}

    async def identify(self, head: RequestHead, network: str | None, scope: Any = None) -> Caller:  # noqa: ARG002
        """The caller of a request; `network` is the address it came from.

        Raises:
            Refusal: `bad-token`, when a token was sent that is none. A session that is over
                makes its holder anonymous.
        """
        agent = head.get(b"user-agent") or ""
        authorization = head.get(b"authorization")
        if authorization is not None:
            scheme, _, token = authorization.partition(" ")
            recipient = None
            if scheme.lower() == "bearer":
                recipient = await self._look_up("token", token.strip(), recipient_of_token)
            if recipient is None:
                raise Refusal("bad-token", "the Authorization header holds no valid bearer token")
            return Caller(recipient.id, recipient.groups, network, agent)
        secret = session_secret(head)
        if secret is not None:
            recipient = await self._look_up("session", secret, recipient_of_session)
            if recipient is not None:
                return Caller(recipient.id, recipient.groups, network, agent, session=True)
        return Caller(None, _NO_GROUPS, network, agent)

    def forget(self, secret: str) -> None:
        """Drops what is remembered of a session that ended here."""
        self._kept.pop(("session", secret), None)

    async def _look_up(
        self, kind: str, secret: str, query: Callable[[sa.Connection, str], Recipient | None]
    ) -> Recipient | None:
        now = time.monotonic()
        kept = self._kept.get((kind, secret))
        if kept is not None and now - kept[0] < _KEPT:
            return kept[1]
        recipient = await run_in_threadpool(self._read, query, secret)
        if len(self._kept) >= _KEPT_COUNT:
            self._kept.clear()
        self._kept[kind, secret] = (now, recipient)
        return recipient

    def _read(self, query: Callable[[sa.Connection, str], Recipient | None], secret: str) -> Recipient | None:
        with self._engine.connect() as connection:
            return query(connection, secret)


def session_secret(head: RequestHead) -> str | None:
    """What the session cookie holds; None without one."""
    field = head.get(b"cookie")
    if field is None:
        return None
    try:
        morsel = SimpleCookie(field).get(COOKIE)
    except CookieError:
        return None
    return morsel.value if morsel is not None else None


def check_same_site(head: RequestHead, caller: Caller) -> None:
    """Refuses a change that a browser sends with its cookie on behalf of another site.

    The cookie is SameSite=Strict already; this holds for browsers that know no such thing, and
    for other ports of the same host, which are the same site.

    Raises:
        Refusal: `cross-site`.
    """
    if not caller.session or head.method in ("GET", "HEAD", "OPTIONS"):
        return
    site = head.get(b"sec-fetch-site")
    origin = head.get(b"origin")
    if site is not None:
        fits = site in ("same-origin", "none")
    else:
        fits = origin is not None and origin.partition("://")[2] == head.get(b"host")
    if not fits:
        raise Refusal("cross-site", "a change made with the session cookie must come from this service's own pages")

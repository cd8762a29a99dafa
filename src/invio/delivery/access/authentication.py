"""Authentication: a request's head → the caller. Bearer token, session cookie, or anonymous."""

from __future__ import annotations

import hashlib
import logging
import time
from collections.abc import Callable
from dataclasses import replace
from functools import lru_cache, partial
from typing import Any, Protocol, cast

import sqlalchemy as sa

from invio.core.files import Caller
from invio.core.http.cookies import cookie_named
from invio.core.http.request_head import RequestHead
from invio.core.memory import ExpiringMemory
from invio.core.reasons import Refusal
from invio.delivery.sending.eager import ensure_task
from invio.records.database import write
from invio.records.recipients import (
    Recipient,
    note_use,
    recipient_named,
    recipient_of_session,
    recipient_of_token,
    why_refused,
)
from invio.workers.pool import DeadlinePassed, Pool, PoolBusy

log = logging.getLogger("invio.delivery")

COOKIE = "invio-session"
# How long another process may go on honouring a credential that was ended. Seconds.
_GOOD_FOR = 1.0
_KNOWN = 4096  # credentials
_UNKNOWN = object()
_NOTED = 60.0  # seconds
_LONGEST_TOKEN = 16 * 1024  # characters
_NO_GROUPS: frozenset[str] = frozenset()


class Authenticator(Protocol):
    """Who tells who is asking: the records of a service, or the application that Invio is part of."""

    async def identify(self, head: RequestHead, network: str | None, scope: Any) -> Caller:
        """The caller of a request that came from `network`."""
        ...

    def known(self, head: RequestHead, network: str | None) -> Caller | None:
        """Like `identify`, when the answer is cached; else None."""
        ...

    def forget(self, secret: str) -> None:
        """Removes a session that ended from the cache."""
        ...

    def forget_all(self) -> None:
        """Clears the cache: recipients or their tokens have changed."""
        ...


class ReadsTokens(Protocol):
    """Reads tokens that an identity provider issued."""

    def recognises(self, token: str) -> bool:
        """Whether a token is of theirs, good or not."""
        ...

    def recipient_of(self, token: str) -> Recipient | str:
        """The recipient a valid token names, or what is wrong with it, in words. Called in a worker thread."""
        ...


class Identifier:
    """Looks credentials up in the records, and caches the answer for two seconds."""

    def __init__(
        self,
        engine: sa.Engine,
        provider: ReadsTokens | None = None,
        pool: Pool | None = None,
        provider_pool: Pool | None = None,
    ) -> None:
        """`pool` looks into the records; `provider_pool` reads the tokens of a provider, which may not answer."""
        self._engine = engine
        self._pool = pool or Pool("identification", 4, waiting=2000, deadline=30.0)
        self._provider_pool = provider_pool or self._pool
        self._provider = provider
        # A text says what is wrong with a token.
        self._known: ExpiringMemory[tuple[str, str], Recipient | str | None] = ExpiringMemory(_KNOWN, _GOOD_FOR)
        self._noted: ExpiringMemory[str, bool] = ExpiringMemory(_KNOWN, _NOTED)  # tokens whose use was written down

    async def identify(self, head: RequestHead, network: str | None, scope: Any = None) -> Caller:  # noqa: ARG002
        """The caller of a request; `network` is the address it came from.

        Raises:
            Refusal: `bad-token`, with what is wrong with it, when a token was sent that does not hold. A session
                that is over makes its holder anonymous.
        """
        agent = head.get(b"user-agent") or ""
        authorization = head.get(b"authorization")
        if authorization is not None:
            scheme, _, token = authorization.partition(" ")
            if scheme.lower() != "bearer" or len(token) > _LONGEST_TOKEN:
                raise Refusal("bad-token", "the Authorization header is not 'Bearer' and an access token")
            held = await self._of_bearer(token.strip())
            if not isinstance(held, Recipient):
                raise Refusal("bad-token", held or "this is no access token")
            return _bearer(held, head, network)
        secret = session_secret(head)
        if secret is not None:
            recipient = await self._look_up("session", secret, partial(self._read, recipient_of_session), self._pool)
            if isinstance(recipient, Recipient):
                return Caller(
                    recipient.id, recipient.groups, network, agent, session=True, credential=recipient.credential
                )
        return _anonymous(network, agent)

    def known(self, head: RequestHead, network: str | None) -> Caller | None:
        """A caller without credentials, or one whose token was valid a moment ago."""
        authorization = head.get(b"authorization")
        if authorization is None:
            return None if b"cookie" in head else _anonymous(network, head.get(b"user-agent") or "")
        scheme, _, token = authorization.partition(" ")
        recipient = self._known.fresh(("token", _key_of(token.strip())), time.monotonic(), None)
        return (
            _bearer(recipient, head, network) if type(recipient) is Recipient and scheme.lower() == "bearer" else None
        )

    def forget(self, secret: str) -> None:
        """Drops what is remembered of a session that ended here."""
        self._known.pop(("session", _key_of(secret)), None)

    def forget_all(self) -> None:
        """Drops what is remembered of anybody."""
        self._known.clear()

    async def _of_bearer(self, token: str) -> Recipient | str | None:
        if self._provider is not None and self._provider.recognises(token):
            return await self._look_up("token", token, partial(self._of_provider, self._provider), self._provider_pool)
        return await self._look_up("token", token, partial(self._read, self._of_token), self._pool)

    async def _look_up(
        self, kind: str, secret: str, look: Callable[[str], Recipient | str | None], pool: Pool
    ) -> Recipient | str | None:
        now, key = time.monotonic(), (kind, _key_of(secret))
        known = self._known.fresh(key, now, _UNKNOWN)
        if known is not _UNKNOWN:
            return cast(Recipient | str | None, known)
        await ensure_task()
        try:
            recipient = await pool.run(look, secret)
        except (PoolBusy, DeadlinePassed):
            raise Refusal("busy", "too many sign-ins are being checked; try again in a moment", retry_after=1) from None
        return self._known.keep_at(key, recipient, now)

    def _read(
        self, query: Callable[[sa.Connection, str], Recipient | str | None], secret: str
    ) -> Recipient | str | None:
        with self._engine.connect() as connection:
            return query(connection, secret)

    def _of_token(self, connection: sa.Connection, token: str) -> Recipient | str:
        recipient = recipient_of_token(connection, token)
        if recipient is None:
            return why_refused(connection, token)
        self._note_use(token)
        return recipient

    def _of_provider(self, provider: ReadsTokens, token: str) -> Recipient | str:
        named = provider.recipient_of(token)  # which may be waited for, and so without a connection to the records
        if isinstance(named, str):
            return named
        # Somebody may be known here as well: to be in further groups, or to be disabled.
        with self._engine.connect() as connection:
            known = recipient_named(connection, named.id)
        if known is None:
            return named
        if known.disabled:
            return f"{known.id} is disabled and cannot sign in; ask an administrator"
        return replace(named, groups=named.groups | known.groups)

    def _note_use(self, token: str) -> None:
        now = time.monotonic()
        if self._noted.fresh(token, now, default=False):
            return
        self._noted.keep_at(token, value=True, now=now)
        try:
            with write(self._engine).begin() as connection:
                note_use(connection, token)
        except sa.exc.SQLAlchemyError:
            log.warning("records.use-not-noted")  # nobody is kept from anything by it


def _anonymous(network: str | None, agent: str) -> Caller:
    """Somebody without credentials."""
    return _kept_anonymous(network, agent) if len(agent) <= 300 else Caller(None, _NO_GROUPS, network, agent)


@lru_cache(maxsize=256)
def _kept_anonymous(network: str | None, agent: str) -> Caller:
    return Caller(None, _NO_GROUPS, network, agent)


def _key_of(secret: str) -> str:
    """The cache key of a secret: itself, or the digest of a long one, so that strangers cannot fill the memory."""
    return secret if len(secret) <= 100 else hashlib.sha256(secret.encode("utf-8", "surrogateescape")).hexdigest()


def _bearer(recipient: Recipient, head: RequestHead, network: str | None) -> Caller:
    agent = head.get(b"user-agent") or ""
    return Caller(recipient.id, recipient.groups, network, agent, credential=recipient.credential)


def session_secret(head: RequestHead) -> str | None:
    """What the session cookie holds; None without one."""
    field = head.get(b"cookie")
    return None if field is None else cookie_named(field, COOKIE)


def check_same_site(head: RequestHead, caller: Caller) -> None:
    """Refuses a change that a browser sends with its cookie on behalf of another site.

    The cookie is SameSite=Strict already; this holds for browsers that know no such thing, and
    for other ports of the same host, which are the same site.

    Raises:
        Refusal: `cross-site`.
    """
    if caller.session and head.method not in ("GET", "HEAD", "OPTIONS"):
        check_own_site(head)


def check_own_site(head: RequestHead) -> None:
    """Refuses a request that a browser does not send from the service's own pages. Raises Refusal (`cross-site`)."""
    site = head.get(b"sec-fetch-site")
    origin = head.get(b"origin")
    if site is not None:
        fits = site in ("same-origin", "none")
    else:
        fits = origin is not None and origin.partition("://")[2] == head.get(b"host")
    if not fits:
        raise Refusal(
            "cross-site",
            "a request with the session cookie that changes something must come from this service's own pages",
        )

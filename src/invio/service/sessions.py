"""Signing in to the console: a token or a password becomes a session, kept by the browser in a cookie."""

from __future__ import annotations

import math
from dataclasses import replace

from fastapi import Request, Response

from invio.core.files import Caller
from invio.core.http.cookies import cookie_named
from invio.core.http.request_head import RequestHead
from invio.core.reasons import Refusal
from invio.core.sign_ins import Counter, password_counters, token_counters
from invio.delivery.access.authentication import COOKIE, session_secret
from invio.records.recipients import (
    Recipient,
    close_session,
    open_session,
    password_of,
    recipient_named,
    recipient_of_token,
    why_refused,
)
from invio.records.sign_ins import DEVICE_LIFE, MustWait, attempt, device_of, know_device, succeeded
from invio.service.assembly import Parts
from invio.service.dependencies import TheCaller, TheParts, administers, head_of
from invio.service.guard import DEVICE
from invio.service.passwords import is_password
from invio.service.people_schemas import Me, SignIn
from invio.service.routes import Routes
from invio.workers.pool import PoolBusy

routes = Routes("sessions")


@routes.post("/api/sessions", status_code=201, summary="Sign in")
async def sign_in(asked: SignIn, request: Request, response: Response, parts: TheParts) -> Me:
    """Signs in by a token, or by a recipient's id and password: creates a session and sets its cookie.

    The cookie is `HttpOnly` and `SameSite=Strict`, and lasts 12 hours, or until the token ends. After some failures the
    next attempt must wait, per account and per network. A device that signed in to the account before is counted by
    itself, and a valid token never waits.
    """
    return await begin_session(asked, request, response, parts)


async def begin_session(asked: SignIn, request: Request, response: Response, parts: Parts) -> Me:
    """Makes a session, and sets its cookie in the response. Raises Refusal."""
    head = head_of(request)
    network = parts.way.front.network(request.client.host if request.client else None, head)
    recipient = await (_by_token(asked, parts, network) if asked.token else _by_password(asked, head, parts, network))
    token = None if asked.token is None else asked.token.strip()
    session = await parts.journal.call(lambda connection: open_session(connection, recipient.id, token))
    caller = Caller(recipient.id, recipient.groups, network, credential=recipient.credential)
    if session is None:
        raise Refusal("bad-token", "the access token was revoked just now")
    parts.audit("sign-in.done", caller)
    secure = is_secure(request, parts)
    response.set_cookie(
        COOKIE, session.secret, max_age=session.seconds, httponly=True, samesite="strict", secure=secure
    )
    if token is None:
        known = cookie_named(head.get(b"cookie") or "", DEVICE)
        secret = await parts.journal.call(lambda connection: know_device(connection, recipient.id, known))
        response.set_cookie(DEVICE, secret, max_age=DEVICE_LIFE, httponly=True, samesite="strict", secure=secure)
    return Me(recipient=recipient.id, groups=sorted(recipient.groups), administers=await administers(parts, caller))


async def _by_token(asked: SignIn, parts: Parts, network: str | None) -> Recipient:
    """Whose token it is; a good one is always looked at. Raises Refusal."""
    token = str(asked.token).strip()

    def look_up() -> Recipient | str:
        with parts.engine.connect() as connection:
            return recipient_of_token(connection, token) or why_refused(connection, token)

    recipient = await parts.pools.identification.run(look_up)
    if isinstance(recipient, Recipient):
        return recipient
    await count_attempt(parts, token_counters(network), network, None)
    raise Refusal("bad-token", recipient)


async def _by_password(asked: SignIn, head: RequestHead, parts: Parts, network: str | None) -> Recipient:
    """Whose password it is. Raises Refusal."""
    name, secret = str(asked.recipient), cookie_named(head.get(b"cookie") or "", DEVICE)

    def look_up() -> tuple[Recipient | None, str | None, str | None]:
        with parts.engine.connect() as connection:
            device = None if secret is None else device_of(connection, secret, name)
            return recipient_named(connection, name), password_of(connection, name), device

    recipient, kept, device = await parts.pools.identification.run(look_up)
    counters = password_counters(name, network, device)
    await count_attempt(parts, counters, network, name)
    try:
        fits = await parts.pools.passwords.run(is_password, kept, str(asked.password))
    except PoolBusy:
        raise Refusal("busy", "too many sign-ins are being checked; try again in a moment", retry_after=2) from None
    if not fits or recipient is None:
        raise Refusal("bad-token", "the recipient or the password is wrong")
    await parts.journal.call(lambda connection: succeeded(connection, counters))
    return replace(recipient, credential="password")


async def count_attempt(parts: Parts, counters: list[Counter], network: str | None, name: str | None) -> None:
    """Counts an attempt. Raises Refusal (`slow-down`)."""
    caller = Caller(None, frozenset(), network)
    try:
        await parts.journal.call(lambda connection: attempt(connection, counters))
    except MustWait as wait:
        parts.audit("sign-in.slowed", caller, recipient=name)
        seconds = math.ceil(wait.seconds)
        said = f"too many sign-ins failed; the next one is looked at in {seconds} s"
        raise Refusal("slow-down", said, retry_after=seconds) from None
    parts.audit("sign-in.attempt", caller, recipient=name)


def is_secure(request: Request, parts: Parts) -> bool:
    """Whether the browser came by TLS: to this service, to its public address, or to the front server."""
    if request.url.scheme == "https" or (parts.settings.service.public_url or "").startswith("https:"):
        return True
    peer = request.client.host if request.client else None
    return parts.way.front.scheme(peer, head_of(request)) == "https"


@routes.get("/api/sessions/current", summary="Who am I")
async def current(caller: TheCaller, parts: TheParts) -> Me:
    """The caller, by token or session; `recipient` is null without either."""
    return Me(recipient=caller.recipient, groups=sorted(caller.groups), administers=await administers(parts, caller))


@routes.delete("/api/sessions/current", status_code=204, summary="Sign out")
async def sign_out(request: Request, response: Response, caller: TheCaller, parts: TheParts) -> None:
    """Ends the session of the cookie, if there is one."""
    await end_session(caller, request, response, parts)


async def end_session(caller: Caller, request: Request, response: Response, parts: Parts) -> None:
    """Ends the session of a request, and has the browser forget its cookie."""
    secret = session_secret(head_of(request))
    if secret is not None:
        await parts.journal.call(lambda connection: close_session(connection, secret))
        parts.identifier.forget(secret)
        parts.audit("sign-out", caller)
    response.delete_cookie(COOKIE)

"""Signing in to the console: a token or a password becomes a session, kept by the browser in a cookie."""

from __future__ import annotations

from fastapi import APIRouter, Request, Response
from starlette.concurrency import run_in_threadpool

from invio.core.files import Caller
from invio.core.reasons import Refusal
from invio.delivery.identify import COOKIE, session_secret
from invio.records.recipients import (
    close_session,
    open_session,
    password_of,
    recipient_named,
    recipient_of_token,
)
from invio.service.asking import TheCaller, TheParts, head_of, manages
from invio.service.passwords import is_password
from invio.service.shapes import Me, SignIn

router = APIRouter(tags=["sessions"])


@router.post("/api/sessions", status_code=201, summary="Sign in")
async def sign_in(asked: SignIn, request: Request, response: Response, parts: TheParts) -> Me:
    """By a token, or by a recipient's id and password.

    Makes a session and sets its cookie: `HttpOnly`, `SameSite=Strict`, for 12 hours, or until the token ends.

    After five failures from one network address, each further one makes the next attempt wait longer.
    """
    network = parts.way.front.network(request.client.host if request.client else None, head_of(request))
    parts.attempts.check(network)

    token = None if asked.token is None else asked.token.strip()

    def look_up() -> Me | None:
        with parts.engine.connect() as connection:
            if token is not None:
                recipient = recipient_of_token(connection, token)
            else:
                recipient = recipient_named(connection, str(asked.recipient))
                kept = password_of(connection, str(asked.recipient))
        if asked.password is not None and not is_password(kept, asked.password):
            return None
        if recipient is None:
            return None
        may = manages(parts, Caller(recipient.id, recipient.groups, network))
        return Me(recipient=recipient.id, groups=sorted(recipient.groups), manages=may)

    me = await run_in_threadpool(look_up)
    session = None
    if me is not None:
        recipient = str(me.recipient)
        session = await parts.journal.call(lambda connection: open_session(connection, recipient, token))
    if me is None or session is None:
        parts.attempts.failed(network)
        given = "a token of a recipient" if asked.token is not None else "the password of such a recipient"
        raise Refusal("bad-token", f"this is not {given} here")
    parts.attempts.succeeded(network)
    response.set_cookie(
        COOKIE,
        session.secret,
        max_age=session.seconds,
        httponly=True,
        samesite="strict",
        secure=request.url.scheme == "https",
    )
    return me


@router.get("/api/sessions/current", summary="Who am I")
def current(caller: TheCaller, parts: TheParts) -> Me:
    """The caller, by token or by session; `recipient` is null without either."""
    return Me(recipient=caller.recipient, groups=sorted(caller.groups), manages=manages(parts, caller))


@router.delete("/api/sessions/current", status_code=204, summary="Sign out")
async def sign_out(request: Request, response: Response, caller: TheCaller, parts: TheParts) -> None:
    """Ends the session of the cookie, if there is one."""
    secret = session_secret(head_of(request))
    if secret is not None:
        await parts.journal.call(lambda connection: close_session(connection, secret))
        parts.identifier.forget(secret)
    response.delete_cookie(COOKIE)

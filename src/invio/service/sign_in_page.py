"""Signing in and out by plain forms, and back to where one came from; and the service's first page."""

from __future__ import annotations

from typing import Annotated

from fastapi import Form, Query, Request, Response

from invio.core.files import ANYONE
from invio.core.reasons import Refusal
from invio.delivery.access.authentication import check_own_site
from invio.service.dependencies import TheCaller, TheParts, head_of
from invio.service.page_parts import local, page, root_of
from invio.service.people_schemas import SignIn
from invio.service.routes import Routes
from invio.service.sessions import begin_session, end_session

routes = Routes(in_description=False)
_Given = Annotated[str, Form(max_length=4096)]


@routes.get("/sign-in")
async def sign_in_page(
    *,
    request: Request,
    parts: TheParts,
    then: Annotated[str, Query(max_length=8192)] = "",
    out: Annotated[bool, Query()] = False,
) -> Response:
    """The sign-in form; `then` is the page to return to."""
    return page(request, parts, "sign_in.html", ANYONE, then=then, refusal=None, recipient="", signed_out=out)


@routes.post("/sign-in")
async def sign_in(
    *,
    request: Request,
    parts: TheParts,
    recipient: _Given = "",
    password: _Given = "",
    token: _Given = "",
    then: Annotated[str, Form(max_length=8192)] = "",
) -> Response:
    """Creates a session, as the console does, and redirects back."""
    head = head_of(request)
    if b"sec-fetch-site" in head or b"origin" in head:  # which browsers send, and programs do not
        check_own_site(head)
    try:
        if token.strip():
            asked = SignIn(token=token)
        elif recipient.strip() and password:
            asked = SignIn(recipient=recipient.strip(), password=password)
        else:
            raise Refusal("bad-token", "give your name and your password, or an access token")
        response = Response(status_code=303, headers={"Location": local(then, root_of(request))})
        await begin_session(asked, request, response, parts)
    except Refusal as refusal:
        filled = {"then": then, "refusal": refusal, "recipient": recipient, "signed_out": False}
        response = page(request, parts, "sign_in.html", ANYONE, status=refusal.reason.status, **filled)
        if refusal.reason.status == 429:
            response.headers["Retry-After"] = str(refusal.retry_after)
    return response


@routes.post("/sign-out")
async def sign_out(request: Request, caller: TheCaller, parts: TheParts) -> Response:
    """Ends the session."""
    response = Response(status_code=303, headers={"Location": f"{root_of(request)}/sign-in?out=1"})
    await end_session(caller, request, response, parts)
    return response


@routes.get("/")
async def start_page(request: Request, caller: TheCaller, parts: TheParts) -> Response:
    """Redirects to the console, and without scripts to the listing pages."""
    return page(request, parts, "start.html", caller)

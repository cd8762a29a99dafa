"""What the service's own pages share: how they are answered, and where people are sent from them."""

from __future__ import annotations

from urllib.parse import quote, urlsplit

from fastapi import Request, Response

from invio.core.files import Caller
from invio.pages.rendering import POLICY
from invio.service.assembly import Parts

_HEADERS = {
    "Content-Security-Policy": POLICY,
    "Referrer-Policy": "no-referrer",
    "Cross-Origin-Resource-Policy": "same-origin",
}


def root_of(request: Request) -> str:
    """The path below which the service is offered; empty at the root."""
    root: str = request.scope.get("root_path", "")
    return root


def here_of(request: Request) -> str:
    """The path and query that were asked for, as they were sent."""
    query = request.scope["query_string"].decode("latin-1")
    path = (request.scope.get("raw_path") or request.scope["path"].encode()).decode("latin-1")
    return f"{path}?{query}" if query else path


def page(
    request: Request, parts: Parts, template: str, caller: Caller, *, status: int = 200, **filled: object
) -> Response:
    """A page, with who is signed in at its head."""
    root = root_of(request)
    sign_in = parts.way.pages.below(root).sign_in
    text = parts.way.pages.renderer.render(
        template,
        root=root,
        person=caller.recipient if caller.session else None,
        person_known=sign_in is not None,
        sign_in_href=f"{sign_in}?then={quote(here_of(request), safe='')}",
        **filled,
    )
    return Response(text, status, _HEADERS, "text/html; charset=utf-8")


def local(target: str, root: str) -> str:
    """Where somebody wanted to go, if that is on this service; else its first page.

    A path alone: neither another host (two slashes, or one of them a backslash) nor another scheme.
    """
    plain = target.startswith("/") and not target.startswith(("//", "/\\")) and "\\" not in target
    if not plain or any(ord(mark) <= 0x20 or ord(mark) == 0x7F for mark in target) or urlsplit(target).netloc:
        return f"{root}/files/"
    return target

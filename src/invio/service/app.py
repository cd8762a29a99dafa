"""The service as one ASGI application: the delivery and the console as they are, the rest by FastAPI."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Awaitable, Callable
from contextlib import asynccontextmanager, suppress
from typing import Any

from fastapi import FastAPI, Request, Response
from fastapi.exceptions import RequestValidationError
from starlette.exceptions import HTTPException

from invio import __version__
from invio.core.reasons import Refusal
from invio.delivery import way
from invio.delivery.refusals import refusal_reply
from invio.service import bundles, console, decisions, files, links, operators, sessions, transfers
from invio.service.assembly import Parts
from invio.service.description import described

ASGI = Callable[[Any, Any, Any], Awaitable[None]]


class Service:
    """The ASGI application that a server runs."""

    def __init__(self, parts: Parts) -> None:
        self.api = make_api(parts)
        self._delivery = parts.delivery
        self._console = console.Console()

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        app: ASGI = self.api
        if scope["type"] == "http":
            path: str = scope["path"]
            if path.startswith(way.PREFIX):
                app = self._delivery
            elif path.startswith(console.PREFIX) or path == console.API_PAGE:
                app = self._console
        await app(scope, receive, send)


def make_api(parts: Parts | None) -> FastAPI:
    """The FastAPI application: everything but the delivery and the console. None: for its description alone."""

    @asynccontextmanager
    async def lifespan(app: FastAPI) -> AsyncIterator[None]:
        assert parts is not None
        noting = asyncio.create_task(parts.transfers.note_progress())
        yield
        noting.cancel()
        with suppress(asyncio.CancelledError):
            await noting
        await asyncio.to_thread(parts.close)

    api = FastAPI(
        title="Invio",
        version=__version__,
        description="Delivers files: by address, by sealed link, and as bundles.",
        docs_url=None,
        redoc_url=None,
        openapi_url="/api/openapi.json",
        lifespan=lifespan,
    )
    api.state.parts = parts
    for module in (files, bundles, links, decisions, transfers, sessions, operators):
        api.include_router(module.router)
    api.add_api_route("/", _to_console, include_in_schema=False)
    api.add_api_route("/console", _to_console, include_in_schema=False)
    api.add_exception_handler(Refusal, _refused)
    api.add_exception_handler(RequestValidationError, _not_valid)
    api.add_exception_handler(HTTPException, _http_error)
    described(api)
    return api


async def _to_console() -> Response:
    return Response(status_code=303, headers={"Location": console.PREFIX})


async def _refused(request: Request, error: Exception) -> Response:
    assert isinstance(error, Refusal)
    # A page sends the browser to sign in and back; what was posted would not come back with it.
    target = request.url.path if request.method == "GET" else ""
    reply = refusal_reply(error, request.method, request.headers.get("accept"), target)
    body = b"".join(part for part in reply.parts if isinstance(part, bytes))
    response = Response(body, reply.status)
    response.raw_headers = reply.headers
    return response


async def _not_valid(request: Request, error: Exception) -> Response:
    assert isinstance(error, RequestValidationError)
    said = "; ".join(f"{'.'.join(str(part) for part in item['loc'])}: {item['msg']}" for item in error.errors())
    return await _refused(request, Refusal("bad-request", said))


async def _http_error(request: Request, error: Exception) -> Response:
    assert isinstance(error, HTTPException)
    if error.status_code == 405:
        allow = (error.headers or {}).get("Allow", "")
        return await _refused(request, Refusal("wrong-method", f"use {allow}" if allow else "", allow=allow))
    word = {404: "missing", 413: "too-large"}.get(error.status_code, "bad-request")
    return await _refused(request, Refusal(word, str(error.detail)))

"""The service as one ASGI application: the delivery and the console as they are, the rest by FastAPI."""

from __future__ import annotations

import asyncio
import logging
import threading
import time
from collections.abc import AsyncIterator, Awaitable, Sequence
from contextlib import asynccontextmanager
from functools import partial
from types import ModuleType
from typing import Any

from fastapi import FastAPI, Request, Response
from fastapi.exceptions import RequestValidationError
from starlette.exceptions import HTTPException

from invio import __version__
from invio.core.reasons import Refusal
from invio.core.request_head import RequestHead
from invio.delivery.answers import PREFIX as FILES
from invio.delivery.refusals import USUAL_PAGES, refusal_reply, unreachable
from invio.delivery.turns import in_a_task
from invio.records.history import forget
from invio.service import (
    bundles,
    console,
    decisions,
    files,
    history,
    links,
    operators,
    putting,
    quotas,
    recipients,
    rules,
    sessions,
    transfers,
)
from invio.service.assembly import Parts
from invio.service.description import described
from invio.stores.store import StoreFault

log = logging.getLogger("invio.service")
_ROUTERS = (
    files,
    putting,
    bundles,
    links,
    decisions,
    rules,
    recipients,
    quotas,
    history,
    transfers,
    sessions,
    operators,
)
# What is left inside an application: it decides, signs people in and is watched over by itself.
_MOUNTED = (files, putting, bundles, transfers)

_LONG = 256 * 1024  # bytes
_METHODS = "GET, HEAD, POST, PUT, DELETE"


class Service:
    """The ASGI application that a server runs."""

    # The delivery needs no task until it has to wait; the rest is given one.
    begins_at_once = True

    def __init__(self, parts: Parts, mounted: bool = False) -> None:
        """`mounted`: inside somebody's own application, which signs people in and has its own pages."""
        self.api = make_api(parts, _MOUNTED if mounted else _ROUTERS)
        self._delivery = parts.delivery
        self._console = None if mounted else console.Console()
        self._cross_origin = parts.way.cross_origin

    def __call__(self, scope: Any, receive: Any, send: Any) -> Awaitable[None]:
        if scope["type"] != "http":
            return self.api(scope, receive, send)
        path: str = scope["path"].removeprefix(scope.get("root_path", ""))
        if path.startswith(FILES):
            return self._delivery(scope, receive, send)
        return self._pages(path, scope, receive, send)

    async def _pages(self, path: str, scope: Any, receive: Any, send: Any) -> None:
        await in_a_task()
        if self._console is not None and (path.startswith(console.PREFIX) or path == console.API_PAGE):
            await self._console(scope, receive, send)
        else:
            await self._shared(scope, receive, send)

    async def _shared(self, scope: Any, receive: Any, send: Any) -> None:
        """The API, with what pages of other origins need to read it, if the settings let them."""
        cross_origin = self._cross_origin
        if not cross_origin.origins:
            await self.api(scope, receive, send)
            return
        head = RequestHead(scope["method"], scope["headers"])
        granted = cross_origin.preflight(head, _METHODS)
        if head.method == "OPTIONS" and granted:
            await send({"type": "http.response.start", "status": 204, "headers": [*granted, (b"vary", b"origin")]})
            await send({"type": "http.response.body"})
            return

        async def with_fields(message: Any) -> None:
            if message["type"] == "http.response.start":
                message = {**message, "headers": cross_origin.added_to(list(message["headers"]), head)}
            await send(message)

        await self.api(scope, receive, with_fields)


def make_api(parts: Parts | None, modules: Sequence[ModuleType] = _ROUTERS) -> FastAPI:
    """The FastAPI application: everything but the delivery and the console. None: for its description alone."""

    @asynccontextmanager
    async def lifespan(app: FastAPI) -> AsyncIterator[None]:
        assert parts is not None
        lasting = [asyncio.create_task(parts.transfers.note_progress())]
        if parts.rules_file is not None:
            lasting.append(asyncio.create_task(parts.rules_file.keep(parts.decide_by)))
        if parts.keys_file is not None:
            lasting.append(asyncio.create_task(parts.keys_file.keep(parts.seal_by)))
        ended = threading.Event()
        if parts.settings.bundles.scan_every:
            lasting.append(asyncio.create_task(_scan(parts, parts.settings.bundles.scan_every, ended)))
        if parts.settings.service.history_days is not None:
            lasting.append(asyncio.create_task(_forget(parts, parts.settings.service.history_days)))
        yield
        ended.set()
        for task in lasting:
            task.cancel()
        await asyncio.gather(*lasting, return_exceptions=True)
        parts.delivery.stop()
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
    for module in modules:
        api.include_router(module.router)
    if sessions in modules:
        api.add_api_route("/", _to_console, include_in_schema=False)
        api.add_api_route("/console", _to_console, include_in_schema=False)
    api.add_exception_handler(Refusal, _refused)
    api.add_exception_handler(StoreFault, _store_failed)
    api.add_exception_handler(RequestValidationError, _not_valid)
    api.add_exception_handler(HTTPException, _http_error)
    described(api)
    return api


async def _forget(parts: Parts, days: int) -> None:
    """Runs for the life of the service: drops what the history is no longer kept for."""
    while True:
        await parts.journal.call(partial(forget, before=time.time() - days * 86_400))
        await asyncio.sleep(3600)


async def _scan(parts: Parts, every: int, ended: threading.Event) -> None:
    """Runs for the life of the service: has contents be known before archives need them."""
    from invio.delivery.scanning import scan

    while True:
        began = time.monotonic()
        read = await asyncio.to_thread(scan, parts.engine, parts.catalogue.stores.values(), ended.is_set)
        if read:
            log.info("scan.done", extra={"fields": {"files": read, "seconds": round(time.monotonic() - began, 1)}})
        await asyncio.sleep(every)


async def _to_console() -> Response:
    return Response(status_code=303, headers={"Location": console.PREFIX})


async def _refused(request: Request, error: Exception) -> Response:
    assert isinstance(error, Refusal)
    # A page sends the browser to sign in and back; what was posted would not come back with it.
    target = request.url.path if request.method == "GET" else ""
    parts: Parts | None = request.app.state.parts
    pages = USUAL_PAGES if parts is None else parts.way.pages
    reply = refusal_reply(error, request.method, request.headers.get("accept"), target, pages)
    body = b"".join(part for part in reply.parts if isinstance(part, bytes))
    response = Response(body, reply.status)
    response.raw_headers = reply.headers
    if request.method == "PUT" and _is_long(request):
        # RFC 9112 §9.6: whoever is told no need not send all of it, and stops when the connection ends.
        response.headers["Connection"] = "close"
    return response


def _is_long(request: Request) -> bool:
    """Whether the body of a request is more than a few reads."""
    length = request.headers.get("content-length")
    return int(length) > _LONG if length is not None else "transfer-encoding" in request.headers


async def _store_failed(request: Request, error: Exception) -> Response:
    assert isinstance(error, StoreFault)
    return await _refused(request, unreachable(error))


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

"""The service as one ASGI application: the delivery, the console, and what is loaded when it is asked for."""

from __future__ import annotations

import logging
from collections.abc import Awaitable
from contextlib import suppress
from functools import partial
from threading import Lock
from typing import TYPE_CHECKING, Any

from starlette.concurrency import run_in_threadpool
from starlette.routing import Router

from invio.core.http.request_head import RequestHead
from invio.core.reasons import Refusal
from invio.delivery.planner import PREFIX as FILES
from invio.delivery.problem_details import refusal_reply
from invio.delivery.sending.eager import ensure_task
from invio.delivery.sending.errors import ClientGone
from invio.service import console
from invio.service.assembly import Parts
from invio.service.probes import answer_probe
from invio.service.running import running
from invio.workers.heap import keep_what_is_loaded, nothing_collected

if TYPE_CHECKING:
    from invio.service.guard import Guard

log = logging.getLogger("invio.service")


class Service:
    """The ASGI application that a server runs."""

    # The delivery needs no task until it has to wait; the rest is given one.
    starts_eagerly = True

    def __init__(self, parts: Parts, *, mounted: bool = False) -> None:
        """`mounted`: inside somebody's own application, which signs people in and has its own pages."""
        self._parts = parts
        self._api = LateApi(parts, mounted=mounted)
        self._delivery = parts.delivery
        self._console = console.Console()
        self._mounted = mounted
        self._behind = parts.behind if not mounted and parts.behind.may_be_below else None
        self._besides = Router(lifespan=lambda _: running(parts))  # for what is no request

    def __call__(self, scope: Any, receive: Any, send: Any) -> Awaitable[None]:
        """Answers one request, or runs the application's lifespan."""
        if scope["type"] != "http":
            return self._besides(scope, receive, send)
        if self._behind is not None:
            scope = self._behind.placed(scope)
        path: str = scope["path"].removeprefix(scope.get("root_path", ""))
        if path.startswith(FILES):
            return self._delivery(scope, receive, send)
        return self._pages(path, scope, receive, send)

    async def _pages(self, path: str, scope: Any, receive: Any, send: Any) -> None:
        await ensure_task()
        own = not self._mounted and (path.startswith(console.PREFIX) or path == console.API_PAGE)
        if own or path.startswith(console.MODULE):
            await self._console(scope, receive, send)
        elif path.startswith("/api/"):
            await self._parts.slow.timed(partial(self._api, path), scope, receive, send)
        elif self._mounted or not await answer_probe(self._parts, path, scope, send):
            await self._api(path, scope, receive, send)


class LateApi:
    """The API and the pages, which are loaded when something is first asked of them.

    With the framework, all routes and schemas they take a third of a process's start, and 11 MB for as long as it
    lives; many processes deliver files and are asked for nothing else but whether they can.
    """

    def __init__(self, parts: Parts, *, mounted: bool) -> None:
        self._parts = parts
        self._mounted = mounted
        self._loading = Lock()
        self._guard: Guard | None = None

    async def __call__(self, path: str, scope: Any, receive: Any, send: Any) -> None:
        """Answers one request."""
        try:
            guard = self._guard or await self._loaded()
        except Exception as error:  # such as no descriptors left, or a package that is being replaced
            log.error("api.not-loaded", exc_info=error)
            await _fail(scope, send)
            return
        await guard(path, scope, receive, send)

    async def _loaded(self) -> Guard:
        try:
            return await run_in_threadpool(self._load)  # meanwhile, files are delivered
        except RuntimeError:  # the system gives no thread
            return self._load()

    def _load(self) -> Guard:
        with self._loading, nothing_collected():
            if self._guard is None:
                from invio.service.api import guarded_api

                self._guard = guarded_api(self._parts, mounted=self._mounted)
                keep_what_is_loaded()
            return self._guard


async def _fail(scope: Any, send: Any) -> None:
    head = RequestHead(scope["method"], scope["headers"])
    reply = refusal_reply(Refusal("failed", "the operator's log says why"), head.method, head.get(b"accept"))
    with suppress(ClientGone):
        await send({"type": "http.response.start", "status": reply.status, "headers": reply.headers})
        await send({"type": "http.response.body", "body": reply.said})

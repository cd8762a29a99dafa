"""The API and the pages, by FastAPI: which modules they are, and how whatever they raise is answered."""

from __future__ import annotations

import inspect
import logging
import sqlite3
from collections.abc import Sequence
from types import ModuleType
from typing import cast

from fastapi import Depends, FastAPI, Request, Response
from fastapi.exception_handlers import http_exception_handler
from fastapi.exceptions import HTTPException as FastAPIHTTPException
from fastapi.exceptions import RequestValidationError
from sqlalchemy.exc import SQLAlchemyError
from starlette.applications import Starlette
from starlette.concurrency import run_in_threadpool
from starlette.exceptions import HTTPException

from invio.core.reasons import Refusal
from invio.core.version import VERSION
from invio.delivery.problem_details import USUAL_PAGES, refusal_reply, unreachable
from invio.service import (
    access_matrix,
    auditing,
    bundles,
    console,
    console_sessions,
    decisions,
    files,
    following,
    history,
    history_summary,
    link_explanations,
    links,
    listing_pages,
    operators,
    pickup_pages,
    putting,
    quotas,
    receipts,
    recipients,
    rules,
    rules_trial,
    sealing_keys,
    service_state,
    sessions,
    short_links,
    sign_in_page,
    transfer_facts,
    transfers,
    webhooks,
)
from invio.service.assembly import Parts
from invio.service.description import described, operation_id
from invio.service.guard import Guard, allowed_methods
from invio.service.page_parts import here_of
from invio.service.queries import nothing_misspelt, only_what_is_known
from invio.service.routes import Routes, load_framework
from invio.service.validation import explained
from invio.stores.store import StoreFault
from invio.workers.pool import DeadlinePassed, PoolBusy

log = logging.getLogger("invio.service")
_ROUTERS = (
    files,
    putting,
    bundles,
    links,
    link_explanations,
    short_links,
    decisions,
    access_matrix,
    rules,
    rules_trial,
    sealing_keys,
    recipients,
    console_sessions,
    quotas,
    history,
    history_summary,
    transfers,
    transfer_facts,
    receipts,
    following,
    sessions,
    auditing,
    webhooks,
    service_state,
    operators,
)
# What is left inside an application: it decides, signs people in and is watched over by itself.
_MOUNTED = (files, putting, bundles, transfers, following, short_links)

routes = Routes(in_description=False)
_LONG = 256 * 1024  # bytes
_NO_THREAD = "can't start new thread"  # the interpreter's words
# In the scope of a request that came through somebody's own application: that application.
APPLICATION = "invio.application"


def guarded_api(parts: Parts, *, mounted: bool) -> Guard:
    """What answers whatever is neither delivered nor of the console.

    `mounted`: inside somebody's own application, which signs people in and has its own pages.
    """
    api = make_api(parts, _MOUNTED if mounted else _ROUTERS)
    return Guard(api, parts.way.cross_origin, parts.settings.limits, parts.way.front)


def make_api(parts: Parts | None, modules: Sequence[ModuleType] = _ROUTERS) -> FastAPI:
    """The FastAPI application: everything but the delivery and the console. None: for its description alone."""
    api = FastAPI(
        title="Invio",
        version=VERSION,
        description="Delivers files: by address, by sealed link, and as bundles.",
        docs_url=None,
        redoc_url=None,
        openapi_url=None,  # see `described`
        generate_unique_id_function=operation_id,
        dependencies=[Depends(only_what_is_known if sessions in modules else nothing_misspelt)],
        redirect_slashes=False,  # an empty name in a path is no name, and not another path
    )
    api.state.parts = parts
    for module in modules:
        module.routes.add_to(api)
    if sessions in modules:
        for module in (listing_pages, pickup_pages, sign_in_page):
            module.routes.add_to(api)
        routes.add_to(api)
    api.add_exception_handler(Refusal, _refused)
    api.add_exception_handler(StoreFault, _store_failed)
    api.add_exception_handler(RequestValidationError, _not_valid)
    api.add_exception_handler(HTTPException, _http_error if sessions in modules else _application_error)
    for error in (SQLAlchemyError, sqlite3.Error):
        api.add_exception_handler(error, _records_failed)
    api.add_exception_handler(PoolBusy, _busy)
    api.add_exception_handler(DeadlinePassed, _busy)
    api.add_exception_handler(RuntimeError, _no_thread)
    api.add_exception_handler(Exception, _failed)
    described(api)
    load_framework(api.routes)
    return api


@routes.get("/console")
async def _to_console(request: Request) -> Response:
    return Response(status_code=303, headers={"Location": request.scope.get("root_path", "") + console.PREFIX})


async def _refused(request: Request, error: Exception) -> Response:
    assert isinstance(error, Refusal)
    # A page sends the browser to sign in and back; what was posted would not come back with it.
    target = here_of(request) if request.method == "GET" else ""
    parts: Parts | None = request.app.state.parts
    pages = (USUAL_PAGES if parts is None else parts.way.pages).below(request.scope.get("root_path", ""))
    reply = refusal_reply(error, request.method, request.headers.get("accept"), target, pages)
    response = Response(reply.said, reply.status)
    response.raw_headers = reply.headers
    if reply.status in (408, 413) or (_is_long(request) and (request.method == "PUT" or reply.status == 503)):
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
    route = request.scope.get("route")
    body = getattr(getattr(route, "body_field", None), "field_info", None)
    fields = getattr(getattr(body, "annotation", None), "model_fields", {})
    names = [field.alias or name for name, field in fields.items()]
    return await _refused(request, Refusal("bad-request", explained(error.errors(), names)))


async def _http_error(request: Request, error: Exception) -> Response:
    assert isinstance(error, HTTPException)
    if error.status_code == 405:
        allow = allowed_methods(request.app, request.scope)
        return await _refused(request, Refusal("wrong-method", f"use {allow}" if allow else "", allow=allow))
    word = {404: "missing", 408: "too-slow", 413: "too-large", 503: "busy"}.get(error.status_code, "bad-request")
    return await _refused(request, Refusal(word, str(error.detail), retry_after=5 if word == "busy" else 1))


async def _application_error(request: Request, error: Exception) -> Response:
    """Mounted: what the application's own function raised is answered as the application says."""
    assert isinstance(error, HTTPException)
    if (
        error.status_code in (404, 405, 408, 413, 503)
        and not error.headers
        and not isinstance(error, FastAPIHTTPException)
    ):
        return await _http_error(request, error)  # the framework's own
    application = request.scope.get(APPLICATION)
    if not isinstance(application, Starlette):
        return await http_exception_handler(request, error)
    own = application.exception_handlers
    kinds = (own.get(kind) for kind in type(error).__mro__)
    handler = own.get(error.status_code) or next(filter(None, kinds), http_exception_handler)
    asked = Request({**request.scope, "app": application}, request.receive)
    if inspect.iscoroutinefunction(handler):
        return cast(Response, await handler(asked, error))
    return cast(Response, await run_in_threadpool(handler, asked, error))


async def _records_failed(request: Request, error: Exception) -> Response:
    log.error("records.failed", extra={"fields": {"path": request.url.path, "error": str(error)[:500]}})
    return await _refused(request, Refusal("unavailable", "the records cannot be used at present", retry_after=5))


async def _busy(request: Request, error: Exception) -> Response:
    log.warning("service.busy", extra={"fields": {"path": request.url.path, "error": str(error)}})
    return await _refused(
        request, Refusal("busy", "the service is busy with requests of this kind; try again", retry_after=5)
    )


async def _no_thread(request: Request, error: Exception) -> Response:
    """Of all errors of its kind, the one that says that the system gives no thread, to the interpreter's own pools."""
    if str(error) != _NO_THREAD:
        raise error
    return await _busy(request, error)


async def _failed(request: Request, error: Exception) -> Response:
    log.error("request.failed", exc_info=error, extra={"fields": {"method": request.method, "path": request.url.path}})
    return await _refused(request, Refusal("failed", "the operator's log says why"))

"""Bundles: a selection becomes an address, by JSON or by a plain form."""

from __future__ import annotations

import asyncio
import logging
import threading
from functools import partial
from typing import Annotated

from fastapi import BackgroundTasks, Form, Query, Request, Response
from fastapi.responses import RedirectResponse

from invio.core.addresses import quoted
from invio.core.files import Caller
from invio.core.moments import timestamp
from invio.core.reasons import Refusal
from invio.delivery.archives import bundles
from invio.delivery.archives.bundles import Made
from invio.delivery.sending.eager import in_pool
from invio.delivery.sending.errors import NobodyWaits
from invio.records.bundles import BundleOptions, BundleRecord
from invio.service.assembly import Parts
from invio.service.dependencies import TheCaller, TheParts
from invio.service.listing_pages import Listing
from invio.service.routes import Routes
from invio.service.schemas import (
    BundleAsk,
    BundleEntries,
    BundleEntry,
    BundleShape,
    FormFolders,
    FormFormat,
    LeftOutShape,
    PreparingShape,
)

log = logging.getLogger("invio.service")
routes = Routes("bundles")

_PAGE = 1000  # entries
_LOOKED_EVERY = 0.25  # seconds between two looks whether the client is still there
_WORTH_ASKING_AGAIN = ("busy", "too-many", "changed", "unreachable", "unavailable")


@routes.post("/api/bundles", status_code=201, summary="Bundle a selection")
async def make_bundle(
    *,
    asked: BundleAsk,
    request: Request,
    response: Response,
    later: BackgroundTasks,
    caller: TheCaller,
    parts: TheParts,
) -> BundleShape:
    """Plans one archive of the selected files; returns its address, exact size and entries.

    The selection is refused as a whole, naming every address that is unknown or not allowed; with `on_problem` set to
    `leave-out`, those are left out. With `wait` false the response comes at once, and `GET /api/bundles/{id}` tells the
    progress.
    """
    if asked.rendition is not None and asked.rendition not in parts.way.renditions.names():
        raise Refusal("missing", f"there is no rendition {asked.rendition!r}")
    options = BundleOptions(
        asked.folders == "flatten", asked.sums, asked.on_problem == "leave-out", rendition=asked.rendition
    )
    save = partial(parts.bundles.save, caller, asked.files, asked.name, options)
    save = partial(save, kind=asked.format, versions=asked.versions, keep=asked.wait is False)
    record = await in_pool(parts.pools.planning, save, whose=caller.principal)
    if asked.wait:
        made = _shape_of(request, record, await _planned(request, parts, caller, record))
    else:
        parts.bundles.announce(record)
        later.add_task(_plan, parts, caller, record)
        made = _shape_of(request, record, None)
    response.headers["Location"] = made.url
    return made


async def _planned(request: Request, parts: Parts, caller: Caller, record: BundleRecord) -> Made:
    """The plan of a bundle, made by a thread of its own; it is given up when the client leaves."""
    left = threading.Event()
    async with parts.planners.turn(caller):
        pool = parts.bundles.pools.of(record) or parts.pools.planning
        whose = caller.principal
        planning = asyncio.create_task(in_pool(pool, parts.bundles.plan, caller, record, left.is_set, whose=whose))
        try:
            while not (await asyncio.wait({planning}, timeout=_LOOKED_EVERY))[0]:
                if await request.is_disconnected():
                    left.set()
            return planning.result()
        except NobodyWaits:
            raise Refusal("bad-request", "the client left before the archive was planned") from None
        finally:
            left.set()
            if not planning.done():
                planning.cancel()


@routes.get("/api/bundles/{bundle_id}", summary="One bundle")
async def get_bundle(bundle_id: str, request: Request, caller: TheCaller, parts: TheParts) -> BundleShape:
    """A bundle of the caller's: its exact size, or the progress of its plan."""
    record = await in_pool(parts.pools.identification, parts.bundles.named, caller, bundle_id)
    preparing = parts.bundles.preparing(bundle_id)
    if preparing is not None:
        return _shape_of(request, record, None, PreparingShape(files=preparing.files, read=preparing.read))
    return _shape_of(request, record, await _planned(request, parts, caller, record))


@routes.get("/api/bundles/{bundle_id}/entries", summary="What is in a bundle")
async def get_entries(
    bundle_id: str,
    request: Request,
    caller: TheCaller,
    parts: TheParts,
    after: Annotated[int, Query(ge=0, le=10**9)] = 0,
) -> BundleEntries:
    """The archive's entries in order, at most a thousand per page, with the offset where each ends."""
    record = await in_pool(parts.pools.identification, parts.bundles.named, caller, bundle_id)
    plan = (await _planned(request, parts, caller, record)).plan
    places, upto, versions = plan.places, min(len(plan), after + _PAGE), plan.versions()
    entries = [
        BundleEntry(
            address=plan.name_of(number) or None,
            version=versions.get(plan.name_of(number)),
            size=places.held(number),
            ends=places.at(number + 1),
        )
        for number in range(after, upto)
    ]
    return BundleEntries(entries=entries, next=upto if upto < len(plan) else None)


@routes.post("/bundles", status_code=303, summary="Bundle a selection, from a form")
async def make_bundle_from_form(
    *,
    request: Request,
    caller: TheCaller,
    parts: TheParts,
    file: Annotated[list[str] | None, Form(max_length=100_000, description="an address; repeated")] = None,
    name: Annotated[str | None, Form(max_length=200)] = None,
    folders: Annotated[FormFolders, Form()] = "keep",
    format: Annotated[FormFormat | None, Form()] = None,
    sums: Annotated[bool, Form()] = False,
    page: Annotated[str | None, Form(max_length=8192, description="the listing page that it was chosen on")] = None,
) -> Response:
    """Like `POST /api/bundles`, for a page without scripts; redirects to the archive.

    A refusal is shown on the listing `page`, which keeps the selection.
    """
    files = file or []
    options = BundleOptions(folders == "flatten", sums)
    save = partial(parts.bundles.save, caller, files, name, options, kind=format, keep=False)
    try:
        record = await in_pool(parts.pools.planning, save, whose=caller.principal)
        await _planned(request, parts, caller, record)
    except Refusal as refusal:
        listing = None if page is None else Listing.at(page, request, parts, caller)
        if listing is None or refusal.reason.status not in (400, 401, 403, 413):
            raise
        listing.refusal, listing.selected = refusal, frozenset(files)
        return await listing.page()
    return RedirectResponse(_url(request, record), status_code=303)


async def _plan(parts: Parts, caller: Caller, record: BundleRecord) -> None:
    """Plans a bundle that nobody waits for; whoever asks for it is told what came of it."""
    try:
        async with parts.planners.turn(caller):
            pool = parts.bundles.pools.of(record) or parts.pools.planning
            await in_pool(pool, parts.bundles.plan, caller, record, whose=caller.principal)
    except Refusal as refusal:
        if refusal.reason.word not in _WORTH_ASKING_AGAIN:
            await in_pool(parts.pools.planning, parts.bundles.keep_refusal, record, refusal, whose=caller.principal)
        log.info("bundle.refused", extra={"fields": {"bundle": record.id, "reason": refusal.reason.word}})


def _url(request: Request, record: BundleRecord) -> str:
    return f"{request.scope.get('root_path', '')}/get/{quoted(_address(record))}"


def _address(record: BundleRecord) -> str:
    return f"{bundles.STORE}/{record.id}/{record.name}"


def _shape_of(
    request: Request, record: BundleRecord, made: Made | None, preparing: PreparingShape | None = None
) -> BundleShape:
    left_out = made.left_out if made is not None else []
    return BundleShape(
        id=record.id,
        address=_address(record),
        url=_url(request, record),
        name=record.name,
        size=None if made is None else made.plan.places.size,
        entries=None if made is None else len(made.plan),
        expires=timestamp(record.expires),
        left_out=[LeftOutShape(address=one.address, reason=one.reason) for one in left_out],
        preparing=preparing or (PreparingShape(files=0, read=0) if made is None else None),
    )

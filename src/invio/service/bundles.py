"""Bundles: a selection becomes an address, by JSON or by a plain form."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, Any

from fastapi import APIRouter, Form, Request, Response
from fastapi.responses import RedirectResponse

from invio.core.addresses import quoted
from invio.core.files import Caller
from invio.delivery import bundles
from invio.delivery.board import timestamp
from invio.service.asking import TheCaller, TheParts
from invio.service.assembly import Parts
from invio.service.shapes import BundleAsk, BundleShape, Problem

router = APIRouter(tags=["bundles"])

_REFUSALS: dict[int | str, dict[str, Any]] = {status: {"model": Problem} for status in (400, 401, 403, 413)}


@router.post("/api/bundles", status_code=201, summary="Bundle a selection", responses=_REFUSALS)
def make_bundle(
    asked: BundleAsk, request: Request, response: Response, caller: TheCaller, parts: TheParts
) -> BundleShape:
    """Plans one archive of the selected files and tells its address, exact size and entries.

    Refused as a whole, naming every address that is unknown or not allowed.
    """
    made = _made(request, parts, caller, asked.files, asked.name)
    response.headers["Location"] = made.url
    return made


@router.post("/bundles", status_code=303, summary="Bundle a selection, from a form", responses=_REFUSALS)
def make_bundle_from_form(
    request: Request,
    caller: TheCaller,
    parts: TheParts,
    file: Annotated[list[str] | None, Form(description="an address; repeated")] = None,
    name: Annotated[str | None, Form(max_length=200)] = None,
) -> RedirectResponse:
    """The same for a page without scripts: answered with the archive's address."""
    return RedirectResponse(_made(request, parts, caller, file or [], name).url, status_code=303)


def _made(request: Request, parts: Parts, caller: Caller, files: Sequence[str], name: str | None) -> BundleShape:
    record, layout, entries = parts.bundles.make(caller, files, name)
    address = f"{bundles.STORE}/{record.id}/{record.name}"
    return BundleShape(
        id=record.id,
        address=address,
        url=f"{request.scope.get('root_path', '')}/get/{quoted(address)}",
        name=record.name,
        size=layout.size,
        entries=entries,
        expires=timestamp(record.expires),
    )

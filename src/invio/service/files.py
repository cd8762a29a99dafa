"""Listings and facts: what a caller may see, and what they may do with it."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query, Request

from invio.core.addresses import Address
from invio.core.files import Caller
from invio.core.reasons import Refusal
from invio.core.rules import ACTIONS
from invio.delivery.board import timestamp
from invio.delivery.offering import kind_of
from invio.service.asking import TheCaller, TheParts, address_in_path, read_address
from invio.service.assembly import Parts
from invio.service.shapes import FileShape, Listing
from invio.stores.store import Found

router = APIRouter(tags=["files"])


@router.get("/api/files", summary="List a store or a folder")
def list_files(
    caller: TheCaller,
    parts: TheParts,
    within: Annotated[
        str | None, Query(alias="in", description="`store/` or `store/folder/`; without it, the stores")
    ] = None,
    after: Annotated[str | None, Query(description="`next` of the page before")] = None,
    limit: Annotated[int, Query(ge=1, le=1000)] = 200,
) -> Listing:
    """What the caller may see there, folders first; only that."""
    folder = None if within is None else read_address(within)
    if folder is not None and not folder.folder:
        raise Refusal("bad-request", f"in={within}: a folder's address ends in /; for one file ask /api/files/{within}")
    page = parts.catalogue.page(caller, folder, after, limit)
    files = [_shape(parts, caller, line.address, line.found) for line in page.files]
    return Listing(files=files, next=page.after)


@router.get("/api/files/{address:path}", summary="Facts of one file")
def file_facts(address: str, request: Request, caller: TheCaller, parts: TheParts) -> FileShape:
    """What is known of a file without opening it, for those who may list it."""
    where = address_in_path(request, "/api/files/")
    if where.folder:
        raise Refusal("bad-request", f"{where} is a folder; list it with /api/files?in={where}")
    return _shape(parts, caller, where, parts.catalogue.obtain(caller, "list", where))


def _shape(parts: Parts, caller: Caller, address: Address, found: Found | None) -> FileShape:
    if found is None:
        return FileShape(address=str(address), name=address.name, folder=True)
    facts = found.facts
    sha256 = parts.digests.known(facts.tag)
    return FileShape(
        address=str(address),
        name=address.name,
        folder=False,
        size=facts.size,
        modified=None if facts.modified is None else timestamp(facts.modified),
        media_type=kind_of(found).media_type,
        sha256=None if sha256 is None else sha256.hex(),
        may=[action for action in ACTIONS if parts.rules.allows(caller, action, address, facts)],
    )

"""Listings and facts: what a caller may see, and what they may do with it."""

from __future__ import annotations

from typing import Annotated, cast

from fastapi import APIRouter, Query, Request

from invio.core.addresses import Address
from invio.core.files import Caller, FileFacts
from invio.core.media_types import media_type_of
from invio.core.reasons import Refusal
from invio.core.rules import ACTIONS
from invio.core.versions import Version
from invio.delivery.board import timestamp
from invio.delivery.offering import kind_of
from invio.service.asking import TheCaller, TheParts, address_in_path, read_address
from invio.service.assembly import Parts
from invio.service.shapes import Action, FileShape, Listing, VersionList, VersionShape
from invio.stores.store import Found, KeepsVersions, Missing

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
    files = [shape(parts, caller, line.address, line.found) for line in page.files]
    return Listing(files=files, next=page.after)


@router.get("/api/files/{address:path}", summary="Facts of one file")
def file_facts(address: str, request: Request, caller: TheCaller, parts: TheParts) -> FileShape:
    """What is known of a file without opening it, for those who may list it."""
    where = address_in_path(request, "/api/files/")
    if where.folder:
        raise Refusal("bad-request", f"{where} is a folder; list it with /api/files?in={where}")
    return shape(parts, caller, where, parts.catalogue.obtain(caller, "list", where))


@router.get("/api/versions/{address:path}", summary="Versions of a file")
def file_versions(
    address: str,
    request: Request,
    caller: TheCaller,
    parts: TheParts,
    before: Annotated[int | None, Query(ge=1, description="`next` of the page before")] = None,
    limit: Annotated[int, Query(ge=1, le=1000)] = 100,
) -> VersionList:
    """Those that the caller may list, the newest first. Each is had from `/get/` with `?version=`."""
    where = address_in_path(request, "/api/versions/")
    parts.catalogue.require(caller, "list", where)
    store = parts.catalogue.stores.get(where.store)
    if where.folder or not isinstance(store, KeepsVersions):
        raise Refusal("missing", f"{where} is no file in a store that keeps versions")
    try:
        found = store.versions(where, before, limit)
    except Missing:
        raise Refusal("missing", f"there is no file {where}") from None
    listed = []
    for version in found:
        facts = version.facts(where.store)
        may = _may(parts, caller, where, facts)
        if "list" in may:
            listed.append(_version_shape(version, facts, may))
    if not listed and before is None:
        raise Refusal("missing", f"there is no file {where} for you here")
    following = found[-1].number if len(found) == limit else None
    return VersionList(address=str(where), versions=listed, next=following)


def _may(parts: Parts, caller: Caller, address: Address, facts: FileFacts) -> list[Action]:
    actions = cast(tuple[Action, ...], ACTIONS)
    return [action for action in actions if parts.rules.allows(caller, action, address, facts)]


def _version_shape(version: Version, facts: FileFacts, may: list[Action]) -> VersionShape:
    content = version.content
    return VersionShape(
        version=version.number,
        current=version.current,
        size=content.size,
        put=timestamp(version.at),
        by=version.by if "manage" in may else None,
        media_type=content.media_type or media_type_of(facts.address.name),
        sha256=content.sha256.hex(),
        may=may,
    )


def shape(parts: Parts, caller: Caller, address: Address, found: Found | None) -> FileShape:
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
        may=_may(parts, caller, address, facts),
        version=facts.version,
    )

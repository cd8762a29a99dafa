"""Listings and facts: what a caller may see, and what they may do with it."""

from __future__ import annotations

from typing import Annotated, cast

from fastapi import Query, Request

from invio.core.addresses import Address
from invio.core.files import Caller, FileFacts
from invio.core.http.media_types import OCTETS, media_type_by_name, media_type_of
from invio.core.moments import timestamp
from invio.core.reasons import Refusal
from invio.core.rules.decisions import ACTIONS, RuleSet
from invio.core.versions import Version
from invio.delivery.access.catalogue import no_file
from invio.delivery.representation.negotiation import kind_of
from invio.service.assembly import Parts
from invio.service.deciding import decided
from invio.service.dependencies import TheCaller, TheParts, address_in_path, read_address
from invio.service.routes import Routes
from invio.service.schemas import Action, FileShape, Listing, Sort, VersionList, VersionShape
from invio.stores.store import Found, Missing, StoreFault, VersionedStore, WritableStore

routes = Routes("files")


@routes.get("/api/files", summary="List a store or a folder")
async def list_files(
    *,
    caller: TheCaller,
    parts: TheParts,
    within: Annotated[
        str | None, Query(alias="in", description="`store/` or `store/folder/`; without it, the stores")
    ] = None,
    after: Annotated[str | None, Query(description="`next` of the page before")] = None,
    limit: Annotated[int, Query(ge=1, le=1000)] = 200,
    search: Annotated[
        str | None, Query(min_length=1, max_length=200, description="a part of names, or of descriptions, below it")
    ] = None,
    sort: Annotated[Sort, Query(description="`-` for the other way round")] = "name",
) -> Listing:
    """The files and folders the caller may see, folders first. With `search`, those found below the folder."""
    folder = None if within is None else read_address(within)
    if folder is None and (search is not None or sort != "name"):
        raise Refusal("bad-request", "search and sort are for one store; name it, as in in=charts/")
    if folder is not None and not folder.folder:
        raise Refusal("bad-request", f"in={within}: a folder's address ends in /; for one file ask /api/files/{within}")

    def work() -> Listing:
        page = parts.catalogue.page(caller, folder, after, limit, search=search, sort=sort)
        files = [shape(parts, caller, line.address, line.found) for line in page.files]
        return Listing(files=files, next=page.after, puts=folder is not None and _puts(parts, caller, folder))

    return await decided(parts.catalogue.pool_of(folder), work, whose=caller.principal)


def _puts(parts: Parts, caller: Caller, folder: Address) -> bool:
    """Whether a caller may put something into a folder, or below it."""
    rules = parts.rules
    if not isinstance(parts.catalogue.stores.get(folder.store), WritableStore):
        return False
    return rules.may_reach(caller, "put", folder) if isinstance(rules, RuleSet) else rules.allows(caller, "put", folder)


@routes.get("/api/files/{address:path}", summary="Facts of one file")
async def file_facts(address: str, request: Request, caller: TheCaller, parts: TheParts) -> FileShape:
    """A file's facts, read without opening it. For callers who may list it."""
    where = address_in_path(request, "/api/files/")
    if where.folder:
        raise Refusal("bad-request", f"{where} is a folder; list it with /api/files?in={where}")

    def work() -> FileShape:
        return shape(parts, caller, where, parts.catalogue.obtain(caller, "list", where))

    return await decided(parts.catalogue.pool_of(where), work, whose=caller.principal)


@routes.get("/api/versions/{address:path}", summary="Versions of a file")
async def file_versions(
    *,
    address: str,
    request: Request,
    caller: TheCaller,
    parts: TheParts,
    before: Annotated[int | None, Query(ge=1, le=10**15 - 1, description="`next` of the page before")] = None,
    limit: Annotated[int, Query(ge=1, le=1000)] = 100,
) -> VersionList:
    """The versions the caller may list, newest first. `/get/` with `?version=` delivers each."""
    where = address_in_path(request, "/api/versions/")
    return await decided(
        parts.catalogue.pool_of(where), _versions, parts, caller, where, before, limit, whose=caller.principal
    )


def _versions(parts: Parts, caller: Caller, where: Address, before: int | None, limit: int) -> VersionList:
    parts.catalogue.require(caller, "list", where)
    store = parts.catalogue.stores.get(where.store)
    if where.folder or not isinstance(store, VersionedStore):
        raise Refusal("missing", no_file(where))
    try:
        found = store.versions(where, before, limit)
    except Missing:
        raise Refusal("missing", no_file(where)) from None
    listed = []
    for version in found:
        facts = version.facts(where.store)
        may = _may(parts, caller, where, facts)
        if "list" in may:
            listed.append(_version_shape(version, facts, may))
    if not listed and before is None:
        raise Refusal("missing", no_file(where))
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
        description=content.description,
        sha256=content.sha256.hex(),
        may=may,
    )


def shape(parts: Parts, caller: Caller, address: Address, found: Found | None) -> FileShape:
    """What a caller is shown of a file, or of a folder where `found` is None, with the actions that they may take."""
    if found is None:
        return FileShape(address=str(address), name=address.name, folder=True)
    facts = found.facts
    sha256 = facts.sha256 or parts.digests.known(facts.tag)
    media_type, may = _media_type(found), _may(parts, caller, address, facts)
    return FileShape(
        address=str(address),
        name=address.name,
        folder=False,
        size=facts.size,
        modified=None if facts.modified is None else timestamp(facts.modified),
        media_type=media_type,
        sha256=None if sha256 is None else sha256.hex(),
        may=may,
        version=facts.version,
        renditions=parts.way.renditions.names() if media_type.startswith("image/") and "read" in may else [],
        download_name=facts.name,
        description=facts.description,
        about=dict(facts.about),
    )


def _media_type(found: Found) -> str:
    """What a file is. For that, none is read which only its store can read, and none whose name tells."""
    known = found.facts.media_type or media_type_by_name(found.facts.address.name)
    if known is not None or found.blocking is not None:
        return known or OCTETS
    try:
        return kind_of(found).media_type
    except (Refusal, StoreFault):
        return media_type_of(found.facts.address.name)

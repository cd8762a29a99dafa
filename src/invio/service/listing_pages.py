"""Listing pages: stores and folders without scripts, with a checkbox a file and one button for an archive."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Annotated, cast, get_args
from urllib.parse import parse_qsl, urlencode, urlsplit

from fastapi import Query, Request, Response

from invio.core.addresses import Address, quoted
from invio.core.figures import size_text
from invio.core.files import Caller
from invio.core.moments import timestamp
from invio.core.reasons import Refusal
from invio.delivery.access.catalogue import Listed
from invio.delivery.planner import raw_path
from invio.service.assembly import Parts
from invio.service.deciding import decided
from invio.service.dependencies import TheCaller, TheParts, percent_decoded_or_refused, read_address
from invio.service.files import shape
from invio.service.page_parts import here_of, page, root_of
from invio.service.routes import Routes
from invio.service.schemas import Sort
from invio.stores.store import VersionedStore

routes = Routes(in_description=False)
PREFIX = "/files/"
_PAGE = 100  # lines
_VERSIONS = 50  # in a select


@dataclass(frozen=True, slots=True)
class VersionChoice:
    """A version, as a select names it."""

    number: int
    said: str


@dataclass(frozen=True, slots=True)
class Line:
    """A file or a folder on a page. `get` is where it is had, empty where the caller may not have it."""

    address: str
    shown: str
    folder: bool
    href: str
    get: str
    size: int | None
    modified: str
    description: str | None
    versions: list[VersionChoice]


@routes.get("/files")
async def to_listing(request: Request) -> Response:
    """Redirects to the address with a trailing slash."""
    return Response(status_code=308, headers={"Location": root_of(request) + PREFIX})


@routes.get(PREFIX + "{path:path}")
async def listing_page(
    *,
    request: Request,
    caller: TheCaller,
    parts: TheParts,
    path: str,
    after: Annotated[str | None, Query(max_length=5000)] = None,
    search: Annotated[str | None, Query(max_length=200)] = None,
    sort: Sort = "name",
) -> Response:
    """A folder as a page; the address of a file redirects to its pickup page."""
    given = percent_decoded_or_refused(raw_path(request.scope).removeprefix(PREFIX))
    folder = read_address(given) if given else None
    if folder is not None and not folder.folder:
        return Response(status_code=303, headers={"Location": f"{root_of(request)}/pickup/{quoted(str(folder))}"})
    shown = Listing(request, parts, caller, folder, after, search or None, sort)
    return await shown.page()


@dataclass(slots=True)
class Listing:
    """One page of a folder. `refusal` is of a selection that was made on it, whose boxes stay checked."""

    request: Request
    parts: Parts
    caller: Caller
    folder: Address | None
    after: str | None = None
    search: str | None = None
    sort: Sort = "name"
    refusal: Refusal | None = None
    selected: frozenset[str] = frozenset()

    @classmethod
    def at(cls, target: str, request: Request, parts: Parts, caller: Caller) -> Listing | None:
        """The listing that a path and query of this service are of; None for any other."""
        url = urlsplit(target.removeprefix(root_of(request)))
        if (
            url.scheme
            or url.netloc
            or not url.path.startswith(PREFIX)
            or not url.path.endswith("/")
            or url.path == PREFIX
        ):
            return None
        given = dict(parse_qsl(url.query))
        sort = given.get("sort", "name")
        folder = read_address(percent_decoded_or_refused(url.path.removeprefix(PREFIX)))
        known = cast(Sort, sort if sort in get_args(Sort) else "name")
        return cls(request, parts, caller, folder, given.get("after"), given.get("search"), known)

    async def page(self) -> Response:
        """The page. Raises Refusal."""
        lines, following = await decided(
            self.parts.catalogue.pool_of(self.folder), self._lines, whose=self.caller.principal
        )
        status = 200 if self.refusal is None else self.refusal.reason.status
        return page(
            self.request,
            self.parts,
            "listing.html",
            self.caller,
            status=status,
            here="" if self.folder is None else str(self.folder),
            this=here_of(self.request) if self.refusal is None else self._own_target(),
            path=self._path(),
            files=lines,
            next=following,
            first=self.after is not None,
            search=self.search or "",
            sort=self.sort,
            query=self._query(),
            refusal=self.refusal,
            refused=frozenset() if self.refusal is None else frozenset(self.refusal.names),
            selected=self.selected,
        )

    def _lines(self) -> tuple[list[Line], str | None]:
        found = self.parts.catalogue.page(
            self.caller, self.folder, self.after, _PAGE, search=self.search, sort=self.sort
        )
        return [self._line(one) for one in found.files], found.after

    def _line(self, listed: Listed) -> Line:
        shown = shape(self.parts, self.caller, listed.address, listed.found)
        root, cut = root_of(self.request), 0 if self.folder is None else len(str(self.folder))
        address, get = quoted(shown.address), ""
        if not shown.folder and "read" in shown.may:
            get = f"{root}/get/{address}"
        return Line(
            address=shown.address,
            shown=shown.address[cut:],
            folder=shown.folder,
            href=f"{root}{PREFIX if shown.folder else '/pickup/'}{address}",
            get=get,
            size=shown.size,
            modified="" if shown.modified is None else shown.modified[:16].replace("T", " "),
            description=shown.description,
            versions=version_choices(self.parts, listed.address) if get and (shown.version or 1) > 1 else [],
        )

    def _path(self) -> list[tuple[str, str]]:
        """The folders on the way here, with where each is."""
        if self.folder is None:
            return []
        root, steps, so_far = root_of(self.request), str(self.folder).rstrip("/").split("/"), ""
        path = []
        for step in steps:
            so_far += f"{step}/"
            path.append((step, f"{root}{PREFIX}{quoted(so_far)}"))
        return path

    def _own_target(self) -> str:
        folder = "" if self.folder is None else quoted(str(self.folder))
        return f"{root_of(self.request)}{PREFIX}{folder}?{self._query()()}".rstrip("?")

    def _query(self) -> Callable[..., str]:
        """Makes the query of a page like this one, with some of it changed; what is sorted anew begins anew."""
        now = {"search": self.search, "sort": None if self.sort == "name" else self.sort, "after": self.after}

        def query(**changed: str | None) -> str:
            given = {**now, **({"after": None} if "sort" in changed else {}), **changed}
            return urlencode({name: value for name, value in given.items() if value})

        return query


def version_choices(parts: Parts, address: Address) -> list[VersionChoice]:
    """The versions of a file, the newest first."""
    store = parts.catalogue.stores.get(address.store)
    if not isinstance(store, VersionedStore):
        return []
    said = "{0.number}, {1}, {2}{3}"
    return [
        VersionChoice(
            one.number,
            said.format(
                one,
                _day(one.at),
                size_text(one.content.size),
                f": {one.content.description[:60]}" if one.content.description else "",
            ),
        )
        for one in store.versions(address, None, _VERSIONS)
    ]


def _day(seconds: float) -> str:
    return timestamp(seconds)[:10]

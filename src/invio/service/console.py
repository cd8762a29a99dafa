"""The console's files, and the page of the API's description, delivered as any file is: planned and sent."""

from __future__ import annotations

import hashlib
from pathlib import Path
from typing import Any

from invio.core.addresses import Address, BadAddress, parse_address, percent_decoded
from invio.core.http.codings import choose_coding
from invio.core.http.media_types import media_type_of
from invio.core.http.replies import Content, Representation, Slice, plan
from invio.core.http.request_head import RequestHead
from invio.core.reasons import Refusal
from invio.delivery.planner import raw_path
from invio.delivery.problem_details import refusal_reply
from invio.delivery.sending.errors import ClientGone
from invio.delivery.sending.senders import Sender
from invio.stores.directory import DirectoryStore
from invio.stores.store import Found, Missing, StoreFault

BUILT = Path(__file__).parent / "web"
PREFIX = "/console/"
API_PAGE = "/api/docs"

_FOLDERS = ("assets/", "api-docs/")  # in which only files of the build are
_CODINGS = {"br": ".br", "gzip": ".gz"}  # best first, with what the build appends to a name
_ROOT = 'name="invio-root" content=""'  # where a page is told below which path the service is offered

_POLICY = (
    "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; font-src 'self' data:; "
    "frame-ancestors 'none'; base-uri 'none'; form-action 'self'"
)


class Console:
    """An ASGI application for `/console/`; paths of the console's own pages all get its one page."""

    def __init__(self, built: Path = BUILT) -> None:
        try:
            self._store: DirectoryStore | None = DirectoryStore("console", built)
        except StoreFault:
            self._store = None

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        head, root = RequestHead(scope["method"], scope["headers"]), scope.get("root_path", "")
        try:
            found = self._find(raw_path(scope))
            page = found.facts.address.name.endswith(".html")
            reply = plan(head, _page(found, root) if page else self._asset(head, found))
        except Refusal as refusal:
            reply = refusal_reply(refusal, head.method, head.get(b"accept"))
        try:
            await Sender(scope, receive, send).send(reply)
        except ClientGone:
            pass

    def _find(self, path: str) -> Found:
        if self._store is None:
            raise Refusal("missing", "the console was not built; run 'make setup', or install the wheel")
        name = "api-docs/index.html" if path == API_PAGE else path.removeprefix(PREFIX) or "index.html"
        try:
            address = parse_address(percent_decoded(f"console/{name}"))
        except BadAddress as error:
            raise Refusal("malformed", f"the address: {error}") from None
        try:
            return self._store.locate(address)
        except Missing:
            # A page of the console: its address is read by the script of the one page there is. Folders have dots.
            if address.path.startswith(_FOLDERS):
                raise Refusal("missing", "the console has no such file") from None
            return self._store.locate(Address("console", "index.html"))

    def _asset(self, head: RequestHead, found: Found) -> Representation:
        """A file of the build; compressed, where its build made it so and the client takes it."""
        name, path = found.facts.address.name, found.facts.address.path
        coding, sent = self._coded(head, found)
        source = sent.content
        # Names below assets/ carry a digest of what is in them.
        pinned = path.startswith("assets/")
        return Representation(
            content=Content([Slice(source, 0, source.size)]),
            size=source.size,
            tag=sent.facts.tag,
            modified=sent.facts.modified,
            media_type=media_type_of(name),
            name=name,
            cache="public, max-age=31536000, immutable" if pinned else "no-cache",
            own_policy=_POLICY,
            coding=coding,
            vary="accept-encoding",
        )

    def _coded(self, head: RequestHead, found: Found) -> tuple[str | None, Found]:
        coding = choose_coding(head.get(b"accept-encoding"), tuple(_CODINGS))
        if coding is None or self._store is None:
            return None, found
        try:
            address = found.facts.address
            return coding, self._store.locate(Address(address.store, address.path + _CODINGS[coding]))
        except Missing:  # too small to be worth it
            return None, found


def _page(found: Found, root: str) -> Representation:
    """A page of the build, which names what it needs from where the service is offered on."""
    source = found.content
    text = source.read(0, source.size).decode()
    page = text.replace('="./', f'="{root}{PREFIX}').replace(_ROOT, _ROOT.replace('""', f'"{root}"')).encode()
    return Representation(
        content=Content([page]),
        size=len(page),
        tag=hashlib.blake2b(page, digest_size=12).hexdigest(),
        modified=None,
        media_type="text/html",
        name=found.facts.address.name,
        charset="utf-8",
        cache="no-cache",
        own_policy=_POLICY,
    )

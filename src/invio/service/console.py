"""The console's files, and the page of the API's description, delivered as any file is: planned and sent."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from invio.core.addresses import Address, BadAddress, parse_address, percent_decoded
from invio.core.http.media_types import media_type_of
from invio.core.http.replies import Content, Representation, Slice, plan
from invio.core.http.request_head import RequestHead
from invio.core.reasons import Refusal
from invio.delivery.problem_details import refusal_reply
from invio.delivery.sending.errors import ClientGone
from invio.delivery.sending.senders import Sender
from invio.stores.directory import DirectoryStore
from invio.stores.store import Found, Missing, StoreFault

BUILT = Path(__file__).parent / "web"
PREFIX = "/console/"
API_PAGE = "/api/docs"

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
        head = RequestHead(scope["method"], scope["headers"])
        try:
            found = self._find(scope["raw_path"].decode("latin-1"))
            reply = plan(head, _represent(found))
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
            # A page of the console: its address is read by the script of the one page there is.
            if "." in address.name:
                raise Refusal("missing", "the console has no such file") from None
            return self._store.locate(Address("console", "index.html"))


def _represent(found: Found) -> Representation:
    source = found.content
    name = found.facts.address.name
    # Names below assets/ carry a digest of what is in them.
    pinned = found.facts.address.path.startswith("assets/")
    return Representation(
        content=Content([Slice(source, 0, source.size)]),
        size=source.size,
        tag=found.facts.tag,
        modified=found.facts.modified,
        media_type=media_type_of(name),
        name=name,
        cache="public, max-age=31536000, immutable" if pinned else "no-cache",
        own_policy=_POLICY,
    )

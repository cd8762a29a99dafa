"""The console's files, the page of the API's description, and the module for other people's pages.

Delivered as any file is: planned and sent.
"""

from __future__ import annotations

import hashlib
import re
import secrets
from dataclasses import replace
from pathlib import Path
from typing import Any

from invio.core.addresses import Address, BadAddress, parse_address, percent_decoded
from invio.core.http.codings import choose_coding
from invio.core.http.media_types import media_type_of
from invio.core.http.replies import Content, Reply, Representation, Slice, plan
from invio.core.http.request_head import RequestHead
from invio.core.reasons import Refusal
from invio.delivery.planner import raw_path
from invio.delivery.problem_details import refusal_reply
from invio.delivery.sending.errors import ClientGone
from invio.delivery.sending.senders import Sender
from invio.stores.directory import DirectoryStore
from invio.stores.store import Found, Missing, StoreFault

# What pages pin: as in browser/package.json. A higher first number is one that pages have to be changed for.
MODULE_VERSION = "1.0.0"
BUILT = Path(__file__).parent / "web"
PREFIX = "/console/"
API_PAGE = "/api/docs"
MODULE = "/browser/"  # what other people's pages load: the module, its types, and the same under its version

_FOLDERS = ("assets/", "api-docs/", "browser/")  # in which only files of the build are
_CODINGS = {"br": ".br", "gzip": ".gz"}  # best first, with what the build appends to a name
_ROOT = 'name="invio-root" content=""'  # where a page is told below which path the service is offered

_NONCE = 'content="" property="csp-nonce"'  # where a page is told what its styles are known by
# What is shown in it besides is the service's own: a file, sandboxed by the policy that it is delivered with.
_POLICY = (
    "default-src 'self'; style-src 'self' {styles}; img-src 'self' data: blob:; font-src 'self' data:; "
    "frame-ancestors 'none'; base-uri 'none'; object-src 'none'; form-action 'self'"
)
# The page of the API's description is another project's, which writes styles into its elements.
_POLICY_OF_API_PAGE = _POLICY.format(styles="'unsafe-inline'")
_POLICY_OF_ASSETS = _POLICY.format(styles="")


_VERSION = re.compile(r"\d+\.\d+\.\d+\Z")
_FOR_ANY_PAGE = (b"access-control-allow-origin", b"*")


class _Elsewhere(Exception):
    """What is asked for is at another path."""


def _is_versioned(path: str) -> bool:
    return path.startswith(f"{MODULE}{MODULE_VERSION}/")


class Console:
    """An ASGI application for `/console/`; paths of the console's own pages all get its one page."""

    def __init__(self, built: Path = BUILT) -> None:
        try:
            self._store: DirectoryStore | None = DirectoryStore("console", built)
        except StoreFault:
            self._store = None

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        """Answers a request for a file of the console, or for its page."""
        head, root = RequestHead(scope["method"], scope["headers"]), scope.get("root_path", "")
        try:
            path = raw_path(scope)
            found = self._find(path)
            page = found.facts.address.name.endswith(".html")
            if page:
                reply = plan(head, _page(found, root))
            else:
                reply = plan(head, self._asset(head, found, versioned=_is_versioned(path)))
            if found.facts.address.path.startswith(MODULE.removeprefix("/")):
                reply = replace(reply, headers=[*reply.headers, _FOR_ANY_PAGE])
        except Refusal as refusal:
            reply = refusal_reply(refusal, head.method, head.get(b"accept"))
        except _Elsewhere as elsewhere:
            location = (root + str(elsewhere)).encode()
            reply = Reply(307, [(b"location", location), (b"content-length", b"0"), _FOR_ANY_PAGE], [], 0)
        try:
            await Sender(scope, receive, send).send(reply)
        except ClientGone:
            pass

    def _find(self, path: str) -> Found:
        if self._store is None:
            raise Refusal("missing", "the console was not built; run 'make setup', or install the wheel")
        name = "api-docs/index.html" if path == API_PAGE else path.removeprefix(PREFIX) or "index.html"
        if path.startswith(MODULE):
            name = "browser/" + self._of_module(path.removeprefix(MODULE))
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

    def _of_module(self, path: str) -> str:
        """The module's file that a path names. Raises _Elsewhere: the path is of another version of the same kind."""
        version, _, name = path.partition("/")
        if not _VERSION.match(version):
            return path
        if version == MODULE_VERSION:
            return name
        if version.partition(".")[0] == MODULE_VERSION.partition(".")[0]:
            raise _Elsewhere(MODULE + name)
        raise Refusal("missing", f"this service has version {MODULE_VERSION} of the module; load that")

    def _asset(self, head: RequestHead, found: Found, *, versioned: bool) -> Representation:
        """A file of the build; compressed, where its build made it so and the client takes it."""
        name, path = found.facts.address.name, found.facts.address.path
        coding, sent = self._coded(head, found)
        source = sent.content
        # Names below assets/ carry a digest of what is in them.
        of_module = path.startswith(MODULE.removeprefix("/"))
        pinned = path.startswith("assets/") or (of_module and versioned)
        return Representation(
            content=Content([Slice(source, 0, source.size)]),
            size=source.size,
            tag=sent.facts.tag,
            modified=sent.facts.modified,
            media_type=media_type_of(name),
            name=name,
            cache="public, max-age=31536000, immutable" if pinned else "no-cache",
            own_policy=_POLICY_OF_ASSETS,
            resource_policy="cross-origin" if of_module else "same-origin",
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
    """A page of the build, which names what it needs from where the service is offered on.

    Its styles are known by a number that is never used again: such a page is not kept by anybody.
    """
    source = found.content
    text = source.read(0, source.size).decode()
    policy = _POLICY_OF_API_PAGE
    if _NONCE in text:
        nonce = secrets.token_urlsafe(16)
        text = text.replace(_NONCE, _NONCE.replace('""', f'"{nonce}"'))
        policy = _POLICY.format(styles=f"'nonce-{nonce}'")
    page = text.replace('="./', f'="{root}{PREFIX}').replace(_ROOT, _ROOT.replace('""', f'"{root}"')).encode()
    return Representation(
        content=Content([page]),
        size=len(page),
        tag=None if policy is not _POLICY_OF_API_PAGE else hashlib.blake2b(page, digest_size=12).hexdigest(),
        modified=None,
        media_type="text/html",
        name=found.facts.address.name,
        charset="utf-8",
        cache="no-store" if policy is not _POLICY_OF_API_PAGE else "no-cache",
        own_policy=policy,
    )

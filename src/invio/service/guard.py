"""The guard before the API: how much of a request is read, and what every answer carries.

A body is read before anybody is asked who they are, so it is bounded: in bytes, in time, and in what all of them hold
together. Files that are put are not bounded here: their rights are looked at first, and they have limits of their own.
"""

from __future__ import annotations

import asyncio
import time
from functools import partial
from typing import Any

from fastapi import FastAPI
from starlette.exceptions import HTTPException
from starlette.routing import Match

from invio.core.http.cookies import cookie_named
from invio.core.http.cors import CrossOrigin
from invio.core.http.request_head import RequestHead
from invio.core.networks import network_of
from invio.core.reasons import Refusal
from invio.delivery.access.authentication import COOKIE
from invio.delivery.offload import Front
from invio.delivery.problem_details import refusal_reply
from invio.delivery.sending.errors import ClientGone
from invio.service.long_bodies import LongBodies, LongBody
from invio.service.settings import LimitSettings

DEVICE = "invio-device"  # by which a device that signed in before is known
COOKIES = (COOKIE, DEVICE)
_SELECTIONS = ("/api/bundles", "/bundles")
_BODY_WITHIN = 60.0  # seconds for all of a body
_METHODS = "GET, HEAD, POST, PUT, DELETE"
# What is kept nowhere and taken for nothing else: answers of the API tell of people, tokens and links.
_USUAL = ((b"cache-control", b"no-store"), (b"x-content-type-options", b"nosniff"))


def allowed_methods(api: FastAPI, scope: Any) -> str:
    """What may be asked of a path, for `Allow`; nothing for a path that there is not."""
    methods: set[str] = set()
    for route in api.routes:
        match, _ = route.matches(scope)
        if match is not Match.NONE:
            methods |= getattr(route, "methods", None) or set()
    if not methods:
        return ""
    if "GET" in methods:
        methods.add("HEAD")
    return ", ".join(sorted(methods | {"OPTIONS"}))


class Guard:
    """An ASGI application around the API."""

    def __init__(self, api: FastAPI, cross_origin: CrossOrigin, limits: LimitSettings, front: Front) -> None:
        self._api = api
        self._cross_origin = cross_origin
        self._limits = limits
        self._front = front
        self._bodies = LongBodies(max(limits.body_bytes, limits.selection_bytes))

    async def __call__(self, path: str, scope: Any, receive: Any, send: Any) -> None:
        """Lets a request through to the API, or refuses it."""
        head = RequestHead(scope["method"], scope["headers"])
        exchange = _Exchange(head, send, self._cross_origin)
        if head.method == "OPTIONS":
            await self._options(path, scope, head, exchange)
            return
        if head.method == "PUT" and path.startswith("/api/files/"):
            await self._api(scope, receive, exchange.send)
            return
        most = self._limits.selection_bytes if path in _SELECTIONS else self._limits.body_bytes
        said = head.get(b"content-length")
        if said is not None and said.isdecimal() and int(said) > most:
            await exchange.refuse(Refusal("too-large", f"the body of this request has at most {most} bytes"))
            return
        if head.method == "HEAD":
            scope = {**scope, "method": "GET"}
        if b"cookie" in head:
            scope = _with_own_cookies(scope, head)
        body = self._bodies.begin(partial(self._network, scope, head))
        try:
            await self._api(scope, exchange.receiving(receive, most, body), exchange.send)
        finally:
            body.end()

    def _network(self, scope: Any, head: RequestHead) -> str:
        peer = scope["client"][0] if scope.get("client") else None
        return network_of(self._front.network(peer, head))

    async def _options(self, path: str, scope: Any, head: RequestHead, exchange: _Exchange) -> None:
        """What may be asked (RFC 9110 §9.3.7), and to a browser's preflight the rest."""
        granted = self._cross_origin.preflight(head, _METHODS) if self._cross_origin.origins else []
        allow = _METHODS + ", OPTIONS" if path in ("*", "/*") else allowed_methods(self._api, scope)
        if not allow and not granted:
            await exchange.refuse(Refusal("missing", "there is no such page here"))
            return
        fields = [*granted, (b"allow", allow.encode())] if allow else granted
        if granted:
            fields.append((b"vary", b"origin"))
        await exchange.start(204, fields, granted=bool(granted))
        await exchange.send({"type": "http.response.body"})


def _with_own_cookies(scope: Any, head: RequestHead) -> Any:
    """The request with those cookies alone that this service sets; as it came, it is `scope["invio.outer"]`.

    The framework parses the whole field for each request, and by a library that takes its time for quotes.
    """
    field = head.get(b"cookie") or ""
    own = [(name, value) for name in COOKIES if (value := cookie_named(field, name)) is not None]
    headers = [(name, value) for name, value in scope["headers"] if name != b"cookie"]
    if own:
        headers.append((b"cookie", "; ".join(f"{name}={value}" for name, value in own).encode("latin-1")))
    return {**scope, "headers": headers, "invio.outer": scope}


class _Exchange:
    """One request and its answer, as they pass the guard."""

    def __init__(self, head: RequestHead, send: Any, cross_origin: CrossOrigin) -> None:
        self._head = head
        self._send_on = send
        self._cross_origin = cross_origin
        self._gone = False  # whether the client has left
        self._done = False  # whether all that a HEAD is answered with has left

    async def _send(self, message: Any) -> None:
        """Sends on; to a client that has left nothing more is, and that is no fault of whoever answers."""
        if not self._gone:
            try:
                await self._send_on(message)
            except ClientGone:
                self._gone = True

    def receiving(self, receive: Any, most: int, body: LongBody) -> Any:
        """The request's body, as long as it is no longer than `most` bytes, has room, and does not take for ever."""
        count, end = 0, time.monotonic() + _BODY_WITHIN
        whole = False

        async def limited() -> Any:
            nonlocal count, whole
            if self._done or self._gone:
                return {"type": "http.disconnect"}
            if whole:
                return await receive()  # it tells when the client leaves
            try:
                async with asyncio.timeout(max(0.0, end - time.monotonic())):
                    message = await receive()
            except TimeoutError:
                raise HTTPException(408, f"the body took longer than {_BODY_WITHIN:g} seconds") from None
            if message["type"] == "http.request":
                count += len(message.get("body", b""))
                whole = not message.get("more_body", False)
                if count > most:
                    raise HTTPException(413, f"the body of this request has at most {most} bytes")
                body.grown(count)
            return message

        return limited

    async def send(self, message: Any) -> None:
        """The answer, with what every answer carries; that to a HEAD without its body (RFC 9110 §9.3.2)."""
        if message["type"] == "http.response.start":
            await self.start(message["status"], list(message["headers"]))
            return
        if self._head.method != "HEAD":
            await self._send(message)
        elif not self._done:
            self._done = True
            await self._send({"type": "http.response.body", "body": b""})

    async def start(self, status: int, headers: list[tuple[bytes, bytes]], *, granted: bool = False) -> None:
        """The answer's head; `granted`: it says already what pages of other origins may do."""
        names = {name.lower() for name, _ in headers}
        headers += [field for field in _USUAL if field[0] not in names]
        if status == 204:  # nothing is of no type
            headers = [field for field in headers if field[0].lower() != b"content-type"]
        if self._cross_origin.origins and not granted:
            headers = self._cross_origin.added_to(headers, self._head)
        await self._send({"type": "http.response.start", "status": status, "headers": headers})

    async def refuse(self, refusal: Refusal) -> None:
        """Answers a request whose body is not read; the connection ends with that."""
        reply = refusal_reply(refusal, self._head.method, self._head.get(b"accept"))
        headers = [*reply.headers, (b"connection", b"close")]
        await self.send({"type": "http.response.start", "status": reply.status, "headers": headers})
        await self.send({"type": "http.response.body", "body": reply.said})

"""The guard before the API, spoken to by messages: how much is read, and what every answer carries."""

from __future__ import annotations

import asyncio
import json
from typing import Any

import pytest
from fastapi import FastAPI, Request
from fastapi.responses import StreamingResponse

from invio.core.http.cors import CrossOrigin
from invio.delivery.offload import NO_FRONT
from invio.delivery.sending.errors import ClientGone
from invio.service import guard as module
from invio.service.guard import Guard
from invio.service.settings import LimitSettings

ORIGIN = "https://office.example"


def api() -> FastAPI:
    made = FastAPI()

    @made.post("/api/echo")
    async def echo(request: Request) -> dict[str, int]:
        return {"length": len(await request.body()), "cookies": len(request.cookies)}

    @made.get("/api/thing")
    async def thing() -> dict[str, str]:
        return {"is": "there"}

    @made.get("/api/pieces")
    async def pieces() -> StreamingResponse:
        return StreamingResponse(iter([b"a", b"b", b"c"]))

    @made.delete("/api/thing", status_code=204)
    async def remove() -> None:
        return None

    return made


class Exchange:
    """One request by ASGI's messages, and what came of it."""

    def __init__(self, method: str, path: str, *pieces: bytes, **fields: str) -> None:
        headers = [(name.replace("_", "-").encode(), value.encode()) for name, value in fields.items()]
        self.scope: Any = {
            "type": "http", "method": method, "path": path, "raw_path": path.encode(), "query_string": b"",
            "headers": headers, "client": ("192.0.2.7", 5), "server": ("127.0.0.1", 80), "scheme": "http",
        }  # fmt: skip
        self.pieces = list(pieces)
        self.sent: list[Any] = []
        self.waits = False
        self.held: asyncio.Event | None = None  # for what the pieces after the first one wait

    async def receive(self) -> Any:
        if self.held is not None and len(self.pieces) == 1:
            await self.held.wait()
        if self.pieces:
            piece = self.pieces.pop(0)
            return {"type": "http.request", "body": piece, "more_body": bool(self.pieces)}
        if self.waits:
            await asyncio.Event().wait()
        return {"type": "http.request", "body": b"", "more_body": False}

    async def send(self, message: Any) -> None:
        self.sent.append(message)

    async def through(self, guard: Guard) -> Exchange:
        await guard(self.scope["path"], self.scope, self.receive, self.send)
        return self

    @property
    def status(self) -> int:
        return int(self.sent[0]["status"])

    @property
    def fields(self) -> dict[str, str]:
        return {name.decode().lower(): value.decode() for name, value in self.sent[0]["headers"]}

    @property
    def body(self) -> bytes:
        return b"".join(message.get("body", b"") for message in self.sent[1:])


def guard(*origins: str, **limits: int) -> Guard:
    given = LimitSettings.model_validate({"body_bytes": 10, "selection_bytes": 20} | limits)
    return Guard(api(), CrossOrigin(frozenset(origins)), given, NO_FRONT)


def asked(exchange: Exchange, *origins: str) -> Exchange:
    return asyncio.run(exchange.through(guard(*origins)))


def test_a_body_that_says_that_it_is_too_long_is_not_read() -> None:
    got = asked(Exchange("POST", "/api/echo", b"x", content_length="11"))
    assert (got.status, got.fields["connection"]) == (413, "close")
    assert got.pieces == [b"x"]
    assert asked(Exchange("POST", "/api/echo", b"x", content_length="10")).status == 200
    assert asked(Exchange("POST", "/api/bundles", content_length="20")).status == 404, "a selection may be longer"
    assert asked(Exchange("POST", "/api/bundles", content_length="21")).status == 413


def test_a_body_that_says_nothing_is_read_as_far_as_it_may_be_long() -> None:
    assert json.loads(asked(Exchange("POST", "/api/echo", b"12345", b"67890")).body)["length"] == 10
    got = asked(Exchange("POST", "/api/echo", b"12345", b"67890", b"1", b"never read"))
    assert (got.status, got.pieces) == (413, [b"never read"])


def test_a_body_has_one_deadline(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(module, "_BODY_WITHIN", 0.01)
    waiting = Exchange("POST", "/api/echo")
    waiting.waits = True
    assert asked(waiting).status == 408


def test_a_file_that_is_put_is_read_by_whoever_takes_it() -> None:
    got = asked(Exchange("PUT", "/api/files/a", content_length="1000000000"))
    assert got.status == 404, "it reached the API"


def test_every_answer_is_kept_nowhere_and_taken_for_nothing_else() -> None:
    for exchange in (Exchange("GET", "/api/thing"), Exchange("GET", "/api/none"), Exchange("DELETE", "/api/thing")):
        fields = asked(exchange).fields
        assert (fields["cache-control"], fields["x-content-type-options"]) == ("no-store", "nosniff")
    assert "content-type" not in asked(Exchange("DELETE", "/api/thing")).fields


def test_a_head_is_a_get_without_its_body() -> None:
    get, head = asked(Exchange("GET", "/api/thing")), asked(Exchange("HEAD", "/api/thing"))
    assert (head.status, head.fields, head.body) == (200, get.fields, b"")
    pieces = Exchange("HEAD", "/api/pieces")
    pieces.waits = True
    assert asked(pieces).sent[1:] == [{"type": "http.response.body", "body": b""}], (
        "once, however many pieces there are"
    )


def test_long_bodies_one_after_another_are_as_many_as_anybody_likes() -> None:
    allowed = guard(body_bytes=100_000, selection_bytes=100_000)

    async def work() -> list[int]:
        return [(await Exchange("POST", "/api/echo", b"x" * 100_000).through(allowed)).status for _ in range(6)]

    assert asyncio.run(work()) == [200] * 6


def test_long_bodies_are_counted_by_where_they_come_from() -> None:
    allowed = guard(body_bytes=100_000, selection_bytes=100_000)

    def long_one(network: str) -> Exchange:
        one = Exchange("POST", "/api/echo", b"x" * 100_000, b"")
        one.scope["client"] = (network, 5)
        return one

    async def work() -> list[int]:
        endless = []
        for _ in range(4):
            one = long_one("192.0.2.7")
            one.held = asyncio.Event()
            endless.append(asyncio.ensure_future(one.through(allowed)))
        while allowed._bodies.held < 400_000:
            await asyncio.sleep(0)
        more = [await long_one(network).through(allowed) for network in ("192.0.2.7", "198.51.100.9")]
        for task in endless:
            task.cancel()
        return [one.status for one in more]

    assert asyncio.run(work()) == [503, 200]


def test_of_cookies_only_our_own_are_seen() -> None:
    cookies = "; ".join(['other="' + "\\" * 1000, "invio-device=d", "more=1"])
    assert json.loads(asked(Exchange("POST", "/api/echo", cookie=cookies)).body)["cookies"] == 1


def test_what_may_be_asked_of_a_path_is_told() -> None:
    got = asked(Exchange("OPTIONS", "/api/thing"))
    assert (got.status, got.fields["allow"]) == (204, "DELETE, GET, HEAD, OPTIONS")
    assert asked(Exchange("OPTIONS", "/api/none")).status == 404
    assert asked(Exchange("OPTIONS", "*")).fields["allow"] == "GET, HEAD, POST, PUT, DELETE, OPTIONS"


def test_pages_of_named_origins_may_ask_and_others_may_not() -> None:
    wish = {"origin": ORIGIN, "access_control_request_method": "POST"}
    got = asked(Exchange("OPTIONS", "/api/echo", **wish), ORIGIN)
    assert got.fields["access-control-allow-origin"] == ORIGIN
    assert got.fields["vary"] == "origin"
    assert "access-control-allow-origin" not in asked(Exchange("OPTIONS", "/api/echo", **wish)).fields
    assert asked(Exchange("GET", "/api/thing", origin=ORIGIN), ORIGIN).fields["access-control-allow-origin"] == ORIGIN
    stranger = asked(Exchange("GET", "/api/thing", origin="https://elsewhere.example"), ORIGIN)
    assert "access-control-allow-origin" not in stranger.fields


def test_a_client_that_has_left_is_nobodys_fault() -> None:
    class Left(Exchange):
        async def send(self, message: Any) -> None:
            self.sent.append(message)
            raise ClientGone("the client closed the connection")

    got = asked(Left("GET", "/api/thing"))
    assert len(got.sent) == 1, "nothing more is sent to it"

"""The routes of the API, from where they are noted to the application."""

from __future__ import annotations

import asyncio
from typing import Any

import pytest
from fastapi import FastAPI
from fastapi.routing import APIRoute

from invio.service.app import make_api
from invio.service.routes import Routes


def test_what_is_noted_becomes_the_applications_routes_in_its_order() -> None:
    routes, pages = Routes("things"), Routes(in_description=False)

    @routes.get("/api/things", summary="All of them")
    async def all_of_them() -> list[str]:
        return ["a"]

    @routes.delete("/api/things/{name}", status_code=204)
    async def remove(name: str) -> None:
        raise NotImplementedError

    @pages.post("/things")
    async def page() -> None:
        raise NotImplementedError

    api = FastAPI()
    routes.add_to(api)
    pages.add_to(api)
    made = [route for route in api.routes if isinstance(route, APIRoute)]
    assert [(route.path, route.methods, route.tags, route.endpoint) for route in made] == [
        ("/api/things", {"GET"}, ["things"], all_of_them),
        ("/api/things/{name}", {"DELETE"}, ["things"], remove),
        ("/things", {"POST"}, [], page),
    ]
    assert (made[0].summary, made[1].status_code) == ("All of them", 204)
    assert set(api.openapi()["paths"]) == {"/api/things", "/api/things/{name}"}


def test_no_route_is_left_to_be_made_when_a_request_comes(monkeypatch: pytest.MonkeyPatch) -> None:
    """All downloads of a process wait for what its event loop does."""
    api = make_api(None)
    made: list[Any] = []
    monkeypatch.setattr("fastapi.routing.get_dependant", lambda **given: made.append(given))
    scope = {
        "type": "http", "method": "POST", "path": "/no/such/page", "raw_path": b"/no/such/page", "query_string": b"",
        "headers": [], "client": ("192.0.2.7", 5), "server": ("127.0.0.1", 80), "scheme": "http", "root_path": "",
    }  # fmt: skip
    sent: list[Any] = []

    async def asked() -> None:
        async def receive() -> Any:
            return {"type": "http.request", "body": b"", "more_body": False}

        async def send(message: Any) -> None:
            sent.append(message)

        await api(scope, receive, send)

    asyncio.run(asked())
    assert sent[0]["status"] == 404
    assert made == []

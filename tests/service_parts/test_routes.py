"""The routes of the API, from where they are noted to the application."""

from __future__ import annotations

import asyncio
from typing import Any

import pytest
from fastapi import Depends, FastAPI, HTTPException
from fastapi.openapi.utils import get_openapi
from fastapi.routing import APIRoute

from invio.service.api import make_api
from invio.service.routes import LateRoute, Routes, framework_routes


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
    found = [route for route in framework_routes(api.routes) if isinstance(route, APIRoute)]
    assert [(route.path, route.methods, route.tags, route.endpoint) for route in found] == [
        ("/api/things", {"GET"}, ["things"], all_of_them),
        ("/api/things/{name}", {"DELETE"}, ["things"], remove),
        ("/things", {"POST"}, [], page),
    ]
    assert (found[0].summary, found[1].status_code) == ("All of them", 204)
    described = get_openapi(title="Things", version="1", routes=framework_routes(api.routes))
    assert set(described["paths"]) == {"/api/things", "/api/things/{name}"}


class Asking:
    """Requests to an application, each of which gives the status that it is answered with."""

    def __init__(self, api: FastAPI) -> None:
        self._api = api

    def __call__(self, method: str, path: str) -> int:
        return asyncio.run(self._asked(method, path))

    async def _asked(self, method: str, path: str) -> int:
        scope = {
            "type": "http", "method": method, "path": path, "raw_path": path.encode(), "query_string": b"",
            "headers": [], "client": ("192.0.2.7", 5), "server": ("127.0.0.1", 80), "scheme": "http", "root_path": "",
        }  # fmt: skip
        sent: list[Any] = []

        async def receive() -> Any:
            return {"type": "http.request", "body": b"", "more_body": False}

        async def send(message: Any) -> None:
            sent.append(message)

        await self._api(scope, receive, send)
        return int(sent[0]["status"])


@pytest.fixture
def made(monkeypatch: pytest.MonkeyPatch) -> list[str]:
    """The paths of the routes that the framework has made since."""
    paths: list[str] = []
    made = APIRoute.__init__

    def noted(route: APIRoute, path: str, *given: Any, **named: Any) -> None:
        paths.append(path)
        made(route, path, *given, **named)

    monkeypatch.setattr(APIRoute, "__init__", noted)
    return paths


def test_the_framework_makes_a_route_when_it_is_first_asked_for(made: list[str]) -> None:
    """All downloads of a process wait for what its event loop does, and its memory is theirs."""
    ask = Asking(make_api(None))
    assert len(made) == 1, "what the framework loads with a route is loaded with one"
    made.clear()
    assert (ask("GET", "/no/such/page"), made) == (404, [])
    assert (ask("GET", "/healthz"), made) == (200, ["/healthz"])
    assert (ask("GET", "/healthz"), ask("POST", "/healthz"), made) == (200, 405, ["/healthz"])


def test_what_all_requests_depend_on_is_asked_of_late_routes_too(made: list[str]) -> None:
    routes = Routes("things")

    @routes.get("/things")
    async def all_of_them() -> list[str]:
        return ["a"]

    def refused() -> None:
        raise HTTPException(418)

    api = FastAPI(dependencies=[Depends(refused)], generate_unique_id_function=lambda route: f"named-{route.path}")
    routes.add_to(api)
    assert Asking(api)("GET", "/things") == 418
    [route] = [one for one in api.routes if isinstance(one, LateRoute)]
    assert (route.methods, route.made.unique_id, made) == ({"GET"}, "named-/things", ["/things"])

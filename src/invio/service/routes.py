"""Routes: what a module of the API answers, noted where it stands, and made the framework's when it is first asked for.

To make one takes the framework milliseconds, and memory for as long as the process lives; there are a hundred of them,
and most processes deliver files and are never asked for any. Nor is a route made twice, as by a router of the
framework, which makes it where it stands and again for the application that it is part of.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from functools import cached_property
from typing import Any, TypeVar

from fastapi import APIRouter, FastAPI
from fastapi.routing import APIRoute
from starlette.routing import BaseRoute, Match, Route
from starlette.types import Receive, Scope, Send

Endpoint = TypeVar("Endpoint", bound=Callable[..., Any])


class Routes:
    """The routes of one module, by decorators as the framework's own; their options are the framework's."""

    def __init__(self, *tags: str, in_description: bool = True) -> None:
        """`tags` are what the API's description files them under; pages are not in it."""
        self._tags = tags
        self._in_description = in_description
        self._noted: list[_Noted] = []

    def get(self, path: str, **options: Any) -> Callable[[Endpoint], Endpoint]:
        """What answers GET, and HEAD without the body."""
        return self._noting("GET", path, options)

    def post(self, path: str, **options: Any) -> Callable[[Endpoint], Endpoint]:
        """What answers POST."""
        return self._noting("POST", path, options)

    def put(self, path: str, **options: Any) -> Callable[[Endpoint], Endpoint]:
        """What answers PUT."""
        return self._noting("PUT", path, options)

    def patch(self, path: str, **options: Any) -> Callable[[Endpoint], Endpoint]:
        """What answers PATCH."""
        return self._noting("PATCH", path, options)

    def delete(self, path: str, **options: Any) -> Callable[[Endpoint], Endpoint]:
        """What answers DELETE."""
        return self._noting("DELETE", path, options)

    def add_to(self, api: FastAPI) -> None:
        """Makes them routes of an application, in the order in which they were noted."""
        api.router.routes.extend(LateRoute(api.router, noted) for noted in self._noted)

    def _noting(self, method: str, path: str, options: dict[str, Any]) -> Callable[[Endpoint], Endpoint]:
        given = {"tags": list(self._tags), "include_in_schema": self._in_description, **options}

        def note(endpoint: Endpoint) -> Endpoint:
            self._noted.append(_Noted(method, path, endpoint, given))
            return endpoint

        return note


@dataclass(frozen=True)
class _Noted:
    """A route as a module notes it."""

    method: str
    path: str
    endpoint: Callable[..., Any]
    options: dict[str, Any]


class LateRoute(BaseRoute):
    """A route of an application's router, which is made when somebody first asks for its path."""

    def __init__(self, router: APIRouter, noted: _Noted) -> None:
        self._router = router
        self._noted = noted
        self._place = Route(noted.path, noted.endpoint)

    @cached_property
    def made(self) -> APIRoute:
        """The framework's route."""
        noted, router = self._noted, self._router
        return APIRoute(
            noted.path,
            noted.endpoint,
            methods=[noted.method],
            dependencies=router.dependencies,
            generate_unique_id_function=router.generate_unique_id_function,
            dependency_overrides_provider=router.dependency_overrides_provider,
            **noted.options,
        )

    @property
    def methods(self) -> set[str]:
        """What may be asked of its path, as the framework says it of its own routes."""
        return {self._noted.method}

    def matches(self, scope: Scope) -> tuple[Match, Scope]:
        """Whether it is for a request, as the framework asks."""
        match, _ = self._place.matches(scope)
        return (match, {}) if match is Match.NONE else self.made.matches(scope)

    async def handle(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Answers a request that it matches."""
        await self.made.handle(scope, receive, send)


def load_framework(routes: Iterable[BaseRoute]) -> None:
    """Has the framework load, at the start, what it loads when it makes the first of its routes."""
    next(route.made for route in routes if isinstance(route, LateRoute))


def framework_routes(routes: Iterable[BaseRoute]) -> list[BaseRoute]:
    """The routes of an application, all of them the framework's."""
    return [route.made if isinstance(route, LateRoute) else route for route in routes]

"""Routes: what a module of the API answers, noted where it stands, and made the framework's for the application.

A router of the framework makes each of its routes where it stands, and makes it again for the application that it is
part of. The second time is the first request to it, for which all downloads of the process had to wait.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

from fastapi import FastAPI

Endpoint = TypeVar("Endpoint", bound=Callable[..., Any])


class Routes:
    """The routes of one module, by decorators as the framework's own; their options are the framework's."""

    def __init__(self, *tags: str, in_description: bool = True) -> None:
        """`tags` are what the API's description files them under; pages are not in it."""
        self._tags = tags
        self._in_description = in_description
        self._noted: list[tuple[str, str, Callable[..., Any], dict[str, Any]]] = []

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
        for method, path, endpoint, options in self._noted:
            api.add_api_route(
                path,
                endpoint,
                methods=[method],
                tags=list(self._tags),
                include_in_schema=self._in_description,
                **options,
            )

    def _noting(self, method: str, path: str, options: dict[str, Any]) -> Callable[[Endpoint], Endpoint]:
        def note(endpoint: Endpoint) -> Endpoint:
            self._noted.append((method, path, endpoint, options))
            return endpoint

        return note

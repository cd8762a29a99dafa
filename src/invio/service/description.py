"""The delivery in the API's description: it is no FastAPI route, and belongs there all the same."""

from __future__ import annotations

from typing import Any

from fastapi import FastAPI
from fastapi.openapi.utils import get_openapi

from invio.core.reasons import REASONS
from invio.service.schemas import Problem

_QUERY = {
    "as": "`attachment` or `inline`",
    "name": "the file name offered to the person who saves it",
    "version": "a version of a file in a managed store",
    "key": "of a sealed link: the key's id; the rest of the link stands around it",
    "seal": "of a sealed link: the seal, last",
}


def described(api: FastAPI) -> None:
    """Makes the application's OpenAPI description name the delivery route as well."""

    def openapi() -> dict[str, Any]:
        if api.openapi_schema is None:
            document = get_openapi(title=api.title, version=api.version, description=api.description, routes=api.routes)
            document["paths"]["/get/{address}"] = {"get": _operation("get"), "head": _operation("head")}
            schemas = document.setdefault("components", {}).setdefault("schemas", {})
            schemas.setdefault("Problem", Problem.model_json_schema())
            schemas["Problem"]["properties"]["reason"]["enum"] = list(REASONS)
            schemes = document["components"].setdefault("securitySchemes", {})
            schemes["bearer"] = {"type": "http", "scheme": "bearer"}
            document["security"] = [{"bearer": []}, {}]
            api.openapi_schema = document
        return api.openapi_schema

    api.openapi = openapi  # type: ignore[method-assign]


def _operation(method: str) -> dict[str, Any]:
    problem = {"application/problem+json": {"schema": {"$ref": "#/components/schemas/Problem"}}}
    refusals = {
        str(status): {"description": title, "content": problem}
        for status, title in {
            400: "the link or address is malformed",
            401: "signing in would help",
            403: "not allowed, or the link is not valid",
            404: "no such file for this caller",
            410: "the link is over",
            412: "a precondition failed",
            416: "the range lies outside the file",
        }.items()
    }
    body = {"content": {"*/*": {"schema": {"type": "string", "format": "binary"}}}} if method == "get" else {}
    return {
        "tags": ["delivery"],
        "summary": "Get a file" if method == "get" else "Get a file's headers",
        "description": "By the caller's rights, or by the seal in the query. Answers ranges and preconditions.",
        "operationId": f"{method}_file",
        "parameters": [
            {
                "name": "address",
                "in": "path",
                "required": True,
                "description": "`store/path`; slashes stand as they are",
                "schema": {"type": "string"},
            },
            *(
                {"name": name, "in": "query", "description": text, "schema": {"type": "string"}}
                for name, text in _QUERY.items()
            ),
            {"name": "Range", "in": "header", "schema": {"type": "string"}},
        ],
        "responses": {
            "200": {"description": "the whole file", **body},
            "206": {"description": "the range asked for", **body},
            "304": {"description": "the file that the client has is still the one"},
            **refusals,
        },
    }

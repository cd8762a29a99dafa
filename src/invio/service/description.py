"""The API's description: OpenAPI, as client generators and readers want it.

The framework draws it up from the routes. Here each operation gets the name that a generated client's method has,
the refusals that it really sends, as problem details, and examples; and the delivery, which is no route, joins it.
"""

from __future__ import annotations

import json
from functools import lru_cache
from threading import Lock
from typing import Any

from fastapi import FastAPI, Request, Response
from fastapi.openapi.utils import get_openapi
from fastapi.routing import APIRoute
from starlette.concurrency import run_in_threadpool

from invio.core.reasons import REASONS
from invio.delivery.access.authentication import COOKIE
from invio.service.routes import framework_routes
from invio.service.schemas import Problem

# By the function of a route: what the operation is called, and the statuses of the refusals that it sends, besides
# those of everybody who is identified (_OF_ALL) and of everything with a body (_OF_BODIES).
_OPERATIONS: dict[str, tuple[str, tuple[int, ...]]] = {
    "list_files": ("list_files", (400, 404)),
    "file_facts": ("get_file_facts", (400, 404)),
    "put_file": ("put_file", (400, 403, 404, 405, 409, 412, 507)),
    "remove_file": ("remove_file", (400, 403, 404, 405, 412)),
    "file_versions": ("list_versions", (400, 404)),
    "renew_version": ("renew_version", (400, 403, 404, 412, 507)),
    "make_bundle": ("make_bundle", (403,)),
    "get_bundle": ("get_bundle", (400, 403, 404, 413)),
    "get_entries": ("list_bundle_entries", (400, 403, 404, 413)),
    "make_bundle_from_form": ("make_bundle_from_form", (403,)),
    "post_link": ("make_link", (403, 404)),
    "post_short_link": ("make_short_link", (403, 404, 409)),
    "list_links": ("list_links", (400, 403)),
    "delete_links": ("revoke_links_of", (400, 403)),
    "delete_link": ("revoke_link", (400, 403, 404)),
    "get_decision": ("explain_decision", (400, 403, 404)),
    "get_rules": ("get_rules", (403,)),
    "get_rules_file": ("get_rules_file", (403,)),
    "get_expectations": ("list_expectations", (403,)),
    "try_rules": ("try_rules", (403,)),
    "put_rules_file": ("put_rules_file", (403, 412)),
    "get_audience": ("list_audience", (400, 403, 404)),
    "get_access": ("get_access_matrix", (400, 403, 404)),
    "list_keys": ("list_keys", (403,)),
    "post_key": ("make_key", (403,)),
    "delete_key": ("retire_key", (400, 403, 404)),
    "explain_link": ("explain_link", ()),
    "get_recipient": ("get_recipient", (400, 403, 404)),
    "list_sessions": ("list_sessions", (400, 403, 404)),
    "delete_sessions": ("end_sessions", (400, 403, 404)),
    "get_history_summary": ("get_history_summary", (400,)),
    "get_transfer": ("get_transfer", (400, 404)),
    "end_transfer": ("end_transfer", (400, 404)),
    "get_receipt": ("get_receipt", (400, 404, 409)),
    "get_transfer_requests": ("get_transfer_requests", (400, 404)),
    "get_public_keys": ("get_public_keys", (400,)),
    "list_webhooks": ("list_webhooks", (403,)),
    "post_webhook": ("make_webhook", (403,)),
    "delete_webhook": ("remove_webhook", (400, 403, 404)),
    "post_trial": ("try_webhook", (400, 403, 404)),
    "list_deliveries": ("list_deliveries", (400, 403, 404)),
    "post_delivery": ("repeat_delivery", (400, 403, 404)),
    "get_service": ("get_service_state", (403,)),
    "list_recipients": ("list_recipients", (403,)),
    "put_recipient": ("save_recipient", (403, 412)),
    "patch_recipient": ("change_recipient", (403, 404)),
    "delete_recipient": ("remove_recipient", (400, 403, 404)),
    "post_token": ("make_token", (403, 404)),
    "delete_token": ("end_token", (400, 403, 404)),
    "put_password": ("set_password", (403, 404, 429)),
    "post_disable": ("disable_recipient", (400, 403, 404)),
    "post_enable": ("enable_recipient", (400, 403, 404)),
    "get_quotas": ("list_quotas", (400, 403, 404)),
    "post_grant": ("grant_quota", (403, 404)),
    "delete_quota": ("reset_quota", (400, 403, 404)),
    "get_history": ("get_history", (400,)),
    "list_transfers": ("list_transfers", (400,)),
    "stream_transfers": ("follow_transfers", (400, 429)),
    "follow": ("follow_download", (400, 403, 410, 429)),
    "sign_in": ("sign_in", (403, 429)),
    "current": ("get_own_identity", ()),
    "sign_out": ("sign_out", (403,)),
    "get_audit": ("list_audit_lines", (400, 403)),
    "healthz": ("get_health", ()),
    "readyz": ("get_readiness", ()),
}
_OF_ALL = (401, 503)
_OF_BODIES = (400, 408, 413)
_OPEN = ("get_health", "get_readiness")  # which identify nobody

_TAGS = {
    "delivery": "Files, by the caller's rights or by a sealed link.",
    "files": "What there is, and putting and removing it.",
    "bundles": "Selections as one archive.",
    "links": "Sealed links: made, listed, revoked.",
    "decisions": "Why somebody may, or may not, do something.",
    "rules": "The rules in force, and changing them. For administrators.",
    "keys": "The keys that seal links. For administrators.",
    "recipients": "Who may ask, and their tokens. For administrators.",
    "quotas": "How much may still be obtained.",
    "history": "What was obtained, and what was changed.",
    "transfers": "What is being delivered.",
    "sessions": "Signing in with a browser.",
    "operators": "Whether the service is well.",
}
_EXAMPLES: dict[str, Any] = {
    "address": "charts/approach/north-channel.pdf",
    "recipient": "pilot-7",
    "bundle_id": "R7B1fQyQ2Ww",
    "link": "invoice-7@pilot-7",
    "token": "816efb3cbe68",
    "rule": "pilots read charts",
    "in": "charts/approach/",
    "maker": "pilot-7",
    "as": "pilot-7",
}
_BODIES: dict[str, Any] = {
    "BundleAsk": {"files": ["charts/approach/", "notices/2026-04.txt"], "name": "approach.zip", "sums": True},
    "ShortLinkAsk": {"address": "charts/approach/north-channel.pdf", "as": "attachment"},
    "LinkAsk": {"address": "charts/approach/north-channel.pdf", "until": "2027-12-24T18:00Z", "to": "pilot-7"},
    "RecipientAsk": {"name": "Pilot boat 7", "groups": ["pilots"]},
    "RecipientChange": {"add_groups": ["pilots"], "remove_groups": ["trainees"]},
    "TokenAsk": {"label": "bridge computer", "seconds": 7_776_000},
    "PasswordAsk": {"password": "lantern on the pier"},
    "SignIn": {"token": "an access token"},
    "QuotaGrant": {"rule": "pilots read charts", "files": 50},
}
_QUERY = {
    "as": "`attachment` or `inline`",
    "name": "the file name offered to the person who saves it",
    "version": "a version of a file in a managed store",
    "key": "of a sealed link: the key's id; the rest of the link stands around it",
    "seal": "of a sealed link: the seal, last",
}
_ASKED = {
    "Range": "one range of bytes, or several",
    "If-Range": "the entity tag that a range is to be of; of another content the whole is sent",
    "If-None-Match": "entity tags that the client has; of one of them 304 is answered",
    "Want-Repr-Digest": "`sha-256=1` for the digest of the whole content",
}
_PUT_WITH = {
    "If-Match": "the entity tag of the content that is to be replaced",
    "If-None-Match": "`*`: only where there is no such file",
    "Content-Digest": "what arrives is compared with this (`sha-256=:…:`)",
}
_BYTES = {"application/octet-stream": {"schema": {"type": "string", "format": "binary"}}}
_PROBLEM = {"application/problem+json": {"schema": {"$ref": "#/components/schemas/Problem"}}}


def operation_id(route: APIRoute) -> str:
    """What the operation of a route is called, by which generated clients name their methods."""
    return _OPERATIONS[route.name][0] if route.include_in_schema else route.name


class Description:
    """An application's description of itself, for `api.openapi` and whoever requests it.

    It takes half a second to make, for which no download is to wait: it is made once, in a thread, when it is wanted.
    """

    def __init__(self, api: FastAPI) -> None:
        self._api = api
        self._making = Lock()
        self._text_below = lru_cache(maxsize=8)(self._text)

    def document(self) -> dict[str, Any]:
        """The description, as OpenAPI says it."""
        with self._making:
            if self._api.openapi_schema is None:
                self._api.openapi_schema = _document(self._api)
            return self._api.openapi_schema

    async def answer(self, request: Request) -> Response:
        """The description, with the path below which the service is."""
        root = request.scope.get("root_path", "").rstrip("/")
        return Response(await run_in_threadpool(self._text_below, root), media_type="application/json")

    def _text(self, root: str) -> bytes:
        document = self.document()
        if root:
            document = {**document, "servers": [{"url": root}]}
        return json.dumps(document, ensure_ascii=False, separators=(",", ":")).encode()


def described(api: FastAPI) -> None:
    """Makes the application describe itself so, at `/api/openapi.json`."""
    description = Description(api)
    api.openapi = description.document  # type: ignore[method-assign]
    api.add_route("/api/openapi.json", description.answer, include_in_schema=False)


def _document(api: FastAPI) -> dict[str, Any]:
    document = get_openapi(
        title=api.title,
        version=api.version,
        description=api.description,
        routes=framework_routes(api.routes),
        tags=[{"name": name, "description": said} for name, said in _TAGS.items()],
    )
    refusals = dict(_OPERATIONS.values())
    for path in document["paths"].values():
        for operation in path.values():
            _complete(operation, refusals[operation["operationId"]])
    document["paths"]["/get/{address}"] = {"get": _delivery("get"), "head": _delivery("head")}
    schemas = document.setdefault("components", {}).setdefault("schemas", {})
    for unused in ("HTTPValidationError", "ValidationError"):  # the framework's own refusals, which are never sent
        schemas.pop(unused, None)
    schemas["Problem"] = Problem.model_json_schema(ref_template="#/components/schemas/{model}")
    schemas.update(schemas["Problem"].pop("$defs", {}))
    schemas["Problem"]["properties"]["reason"]["enum"] = list(REASONS)
    for name, example in _BODIES.items():
        if name in schemas:
            schemas[name]["examples"] = [example]
    schemes = document["components"].setdefault("securitySchemes", {})
    schemes["bearer"] = {"type": "http", "scheme": "bearer", "description": "an access token"}
    schemes["session"] = {"type": "apiKey", "in": "cookie", "name": COOKIE, "description": "set by signing in"}
    document["security"] = [{"bearer": []}, {"session": []}, {}]
    return document


def _complete(operation: dict[str, Any], statuses: tuple[int, ...]) -> None:
    called, responses = operation["operationId"], operation["responses"]
    responses.pop("422", None)
    sent = set() if called in _OPEN else {*_OF_ALL, *statuses}
    if "requestBody" in operation:
        sent |= set(_OF_BODIES)
        if "*/*" in operation["requestBody"]["content"]:
            operation["requestBody"] = {"required": True, "content": _BYTES}
    for status in sorted(sent):
        responses[str(status)] = _refusal(status)
    for parameter in operation.get("parameters", ()):
        if parameter["name"] in _EXAMPLES:
            parameter["example"] = _EXAMPLES[parameter["name"]]
    if called == "put_file":
        operation["parameters"] += _headers(_PUT_WITH)
    if called == "make_bundle_from_form":
        responses["303"] = {"description": "to the archive", "headers": _LOCATION}
    if called == "get_history":
        text = {"schema": {"type": "string"}}
        responses["200"]["content"] = {"application/jsonl": text, "text/csv": text}


_LOCATION = {"Location": {"schema": {"type": "string"}}}


def _refusal(status: int) -> dict[str, Any]:
    words = [reason for reason in REASONS.values() if reason.status == status]
    said = "; or: ".join(f"{reason.title[0].lower()}{reason.title[1:]}" for reason in words[:4])
    refusal: dict[str, Any] = {"description": said, "content": _PROBLEM}
    if status in (429, 502, 503, 504):
        refusal["headers"] = {"Retry-After": {"description": "seconds", "schema": {"type": "integer"}}}
    return refusal


def _headers(named: dict[str, str]) -> list[dict[str, Any]]:
    return [
        {"name": name, "in": "header", "required": False, "description": said, "schema": {"type": "string"}}
        for name, said in named.items()
    ]


def _delivery(method: str) -> dict[str, Any]:
    body = {"content": _BYTES} if method == "get" else {}
    refusals = {str(status): _refusal(status) for status in (400, 401, 403, 404, 410, 412, 416, 429, 502, 503, 504)}
    return {
        "tags": ["delivery"],
        "summary": "Get a file" if method == "get" else "Get a file's headers",
        "description": "By the caller's rights, or by the seal in the query. Answers ranges and preconditions.",
        "operationId": "fetch_file" if method == "get" else "fetch_file_headers",
        "parameters": [
            {
                "name": "address",
                "in": "path",
                "required": True,
                "description": "`store/path`; slashes may stand as they are",
                "schema": {"type": "string"},
                "example": _EXAMPLES["address"],
            },
            *(
                {"name": name, "in": "query", "required": False, "description": text, "schema": {"type": "string"}}
                for name, text in _QUERY.items()
            ),
            *_headers(_ASKED),
        ],
        "responses": {
            "200": {"description": "the whole file", **body},
            "206": {"description": "the range asked for", **body},
            "304": {"description": "the file that the client has is still the one"},
            "307": {"description": "to where the file lies", "headers": _LOCATION},
            **refusals,
        },
    }

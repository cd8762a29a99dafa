"""Behind a front server: the path below which it offers the service, and the address that its clients see.

A front server may cut the path off before it passes a request on, or leave it; both are understood. From here on the
service is what ASGI calls mounted: `root_path` is that path, and everything that makes an address begins with it.
"""

from __future__ import annotations

from typing import Any
from urllib.parse import urlsplit

from starlette.requests import Request

from invio.core.http.request_head import RequestHead
from invio.delivery.offload import Front
from invio.service.settings import Settings


class Behind:
    """What is known of where requests come from: by the settings, or by a trusted front server at each request."""

    def __init__(self, settings: Settings, front: Front) -> None:
        self._public_url = settings.service.public_url
        self._prefix = urlsplit(self._public_url or "").path.rstrip("/")
        self._front = front

    @property
    def may_be_below(self) -> bool:
        """Whether a request may be for a path below which the service is offered."""
        return bool(self._prefix) or self._front.trusts_any

    def placed(self, scope: Any) -> Any:
        """The scope of a request, below its path where it has one."""
        client = scope.get("client")
        told = self._front.prefix(client[0] if client else None, RequestHead(scope["method"], scope["headers"]))
        prefix = told or self._prefix
        if not prefix or scope.get("root_path"):
            return scope
        path, raw = scope["path"], scope.get("raw_path") or scope["path"].encode()
        if not path.startswith(f"{prefix}/"):
            path, raw = prefix + path, prefix.encode() + raw
        return {**scope, "root_path": prefix, "path": path, "raw_path": raw}

    def base_of(self, request: Request) -> str:
        """What addresses for the client of a request begin with, without a slash at its end."""
        if self._public_url is not None:
            return self._public_url.rstrip("/")
        peer = request.client.host if request.client else None
        head = RequestHead(request.method, request.scope["headers"])
        scheme = self._front.scheme(peer, head)
        scheme = scheme if scheme in ("http", "https") else request.url.scheme
        host = self._front.host(peer, head) or request.url.netloc
        return f"{scheme}://{host}{request.scope.get('root_path', '')}"

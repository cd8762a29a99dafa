"""What other sites' pages may do with an answer: the Fetch standard's CORS, and `Cross-Origin-Resource-Policy`.

By default no other origin may read or embed. Allowed origins can also read the headers they need to show progress,
resume and verify.
"""

from __future__ import annotations

from dataclasses import dataclass

from invio.core.http.request_head import RequestHead

_EXPOSED = (
    "Accept-Ranges, Content-Digest, Content-Disposition, Content-Encoding, Content-Length, Content-Range, ETag, "
    "Last-Modified, Location, Repr-Digest, Retry-After"
)
_ASKED_WITH = (
    "Accept, Authorization, Content-Type, If-Match, If-Modified-Since, If-None-Match, If-Range, "
    "If-Unmodified-Since, Range, Want-Content-Digest, Want-Repr-Digest, "
    "Content-Digest, Repr-Digest, Last-Event-ID, Cache-Control"
)

_Headers = list[tuple[bytes, bytes]]


@dataclass(frozen=True, slots=True)
class CrossOrigin:
    """`origins` may read answers (`*`: any); with `credentials` they may do so with the session's cookie.

    `seconds` is how long a browser may remember a preflight; `resource_policy` is who may embed.
    """

    origins: frozenset[str] = frozenset()
    credentials: bool = False
    seconds: int = 600
    resource_policy: str = "same-origin"

    @property
    def vary(self) -> str:
        """What responses depend on, for `Vary`: one that names an origin does not fit another."""
        return "" if not self.origins or "*" in self.origins else "origin"

    def _allowed(self, origin: str | None) -> str | None:
        """What `Access-Control-Allow-Origin` says to this origin, if anything."""
        if origin is None:
            return None
        if "*" in self.origins:
            return "*"
        return origin if origin in self.origins else None

    def headers(self, head: RequestHead) -> _Headers:
        """The fields that an answer to this request carries besides its own."""
        allowed = self._allowed(head.get(b"origin")) if self.origins else None
        if allowed is None:
            return []
        return [*self._granted(allowed), (b"access-control-expose-headers", _EXPOSED.encode())]

    def added_to(self, fields: _Headers, head: RequestHead) -> _Headers:
        """The response fields, with those this request's origin needs, and `Vary`."""
        vary = self.vary
        if vary:
            there = [value.decode("latin-1") for name, value in fields if name == b"vary"]
            if not any(vary in value for value in there):
                fields = [field for field in fields if field[0] != b"vary"]
                fields.append((b"vary", ", ".join([*there, vary]).encode("latin-1")))
        return [*fields, *self.headers(head)]

    def preflight(self, head: RequestHead, methods: str) -> _Headers:
        """The fields that answer a browser's question whether it may ask; `methods` are those there are."""
        allowed = self._allowed(head.get(b"origin")) if self.origins else None
        if allowed is None or b"access-control-request-method" not in head:
            return []
        return [
            *self._granted(allowed),
            (b"access-control-allow-methods", methods.encode()),
            (b"access-control-allow-headers", _ASKED_WITH.encode()),
            (b"access-control-max-age", b"%d" % self.seconds),
        ]

    def _granted(self, allowed: str) -> _Headers:
        fields = [(b"access-control-allow-origin", allowed.encode("latin-1"))]
        if self.credentials:
            fields.append((b"access-control-allow-credentials", b"true"))
        return fields


SAME_ORIGIN = CrossOrigin()

"""What the responses have in common: each plans its reply when the request is known, and sends it.

Ranges, conditions, names, codings and breaking off altered files are as everywhere. Under `invio.ZeroCopyProtocol`
files leave without being read. A method other than GET and HEAD, as of a form that asks for an export, gets the whole
content: ranges and conditions are of those two alone (RFC 9110 §13.1, §14.2).
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from typing import Any

from starlette.background import BackgroundTask
from starlette.responses import Response

from invio.core.http.caching import read_cache_control
from invio.core.http.media_types import read_media_type
from invio.core.http.replies import Reply, Representation, plan
from invio.core.http.request_head import RequestHead
from invio.core.reasons import Refusal
from invio.core.rules.terms import Terms
from invio.core.throttle import Throttle
from invio.delivery.problem_details import Pages, refusal_reply
from invio.delivery.replies.account import Account, OnEnd, OnProgress
from invio.delivery.sending.errors import ClientGone, ProducerFailed, ReplyBroken
from invio.delivery.sending.senders import Sender

_PAGES = Pages(sign_in=None)  # a route's application has its own
_CONTROL = re.compile(rb"[\x00-\x08\x0a-\x1f\x7f]")  # no tab: a value may hold one (RFC 9110 §5.5)
_IDLE = 60.0  # seconds for which a reader may take nothing
_NOT_OF_OTHER_METHODS = (
    b"range",
    b"if-range",
    b"if-match",
    b"if-none-match",
    b"if-modified-since",
    b"if-unmodified-since",
)


class RouteReply(Response):
    """A response whose body is planned for the request it answers."""

    def __init__(  # noqa: PLR0917
        self,
        disposition: str,
        cache: str | None,
        speed: int | None,
        headers: Mapping[str, str] | None,
        background: BackgroundTask | None,
        status_code: int,
        on_progress: OnProgress | None,
        on_end: OnEnd | None,
    ) -> None:
        if disposition not in ("attachment", "inline"):
            raise ValueError(f"disposition is {disposition!r}; expected 'attachment' or 'inline'")
        if speed is not None and (type(speed) is not int or speed < 1):
            raise ValueError(f"speed is {speed!r}; expected bytes a second, a whole number of 1 or more")
        for called, function in (("on_progress", on_progress), ("on_end", on_end)):
            if function is not None and not callable(function):
                raise TypeError(f"{called} is {type(function).__name__}; expected a function")
        super().__init__(status_code=status_code, headers=headers, background=background)
        _require_fields(self.raw_headers)
        self._on_progress, self._on_end = on_progress, on_end
        self._terms = Terms(speed, disposition, None if cache is None else read_cache_control(cache))

    async def represent(self, head: RequestHead) -> Representation:
        """The representation to deliver. Raises Refusal."""
        raise NotImplementedError

    async def begin(self) -> None:
        """Prepares the body. The application answers what it raises."""

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        """Answers one request, as the framework has a response do."""
        head = self._head(scope)
        sender = Sender(scope, receive, send, _IDLE)
        try:
            reply = plan(head, await self.represent(head))
            if self._terms.speed is not None:
                sender.limit([Throttle(self._terms.speed)])
        except Refusal as refusal:
            reply = refusal_reply(refusal, head.method, head.get(b"accept"), pages=_PAGES)
        else:
            if reply.parts:
                await self.begin()
        account = Account(self._on_progress, self._on_end, sender, reply)
        try:
            account.begin()
            await sender.send(self._with_own_fields(reply))
            account.arrives()
        except ClientGone:
            account.end("the client went away")
        except ReplyBroken as error:
            account.end(str(error))
            if not sender.untouched:
                raise
            said = Refusal("changed", str(error))
            if isinstance(error, ProducerFailed):
                said = Refusal("not-made", "the content could not be produced; the log says why")
            await sender.send(refusal_reply(said, head.method, head.get(b"accept"), pages=_PAGES))
        if self.background is not None:
            await self.background()

    def _head(self, scope: Any) -> RequestHead:
        """The request's head; where ranges and conditions do not apply, as that of a plain GET."""
        if scope["method"] in ("GET", "HEAD") and self.status_code == 200:
            return RequestHead(scope["method"], scope["headers"])
        method = "HEAD" if scope["method"] == "HEAD" else "GET"
        return RequestHead(method, [field for field in scope["headers"] if field[0] not in _NOT_OF_OTHER_METHODS])

    def _with_own_fields(self, reply: Reply) -> Reply:
        """The reply with what the route, or its dependencies, set on this response."""
        status = self.status_code if reply.status == 200 else reply.status
        own = [field for field in self.raw_headers if field[0] not in (b"content-length", b"content-type")]
        if not own and status == reply.status:
            return reply
        _require_fields(own)
        names = {name for name, _ in own if name != b"set-cookie"}
        kept = [field for field in reply.headers if field[0] not in names]
        return Reply(status, [*kept, *own], reply.parts, reply.length, reply.spans)


def written_media_type(written: object) -> tuple[str, str | None]:
    """The type, and the charset if there is one, of an argument `media_type`. Raises TypeError, ValueError."""
    require_text("media_type", written)
    return read_media_type(str(written))


def _require_fields(fields: Iterable[tuple[bytes, bytes]]) -> None:
    """Raises ValueError: a header's value holds a control character, so that it could begin another one."""
    for name, value in fields:
        if _CONTROL.search(name) or _CONTROL.search(value):
            raise ValueError(f"the header {name.decode('latin-1')!r} holds a line end or another control character")


def require_text(name: str, value: object) -> None:
    """Raises TypeError, unless an argument is a text or was not given."""
    if value is not None and not isinstance(value, str):
        raise TypeError(f"{name} is {type(value).__name__}; expected a text")

"""Mounting: the whole delivery inside one's own application, which decides by its own function.

`invio.mount(app, "/files", settings, authorize=may)` gives the application, below that path, what a
service has: `get/…` with sealed links and bundles, `api/files`, `api/bundles`, `api/transfers`. The
function stands in the place of the rules, and nothing else does.
"""

from __future__ import annotations

import asyncio
import inspect
from collections.abc import AsyncIterator, Awaitable, Callable, Collection, Mapping
from contextlib import asynccontextmanager, suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, cast

from anyio import from_thread
from starlette.applications import Starlette
from starlette.concurrency import run_in_threadpool
from starlette.requests import Request

from invio.core.addresses import Address
from invio.core.caching import read_cache_control
from invio.core.files import Caller, FileFacts
from invio.core.quotas import Quota
from invio.core.request_head import RequestHead
from invio.core.rules import Decision, Reason
from invio.core.terms import NO_TERMS, Terms
from invio.service.app import Service
from invio.service.assembly import Parts, assemble
from invio.service.settings import Settings, read_settings, settings_of


@dataclass(frozen=True, slots=True)
class Allowed:
    """A yes that says how: `speed` in bytes a second, `disposition`, `cache` as in Cache-Control."""

    speed: int | None = None
    disposition: str | None = None
    cache: str | None = None

    def terms(self) -> Terms:
        cache = None if self.cache is None else read_cache_control(self.cache)
        return Terms(self.speed, self.disposition, cache)


Answer = bool | Allowed | None
Authorize = Callable[[Request, str, str], Answer | Awaitable[Answer]]
WhoIs = Callable[[Request], str | Awaitable[str | None] | None]


@dataclass(slots=True, eq=False)
class _Context:
    """A request of the application, and what its function has answered for it."""

    request: Request
    answers: dict[tuple[str, str], Answer] = field(default_factory=dict)


class _AppIdentifier:
    """Asks the application who is asking."""

    def __init__(self, recipient: WhoIs | None) -> None:
        self._recipient = recipient

    async def identify(self, head: RequestHead, network: str | None, scope: Any) -> Caller:
        """The caller, whose context is the application's own request."""
        request = Request(scope)
        name = None
        if self._recipient is not None:
            said = self._recipient(request)
            name = await said if inspect.isawaitable(said) else said
        agent = head.get(b"user-agent") or ""
        return Caller(None if name is None else str(name), frozenset(), network, agent, context=_Context(request))

    def known(self, head: RequestHead, network: str | None) -> Caller | None:
        """Nobody: the application is asked each time."""
        return None

    def forget(self, secret: str) -> None:
        """There are no sessions of ours."""

    def forget_all(self) -> None:
        """Nobody is remembered."""


class _AppDecider:
    """Decides by the application's function; each question is asked once a request."""

    looks_at_files = False
    has_reasons = sure_below = has_quotas = False

    def __init__(self, authorize: Authorize) -> None:
        self._authorize = authorize

    async def ask_ahead(self, caller: Caller, action: str, address: Address) -> None:
        answers = _context(caller).answers
        # What is refused is told apart by whether the caller may know that it is there.
        for asked in (action, "list"):
            if (asked, str(address)) not in answers:
                said = self._authorize(_context(caller).request, asked, str(address))
                answers[asked, str(address)] = await said if inspect.isawaitable(said) else said
            if answers[asked, str(address)]:
                return

    def allows(self, caller: Caller, action: str, address: Address, facts: FileFacts | None = None) -> bool:
        return bool(self._answer(caller, action, address))

    def ruling(self, caller: Caller, action: str, address: Address, facts: FileFacts | None = None) -> tuple[bool, str]:
        return self.allows(caller, action, address), "application"

    def terms(self, caller: Caller, action: str, address: Address, facts: FileFacts | None = None) -> Terms:
        answer = self._answer(caller, action, address)
        return answer.terms() if isinstance(answer, Allowed) else NO_TERMS

    def quotas_named(self, names: Collection[str], address: Address) -> tuple[Quota, ...]:
        return ()

    def may_enter(self, caller: Caller, folder: Address) -> bool:
        return self.allows(caller, "list", folder)

    def allows_below(self, caller: Caller, action: str, folder: Address) -> bool:
        return self.allows(caller, action, folder)

    def explain(self, caller: Caller, action: str, address: Address, facts: FileFacts | None = None) -> Decision:
        allowed = self.allows(caller, action, address)
        effect = "allow" if allowed else "deny"
        return Decision(allowed, (Reason("the application", 0, effect, True, "its own function says so"),))

    def _answer(self, caller: Caller, action: str, address: Address) -> Answer:
        answers = _context(caller).answers
        key = (action, str(address))
        if key not in answers:
            if inspect.iscoroutinefunction(self._authorize):
                # Listings and archives are made in worker threads, and the function runs on the loop.
                from_thread.run(self.ask_ahead, caller, action, address)
            else:
                answers[key] = cast(Answer, self._authorize(_context(caller).request, action, str(address)))
        return answers[key]


def _context(caller: Caller) -> _Context:
    assert isinstance(caller.context, _Context)
    return caller.context


def mount(
    app: Starlette,
    path: str,
    settings: Settings | Mapping[str, Any] | str | Path,
    *,
    authorize: Authorize,
    recipient: WhoIs | None = None,
) -> Parts:
    """Puts the delivery of `settings`' stores inside `app`, below `path` (as in `/files`).

    `settings` are those of a service: a file, or the same as a mapping. Its rules are not read:
    `authorize(request, action, address)` says whether this may be done; it gives True, False, or
    `Allowed(…)`, plainly or as a coroutine, and may raise the application's own HTTPException.
    Actions are `list`, `read` and `bundle`, and where the settings have stores that take files, `put` and
    `manage` (remove); the address of a folder ends in `/`. `recipient(request)`
    tells who is asking, for the records, speed limits and bundles of one's own; without it, callers
    are told apart by where they come from.

    Sealed links work when the settings' key file is there. To be called before the application runs.

    Raises:
        BadSettings, BadKeyFile: with what is wrong and where.
    """
    read = settings if isinstance(settings, Settings) else _read(settings)
    parts = assemble(read, _AppDecider(authorize), _AppIdentifier(recipient))
    app.mount(path, Service(parts, mounted=True))
    surrounding = app.router.lifespan_context

    @asynccontextmanager
    async def lifespan(inside: Any) -> AsyncIterator[Any]:
        async with surrounding(inside) as state:
            noting = asyncio.create_task(parts.transfers.note_progress())
            try:
                yield state
            finally:
                noting.cancel()
                with suppress(asyncio.CancelledError):
                    await noting
                parts.delivery.stop()
                await run_in_threadpool(parts.close)

    app.router.lifespan_context = lifespan
    return parts


def _read(settings: Mapping[str, Any] | str | Path) -> Settings:
    return settings_of(settings) if isinstance(settings, Mapping) else read_settings(settings)

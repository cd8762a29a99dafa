"""Mounting: the whole delivery inside one's own application, which decides by its own function.

`invio.mount(app, "/files", settings, authorize=may)` gives the application, below that path, what a
service has: `get/…` with sealed links and bundles, `api/files`, `api/bundles`, `api/transfers`. The
function stands in the place of the rules, and nothing else does.
"""

from __future__ import annotations

import asyncio
import inspect
from collections.abc import AsyncIterator, Awaitable, Callable, Collection, Iterable, Mapping, Sequence
from contextlib import asynccontextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any
from urllib.parse import quote, urlencode

from fastapi import Depends, FastAPI, Response
from fastapi.params import Depends as Dependency
from starlette.applications import Starlette
from starlette.concurrency import run_in_threadpool
from starlette.requests import Request

from invio.core.addresses import Address, parse_address, quoted
from invio.core.files import Caller, FileFacts
from invio.core.http.caching import read_cache_control
from invio.core.http.request_head import RequestHead
from invio.core.reasons import Refusal
from invio.core.rules.decisions import Decision, Reason
from invio.core.rules.quotas import Quota
from invio.core.rules.terms import NO_TERMS, Terms
from invio.records.rows import RUNNING
from invio.service.api import APPLICATION
from invio.service.app import Service
from invio.service.assembly import Parts, assemble
from invio.service.deciding import Key, work_at_hand
from invio.service.link_maker import LinkMaker, Value
from invio.service.running import running
from invio.service.settings import Settings, read_settings, settings_of


@dataclass(frozen=True, slots=True)
class Allowed:
    """A yes that says how: `speed` in bytes a second, `disposition`, `cache` as in Cache-Control."""

    speed: int | None = None
    disposition: str | None = None
    cache: str | None = None

    def terms(self) -> Terms:
        """The same as the terms of a decision by rules."""
        cache = None if self.cache is None else read_cache_control(self.cache)
        return Terms(self.speed, self.disposition, cache)


Answer = bool | Allowed | None
Authorize = Callable[[Request, str, str], Answer | Awaitable[Answer]]
WhoIs = Callable[[Request], str | Awaitable[str | None] | None]

_Question = tuple[str, str]  # what somebody wants to do, and the address
_AT_ONCE = 8  # questions to a function that is awaited
_LONGEST = 30.0  # seconds that a thread waits for what it answers

_RECIPIENT = "invio.recipient"  # in the scope of a request: what the application's dependency said of who asks
_METHODS = ["GET", "HEAD", "OPTIONS", "POST", "PUT", "PATCH", "DELETE"]


@dataclass(slots=True, eq=False)
class _Context:
    """A request of the application, and what its function has answered for it."""

    request: Request
    answers: dict[_Question, Answer] = field(default_factory=dict)


class _AppIdentifier:
    """Asks the application who is asking."""

    def __init__(self, recipient: WhoIs | Dependency | None) -> None:
        self._recipient = recipient

    async def identify(self, head: RequestHead, network: str | None, scope: Any) -> Caller:
        """The caller, whose context is the application's own request."""
        request = Request(scope)
        name = None
        if isinstance(self._recipient, Dependency):
            name = scope[_RECIPIENT]
        elif self._recipient is not None:
            said = self._recipient(request)
            name = await said if inspect.isawaitable(said) else said
        agent = head.get(b"user-agent") or ""
        # Nobody is called "": it is what is found where no name was sent, and all who send none are not one person.
        recipient = None if name is None else str(name) or None
        return Caller(recipient, frozenset(), network, agent, context=_Context(request))

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

    def __init__(self, authorize: Authorize, loop: asyncio.AbstractEventLoop) -> None:
        """`loop` is where the application runs, and its function with it."""
        self._authorize = authorize
        self._loop = loop
        # Whether what the function gives has to be awaited.
        self._awaits = inspect.iscoroutinefunction(authorize)

    async def prefetch(self, caller: Caller, action: str, address: Address) -> None:
        # What is refused is told apart by whether the caller may know that it is there.
        for asked in (action, "list"):
            if await self._ask(_context(caller), (asked, str(address))):
                return

    def allows(self, caller: Caller, action: str, address: Address, facts: FileFacts | None = None) -> bool:
        return bool(self._answer(caller, action, address))

    def decide_with_rules(
        self, caller: Caller, action: str, address: Address, facts: FileFacts | None = None
    ) -> tuple[bool, str]:
        return self.allows(caller, action, address), "application"

    def terms(self, caller: Caller, action: str, address: Address, facts: FileFacts | None = None) -> Terms:
        answer = self._answer(caller, action, address)
        return answer.terms() if isinstance(answer, Allowed) else NO_TERMS

    def quotas_named(self, names: Collection[str], address: Address) -> tuple[Quota, ...]:
        return ()

    def reached_by(self, caller: Caller, action: str) -> frozenset[str] | None:
        """Perhaps in any: only the application knows."""
        return None

    def administers(self, caller: Caller) -> bool:
        """Nobody: the application administers itself."""
        return False

    def may_enter(self, caller: Caller, folder: Address) -> bool:
        return self.allows(caller, "list", folder)

    def allows_below(self, caller: Caller, action: str, folder: Address) -> bool:
        return self.allows(caller, action, folder)

    def explain(self, caller: Caller, action: str, address: Address, facts: FileFacts | None = None) -> Decision:
        allowed = self.allows(caller, action, address)
        effect = "allow" if allowed else "deny"
        return Decision(
            allowed, (Reason("the application", 0, effect, spoke=True, because="its own function says so"),)
        )

    def _answer(self, caller: Caller, action: str, address: Address) -> Answer:
        context, key = _context(caller), (action, str(address))
        if key in context.answers:
            return context.answers[key]
        said = None if self._awaits else self._authorize(context.request, *key)
        if inspect.isawaitable(said):
            self._awaits = True  # whatever it looks like: a lambda, or an object that is called
            if inspect.iscoroutine(said):
                said.close()
        if self._awaits:
            if _on_a_loop():
                return False  # the function runs here: whoever waited here for it would do so for ever
            if (work := work_at_hand()) is not None:
                work.note((context, key), self)
                return False
            return self._asked_by_thread(context, key)
        context.answers[key] = _checked(said, *key)
        return context.answers[key]

    def _asked_by_thread(self, context: _Context, question: _Question) -> Answer:
        """For a thread that plans: what the function gives on the loop. Raises Refusal (`busy`): it takes too long."""
        asked = asyncio.run_coroutine_threadsafe(self._ask(context, question), self._loop)
        try:
            return asked.result(_LONGEST)
        except TimeoutError:
            if asked.done():
                raise  # the function's own
            asked.cancel()
            action, address = question
            raise Refusal(
                "busy", f"the application did not decide within {_LONGEST:g} seconds about {action!r} of {address}; "
                "try again later", retry_after=5,
            ) from None  # fmt: skip

    async def ask_all(self, about: _Context, questions: Sequence[_Question]) -> dict[Key, Answer]:
        """The answers to questions for one request, some at a time."""
        for at in range(0, len(questions), _AT_ONCE):
            await asyncio.gather(*(self._ask(about, question) for question in questions[at : at + _AT_ONCE]))
        return {(about, question): about.answers[question] for question in questions}

    async def _ask(self, context: _Context, question: _Question) -> Answer:
        if question not in context.answers:
            said = self._authorize(context.request, *question)
            if inspect.isawaitable(said):
                self._awaits, said = True, await said
            context.answers[question] = _checked(said, *question)
        return context.answers[question]


def _checked(said: object, action: str, address: str) -> Answer:
    """What the application's function gave; a response, or anything else that is merely true, allows nothing."""
    if said is None or isinstance(said, bool | Allowed):
        return said
    gave = f"authorize gave {type(said).__name__} for {action!r} of {address}"
    raise TypeError(f"{gave}; expected True, False or invio.Allowed")


def _on_a_loop() -> bool:
    try:
        asyncio.get_running_loop()
    except RuntimeError:
        return False
    return True


def _context(caller: Caller) -> _Context:
    assert isinstance(caller.context, _Context)
    return caller.context


class Mounted:
    """The delivery inside an application, from the application's start to its end; it may be started again.

    What `mount` gives. `allows` decides as the delivery does, `url` and `link` are for templates, `progress` follows a
    download. It is an ASGI application itself; `parts` is what it consists of while it runs.
    """

    starts_eagerly = False

    def __init__(
        self, settings: Settings, authorize: Authorize, recipient: WhoIs | Dependency | None, path: str = ""
    ) -> None:
        self._settings = settings
        self._path = path.rstrip("/")
        self._authorize = authorize
        self._recipient = recipient
        self._parts: Parts | None = None
        self._maker: LinkMaker | None = None
        self._service: Service | None = None

    def __repr__(self) -> str:
        return f"<invio delivery of {', '.join(self._settings.stores)}>"

    @property
    def parts(self) -> Parts:
        """What the delivery consists of. Raises RuntimeError while the application does not run."""
        if self._parts is None:
            raise RuntimeError(
                "the mounted delivery runs only while the application's lifespan does; start the lifespan first"
            )
        return self._parts

    async def allows(self, request: Request, action: str, address: str) -> bool:
        """Whether somebody may do something (`list`, `read`, `bundle`, …), by the application's own function.

        Raises:
            ValueError: the address is not well formed; and what the application's function raises.
        """
        where = parse_address(address)
        caller = Caller(context=_Context(request))
        await self.parts.rules.prefetch(caller, action, where)
        return self.parts.rules.allows(caller, action, where)

    def url(self, address: str, *, request: Request | None = None, **presentation: str | int) -> str:
        """Where a file is had, for those who may: below the path that it is mounted at.

        `presentation` are `as_` (`inline`, `attachment`), `name`, `version` and `rendition`. With a `request`, the path
        that the application itself is offered below comes first. Raises ValueError.
        """
        return self._placed(f"/get/{quoted(parse_address(address))}", request, presentation)

    def link(self, address: str, *, request: Request | None = None, **terms: Value | Iterable[str]) -> str:
        """A sealed link for a file, with the settings' key file; its terms are as of `invio.LinkMaker.link`.

        Raises:
            BadKeyFile: the settings have no key file that can be read.
            ValueError: a term is not what the format allows.
        """
        if self._maker is None:
            self._maker = LinkMaker(self._settings.path(self._settings.service.keys))
        return self._placed(self._maker.link(address, **terms), request, {})

    async def progress(self, tag: str) -> AsyncIterator[dict[str, Any]]:
        """How the download goes that links call by a `tag`: each state as `/api/transfers` shows it, to its end.

        The present state comes first, once there is one. In all processes that serve from the same records.
        """
        with self.parts.feed.watching(tag) as watcher:
            await self.parts.feed.begun()
            changes = [change for change in self.parts.feed.running() if change.row.tag == tag]
            while not self.parts.stopping():
                for change in changes:
                    yield change.shown
                    if change.shown["state"] != RUNNING:
                        return
                await watcher.wait()
                changes = watcher.take()

    def _placed(self, target: str, request: Request | None, query: Mapping[str, str | int]) -> str:
        root = "" if request is None else str(request.scope.get("app_root_path", request.scope.get("root_path", "")))
        given = urlencode({name.rstrip("_"): value for name, value in query.items()}, quote_via=quote)
        return f"{root}{self._path}{target}{'?' if given else ''}{given}"

    @asynccontextmanager
    async def running(self) -> AsyncIterator[None]:
        """Opens the records, delivers, and closes them: what the application's lifespan has to last for."""
        if self._parts is not None:
            raise RuntimeError("the mounted delivery is running already")
        decider = _AppDecider(self._authorize, asyncio.get_running_loop())
        identifier = _AppIdentifier(self._recipient)
        parts = await run_in_threadpool(assemble, self._settings, decider, identifier)
        self._parts, self._service = parts, Service(parts, mounted=True)
        try:
            async with running(parts):
                yield
        finally:
            self._parts = self._service = None

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        """Answers one request below the place where this is mounted."""
        if self._service is None:
            raise RuntimeError("the mounted delivery is not running; start the server with the lifespan on")
        scope[APPLICATION] = scope.get("app")
        await self._service(scope, receive, send)


class _Onward(Response):
    """Lets the delivery answer, once FastAPI has seen to the application's dependencies."""

    def __init__(self, mounted: Mounted, path: str, who: object) -> None:
        super().__init__()
        self._mounted, self._path, self._who = mounted, path, who

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        root = scope.get("root_path", "")
        below = {"root_path": root + self._path, "app_root_path": scope.get("app_root_path", root), "path_params": {}}
        await self._mounted({**scope, **below, _RECIPIENT: self._who}, receive, send)


def _nobody() -> None:
    """Who asks, where no dependency tells."""


def _add_route(app: FastAPI, path: str, mounted: Mounted, dependencies: Sequence[Dependency], who: Dependency) -> None:
    """A route of the application itself: its dependencies hold, their overrides and its handlers, too."""

    async def onward(said: Any = who) -> Response:
        return _Onward(mounted, path, said)

    app.router.add_api_route(
        path + "/{below:path}",
        onward,
        methods=_METHODS,
        dependencies=list(dependencies),
        include_in_schema=False,
        response_model=None,
    )


def mount(
    app: Starlette,
    path: str,
    settings: Settings | Mapping[str, Any] | str | Path,
    *,
    authorize: Authorize,
    recipient: WhoIs | Dependency | None = None,
    dependencies: Sequence[Dependency] = (),
) -> Mounted:
    """Puts the delivery of `settings`' stores inside `app`, below `path` (as in `/files`).

    `settings` are those of a service: a file, or the same as a mapping. Its rules are not read:
    `authorize(request, action, address)` says whether this may be done; it gives True, False, or
    `Allowed(…)`, plainly or as a coroutine, and may raise the application's own HTTPException.
    Actions are `list`, `read` and `bundle`, and where the settings have stores that take files, `put` and
    `manage` (remove); the address of a folder ends in `/`. `recipient(request)`
    tells who is asking, for the records, speed limits and bundles of one's own; without it, callers
    are told apart by where they come from. It may be a FastAPI dependency, `Depends(…)`, that gives the name.
    `dependencies` are asked before anything is delivered, and so are those that the application has for all its
    routes: what they raise refuses the request, links included.

    Sealed links work when the settings' key file is there. The records are opened when the application starts and
    closed when it ends; it may be started any number of times. To be called before the application runs.

    Raises:
        BadSettings: with what is wrong and where.
        TypeError: an argument is not of its kind, or dependencies are given for what is no FastAPI application.
    """
    if not callable(authorize):
        raise TypeError(f"authorize is {type(authorize).__name__}; expected a function of request, action and address")
    if recipient is not None and not callable(recipient) and not isinstance(recipient, Dependency):
        raise TypeError(f"recipient is {type(recipient).__name__}; expected a function of the request, or Depends(…)")
    if not isinstance(app, FastAPI) and (dependencies or isinstance(recipient, Dependency)):
        raise TypeError(f"dependencies are FastAPI's, and {app!r} is no FastAPI application")
    read = settings if isinstance(settings, Settings) else _read(settings)
    mounted = Mounted(read, authorize, recipient, path)
    if isinstance(app, FastAPI) and (dependencies or app.router.dependencies or isinstance(recipient, Dependency)):
        who = recipient if isinstance(recipient, Dependency) else Depends(_nobody)
        _add_route(app, path.rstrip("/"), mounted, dependencies, who)
    else:
        app.mount(path, mounted)
    surrounding = app.router.lifespan_context

    @asynccontextmanager
    async def lifespan(inside: Any) -> AsyncIterator[Any]:
        async with surrounding(inside) as state, mounted.running():
            yield state

    app.router.lifespan_context = lifespan
    return mounted


def _read(settings: Mapping[str, Any] | str | Path) -> Settings:
    return settings_of(settings) if isinstance(settings, Mapping) else read_settings(settings)

"""The API that is loaded when something is first asked of it."""

from __future__ import annotations

import asyncio
import errno
import gc
import json
import time
from types import SimpleNamespace
from typing import Any

import pytest

from invio.delivery.sending.errors import ClientGone
from invio.service import api, app, console
from invio.service.app import LateApi, Service

PARTS: Any = SimpleNamespace()


@pytest.fixture
def made(monkeypatch: pytest.MonkeyPatch) -> list[bool]:
    """What was made, each whether for being mounted."""
    found: list[bool] = []

    def guarded(parts: object, *, mounted: bool) -> Any:
        assert parts is PARTS
        found.append(mounted)
        time.sleep(0.05)

        async def guard(path: str, _: object, __: object, send: Any) -> None:
            await send(path)

        return guard

    monkeypatch.setattr(api, "guarded_api", guarded)
    return found


async def asked(late: LateApi, *paths: str) -> list[str]:
    sent: list[str] = []

    async def send(path: str) -> None:
        sent.append(path)

    await asyncio.gather(*(late(path, {}, None, send) for path in paths))
    return sorted(sent)


@pytest.mark.parametrize("mounted", [False, True])
def test_it_is_made_once_however_many_ask_at_once(made: list[bool], *, mounted: bool) -> None:
    late = LateApi(PARTS, mounted=mounted)
    assert made == []
    assert asyncio.run(asked(late, "/a", "/b", "/c")) == ["/a", "/b", "/c"]
    assert asyncio.run(asked(late, "/d")) == ["/d"]
    assert made == [mounted]


def test_meanwhile_the_event_loop_goes_on(made: list[bool]) -> None:
    late, turns = LateApi(PARTS, mounted=False), 0

    async def both() -> None:
        nonlocal turns
        asking = asyncio.create_task(asked(late, "/a"))
        while not asking.done():
            turns += 1
            await asyncio.sleep(0.001)

    asyncio.run(both())
    assert (len(made), turns > 5) == (1, True)


def test_without_a_thread_it_is_made_all_the_same(made: list[bool], monkeypatch: pytest.MonkeyPatch) -> None:
    async def none(*_: object) -> None:
        raise RuntimeError("can't start new thread")

    monkeypatch.setattr(app, "run_in_threadpool", none)
    assert (asyncio.run(asked(LateApi(PARTS, mounted=False), "/a")), made) == (["/a"], [False])


def test_what_failed_is_answered_as_that_and_tried_again(monkeypatch: pytest.MonkeyPatch, made: list[bool]) -> None:
    late, guarded = LateApi(PARTS, mounted=False), api.guarded_api
    scope = {"method": "GET", "headers": [(b"accept", b"application/json")]}
    sent: list[Any] = []

    async def send(message: Any) -> None:
        sent.append(message)

    def fails(*_: object, **__: object) -> None:
        raise ImportError("half an upgrade")

    monkeypatch.setattr(api, "guarded_api", fails)
    asyncio.run(late("/a", scope, None, send))
    start, body = sent
    assert (start["status"], json.loads(body["body"])["reason"]) == (500, "failed")
    monkeypatch.setattr(api, "guarded_api", guarded)
    assert (asyncio.run(asked(late, "/a")), made) == (["/a"], [False])


def test_a_client_that_leaves_meanwhile_is_no_error(monkeypatch: pytest.MonkeyPatch) -> None:
    async def gone(_: object) -> None:
        raise ClientGone

    def fails(*_: object, **__: object) -> None:
        raise OSError(errno.EMFILE, "Too many open files")

    monkeypatch.setattr(api, "guarded_api", fails)
    asyncio.run(LateApi(PARTS, mounted=False)("/a", {"method": "GET", "headers": []}, None, gone))


def test_what_is_loaded_late_is_spared_by_the_collector_too(monkeypatch: pytest.MonkeyPatch) -> None:
    loaded: list[list[object]] = []

    def guarded(*_: object, **__: object) -> Any:
        loaded.extend([] for _ in range(50_000))

        async def guard(*_: object) -> None:
            pass

        return guard

    monkeypatch.setattr(api, "guarded_api", guarded)
    gc.freeze()
    try:
        before = gc.get_freeze_count()
        asyncio.run(asked(LateApi(PARTS, mounted=False), "/a"))
        assert gc.get_freeze_count() > before + 25_000
    finally:
        gc.unfreeze()


@pytest.mark.parametrize("mounted", [False, True])
@pytest.mark.parametrize("below", [False, True])
def test_a_file_is_delivered_without_a_task_and_from_where_the_service_is(*, mounted: bool, below: bool) -> None:
    """Inside an application, the application knows below which path it is."""

    def placed(scope: dict[str, Any]) -> dict[str, Any]:
        return scope | {"placed": True}

    async def delivery(scope: dict[str, Any], _: object, send: Any) -> None:
        await send(("delivered", "placed" in scope))

    parts: Any = SimpleNamespace(delivery=delivery, behind=SimpleNamespace(may_be_below=below, placed=placed))
    service = Service(parts, mounted=mounted)
    sent: list[Any] = []

    async def send(message: Any) -> None:
        sent.append(message)

    async def delivered() -> None:
        await service({"type": "http", "path": "/get/files/a.txt"}, None, send)

    asyncio.run(delivered())
    assert (sent, service.starts_eagerly) == ([("delivered", below and not mounted)], True)


@pytest.mark.parametrize(
    ("path", "alone", "mounted"),
    [
        ("/get/files/a.txt", "delivery", "delivery"),
        ("/healthz", "probe", "api"),
        ("/healthz/", "api", "api"),
        ("/console/", "console", "api"),
        ("/api/docs", "console", "api, timed"),
        ("/api/links", "api, timed", "api, timed"),
        ("/browser/invio.js", "console", "console"),
        ("/files/", "api", "api"),
    ],
)
def test_who_answers(monkeypatch: pytest.MonkeyPatch, path: str, alone: str, mounted: str) -> None:
    answered: list[str] = []

    def by(name: str) -> Any:
        async def answer(*_: object) -> None:
            answered.append(name)

        return answer

    async def probe(_: object, asked: str, *__: object) -> bool:
        if asked == "/healthz":
            answered.append("probe")
        return asked == "/healthz"

    async def timed(answer: Any, *given: object) -> None:
        await answer(*given)
        answered.append(f"{answered.pop()}, timed")

    monkeypatch.setattr(app, "answer_probe", probe)
    monkeypatch.setattr(api, "guarded_api", lambda *_, **__: by("api"))
    monkeypatch.setattr(console, "Console", lambda: by("console"))
    parts: Any = SimpleNamespace(
        delivery=by("delivery"), behind=SimpleNamespace(may_be_below=False), slow=SimpleNamespace(timed=timed)
    )

    async def ask(service: Service, asked: str) -> None:
        await service({"type": "http", "path": asked}, None, None)

    for inside in (False, True):
        asyncio.run(ask(Service(parts, mounted=inside), path))
    assert answered == [alone, mounted]

"""The framework's own middlewares around replies and mounts, many callers at once, under three servers.

What middleware does to one answer must not be in another: headers, cookies and ids are each caller's own.
"""

from __future__ import annotations

import asyncio
import gzip
import hashlib
import os
import socket
import threading
import time
import uuid
from collections.abc import AsyncIterator, Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import asynccontextmanager
from pathlib import Path
from typing import Any

import httpx
import hypercorn.asyncio
import pytest
import uvicorn
from fastapi import Depends, FastAPI, HTTPException, Request, Response
from fastapi.middleware.cors import CORSMiddleware
from fastapi.responses import PlainTextResponse
from starlette.middleware.base import BaseHTTPMiddleware
from starlette.middleware.gzip import GZipMiddleware

import invio
from tests.running import NO_TLS, until

TEXT = ("soundings of the west bank\n" * 4000).encode()
NOISE = os.urandom(200_000)
Serve = Callable[[FastAPI], str]


@pytest.fixture(params=["zero-copy", "plain", "other"])
def serve(request: pytest.FixtureRequest) -> Iterator[Serve]:
    """Serves an application in a thread; gives where."""
    stops: list[Callable[[], None]] = []

    def begin(app: FastAPI) -> str:
        listener = socket.create_server(("127.0.0.1", 0))
        port = listener.getsockname()[1]
        ended = threading.Event()

        async def other() -> None:
            config = hypercorn.Config()
            config.bind = [f"fd://{listener.detach()}"]
            config.graceful_timeout = 1

            async def until_ended() -> None:
                while not ended.is_set():
                    await asyncio.sleep(0.02)

            await hypercorn.asyncio.serve(app, config, shutdown_trigger=until_ended)  # type: ignore[arg-type]

        async def ours() -> None:
            http: Any = invio.ZeroCopyProtocol if request.param == "zero-copy" else "h11"
            server = uvicorn.Server(uvicorn.Config(app, http=http, log_config=None, access_log=False))

            async def end() -> None:
                while not ended.is_set():
                    await asyncio.sleep(0.02)
                server.should_exit = True

            ending = asyncio.create_task(end())
            await server.serve(sockets=[listener])
            await ending

        thread = threading.Thread(target=lambda: asyncio.run(other() if request.param == "other" else ours()))
        thread.start()

        def stop() -> None:
            ended.set()
            thread.join(15)
            assert not thread.is_alive()

        stops.append(stop)
        url = f"http://127.0.0.1:{port}"
        until(lambda: _answers(url))
        return url

    yield begin
    for stop in stops:
        stop()


def _answers(url: str) -> bool:
    try:
        return httpx.get(f"{url}/alive", trust_env=False, verify=NO_TLS).status_code < 500
    except httpx.HTTPError:
        return False


class InPlace:
    """What much middleware does: it adds to the very list of headers that it is given."""

    def __init__(self, app: Any) -> None:
        self._app = app

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        async def marked(message: Any) -> None:
            if message["type"] == "http.response.start":
                asked = dict(scope["headers"]).get(b"x-request-id", b"none")
                message["headers"].append((b"x-request-id", asked))
                message["headers"].append((b"set-cookie", b"caller=" + asked))
            await send(message)

        await self._app(scope, receive, marked if scope["type"] == "http" else send)


def _anything(*_: object) -> bool:
    return True


async def _timed(request: Request, call_next: Any) -> Any:
    response = await call_next(request)
    response.headers["x-seen"] = request.headers.get("x-request-id", "")
    return response


def _application(folder: Path) -> FastAPI:
    (folder / "files").mkdir()
    (folder / "files" / "text.txt").write_bytes(TEXT)
    (folder / "files" / "noise.bin").write_bytes(NOISE)
    app = FastAPI()
    app.add_middleware(GZipMiddleware, minimum_size=500)
    app.add_middleware(CORSMiddleware, allow_origins=["https://survey.example"])
    app.add_middleware(BaseHTTPMiddleware, dispatch=_timed)
    app.add_middleware(InPlace)

    @app.get("/alive")
    def alive() -> str:
        return "yes"

    @app.api_route("/file/{name}", methods=["GET", "HEAD"])
    def file(name: str) -> invio.FileReply:
        return invio.FileReply(name, within=folder / "files", cache="private, max-age=60")

    @app.get("/archive")
    def archive() -> invio.BundleReply:
        return invio.BundleReply([folder / "files"], name="all.zip")

    @app.get("/made")
    def made() -> invio.StreamReply:
        return invio.StreamReply(lambda: iter([TEXT, TEXT]), name="made.txt", tag="one")

    settings = {
        "stores": {"files": {"kind": "directory", "root": str(folder / "files")}},
        "service": {"data": str(folder / "data")},
    }
    invio.mount(app, "/mounted", settings, authorize=_anything)
    return app


def test_no_answer_has_anything_of_another(serve: Serve, tmp_path: Path) -> None:
    url = serve(_application(tmp_path))
    paths = [
        "/file/text.txt",
        "/file/noise.bin",
        "/made",
        "/mounted/get/files/noise.bin",
        "/mounted/get/files/text.txt",
    ]
    bodies = {paths[0]: TEXT, paths[1]: NOISE, paths[2]: TEXT * 2, paths[3]: NOISE, paths[4]: TEXT}

    def ask(number: int) -> list[str]:
        wrong = []
        with httpx.Client(base_url=url, trust_env=False, timeout=30, verify=NO_TLS) as client:
            for turn in range(10):
                client.cookies.clear()
                path = paths[(number + turn) % len(paths)]
                own = uuid.uuid4().hex
                ranged = turn % 3 == 1 and path != "/made"
                sent = {"x-request-id": own, "accept-encoding": "gzip" if turn % 2 else "identity"}
                if ranged:
                    sent["range"] = "bytes=1000-1999"
                got = client.get(path, headers=sent)
                expected = bodies[path][1000:2000] if ranged else bodies[path]
                cookies = got.headers.get_list("set-cookie")
                said = (got.headers.get_list("x-request-id"), cookies, got.headers.get_list("x-seen"))
                if said != ([own], [f"caller={own}"], [own]):
                    wrong.append(f"{path}: {said} for {own}")
                if got.status_code != (206 if ranged else 200) or got.content != expected:
                    wrong.append(f"{path}: {got.status_code}, {len(got.content)} bytes of {len(expected)}")
        return wrong

    with ThreadPoolExecutor(20) as clients:
        assert [said for told in clients.map(ask, range(20)) for said in told] == []


def test_a_tag_stays_true_behind_middleware_that_encodes(serve: Serve, tmp_path: Path) -> None:
    url = serve(_application(tmp_path))
    with httpx.Client(base_url=url, trust_env=False, timeout=30, verify=NO_TLS) as client:
        first = client.get("/file/text.txt", headers={"accept-encoding": "identity"})
        again = client.get("/file/text.txt", headers={"if-none-match": first.headers["etag"]})
        assert (again.status_code, again.content) == (304, b"")
        head = client.head("/file/text.txt", headers={"accept-encoding": "identity"})
        assert (head.status_code, head.headers["content-length"], head.content) == (200, str(len(TEXT)), b"")
        with client.stream("GET", "/file/text.txt", headers={"accept-encoding": "gzip"}) as coded:
            raw = b"".join(coded.iter_raw())
        body = gzip.decompress(raw) if coded.headers.get("content-encoding") == "gzip" else raw
        assert hashlib.sha256(body).digest() == hashlib.sha256(TEXT).digest()


def _mounted(folder: Path, **given: Any) -> tuple[FastAPI, invio.Mounted]:
    (folder / "files").mkdir(exist_ok=True)
    (folder / "files" / "a.txt").write_bytes(b"a")
    app = FastAPI(**given.pop("app", {}))

    @app.get("/alive")
    def alive() -> str:
        return "yes"

    settings = {
        "stores": {"files": {"kind": "directory", "root": str(folder / "files")}},
        "service": {"data": str(folder / "data")},
    }
    return app, invio.mount(app, "/f", settings, **{"authorize": _anything, **given})


def test_dependencies_of_the_application_hold_for_what_is_mounted(serve: Serve, tmp_path: Path) -> None:
    asked: list[str] = []

    def signed_in(request: Request) -> str:
        name = request.headers.get("x-crew", "")
        if not name:
            raise HTTPException(401, "sign in first", {"x-hint": "x-crew"})
        return name

    def recipient(name: str = Depends(signed_in)) -> str:
        asked.append(name)
        return name

    app, _ = _mounted(tmp_path, recipient=Depends(recipient))
    url = serve(app)
    with httpx.Client(base_url=url, trust_env=False, timeout=30, verify=NO_TLS) as client:
        for path in ("/f/get/files/a.txt", "/f/api/files?in=files/", "/f/api/transfers"):
            refused = client.get(path)
            assert (refused.status_code, refused.headers["x-hint"]) == (401, "x-crew")
            assert client.get(path, headers={"x-crew": "ann"}).status_code == 200
        [told] = client.get("/f/api/transfers", headers={"x-crew": "ann"}).json()["transfers"]
        assert told["recipient"] == "ann"
        app.dependency_overrides[signed_in] = lambda: "tester"
        assert client.get("/f/get/files/a.txt").content == b"a"
    assert set(asked) == {"ann", "tester"}


@pytest.mark.parametrize("everywhere", [True, False])
def test_a_dependency_of_all_routes_is_not_passed_by(serve: Serve, tmp_path: Path, everywhere: bool) -> None:
    def never() -> None:
        raise HTTPException(418, "no")

    def only_alive(request: Request) -> None:
        if request.url.path != "/alive":
            never()

    given: dict[str, Any] = (
        {"app": {"dependencies": [Depends(only_alive)]}} if everywhere else {"dependencies": [Depends(never)]}
    )
    app, _ = _mounted(tmp_path, **given)
    url = serve(app)
    for path in ("/f/get/files/a.txt", "/f/api/files", "/f/bundles/x", "/f/"):
        assert httpx.get(url + path, trust_env=False, verify=NO_TLS).status_code == 418


def test_what_the_applications_function_raises_is_answered_by_its_own_handlers(serve: Serve, tmp_path: Path) -> None:
    def may(request: Request, action: str, address: str) -> bool:
        raise HTTPException(402, "pay first")

    app, _ = _mounted(tmp_path, authorize=may)

    @app.exception_handler(402)
    def pay(request: Request, error: Any) -> Response:
        return PlainTextResponse(f"please pay: {error.detail}", 402, {"x-own": request.app.title})

    url = serve(app)
    for path in ("/f/get/files/a.txt", "/f/api/files?in=files/"):
        told = httpx.get(url + path, trust_env=False, verify=NO_TLS)
        assert (told.status_code, told.text, told.headers["x-own"]) == (402, "please pay: pay first", "FastAPI")
    made = httpx.post(f"{url}/f/api/bundles", json={"files": ["files/"]}, trust_env=False, verify=NO_TLS)
    assert (made.status_code, made.text) == (402, "please pay: pay first")


def test_a_lifespan_ends_and_begins_again_in_one_process(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("invio.workers.pool.IDLE", 0.3)
    seen: list[str] = []

    @asynccontextmanager
    async def own(app: FastAPI) -> AsyncIterator[dict[str, str]]:
        seen.append("began")
        yield {"own": "state"}
        seen.append("ended")

    app, mounted = _mounted(tmp_path, app={"lifespan": own})

    async def ask() -> int:
        transport = httpx.ASGITransport(app)
        async with httpx.AsyncClient(transport=transport, base_url="http://survey.example") as client:
            return (await client.get("/f/get/files/a.txt")).status_code

    async def once() -> None:
        async with app.router.lifespan_context(app):
            assert await ask() == 200
        with pytest.raises(RuntimeError, match="only while the application"):
            _ = mounted.parts

    threads = threading.active_count()
    for _ in range(5):
        asyncio.run(once())
    assert seen == ["began", "ended"] * 5
    for _ in range(100):
        if threading.active_count() <= threads + 2:
            break
        time.sleep(0.05)
    assert threading.active_count() <= threads + 2, [thread.name for thread in threading.enumerate()]


def test_two_workers_begin_on_one_fresh_folder(tmp_path: Path) -> None:
    first, one = _mounted(tmp_path)
    second, other = _mounted(tmp_path)

    async def both() -> None:
        async with asyncio.TaskGroup() as group:
            began = [asyncio.Event(), asyncio.Event()]

            async def run(app: FastAPI, number: int) -> None:
                async with app.router.lifespan_context(app):
                    began[number].set()
                    await began[1 - number].wait()
                    transport = httpx.ASGITransport(app)
                    async with httpx.AsyncClient(transport=transport, base_url="http://survey.example") as client:
                        assert (await client.get("/f/get/files/a.txt")).status_code == 200

            group.create_task(run(first, 0))
            group.create_task(run(second, 1))

    asyncio.run(both())
    assert one is not other


def test_dependencies_need_fastapi(tmp_path: Path) -> None:
    from starlette.applications import Starlette

    with pytest.raises(TypeError, match="no FastAPI application"):
        invio.mount(
            Starlette(),
            "/f",
            {"stores": {"files": {"kind": "directory", "root": str(tmp_path)}}},
            authorize=_anything,
            dependencies=[Depends(lambda: None)],
        )

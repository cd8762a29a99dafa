"""Replies in an application with middleware of every kind, and what they refuse."""

from __future__ import annotations

import asyncio
import io
import os
import threading
import time
import zipfile
from collections.abc import AsyncIterator, Iterator
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from pathlib import Path
from typing import Any

import httpx
import pytest
from fastapi import FastAPI, HTTPException, Request
from fastapi.middleware.cors import CORSMiddleware
from fastapi.responses import JSONResponse
from starlette.middleware.base import BaseHTTPMiddleware
from starlette.middleware.gzip import GZipMiddleware

import invio
from invio.core.addresses import parse_address
from invio.service.settings import BadSettings
from tests.embedding.conftest import Run
from tests.running import NO_TLS

BIG = os.urandom(3_000_000)


def files_of(folder: Path) -> dict[str, Any]:
    """The settings of what is mounted with one store of files."""
    return {
        "service": {"data": str(folder / "data")},
        "stores": {"files": {"kind": "directory", "root": str(folder / "files")}},
    }


async def marked(request: Request, call_next: Any) -> Any:
    response = await call_next(request)
    response.headers["x-marked"] = "yes"
    return response


@pytest.fixture(params=["bare", "cors", "gzip", "rebuilding"])
def client(request: pytest.FixtureRequest, run: Run, tmp_path: Path) -> httpx.Client:
    (tmp_path / "big.bin").write_bytes(BIG)
    app = FastAPI()
    if request.param == "cors":
        app.add_middleware(CORSMiddleware, allow_origins=["*"])
    elif request.param == "gzip":
        app.add_middleware(GZipMiddleware)
    elif request.param == "rebuilding":
        app.add_middleware(BaseHTTPMiddleware, dispatch=marked)

    @app.api_route("/big", methods=["GET", "HEAD"])
    def big() -> invio.FileReply:
        return invio.FileReply(tmp_path / "big.bin", name="große Datei.bin", headers={"x-own": "1"})

    @app.get("/lines")
    def lines() -> invio.StreamReply:
        async def make() -> AsyncIterator[str]:
            for number in range(500):
                yield f"line {number}\n"

        return invio.StreamReply(make, name="lines.txt")

    @app.get("/broken")
    def broken() -> invio.StreamReply:
        def make() -> Iterator[bytes]:
            yield b"x" * 100_000
            raise ValueError("the gauge does not answer")

        return invio.StreamReply(make)

    return run(app)


def test_middleware_loses_nothing_of_a_file(client: httpx.Client) -> None:
    whole = client.get("/big")
    assert whole.content == BIG
    assert whole.headers["x-own"] == "1"
    assert "filename*=UTF-8''gro%C3%9Fe%20Datei.bin" in whole.headers["content-disposition"]
    part = client.get("/big", headers={"range": "bytes=1000000-1999999", "origin": "http://x.test"})
    assert (part.status_code, part.content) == (206, BIG[1_000_000:2_000_000])
    assert client.get("/lines").text.endswith("line 499\n")
    assert client.get("/big", headers={"if-none-match": whole.headers["etag"]}).status_code == 304


def test_a_maker_that_fails_breaks_the_connection(client: httpx.Client) -> None:
    with pytest.raises(httpx.TransportError):
        client.get("/broken")


def test_a_plain_route_sends_files_without_reading_them(
    run: Run, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "big.bin").write_bytes(BIG)
    app = FastAPI()
    app.get("/")(lambda: invio.FileReply(tmp_path / "big.bin"))
    sent: list[int] = []
    sendfile = os.sendfile

    def counted(*given: int) -> int:
        sent.append(sendfile(*given))
        return sent[-1]

    monkeypatch.setattr(os, "sendfile", counted)
    assert run(app).get("/").content == BIG
    assert sum(sent) > 0.99 * len(BIG)


def test_a_speed_holds_and_bad_wishes_are_told(run: Run, tmp_path: Path) -> None:
    (tmp_path / "big.bin").write_bytes(BIG[:400_000])
    app = FastAPI()
    app.get("/")(lambda: invio.FileReply(tmp_path / "big.bin", speed=400_000))
    began = time.monotonic()
    assert len(run(app).get("/").content) == 400_000
    assert 0.95 < time.monotonic() - began < 10
    for wish in ({"disposition": "show"}, {"speed": 0}, {"cache": "for ever"}):
        with pytest.raises(ValueError, match=r"expected|directive"):
            invio.FileReply("x", **wish)
    with pytest.raises(ValueError, match="without quotes"):
        invio.StreamReply(lambda: [b""], tag='a"b')


def test_an_archive_has_what_was_named_and_nothing_else(run: Run, tmp_path: Path) -> None:
    (tmp_path / "in").mkdir()
    (tmp_path / "in" / "a.txt").write_bytes(b"a")
    (tmp_path / "in" / "out").symlink_to("/etc")
    (tmp_path / "b.txt").write_bytes(b"b")
    app = FastAPI()
    app.get("/list")(lambda: invio.BundleReply([tmp_path / "in", tmp_path / "b.txt", tmp_path / "b.txt"], name="x"))
    app.get("/named")(lambda: invio.BundleReply({"../../evil.txt": tmp_path / "b.txt", "deep/c": tmp_path / "in"}))
    app.get("/gone")(lambda: invio.BundleReply([tmp_path / "none.txt"]))
    app.get("/none")(lambda: invio.BundleReply([]))
    client = run(app)

    def names(path: str) -> list[str]:
        with zipfile.ZipFile(io.BytesIO(client.get(path).content)) as archive:
            assert archive.testzip() is None
            return archive.namelist()

    assert names("/list") == ["in/a.txt", "b.txt", "b (2).txt"]
    assert all(".." not in name.split("/") for name in names("/named"))
    assert "deep/c/a.txt" in names("/named")
    assert (client.get("/gone").status_code, client.get("/none").status_code) == (404, 400)


def test_archives_that_take_long_leave_the_applications_own_threads_alone(run: Run) -> None:
    app, goes_on = FastAPI(), threading.Event()

    def slow() -> Iterator[bytes]:
        goes_on.wait(20)
        yield b"made"

    app.get("/archive")(lambda: invio.BundleReply({"a.txt": slow}))
    app.get("/own")(lambda: "of the application's own")
    client = run(app)
    with ThreadPoolExecutor(60) as others:
        asked = [others.submit(httpx.get, f"{client.base_url}/archive", timeout=30, verify=NO_TLS) for _ in range(60)]
        time.sleep(1)
        assert client.get("/own", timeout=5).json() == "of the application's own"
        goes_on.set()
        assert {one.result().status_code for one in asked} == {200}


def test_a_mounted_delivery_asks_the_application(run: Run, tmp_path: Path) -> None:
    (tmp_path / "files").mkdir()
    (tmp_path / "files" / "a.txt").write_text("a")
    settings = files_of(tmp_path)
    asked: list[tuple[str, str]] = []

    def may(request: Request, action: str, address: str) -> bool:
        asked.append((action, address))
        if request.headers.get("x-user") is None:
            raise HTTPException(418, "who are you?")
        return request.headers["x-user"] == "ann" or action == "list"

    app = FastAPI()
    invio.mount(app, "/f", settings, authorize=may)
    client = run(app)
    assert client.get("/f/get/files/a.txt", headers={"x-user": "ann"}).text == "a"
    assert asked == [("read", "files/a.txt")], "asked once"
    assert client.get("/f/get/files/a.txt").status_code == 418
    refused = client.get("/f/get/files/a.txt", headers={"x-user": "bob"})
    assert (refused.status_code, refused.json()["reason"]) == (403, "not-allowed")
    assert client.get("/f/console/").status_code == 404
    assert client.get("/f/get/files/a.txt?key=k&seal=" + "A" * 43).json()["reason"] == "unknown-key"
    with pytest.raises(BadSettings, match="kind"):
        invio.mount(FastAPI(), "/f", {"stores": {"files": {"kind": "cupboard"}}}, authorize=may)
    for wrong in ({"authorize": None}, {"authorize": may, "recipient": "ann"}):
        with pytest.raises(TypeError, match="expected a function"):
            invio.mount(FastAPI(), "/f", settings, **wrong)


def test_inside_an_application_a_query_may_have_more_but_nothing_misspelt(run: Run, tmp_path: Path) -> None:
    settings = files_of(tmp_path)
    settings["stores"]["drop"] = {"kind": "managed", "root": str(tmp_path / "drop")}
    (tmp_path / "files").mkdir()
    app = FastAPI()
    invio.mount(app, "/f", settings, authorize=lambda request, *_: request.query_params.get("ticket") == "good")
    client = run(app)
    assert client.put("/f/api/files/drop/a.txt?ticket=good", content=b"a").status_code == 201
    misspelt = client.delete("/f/api/files/drop/a.txt?ticket=good&verison=1")
    assert (misspelt.status_code, "did you mean 'version'?" in misspelt.json()["detail"]) == (400, True)
    assert client.get("/f/get/drop/a.txt?ticket=good").content == b"a"
    assert client.delete("/f/api/files/drop/a.txt?ticket=good&version=1").status_code == 204


async def _may_in_time(request: Request, action: str, address: str) -> bool:
    await asyncio.sleep(0)
    return "secret" not in address


class _Office:
    async def __call__(self, request: Request, action: str, address: str) -> bool:
        return await _may_in_time(request, action, address)


@pytest.mark.parametrize(
    "authorize",
    [_may_in_time, lambda *asked: _may_in_time(*asked), partial(_may_in_time), _Office(), _Office().__call__],
    ids=["a function", "a lambda", "a partial", "an object", "a method"],
)
def test_whatever_kind_of_function_decides_it_is_awaited_everywhere(tmp_path: Path, run: Run, authorize: Any) -> None:
    (tmp_path / "files" / "deep").mkdir(parents=True)
    for name in ("open.txt", "secret.txt", "deep/secret.txt", "deep/open.txt"):
        (tmp_path / "files" / name).write_text(name)
    settings = files_of(tmp_path)
    app = FastAPI()
    invio.mount(app, "/f", settings, authorize=authorize)
    client = run(app)
    assert client.get("/f/get/files/secret.txt").status_code == 404
    assert client.get("/f/api/files/files/secret.txt").status_code == 404
    assert client.get("/f/api/files/files/open.txt").json()["may"] != []
    listed = client.get("/f/api/files?in=files/").json()["files"]
    assert [one["address"] for one in listed] == ["files/deep/", "files/open.txt"]
    found = client.get("/f/api/files?in=files/&search=t").json()["files"]
    assert [one["address"] for one in found] == ["files/deep/open.txt", "files/open.txt"]
    assert client.post("/f/api/bundles", json={"files": ["files/secret.txt"]}).status_code == 403
    made = client.post("/f/api/bundles", json={"files": ["files/"]})
    with zipfile.ZipFile(io.BytesIO(client.get(made.json()["url"]).content)) as archive:
        assert archive.namelist() == ["files/deep/open.txt", "files/open.txt"]


def test_who_sends_no_name_is_nobody_and_shares_nothing_with_others(tmp_path: Path, run: Run) -> None:
    (tmp_path / "files").mkdir()
    (tmp_path / "files" / "a.txt").write_text("a")
    settings = files_of(tmp_path)
    app = FastAPI()
    invio.mount(app, "/f", settings, authorize=lambda *asked: asked[1] != "manage",
                recipient=lambda request: request.headers.get("x-user", ""))  # fmt: skip
    client = run(app)
    assert client.get("/f/get/files/a.txt").text == "a"
    assert client.get("/f/get/files/a.txt", headers={"x-user": "ann"}).text == "a"
    own = {name: client.get("/f/api/transfers", headers={"x-user": name}).json()["transfers"] for name in ("", "ann")}
    assert own[""] == [], "or whoever else is nobody would see it"
    assert [one["recipient"] for one in own["ann"]] == ["ann"]


def test_what_is_merely_true_allows_nothing(tmp_path: Path, run: Run, caplog: pytest.LogCaptureFixture) -> None:
    (tmp_path / "files").mkdir()
    (tmp_path / "files" / "a.txt").write_text("a")
    settings = files_of(tmp_path)
    says: list[object] = [JSONResponse({"no": True}, 403), "no", 1]
    app = FastAPI()
    invio.mount(app, "/f", settings, authorize=lambda *_: says[0])  # type: ignore[arg-type]
    client = run(app)
    while says:
        for path in ("/f/get/files/a.txt", "/f/api/files?in=files/", "/f/api/files/files/a.txt"):
            assert client.get(path, headers={"connection": "close"}).status_code == 500, path
        assert f"authorize gave {type(says.pop(0)).__name__} for " in caplog.text


def test_a_listing_asks_a_function_that_is_awaited_about_eight_files_at_a_time(tmp_path: Path, run: Run) -> None:
    (tmp_path / "files").mkdir()
    for number in range(40):
        (tmp_path / "files" / f"{number:02}.txt").write_text("x")
    settings = files_of(tmp_path)
    asked: list[tuple[str, str]] = []
    now, most = [0], [0]

    async def may(request: Request, action: str, address: str) -> bool:
        asked.append((action, address))
        now[0] += 1
        most[0] = max(most[0], now[0])
        await asyncio.sleep(0.01)
        now[0] -= 1
        if address.endswith("13.txt"):
            raise HTTPException(402, "pay first")
        return not address.endswith("7.txt")

    app = FastAPI()
    delivery = invio.mount(app, "/f", settings, authorize=may)
    client = run(app)
    refused = client.get("/f/api/files?in=files/")
    assert (refused.status_code, refused.json()["detail"]) == (402, "pay first"), "as the application's own"
    (tmp_path / "files" / "13.txt").unlink()
    asked.clear()
    listed = client.get("/f/api/files?in=files/&limit=30").json()["files"]
    assert [one["name"] for one in listed] == [f"{n:02}.txt" for n in range(40) if n % 10 != 7 and n != 13][:30]
    assert most == [8]
    assert len(asked) == len(set(asked)), "about each thing once"
    assert asyncio.run(_decided_on_a_loop(delivery)) == [False, True], "rather than to wait for itself"


async def _decided_on_a_loop(delivery: Any) -> list[bool]:
    rules, address = delivery.parts.rules, parse_address("files/01.txt")
    caller = await delivery.parts.identifier.identify({}, None, {"type": "http"})
    before = rules.allows(caller, "read", address)
    await rules.prefetch(caller, "read", address)
    return [before, rules.allows(caller, "read", address)]


def test_files_are_put_into_what_is_mounted_as_the_application_says(tmp_path: Path, run: Run) -> None:
    settings = {
        "service": {"data": str(tmp_path / "data")},
        "stores": {"models": {"kind": "managed", "root": str(tmp_path / "models")}},
    }

    async def may(request: Request, action: str, address: str) -> bool:
        return action != "put" or request.headers.get("x-user") == "ann"

    app = FastAPI()
    invio.mount(app, "/f", settings, authorize=may)
    client = run(app)
    ann = {"x-user": "ann"}
    refused = client.put("/f/api/files/models/a.grid", content=b"one")
    assert (refused.status_code, refused.json()["reason"]) == (403, "not-allowed")
    made = client.put("/f/api/files/models/a.grid", content=b"one", headers=ann)
    assert (made.status_code, made.headers["location"]) == (201, "/f/get/models/a.grid?version=1")
    client.put("/f/api/files/models/a.grid", content=b"two", headers=ann)
    assert client.get(made.headers["location"]).text == "one"
    assert client.get("/f/get/models/a.grid").text == "two"
    assert client.get("/f/api/files/models/a.grid").json()["version"] == 2
    assert [one["size"] for one in client.get("/f/api/versions/models/a.grid").json()["versions"]] == [3, 3]
    assert client.delete("/f/api/files/models/a.grid").status_code == 204
    assert client.get("/f/get/models/a.grid").status_code == 404

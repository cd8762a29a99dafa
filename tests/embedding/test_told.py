"""What an application is told: how much of its answers arrived, and what the mounted delivery answers and makes."""

from __future__ import annotations

import os
import socket
import time
from collections.abc import AsyncIterator
from datetime import UTC, datetime
from pathlib import Path
from threading import Thread
from typing import Any

import httpx
import pytest
from fastapi import FastAPI, Request
from fastapi.responses import StreamingResponse

import invio
from invio.core.links.keys import BadKeyFile, new_keys
from invio.core.links.seals import check_link, parse_url
from invio.core.links.terms import Asked
from invio.service.configuration import read_keys, write_keys
from tests.embedding.conftest import Run
from tests.running import until

BIG = os.urandom(3_000_000)


@pytest.fixture
def told() -> list[tuple[str, Any]]:
    return []


def application(folder: Path, told: list[tuple[str, Any]]) -> FastAPI:
    (folder / "big.bin").write_bytes(BIG)
    app = FastAPI()

    async def on_progress(progress: invio.Progress) -> None:
        told.append(("progress", progress))

    def on_end(progress: invio.Progress, reason: str | None) -> None:
        told.append(("end", (progress, reason)))

    heard: dict[str, Any] = {"on_progress": on_progress, "on_end": on_end}

    @app.get("/file")
    def file() -> invio.FileReply:
        return invio.FileReply(folder / "big.bin", speed=4_000_000, **heard)

    @app.get("/rows")
    def rows() -> invio.StreamReply:
        return invio.StreamReply(({"a": number} for number in range(1000)), name="rows.csv", **heard)

    @app.get("/bundle")
    def bundle() -> invio.BundleReply:
        return invio.BundleReply([folder / "big.bin"], **heard)

    @app.get("/failing")
    def failing() -> invio.FileReply:
        def fails(*_: object) -> None:
            raise ValueError("the route's own")

        return invio.FileReply(folder / "big.bin", on_progress=fails, on_end=fails)

    return app


def ends(told: list[tuple[str, Any]]) -> list[Any]:
    return [said for what, said in told if what == "end"]


def test_a_route_is_told_of_its_answer_while_it_is_sent_and_when_it_has_arrived(
    run: Run,
    tmp_path: Path,
    told: list[tuple[str, Any]],
) -> None:
    client = run(application(tmp_path, told))
    assert client.get("/file").content == BIG
    until(lambda: bool(ends(told)))
    [(progress, reason)] = ends(told)
    assert (progress.bytes, progress.total, progress.percent, reason) == (len(BIG), len(BIG), 100, None)
    steps = [said for what, said in told if what == "progress"]
    assert 2 <= len(steps) <= 6
    assert [step.bytes for step in steps] == sorted(step.bytes for step in steps)
    assert steps[-1].rate
    assert told[-1][0] == "end", "and nothing after it"


def test_of_what_is_made_the_total_is_known_at_its_end(run: Run, tmp_path: Path, told: list[tuple[str, Any]]) -> None:
    client = run(application(tmp_path, told))
    length = len(client.get("/rows", headers={"accept-encoding": "identity"}).content)
    until(lambda: bool(ends(told)))
    [(progress, reason)] = ends(told)
    assert (progress.bytes, progress.total, reason) == (length, length, None)


def test_a_range_and_an_archive_are_told_of_by_their_own_bytes(
    run: Run,
    tmp_path: Path,
    told: list[tuple[str, Any]],
) -> None:
    client = run(application(tmp_path, told))
    assert client.get("/file", headers={"range": "bytes=0-999"}).status_code == 206
    until(lambda: len(ends(told)) == 1)
    length = len(client.get("/bundle").content)
    until(lambda: len(ends(told)) == 2)
    assert [(progress.bytes, progress.total) for progress, _ in ends(told)] == [(1000, 1000), (length, length)]


def test_what_a_client_leaves_is_told_with_the_reason(
    run: Run,
    tmp_path: Path,
    told: list[tuple[str, Any]],
) -> None:
    client = run(application(tmp_path, told))
    with socket.create_connection((client.base_url.host, client.base_url.port or 0)) as connection:
        connection.sendall(b"GET /file HTTP/1.1\r\nhost: x\r\n\r\n")
        connection.recv(65536)
        time.sleep(0.3)
    until(lambda: bool(ends(told)))
    [(progress, reason)] = ends(told)
    assert 0 < progress.bytes < len(BIG)
    assert "client" in reason


def test_nothing_is_told_of_what_delivers_nothing(run: Run, tmp_path: Path, told: list[tuple[str, Any]]) -> None:
    client = run(application(tmp_path, told))
    etag = client.head("/file").headers["etag"] if client.head("/file").status_code == 200 else None
    whole = client.get("/file", headers={"range": "bytes=0-0"})
    until(lambda: len(ends(told)) == 1)
    assert client.get("/file", headers={"if-none-match": etag or whole.headers["etag"]}).status_code == 304
    assert client.get("/file", headers={"range": "bytes=9999999-"}).status_code == 416
    assert len(ends(told)) == 1


def test_a_callback_that_fails_does_not_fail_the_answer(run: Run, tmp_path: Path, told: list[tuple[str, Any]]) -> None:
    assert run(application(tmp_path, told)).get("/failing").content == BIG


def test_callbacks_are_functions(tmp_path: Path) -> None:
    with pytest.raises(TypeError, match="on_end is int; expected a function"):
        invio.FileReply(tmp_path, on_end=5)  # type: ignore[arg-type]


def test_a_link_maker_seals_what_the_service_opens(tmp_path: Path) -> None:
    write_keys(new_keys(), tmp_path / "keys.json")
    maker = invio.LinkMaker(tmp_path / "keys.json", "https://files.example.org/")
    until_ = datetime(2030, 1, 1, tzinfo=UTC)
    url = maker.link(
        "charts/å.pdf", until=until_, to="pilot-7", net=["10.0.0.0/8", "192.0.2.0/24"], as_="inline", tag=None
    )
    assert url.startswith("https://files.example.org/get/charts/%C3%A5.pdf?as=inline&to=pilot-7&key=k1&")
    link = parse_url(url)
    assert link.expires == int(until_.timestamp())
    assert link.conditions_named("net") == ["10.0.0.0/8", "192.0.2.0/24"]
    assert maker.url("charts/a b.pdf") == "https://files.example.org/get/charts/a%20b.pdf"
    check_link(parse_url(maker.link("charts/a.pdf")), read_keys(tmp_path / "keys.json").keys, Asked(1.0))


def test_a_link_maker_says_what_is_wrong(tmp_path: Path) -> None:
    with pytest.raises(BadKeyFile, match="no such key file"):
        invio.LinkMaker(tmp_path / "none.json")
    write_keys(new_keys(), tmp_path / "keys.json")
    maker = invio.LinkMaker(tmp_path / "keys.json")
    for terms, said in (
        ({"untl": 5}, "'untl' is no term of a link"),
        ({"uses": 0}, "uses"),
        ({"until": datetime(2030, 1, 1)}, "has no time zone"),
    ):
        with pytest.raises(ValueError, match=said):
            maker.link("charts/a.pdf", **terms)
    with pytest.raises(ValueError, match="folder"):
        maker.link("charts/")


def test_a_new_key_is_sealed_with_once_it_is_in_the_file(tmp_path: Path) -> None:
    write_keys(new_keys("one"), tmp_path / "keys.json")
    maker = invio.LinkMaker(tmp_path / "keys.json")
    assert "key=one&" in maker.link("charts/a.pdf")
    write_keys(new_keys("two"), tmp_path / "keys.json")
    assert "key=two&" in maker.link("charts/a.pdf")


def mounted(folder: Path) -> tuple[FastAPI, invio.Mounted]:
    (folder / "files").mkdir()
    (folder / "files" / "big.bin").write_bytes(BIG)
    (folder / "files" / "secret.txt").write_bytes(b"s")
    write_keys(new_keys(), folder / "keys.json")
    settings = {
        "service": {"data": str(folder / "data"), "keys": str(folder / "keys.json")},
        "limits": {"recipient_rate": 4_000_000},
        "stores": {"files": {"kind": "directory", "root": str(folder / "files")}},
    }
    app = FastAPI()

    async def may(request: Request, action: str, address: str) -> bool:
        return action in ("list", "read") and ("secret" not in address or request.headers.get("x-crew") == "yes")

    delivery = invio.mount(app, "/f", settings, authorize=may)

    @app.get("/may")
    async def ask(request: Request, address: str) -> bool:
        return await delivery.allows(request, "read", address)

    @app.get("/page")
    def page(request: Request) -> dict[str, str]:
        return {
            "url": delivery.url("files/big.bin", request=request, as_="inline", name="a b.bin"),
            "link": delivery.link("files/secret.txt", request=request),
            "tagged": delivery.link("files/big.bin", tag="page-1"),
        }

    @app.get("/how-far")
    async def how_far(tag: str) -> StreamingResponse:
        async def lines() -> AsyncIterator[str]:
            async for state in delivery.progress(tag):
                yield f"{state['state']} {state['percent']}\n"

        return StreamingResponse(lines())

    return app, delivery


def test_what_mount_gives_decides_makes_addresses_and_links_and_follows(run: Run, tmp_path: Path) -> None:
    app, _ = mounted(tmp_path)
    client = run(app)
    assert client.get("/may", params={"address": "files/big.bin"}).json() is True
    assert client.get("/may", params={"address": "files/secret.txt"}).json() is False
    assert client.get("/may", params={"address": "files/secret.txt"}, headers={"x-crew": "yes"}).json() is True
    page = client.get("/page").json()
    assert page["url"] == "/f/get/files/big.bin?as=inline&name=a%20b.bin"
    assert client.get(page["url"]).content == BIG
    assert client.get(page["link"]).content == b"s"
    lines: list[str] = []

    def follow() -> None:
        with (
            httpx.Client(base_url=client.base_url, trust_env=False, timeout=20) as other,
            other.stream("GET", "/how-far", params={"tag": "page-1"}) as reply,
        ):
            lines.extend(reply.iter_lines())

    following = Thread(target=follow)
    following.start()
    time.sleep(0.5)
    assert client.get(page["tagged"]).content == BIG
    following.join(10)
    assert lines[-1] == "complete 100"
    assert len(lines) > 2


def test_without_a_running_application_it_says_so(tmp_path: Path) -> None:
    _, delivery = mounted(tmp_path)
    with pytest.raises(RuntimeError, match="start the lifespan first"):
        _ = delivery.parts
    assert delivery.url("files/a") == "/f/get/files/a"
    with pytest.raises(ValueError, match="segment"):
        delivery.url("a/../b")

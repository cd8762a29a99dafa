"""Behind a real front server: nginx, as Debian packages it, with the configuration of docs/front.md."""

from __future__ import annotations

import io
import json
import os
import re
import shutil
import socket
import subprocess
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from threading import Thread
from typing import Any

import httpx
import pytest
from PIL import Image

from tests.running import NO_TLS, Service, get_raw, until

Start = Callable[..., Service]
Invio = Callable[..., subprocess.CompletedProcess[str]]
ROOT = Path(__file__).parents[2]
BIG = os.urandom(2_000_000)
PICTURE = io.BytesIO()
Image.new("RGB", (200, 100), "red").save(PICTURE, "PNG")
FILES = {
    "big.bin": BIG,
    "north.png": PICTURE.getvalue(),
    "Über uns 100%.txt": b"about\n",
    "page.html": b"<script>1</script>",
    "a.csv": b"a,b\r\n" * 500,
}
SETTINGS = """
[front]
networks = ["127.0.0.1/32"]
redirect_header = "X-Accel-Redirect"
secret_header = "X-Front-Secret"
secret = "put-48-hexadecimal-digits-of-your-own-here"
rate_header = "X-Accel-Limit-Rate"

[stores.files]
kind = "directory"
root = "files"
front = "/stored/charts/"

[renditions.thumb]
width = 32
height = 24
"""


SECRET = "put-48-hexadecimal-digits-of-your-own-here"


def nginx() -> str:
    for place in ("nginx", "/usr/sbin/nginx", str(ROOT / "build/front/usr/sbin/nginx")):
        if found := shutil.which(place):
            return found
    raise AssertionError("there is no nginx; 'sh tools/front_server.sh' gets it")


@pytest.fixture(scope="module")
def service(start_shared: Start) -> Service:
    return start_shared(files=FILES, settings=SETTINGS)


@pytest.fixture
def front(service: Service, tmp_path: Path) -> Iterator[httpx.Client]:
    page = (ROOT / "docs" / "front.md").read_text("utf-8")
    [text] = re.findall(r"```nginx\n(.*?)```", page, re.DOTALL)
    text = text.replace("127.0.0.1:8480", f"127.0.0.1:{service.port}")
    text = text.replace("/srv/invio/files/charts/", f"{service.folder}/files/")
    yield from running_nginx(text, tmp_path / "front")


def running_nginx(text: str, folder: Path) -> Iterator[httpx.Client]:
    """An nginx with this configuration of its one server, and a client of it."""
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    folder.mkdir()
    temporary = " ".join(
        f"{kind}_temp_path {folder}/{kind};" for kind in ("client_body", "proxy", "fastcgi", "uwsgi", "scgi")
    )
    user = "user root;" if os.getuid() == 0 else ""
    (folder / "nginx.conf").write_text(
        f"daemon off; master_process off; {user} pid {folder}/pid; error_log {folder}/error.log;"
        f"events {{}} http {{ {temporary} access_log off; server {{ listen 127.0.0.1:{port};\n{text}\n}} }}"
    )
    process = subprocess.Popen([nginx(), "-p", str(folder), "-e", f"{folder}/error.log", "-c", f"{folder}/nginx.conf"])
    try:
        for _ in range(200):
            assert process.poll() is None, (folder / "error.log").read_text()
            with socket.socket() as probe:
                if probe.connect_ex(("127.0.0.1", port)) == 0:
                    break
            time.sleep(0.05)
        with httpx.Client(
            base_url=f"http://127.0.0.1:{port}",
            trust_env=False,
            timeout=20,
            verify=NO_TLS,
            headers={"accept-encoding": ""},
        ) as client:
            yield client
    finally:
        process.terminate()
        process.wait(10)


def settled(service: Service) -> list[dict[str, Any]]:
    time.sleep(0.2)
    return service.transfers()


def test_the_front_server_sends_the_file_with_our_headers(front: httpx.Client, service: Service) -> None:
    direct = service.get(
        "/get/files/big.bin", X_Forwarded_For="192.0.2.1, 203.0.113.9", X_Front_Secret=SECRET
    )  # as the front server would ask
    assert direct.headers["x-accel-redirect"] == "/stored/charts/big.bin"
    assert direct.content == b""
    through = front.get("/get/files/big.bin")
    assert through.content == BIG
    assert "x-accel-redirect" not in through.headers
    for name in ("etag", "last-modified", "content-type", "content-disposition", "cache-control",
                 "content-security-policy", "x-content-type-options", "cross-origin-resource-policy"):  # fmt: skip
        assert through.headers[name] == direct.headers[name], name
    assert through.headers["accept-ranges"] == "bytes"
    assert {(shown["state"], shown["percent"]) for shown in settled(service)} == {("handed-off", None)}
    assert front.get("/get/files/%C3%9Cber%20uns%20100%25.txt").text == "about\n"


def test_ranges_and_conditions_hold_through_the_front_server(front: httpx.Client) -> None:
    whole = front.get("/get/files/big.bin")
    tag = whole.headers["etag"]

    def ask(**fields: str) -> httpx.Response:
        return front.get(
            "/get/files/big.bin", headers={name.replace("_", "-"): value for name, value in fields.items()}
        )

    part = ask(range="bytes=1000-1999")
    assert (part.status_code, part.content) == (206, BIG[1000:2000])
    assert part.headers["content-range"] == f"bytes 1000-1999/{len(BIG)}"
    assert ask(if_none_match=tag).status_code == 304
    assert ask(if_none_match='"old"').status_code == 200
    assert ask(if_modified_since=whole.headers["last-modified"]).status_code == 304
    assert ask(if_match='"old"').status_code == 412
    assert ask(if_match=tag).content == BIG
    assert ask(range=f"bytes={len(BIG)}-").json()["reason"] == "range"
    assert ask(range="bytes=5-", if_range=tag).status_code == 206
    assert ask(range="bytes=5-", if_range='"old"').content == BIG
    several = ask(range="bytes=0-9,100-109")
    assert several.headers["content-type"].startswith("multipart/byteranges; boundary=part-")
    assert front.head("/get/files/big.bin").headers["content-length"] == str(len(BIG))


def test_a_rendition_comes_from_us_and_never_as_the_image_it_was_made_of(front: httpx.Client, service: Service) -> None:
    for _ in range(2):  # when it is made, and when it is kept
        assert (
            "x-accel-redirect" not in service.get("/get/files/north.png?rendition=thumb", X_Front_Secret=SECRET).headers
        )
        through = front.get("/get/files/north.png?rendition=thumb")
        assert Image.open(io.BytesIO(through.content)).size == (32, 16)
    assert service.get("/get/files/north.png", X_Front_Secret=SECRET).headers["x-accel-redirect"]


def test_rules_seals_and_uses_hold_through_the_front_server(front: httpx.Client, service: Service) -> None:
    link = service.link("files/big.bin", {"id": "twice"}, uses=2)
    assert [front.get(link).status_code for _ in range(3)] == [200, 200, 410]
    assert front.get(link[:-1] + ("A" if link[-1] != "A" else "B")).status_code in (400, 403)
    assert front.get("/stored/charts/big.bin").status_code == 404, "not by a client's own request"
    sealed = front.get(service.link("files/big.bin"))
    assert sealed.headers["referrer-policy"] == "no-referrer"


def test_a_links_speed_is_given_to_the_front_server(front: httpx.Client, service: Service) -> None:
    began = time.monotonic()
    assert front.get(service.link("files/big.bin", rate=1_000_000)).content == BIG
    assert 1.0 < time.monotonic() - began < 20


def test_the_client_is_whom_the_front_server_names(front: httpx.Client, service: Service) -> None:
    link = service.link("files/big.bin", net="203.0.113.0/24")
    assert front.get(link).status_code == 403, "nginx says that the client is on this machine"
    assert service.get(link, X_Forwarded_For="203.0.113.9").status_code == 200
    assert service.get(link, X_Forwarded_For="203.0.113.9, 198.51.100.1").status_code == 403


def test_a_large_file_is_put_through_the_front_server(front: httpx.Client, service: Service) -> None:
    token = {"authorization": f"Bearer {service.tokens['ann']}"}
    refused = front.put("/api/files/files/big.bin", content=BIG + BIG, headers=token)
    # By Invio, whose store is read-only here, and not by the front server's own limit of a megabyte.
    assert (refused.status_code, refused.json()["reason"]) == (405, "wrong-method")


def test_a_front_server_may_want_plain_paths(start: Start) -> None:
    settings = SETTINGS.replace("[stores.files]", 'redirect_paths = "plain"\n[stores.files]')
    service = start(files=FILES, settings=settings)
    answer = service.get("/get/files/%C3%9Cber%20uns%20100%25.txt", X_Front_Secret=SECRET)
    assert answer.headers["x-accel-redirect"] == "/stored/charts/Über uns 100%.txt"


def test_nobody_else_is_told_where_files_lie(start: Start) -> None:
    service = start(files=FILES, settings=SETTINGS.replace("127.0.0.1/32", "10.0.0.0/8"))
    for told in ((), (f"x-front-secret: {SECRET}",)):
        answer = get_raw(service.port, "/get/files/big.bin", "x-forwarded-for: 10.0.0.1", *told)
        assert "x-accel-redirect" not in answer.headers
        assert answer.body == BIG


def test_who_comes_from_where_the_front_server_does_gets_the_file_itself(service: Service, invio: Invio) -> None:
    for told in ((), ("x-front-secret: a guess",), (f"x-front-secret: {SECRET}x",)):
        answer = get_raw(service.port, "/get/files/big.bin", *told)
        assert "x-accel-redirect" not in answer.headers
        assert answer.body == BIG
    fetched = invio("fetch", "files/big.bin", url=service.url)
    assert (fetched.returncode, "1.9 MiB" in fetched.stdout) == (0, True), fetched.stderr
    assert SECRET not in service.logged()


@pytest.fixture
def buffering(start: Start, tmp_path: Path) -> Iterator[tuple[Service, httpx.Client]]:
    """A service behind an nginx that reads ahead of its readers, into its memory."""
    service = start(files={"a.txt": b"a"})
    with (service.folder / "files" / "long.bin").open("wb") as long:
        long.truncate(LONG)
    text = f"location / {{ proxy_pass http://127.0.0.1:{service.port}; proxy_buffering on; proxy_http_version 1.1; "
    text += "proxy_buffers 8 8k; proxy_max_temp_file_size 0; }"
    for client in running_nginx(text, tmp_path / "front"):
        yield service, client


LONG = 64_000_000
HELD = 16_000_000  # bytes that a proxy and the kernel's sockets on either side of it hold at most


def test_behind_a_proxy_that_buffers_no_more_is_shown_than_was_read_and_it_holds(
    buffering: tuple[Service, httpx.Client],
) -> None:
    service, front = buffering
    link = service.link("files/long.bin", tag="slow")
    shown: list[dict[str, Any]] = []

    def follow() -> None:  # through the proxy as well: it is to pass events on as they come
        with front.stream("GET", link.replace("/get/", "/follow/")) as reply:
            shown.extend(json.loads(line[6:]) for line in reply.iter_lines() if line.startswith("data: "))

    following = Thread(target=follow, daemon=True)
    following.start()
    until(lambda: [one["state"] for one in shown] == ["waiting"])
    with socket.socket() as reader:
        reader.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 64 * 1024)
        reader.connect((front.base_url.host, front.base_url.port))
        reader.sendall(f"GET {link} HTTP/1.1\r\nhost: x\r\nconnection: close\r\n\r\n".encode())
        read = 0
        while read < 1_000_000:
            read += len(reader.recv(65536))
        time.sleep(1.5)
        assert read - 1000 <= shown[-1]["bytes"] <= read + HELD
        assert shown[-1]["state"] == "running"
        while piece := reader.recv(1 << 20):
            read += len(piece)
            assert shown[-1]["bytes"] <= read + HELD
    assert read > LONG
    following.join(10)
    assert (shown[-1]["state"], shown[-1]["bytes"]) == ("complete", LONG)

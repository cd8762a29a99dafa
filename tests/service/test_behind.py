"""Offered below a path, by a front server that cuts it off or leaves it, and over a Unix socket."""

from __future__ import annotations

import re
import socket
import stat
import subprocess
from collections.abc import Callable, Iterator
from pathlib import Path

import httpx
import pytest
from playwright.sync_api import Browser, expect

from invio.client import Client
from tests.running import INVIO, NO_TLS, RULES, SETTINGS, Service, make_folder

Start = Callable[..., Service]
FILES = {"a.txt": b"content", "closed/b.txt": b"b"}
MIXED = RULES.replace('["files/**"]', '["files/*"]', 1)
BELOW = {"X-Forwarded-Prefix": "/deep/files", "X-Forwarded-Proto": "https", "X-Forwarded-Host": "office.example:8443"}


@pytest.fixture(scope="module")
def service(start_shared: Start) -> Service:
    return start_shared(files=FILES, rules=MIXED, settings=f'[front]\nnetworks = ["127.0.0.1/32"]\n{SETTINGS}')


def test_every_address_begins_with_the_path_that_a_trusted_front_server_tells(service: Service) -> None:
    with service.client("ann") as client:
        client.headers.update(BELOW)
        link = client.post("/api/links", json={"address": "files/a.txt"}).json()
        assert link["url"].startswith("https://office.example:8443/deep/files/get/files/a.txt?")
        bundle = client.post("/api/bundles", json={"files": ["files/a.txt"]}).json()
        assert bundle["url"].startswith("/deep/files/get/bundles/")
        form = client.post("/bundles", data={"file": "files/a.txt"})
        assert form.status_code == 303
        assert form.headers["location"].startswith("/deep/files/get/bundles/")
        assert client.get("/api/openapi.json").json()["servers"] == [{"url": "/deep/files"}]
    with service.client() as client:
        client.headers.update(BELOW)
        # Cut off by the front server, or left: both are understood.
        assert client.get("/get/files/a.txt").content == client.get("/deep/files/get/files/a.txt").content == b"content"
        assert 'href="/deep/files/console/"' in client.get("/").text
        assert 'action="/deep/files/sign-in"' in client.get("/sign-in").text
        assert 'href="/deep/files/pickup/files/a.txt"' in client.get("/files/files/").text
        sent = client.get("/get/files/closed/b.txt", headers={"accept": "text/html"}).headers["location"]
        assert sent == "/deep/files/sign-in?then=%2Fdeep%2Ffiles%2Fget%2Ffiles%2Fclosed%2Fb.txt"
        page = client.get("/console/").text
        [script] = re.findall(r'src="([^"]+)"', page)
        assert script.startswith("/deep/files/console/assets/")
        assert 'name="invio-root" content="/deep/files"' in page
        assert client.get(script).status_code == 200
        assert "/deep/files/console/api-docs/" in client.get("/api/docs").text
        for odd in ("//evil.example", "/../up", "no/slash", "/a b", '/"><script>', "/" + "x" * 80):
            assert 'href="/console/"' in client.get("/", headers={"x-forwarded-prefix": odd}).text, odd


def test_nobody_else_says_where_the_service_is(start: Start) -> None:
    service = start(files=FILES, rules=MIXED)
    with service.client("ann") as client:
        client.headers.update(BELOW)
        assert client.post("/api/links", json={"address": "files/a.txt"}).json()["url"].startswith(service.url)
        assert 'href="/console/"' in client.get("/").text


def test_the_public_url_s_path_is_kept_to_by_pages_and_commands(start: Start, tmp_path: Path, browser: Browser) -> None:
    settings = f'[service]\npublic_url = "https://office.example/files"\n{SETTINGS}'
    service = start(files=FILES, rules=MIXED, settings=settings)
    below = f"{service.url}/files"
    with Client(below, service.tokens["ann"]) as client:
        assert client.fetch("files/a.txt", folder=tmp_path).path.read_bytes() == b"content"
        bundle = client.bundle(["files/a.txt"])
        assert client.fetch(bundle["url"], folder=tmp_path).size == bundle["size"]
    context = browser.new_context()
    page = context.new_page()
    page.goto(f"{below}/console/sign-in")
    page.get_by_label("Access token").fill(service.tokens["ann"])
    page.keyboard.press("Enter")
    page.get_by_text("files/", exact=True).click()
    expect(page.get_by_role("row", name="a.txt")).to_be_visible()
    assert page.url == f"{below}/console/files/files/"
    with page.expect_download() as begun:
        page.get_by_role("button", name="Download a.txt").click()
    assert Path(begun.value.path()).read_bytes() == b"content"
    page.get_by_role("link", name="Transfers").click()
    expect(page.get_by_text("as they go")).to_be_visible()
    page.goto(f"{below}/api/docs")
    expect(page.get_by_role("heading", name="Invio").first).to_be_visible()
    context.close()


@pytest.fixture
def over_socket(tmp_path: Path) -> Iterator[httpx.Client]:
    folder, path = tmp_path / "service", tmp_path / "invio.sock"
    nets = MIXED.replace('actions = ["list", "read", "bundle"]', 'actions = ["read"]\nnetworks = ["203.0.113.0/24"]', 1)
    make_folder(folder, FILES, nets, f'[front]\nnetworks = ["unix"]\n{SETTINGS}')
    with socket.socket(socket.AF_UNIX) as left:
        left.bind(str(path))  # by a process that died
    command = [INVIO, "serve", "--settings", str(folder / "invio.toml"), "--socket", str(path)]
    process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True)
    try:
        assert process.stdout is not None
        assert process.stdout.readline() == f"ready: unix:{path}\n"
        assert stat.S_IMODE(path.stat().st_mode) == 0o660
        second = subprocess.run(command, capture_output=True, text=True, timeout=20)
        assert (second.returncode, "is in use; stop the program" in second.stderr) == (1, True)
        with httpx.Client(transport=httpx.HTTPTransport(uds=str(path), verify=NO_TLS), base_url="http://x") as client:
            yield client
    finally:
        process.terminate()
        process.wait(20)
    assert not path.exists()


def test_over_a_unix_socket_the_client_is_whom_the_front_server_names(over_socket: httpx.Client) -> None:
    def status(**headers: str) -> int:
        given = {name.replace("_", "-"): value for name, value in headers.items()}
        return over_socket.get("/get/files/a.txt", headers=given).status_code

    assert status(x_forwarded_for="203.0.113.9") == 200
    assert status(x_forwarded_for="203.0.113.9, 192.0.2.1") == 401, "what a client wrote is hearsay"
    assert (status(x_forwarded_for="198.51.100.1"), status()) == (401, 401)

"""What a browser makes of deliveries: pages of other origins, types that hold script, names of downloads."""

from __future__ import annotations

import os
import threading
from collections.abc import Callable, Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

import pytest
from playwright.sync_api import Browser, BrowserContext, Page

from tests.running import Service

Start = Callable[..., Service]
BIG = os.urandom(2_000_000)
SCRIPT = b"<h1>Shown</h1><script>document.title = 'it ran'</script>"


@pytest.fixture
def page(browser: Browser) -> Iterator[Page]:
    context: BrowserContext = browser.new_context(accept_downloads=True)
    yield context.new_page()
    context.close()


@pytest.fixture
def elsewhere() -> Iterator[str]:
    """Another origin, with one empty page."""

    class Handler(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            self.send_response(200)
            self.send_header("content-type", "text/html")
            self.end_headers()
            self.wfile.write(b"<!doctype html><title>elsewhere</title>")

        def log_message(self, *_: object) -> None:
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_port}"
    server.shutdown()


def test_script_in_a_file_that_is_shown_does_not_run(start: Start, page: Page) -> None:
    svg = b"<svg xmlns='http://www.w3.org/2000/svg'><text y='20'>Shown</text><script>document.title='it ran'</script></svg>"
    service = start(files={"page.html": SCRIPT, "drawing.svg": svg, "nameless": SCRIPT})
    for name in ("page.html", "drawing.svg", "nameless"):
        page.goto(f"{service.url}/get/files/{name}?as=inline")
        page.get_by_text("Shown").wait_for()
        assert page.title() != "it ran"
        assert page.evaluate("self.origin") == "null", "nothing of the service is in its reach"


def test_a_sound_is_played(start: Start, page: Page) -> None:
    sound = b"RIFF\x24\x3e\x00\x00WAVEfmt \x10\x00\x00\x00\x01\x00\x01\x00\x40\x1f\x00\x00\x80\x3e\x00\x00\x02\x00\x10\x00data\x00\x3e\x00\x00"
    service = start(files={"horn.wav": sound + bytes(16_000 - 128)})
    page.goto(f"{service.url}/get/files/horn.wav?as=inline")
    page.wait_for_function("document.querySelector('video, audio').duration > 0")


def test_a_download_has_its_name(start: Start, page: Page, tmp_path: Path) -> None:
    service = start(files={"Södra leden – översikt (潮).bin": BIG})
    with page.expect_download() as begun:
        page.evaluate(
            "target => { location.href = target }",
            f"{service.url}/get/files/S%C3%B6dra%20leden%20%E2%80%93%20%C3%B6versikt%20(%E6%BD%AE).bin",
        )
    assert begun.value.suggested_filename == "Södra leden – översikt (潮).bin"
    begun.value.save_as(tmp_path / "got")
    assert (tmp_path / "got").read_bytes() == BIG


FETCHING = """
async (target) => {
    const first = await fetch(target, { headers: { Range: "bytes=0-999999" } });
    const size = Number(first.headers.get("Content-Range").split("/")[1]);
    const tag = first.headers.get("ETag");
    const steps = [];
    let count = (await first.arrayBuffer()).byteLength;
    const rest = await fetch(target, { headers: { Range: `bytes=${count}-`, "If-Range": tag } });
    const reader = rest.body.getReader();
    for (;;) {
        const { done, value } = await reader.read();
        if (done) break;
        count += value.length;
        steps.push(count / size);
    }
    return { size, count, status: rest.status, last: steps.at(-1), name: first.headers.get("Content-Disposition") };
}
"""


def test_a_page_of_an_origin_that_may_resumes_and_shows_progress(start: Start, page: Page, elsewhere: str) -> None:
    settings = f'[cors]\norigins = ["{elsewhere}"]\n[stores.files]\nkind = "directory"\nroot = "files"\n'
    service = start(files={"big.bin": BIG}, settings=settings)
    page.goto(elsewhere)
    got = page.evaluate(FETCHING, f"{service.url}/get/files/big.bin")
    assert got == {
        "size": len(BIG), "count": len(BIG), "status": 206, "last": 1, "name": 'attachment; filename="big.bin"',
    }  # fmt: skip


def test_a_page_of_another_origin_may_neither_read_nor_embed(start: Start, page: Page, elsewhere: str) -> None:
    service = start(files={"big.bin": BIG, "chart.svg": b"<svg xmlns='http://www.w3.org/2000/svg'/>"})
    page.goto(elsewhere)
    said = page.evaluate(
        "target => fetch(target).then(() => 'read', error => String(error))", f"{service.url}/get/files/big.bin"
    )
    assert "Failed to fetch" in said
    embedded = page.evaluate(
        "target => new Promise(done => { const image = new Image(); image.onload = () => done('shown');"
        " image.onerror = () => done('refused'); image.src = target })",
        f"{service.url}/get/files/chart.svg?as=inline",
    )
    # Another port of the same host is the same site, but another origin.
    assert embedded == "refused"

"""The module for anybody's page: the element and the function, in Chromium, on a page of another origin."""

from __future__ import annotations

import hashlib
import itertools
import json
import os
import re
import shutil
import subprocess
import threading
from collections.abc import Callable, Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, Route, expect

from tests.running import SETTINGS, Service

ROOT = Path(__file__).parents[2]
MODULE = ROOT / "src" / "invio" / "service" / "web" / "browser" / "invio.js"
HUGE = 200_000_000
SMALL = os.urandom(3_000_000)
COMPLETE = re.compile(r"^Complete")
AXE = ROOT / "console" / "node_modules" / "axe-core" / "axe.min.js"


class Elsewhere:
    """A web server of another origin, whose pages allow nothing but what they name."""

    def __init__(self, service: Service) -> None:
        self.body = self.whole = ""
        self.policy = f"default-src 'none'; script-src {service.url}; connect-src {service.url}; base-uri 'none'"
        elsewhere = self

        class Handler(BaseHTTPRequestHandler):
            def do_GET(self) -> None:
                page = f'<!doctype html><html lang="en"><title>Shop</title><main><h1>Shop</h1>{elsewhere.body}</main>'
                page = elsewhere.whole or page
                self.send_response(200)
                self.send_header("content-type", "text/html; charset=utf-8")
                if elsewhere.policy:
                    self.send_header("content-security-policy", elsewhere.policy)
                self.end_headers()
                self.wfile.write(page.encode())

            def log_message(self, *_: object) -> None:
                pass

        self._server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        threading.Thread(target=self._server.serve_forever, daemon=True).start()
        self.url = f"http://localhost:{self._server.server_port}"

    def stop(self) -> None:
        self._server.shutdown()


@pytest.fixture(scope="module", params=[1, 3], ids=["one worker", "three workers"])
def service(request: pytest.FixtureRequest, start_shared: Callable[..., Service]) -> Service:
    settings = f"[service]\nworkers = {request.param}\n[cors]\norigins = ['*']\n[limits]\nrecipient_rate = 60000000\n{SETTINGS}"
    service = start_shared(files={"small.bin": SMALL, "a.txt": b"some text"}, settings=settings)
    with (service.folder / "files" / "huge.bin").open("wb") as huge:
        huge.truncate(HUGE)
    return service


@pytest.fixture
def page(browser: Browser) -> Iterator[Page]:
    context = browser.new_context(accept_downloads=True)
    page = context.new_page()
    page.set_default_timeout(30_000)
    expect.set_options(timeout=30_000)
    yield page
    context.close()


@pytest.fixture
def elsewhere(service: Service) -> Iterator[Elsewhere]:
    server = Elsewhere(service)
    yield server
    server.stop()


def element(service: Service, link: str, label: str = "Download", more: str = "") -> str:
    href = (service.url + link).replace("&", "&amp;")
    return f'<invio-download href="{href}" {more}>{label}</invio-download>'


def module(service: Service) -> str:
    return f'<script type="module" src="{service.url}/browser/1.0.0/invio.js"></script>'


def test_a_download_of_two_hundred_megabytes_is_native_and_its_progress_is_shown(
    service: Service, elsewhere: Elsewhere, page: Page
) -> None:
    violations: list[str] = []
    page.on("console", lambda message: violations.append(message.text) if message.type == "error" else None)
    elsewhere.body = element(service, service.link("files/huge.bin")) + module(service)
    page.goto(elsewhere.url)
    button = page.get_by_role("button", name="Download")
    with page.expect_download() as begun:
        button.click()
    bar = page.get_by_role("progressbar")
    expect(bar).to_have_attribute("aria-valuetext", re.compile(r"\d+ % · .*/s · \d+ s left"))
    percent = int(bar.get_attribute("aria-valuenow") or -1)
    assert 0 <= percent < 100
    expect(page.get_by_text("Complete, 191 MiB")).to_be_visible()
    assert bar.get_attribute("aria-valuenow") == "100"
    assert begun.value.path().stat().st_size == HUGE
    assert begun.value.suggested_filename == "huge.bin"
    assert page.url == f"{elsewhere.url}/", "the page stays"
    assert violations == []


def test_two_on_one_page_know_their_own_download(service: Service, elsewhere: Elsewhere, page: Page) -> None:
    link = service.link("files/small.bin")
    elsewhere.body = element(service, link, "First") + element(service, link, "Second") + module(service) * 2
    page.goto(elsewhere.url)
    with page.expect_download():
        page.get_by_role("button", name="First").click()
    expect(page.get_by_text(COMPLETE)).to_have_count(1)
    with page.expect_download():
        page.get_by_role("button", name="Second").click()
    expect(page.get_by_text(COMPLETE)).to_have_count(2)


def test_two_tabs_know_their_own_download(service: Service, elsewhere: Elsewhere, page: Page) -> None:
    elsewhere.body = element(service, service.link("files/huge.bin")) + module(service)
    other = page.context.new_page()
    for tab in (page, other):
        tab.goto(elsewhere.url)
    with page.expect_download():
        page.get_by_role("button").click()
    expect(page.get_by_role("progressbar")).to_be_visible()
    expect(other.get_by_role("progressbar")).to_be_hidden()
    with other.expect_download():
        other.get_by_role("button").click()
    for tab in (page, other):
        expect(tab.get_by_text(COMPLETE)).to_be_visible(timeout=20_000)


def test_what_is_refused_leaves_the_page_and_says_why(service: Service, elsewhere: Elsewhere, page: Page) -> None:
    elsewhere.body = element(service, service.link("files/a.txt", until=1)) + module(service)
    page.goto(elsewhere.url)
    page.get_by_role("button").click()
    expect(page.locator("[part=figures]")).to_contain_text("expired")
    assert page.url == f"{elsewhere.url}/"


def test_a_link_that_counts_its_uses_is_used_once(service: Service, elsewhere: Elsewhere, page: Page) -> None:
    elsewhere.body = element(service, service.link("files/a.txt", {"id": f"once-{service.port}"}, uses=1)) + module(
        service
    )
    page.goto(elsewhere.url)
    with page.expect_download():
        page.get_by_role("button").click()
    expect(page.get_by_text(COMPLETE)).to_be_visible()
    page.get_by_role("button").click()
    expect(page.locator("[part=figures]")).to_have_text("Refused: the link has no uses left")


def test_a_link_that_is_shown_in_place_opens_beside_the_page(
    service: Service, elsewhere: Elsewhere, page: Page
) -> None:
    elsewhere.body = element(service, service.link("files/a.txt", {"as": "inline"})) + module(service)
    page.goto(elsewhere.url)
    with page.context.expect_page() as opened:
        page.get_by_role("button").click()
    expect(opened.value.get_by_text("some text")).to_be_visible()
    expect(page.get_by_text(COMPLETE)).to_be_visible()


def test_it_is_heard_reached_by_the_keyboard_and_moves_nothing_where_that_is_not_wanted(
    service: Service, elsewhere: Elsewhere, page: Page
) -> None:
    elsewhere.body = element(service, service.link("files/small.bin"), "Chart 7") + module(service)
    page.emulate_media(reduced_motion="reduce")
    page.goto(elsewhere.url)
    page.get_by_role("button", name="Chart 7").wait_for()
    page.keyboard.press("Tab")
    with page.expect_download():
        page.keyboard.press("Enter")
    expect(page.get_by_role("status")).to_have_text("Download complete")
    fill = "getComputedStyle(document.querySelector('invio-download').shadowRoot.querySelector('.fill'))"
    assert page.evaluate(f"{fill}.transitionProperty") in ("none", "all")
    assert page.evaluate(f"[{fill}.transitionDuration, {fill}.animationName]") == ["0s", "none"]


@pytest.mark.parametrize("scheme", ["light", "dark"])
def test_axe_finds_nothing(scheme: str, service: Service, elsewhere: Elsewhere, browser: Browser) -> None:
    elsewhere.body = element(service, service.link("files/small.bin"), "Chart 7") + module(service)
    elsewhere.policy = "base-uri 'none'"
    context = browser.new_context(bypass_csp=True, color_scheme=scheme)  # type: ignore[arg-type]
    page = context.new_page()
    page.goto(elsewhere.url)
    page.add_style_tag(content=":root { color-scheme: light dark } body { background: Canvas; color: CanvasText }")
    page.add_script_tag(path=AXE)
    for _ in range(2):
        found = page.evaluate("axe.run({ resultTypes: ['violations'] })")["violations"]
        assert [(one["id"], [node["html"] for node in one["nodes"]]) for one in found] == []
        page.get_by_role("button").click()
        expect(page.get_by_text(COMPLETE)).to_be_visible()
    context.close()


def test_into_memory_as_a_blob_that_is_freed(service: Service, elsewhere: Elsewhere, page: Page) -> None:
    link = service.url + service.link("files/small.bin")
    page.goto(elsewhere.url)
    told = page.evaluate(
        """async ([module, link]) => {
            const { download } = await import(module)
            const states = []
            const one = download(link, { into: 'memory', keep: 0.2, onProgress: (progress) => states.push(progress) })
            const ended = await one.ended
            const bytes = new Uint8Array(await one.blob.arrayBuffer())
            const hash = new Uint8Array(await crypto.subtle.digest('SHA-256', bytes))
            await new Promise((resolve) => setTimeout(resolve, 400))
            return { ended, freed: one.blob === null, name: one.name, states: states.map((one) => one.state),
                     hash: [...hash].map((byte) => byte.toString(16).padStart(2, '0')).join('') }
        }""",
        [f"{service.url}/browser/invio.js", link],
    )
    assert (told["ended"]["state"], told["ended"]["percent"], told["ended"]["bytes"]) == ("complete", 100, len(SMALL))
    assert told["hash"] == hashlib.sha256(SMALL).hexdigest()
    assert (told["freed"], told["name"]) == (True, "small.bin")
    assert told["states"][0] == "preparing"
    assert told["states"][-1] == "complete"


# A file handle that keeps what is written, and fails where it is told to: the browser's own asks a person.
FILE = """
window.KeptFile = class {
  constructor() { this.pieces = []; this.closed = false; this.aborted = false }
  async createWritable() {
    return { write: async (bytes) => { this.pieces.push(bytes) }, close: async () => { this.closed = true },
             abort: async () => { this.aborted = true } }
  }
  async hash() {
    const all = new Uint8Array(await new Blob(this.pieces).arrayBuffer())
    const hash = new Uint8Array(await crypto.subtle.digest('SHA-256', all))
    return [...hash].map((byte) => byte.toString(16).padStart(2, '0')).join('')
  }
}
"""


def test_into_a_file_it_pauses_goes_on_after_a_lost_connection_and_verifies(
    service: Service, elsewhere: Elsewhere, page: Page
) -> None:
    content = os.urandom(11_000_000)
    page.add_init_script(FILE)
    (service.folder / "files" / "pieces.bin").write_bytes(content)
    page.goto(elsewhere.url)
    asked: list[str] = []

    def route(route: Route) -> None:
        asked.append(route.request.headers.get("range", ""))
        if len(asked) == 2:
            route.abort("connectionreset")
        else:
            route.continue_()

    page.route("**/get/files/pieces.bin*", route)
    told = page.evaluate(
        """async ([module, link]) => {
            const { download } = await import(module)
            const file = new KeptFile()
            const states = []
            const one = download(link, { into: file, onProgress: (progress) => {
              states.push(progress.state)
              if (progress.bytes > 5e6 && !states.includes('paused')) {
                one.pause()
                setTimeout(() => one.resume(), 200)
              }
            } })
            const ended = await one.ended
            return { ended, states, hash: await file.hash(), closed: file.closed }
        }""",
        [f"{service.url}/browser/invio.js", service.url + service.link("files/pieces.bin")],
    )
    assert (told["ended"]["state"], told["ended"]["bytes"]) == ("complete", len(content))
    assert told["hash"] == hashlib.sha256(content).hexdigest()
    assert told["closed"]
    assert "paused" in told["states"]
    assert asked[1] == asked[2], "what was lost is asked for again"


def test_into_a_file_what_has_changed_meanwhile_is_refused_and_not_mixed(
    service: Service, elsewhere: Elsewhere, page: Page
) -> None:
    target = service.folder / "files" / "changing.bin"
    target.write_bytes(os.urandom(9_000_000))
    page.add_init_script(FILE)
    page.goto(elsewhere.url)
    page.expose_function("change", lambda: target.write_bytes(os.urandom(9_000_000)) and None)
    told = page.evaluate(
        """async ([module, link]) => {
            const { download } = await import(module)
            const file = new KeptFile()
            let changed = false
            const one = download(link, { into: file, onProgress: async (progress) => {
              if (progress.bytes > 4e6 && !changed) { changed = true; one.pause(); await change(); one.resume() }
            } })
            return { ended: await one.ended, aborted: file.aborted }
        }""",
        [f"{service.url}/browser/invio.js", service.url + service.link("files/changing.bin")],
    )
    assert told["ended"]["state"] == "refused", told
    assert "changed" in told["ended"]["reason"]
    assert told["aborted"]


@pytest.mark.parametrize(
    "field", [{"content-range": "bytes 0-99/9000000"}, {"etag": '"another"'}, {"content-range": ""}]
)
def test_into_a_file_no_other_part_is_put_than_was_asked_for(
    service: Service, elsewhere: Elsewhere, page: Page, field: dict[str, str]
) -> None:
    (service.folder / "files" / "parts.bin").write_bytes(os.urandom(9_000_000))
    page.add_init_script(FILE)
    page.goto(elsewhere.url)
    answers = itertools.count()

    def alter(route: Route) -> None:
        answer = route.fetch()
        route.fulfill(response=answer, headers={**answer.headers, **(field if next(answers) == 1 else {})})

    page.route("**/parts.bin*", alter)
    told = page.evaluate(
        """async ([module, link]) => {
            const { download } = await import(module)
            const file = new KeptFile()
            return { ended: await download(link, { into: file }).ended, aborted: file.aborted }
        }""",
        [f"{service.url}/browser/invio.js", service.url + service.link("files/parts.bin")],
    )
    assert (told["ended"]["state"], told["aborted"]) == ("refused", True), told
    assert next(answers) == 2


def test_what_a_session_gives_is_followed_by_a_short_link(service: Service, page: Page) -> None:
    page.goto(f"{service.url}/console/sign-in")
    told = page.evaluate(
        """async (token) => {
            await fetch('/api/sessions', { method: 'POST', headers: { 'content-type': 'application/json' },
                                           body: JSON.stringify({ token }) })
        }""",
        service.tokens["bob"],
    )
    assert told is None
    with page.expect_download():
        page.evaluate(
            """async () => {
                const { download } = await import('/browser/invio.js')
                window.one = download('/get/files/small.bin')
            }"""
        )
    ended = page.evaluate("window.one.ended")
    assert (ended["state"], ended["bytes"]) == ("complete", len(SMALL))
    shown = next(one for one in service.transfers() if one["address"] == "files/small.bin" and one["tag"])
    assert shown["recipient"] == "bob"


def test_a_page_that_is_closed_in_mid_download_ends_neither_it_nor_the_service(
    service: Service, elsewhere: Elsewhere, page: Page
) -> None:
    elsewhere.body = element(service, service.link("files/huge.bin"), "Two tabs") + module(service)
    page.goto(elsewhere.url)
    with page.expect_download() as begun:
        page.get_by_role("button").click()
    expect(page.locator("[part=figures]")).to_contain_text("%")
    page.goto("about:blank")
    assert begun.value.path().stat().st_size == HUGE
    assert service.get("/healthz").status_code == 200


def test_the_module_is_small_has_types_and_is_served_for_any_page_by_its_version(service: Service) -> None:
    reply = service.get("/browser/invio.js", accept_encoding="gzip")
    assert reply.headers["content-encoding"] == "gzip"
    assert int(reply.headers["content-length"]) < 15_000
    assert reply.headers["access-control-allow-origin"] == "*"
    assert reply.headers["cross-origin-resource-policy"] == "cross-origin"
    assert "javascript" in reply.headers["content-type"]
    pinned = service.get("/browser/1.0.0/invio.js")
    assert "immutable" in pinned.headers["cache-control"]
    assert "immutable" not in service.get("/browser/invio.js").headers["cache-control"]
    earlier = service.get("/browser/1.9.3/invio.js")
    assert (earlier.status_code, earlier.headers["location"]) == (307, "/browser/invio.js")
    assert service.get("/browser/2.0.0/invio.js").status_code == 404
    assert "export" in service.get("/browser/types/invio.d.ts").text
    assert json.loads((ROOT / "browser" / "package.json").read_text())["version"] in pinned.url.path


def test_the_page_of_the_docs_runs_as_it_stands(service: Service, elsewhere: Elsewhere, page: Page) -> None:
    [shown] = re.findall(r"```html\n(.*?)```", (ROOT / "docs" / "browser.md").read_text("utf-8"), re.DOTALL)
    written = "https://files.example.org/get/charts/approach/north-channel.pdf?key=k1&amp;seal=…"
    assert written in shown
    shown = shown.replace(written, (service.url + service.link("files/small.bin")).replace("&", "&amp;"))
    elsewhere.whole = shown.replace("https://files.example.org", service.url)
    elsewhere.policy = ""
    page.goto(elsewhere.url)
    with page.expect_download() as begun:
        page.get_by_role("button", name="Download the chart").click()
    assert begun.value.path().stat().st_size == len(SMALL)
    expect(page.get_by_text(COMPLETE)).to_be_visible()


def test_words_are_those_of_the_terminal() -> None:
    node = shutil.which("node")
    assert node
    program = f"""
        import {{ durationText, leftText }} from {json.dumps(str(MODULE))}
        import {{ readFileSync }} from 'node:fs'
        const vectors = JSON.parse(readFileSync({json.dumps(str(ROOT / "tests" / "core" / "figures.json"))}))
        const odd = vectors.filter(([seconds, text]) => durationText(seconds) !== text)
        console.log(JSON.stringify([vectors.length, odd, leftText(250), leftText(0), durationText(null)]))
    """
    done = subprocess.run([node, "--input-type=module", "-e", program], capture_output=True, text=True, check=True)
    count, *said = json.loads(done.stdout)
    assert said == [[], "4 min 10 s left", "", "–"]
    assert count > 20

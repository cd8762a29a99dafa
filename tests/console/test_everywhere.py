"""What holds on every page: accessible in every mode, by keyboard alone, in two languages, strict, and fast."""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from typing import Any

import pytest
from playwright.sync_api import Browser, Page, Response, Route, expect

from tests.console.test_states import violations
from tests.rules import expected, rule
from tests.running import Service

Visit = Callable[..., Page]
MANY = 100_000
RULES = (
    rule(
        "group:crew",
        "files/charts/**",
        "list read",
        "crew reads charts",
        quota={"files": 10, "bytes": 5000, "per": "1d"},
    )
    + rule("group:admins", "**", "list read bundle link put manage administer", "admins")
    + expected("anyone", "read", "files/charts/a.txt", "refused")
)
SETTINGS = """
[stores.files]
kind = "directory"
root = "files"
[stores.models]
kind = "managed"
root = "models"
"""
FILES = {"charts/a.txt": b"aaa", "charts/levels.csv": b"at,level\n1,2\n", "secret/s.txt": b"s"}
PAGES = [
    "files/", "files/files/charts/?show=files/charts/levels.csv", "files/models/", "links", "transfers", "history",
    "access/why", "access/matrix", "access/rules", "access/trial", "access/expectations", "access/quotas", "people",
    "people/bob", "service", "account",
]  # fmt: skip
WIDE, NARROW = {"width": 1280, "height": 800}, {"width": 390, "height": 844}


@pytest.fixture(scope="module")
def service(start_shared: Callable[..., Service]) -> Service:
    service = start_shared(files=FILES, rules=RULES, settings=SETTINGS)
    assert service.get("/get/files/charts/a.txt", "bob").status_code == 200
    assert service.get("/get/files/secret/s.txt", "bob").status_code == 404
    assert service.get("/get/files/charts/levels.csv", "ann", Range="bytes=0-3").status_code == 206
    with service.client("ann") as ann:
        for seconds in (60, 1_000_000):
            ann.post("/api/links", json={"address": "files/charts/a.txt", "seconds": seconds}).raise_for_status()
    return service


@pytest.mark.parametrize("size", [WIDE, NARROW], ids=["wide", "narrow"])
def test_axe_finds_nothing_light_or_dark_and_nothing_is_cut_off(
    service: Service, visit: Visit, size: dict[str, int]
) -> None:
    page = visit(service, "", "ann", viewport=size)
    with service.client("ann") as ann:
        transfers = [f"transfers/{one['id']}" for one in ann.get("/api/transfers").json()["transfers"]]
    assert len(transfers) == 2, "one that arrived whole, and a part of one, whose request is told"
    found = {}
    for place in [*PAGES, *transfers]:
        page.emulate_media(color_scheme="light")
        page.goto(f"{service.url}/console/{place}")
        page.get_by_role("main").get_by_role("heading").first.wait_for(state="attached")
        page.wait_for_timeout(300)
        broken = violations(page)
        page.emulate_media(color_scheme="dark")
        broken += violations(page, only=["color-contrast"])  # nothing else depends on it
        if broken or page.evaluate("document.documentElement.scrollWidth") != size["width"]:
            found[place] = broken or "wider than the window"
    assert found == {}


def test_a_file_is_found_linked_and_the_link_revoked_by_keyboard_alone(service: Service, visit: Visit) -> None:
    page = visit(service, "files/files/charts/", "ann")

    def tab_to(called: str) -> None:
        for _ in range(60):
            page.keyboard.press("Tab")
            active = "document.activeElement.getAttribute('aria-label') ?? document.activeElement.textContent"
            labelled = "document.activeElement.labels?.[0]?.textContent ?? ''"
            if called in (page.evaluate(active) or "") or called == page.evaluate(labelled):
                return
        raise AssertionError(f"{called} is not reached with the Tab key")

    expect(page.get_by_role("row", name="a.txt")).to_be_visible()
    tab_to("Search here and below")
    page.keyboard.type("lev")
    expect(page.get_by_role("rowheader")).to_have_count(1)
    page.keyboard.press("Tab")
    while page.evaluate("document.activeElement.getAttribute('role')") != "row":
        page.keyboard.press("Tab")
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name="levels.csv")).to_be_focused()
    tab_to("Make a link")
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name="Links", exact=True)).to_be_focused()
    tab_to("Make the link")
    page.keyboard.press("Enter")
    row = page.get_by_role("row", name="files/charts/levels.csv")
    expect(row).to_contain_text("good")
    tab_to("Search links")
    page.keyboard.type("levels")
    while page.evaluate("document.activeElement.getAttribute('role')") != "row":
        page.keyboard.press("Tab")
    page.keyboard.press("ArrowLeft")
    expect(row.get_by_role("button", name="Revoke")).to_be_focused()
    page.keyboard.press("Enter")
    page.keyboard.press("Enter")
    expect(row).to_contain_text("revoked")


def test_the_interface_is_german_where_the_browser_is_and_can_be_switched(service: Service, visit: Visit) -> None:
    page = visit(service, "transfers", "ann", locale="de-AT")
    expect(page.get_by_role("heading", name="Übertragungen")).to_be_visible()
    assert page.evaluate("document.documentElement.lang") == "de"
    assert page.title() == "Übertragungen · Invio"
    page.get_by_label("Sprache").select_option("en")
    expect(page.get_by_role("heading", name="Transfers")).to_be_visible()
    page.reload()
    expect(page.get_by_role("heading", name="Transfers")).to_be_visible()


def test_no_page_says_english_words_of_its_own_in_german(service: Service, visit: Visit) -> None:
    page = visit(service, "", "ann", locale="de-DE")
    own = {"Show", "Download", "Remove", "Files", "Recipient", "State", "Looking", "Rules", "Search", "Uses"}
    found = {}
    for place in PAGES:
        page.goto(f"{service.url}/console/{place}")
        page.get_by_role("main").get_by_role("heading").first.wait_for(state="attached")
        page.wait_for_timeout(300)
        # What the service says of a rule, or a rule is called, is in the operator's words.
        words = set(re.findall(r"\b[A-Z][a-z]+\b", page.get_by_role("main").inner_text()))
        if words & own:
            found[place] = words & own
    assert found == {}


def test_the_policy_allows_no_inline_styles_nor_scripts_and_nothing_is_refused_by_it(
    service: Service, browser: Browser
) -> None:
    head = service.get("/console/").headers
    policy = head["content-security-policy"]
    assert "unsafe-inline" not in policy
    assert "unsafe-eval" not in policy
    nonce = re.search(r"style-src 'self' 'nonce-([A-Za-z0-9_-]{20,})'", policy)
    assert nonce is not None
    assert head["cache-control"] == "no-store"
    assert nonce[1] not in service.get("/console/").headers["content-security-policy"], "it is never used again"
    context = browser.new_context(viewport=WIDE)  # type: ignore[arg-type]
    context.request.post(f"{service.url}/api/sessions", data={"token": service.tokens["ann"]})
    page = context.new_page()
    refused: list[str] = []
    page.on("console", lambda message: refused.append(message.text) if "Policy" in message.text else None)
    for place in PAGES:
        page.goto(f"{service.url}/console/{place}")
        page.wait_for_selector("header")
        page.wait_for_timeout(300)
        assert page.evaluate("getComputedStyle(document.querySelector('header')).display") == "flex", "styles hold"
    context.close()
    assert refused == []


def test_a_page_that_fails_says_so_and_the_others_go_on(service: Service, visit: Visit) -> None:
    page = visit(service, "files/", "ann")
    page.route("**/api/access*", lambda route: route.fulfill(json={"folders": None, "rows": 7}))
    page.goto(f"{service.url}/console/access/matrix")
    expect(page.get_by_role("alert")).to_contain_text("This page failed while it was drawn.")
    page.get_by_role("link", name="People").click()
    expect(page.get_by_role("heading", name="People")).to_be_visible()


def test_the_first_view_is_small_and_there_within_a_second(service: Service, visit: Visit) -> None:
    page = visit(service, "files/files/charts/", "ann")
    scripts: dict[str, int] = {}
    session = page.context.new_cdp_session(page)
    session.send("Network.enable")
    session.send("Network.setCacheDisabled", {"cacheDisabled": True})

    def note(answer: Response) -> None:
        if answer.request.resource_type == "script":
            assert answer.headers["content-encoding"] == "br" or int(answer.headers["content-length"]) < 1024
            scripts[answer.url] = int(answer.headers["content-length"])

    page.on("response", note)
    took: list[float] = []
    while len(took) < 10 and min(took, default=2000.0) > 1000:  # a machine that is busy with others takes longer
        scripts.clear()
        page.goto(f"{service.url}/console/files/files/charts/", wait_until="commit")
        page.get_by_role("row", name="a.txt").wait_for()
        took.append(page.evaluate("performance.now()"))
    page.wait_for_timeout(300)
    assert sum(scripts.values()) <= 200 * 1024, scripts
    assert min(took) <= 1000, took


def test_five_hundred_moving_transfers_keep_the_page_fast(service: Service, visit: Visit) -> None:
    page = visit(service, "files/", "ann")
    page.add_init_script(MOVING)
    page.route("**/api/transfers?*", lambda route: _many(route))
    page.goto(f"{service.url}/console/transfers")
    expect(page.get_by_role("row", name="file-499.bin")).to_be_visible()
    page.wait_for_timeout(1500)
    tries: list[float] = []
    while len(tries) < 10 and max(tries, default=0.0) < 50:  # a machine that is busy with others draws fewer
        tries.append(page.evaluate(FRAMES))
    assert max(tries) >= 50, tries
    assert page.evaluate("window.told") >= 1000


def test_typing_in_a_search_of_very_many_files_never_blocks_the_page(
    start: Callable[..., Service], visit: Visit, browser: Browser
) -> None:
    own = start(files={}, rules=RULES, settings=SETTINGS)
    folder = own.folder / "files" / "many"
    folder.mkdir()
    for number in range(MANY):
        (folder / f"sounding-{number:06}.xyz").touch()
    tries: list[float] = []
    while len(tries) < 5 and min(tries, default=1.0) > 0.1:  # a machine that is busy with others takes longer
        page = visit(own, "files/files/many/", "ann")
        expect(page.get_by_role("row", name="sounding-000000.xyz")).to_be_visible()
        tries.append(max(_typed(page, "sounding-0999")))
        expect(page.get_by_role("row", name="sounding-099900.xyz")).to_be_visible()
        expect(page.get_by_text("40 entries so far")).to_be_visible()
    assert min(tries) <= 0.1, tries
    slowly: list[float] = []
    while len(slowly) < 5 and min(slowly, default=1.0) > 0.1:
        page = visit(own, "files/files/many/", "ann")
        expect(page.get_by_role("row", name="sounding-000000.xyz")).to_be_visible()
        slowly.append(_longest_task(browser, page, "sounding-0999"))
    assert min(slowly) <= 0.1, slowly


def _longest_task(browser: Browser, page: Page, text: str) -> float:
    """Seconds that the page's own thread worked in one go, while somebody waits for what each letter finds."""
    field = page.get_by_label("Search here and below")
    field.focus()
    page.wait_for_timeout(500)
    browser.start_tracing(page=page, categories=["toplevel"])
    for letter in text:
        page.keyboard.press(letter)
        page.wait_for_timeout(600)  # longer than the pause after which it is searched
    traced = json.loads(browser.stop_tracing())["traceEvents"]
    expect(page.get_by_role("row", name="sounding-099900.xyz")).to_be_visible()
    main = {(one["pid"], one["tid"]) for one in traced if one.get("args", {}).get("name") == "CrRendererMain"}
    tasks: list[float] = [one["tdur"] / 1e6 for one in traced if "tdur" in one and (one["pid"], one["tid"]) in main]
    assert len(tasks) > 100
    return max(tasks)


def _typed(page: Page, text: str) -> list[float]:
    """Seconds for which the page's own thread worked after each letter, the first one of a fresh page included."""
    session = page.context.new_cdp_session(page)
    session.send("Performance.enable", {"timeDomain": "threadTicks"})

    def worked() -> float:
        metrics = session.send("Performance.getMetrics")["metrics"]
        return next(float(one["value"]) for one in metrics if one["name"] == "TaskDuration")

    def rested() -> None:
        for _ in range(50):
            before = worked()
            page.wait_for_timeout(100)
            if worked() - before < 0.01:
                return
        raise AssertionError("the page never comes to rest")

    field = page.get_by_label("Search here and below")
    rested()
    field.focus()
    rested()
    took = []
    for letter in text:
        before = worked()
        page.keyboard.press(letter)
        page.wait_for_timeout(120)
        took.append(worked() - before)
    expect(field).to_have_value(text)
    return took


def _transfer(number: int) -> dict[str, Any]:
    return {
        "id": f"{number:020x}", "address": f"files/file-{number}.bin", "version": None, "recipient": "bob",
        "made_for": None, "link": None, "via": None, "tag": None, "state": "running", "reason": None, "bytes": 0,
        "size": 1_000_000, "percent": 0, "estimated_size": None, "rate": 1000, "seconds_left": 1000.0, "requests": 1,
        "started": "2026-01-01T00:00:00Z", "updated": "2026-01-01T00:00:00Z", "entries": None, "entries_done": None,
        "entry": None,
    }  # fmt: skip


def _many(route: Route) -> None:
    route.fulfill(json={"transfers": [_transfer(number) for number in range(499, -1, -1)], "next": None})


# A stream in the place of the service's: all five hundred move, and are told of once a second, as it does of so many.
MOVING = (
    """
window.told = 0
const FIRST = """
    + json.dumps(_transfer(0))
    + """
window.EventSource = class extends EventTarget {
    static CLOSED = 2
    readyState = 1
    constructor() {
        super()
        let turn = 0
        setTimeout(() => this.dispatchEvent(new Event('open')))
        this.timer = setInterval(() => {
            turn++
            for (let number = 0; number < 500; number++) {
                const bytes = (turn * 1500 + number * 700) % 1000000
                const data = JSON.stringify({
                    ...FIRST, id: number.toString(16).padStart(20, '0'), address: `files/file-${number}.bin`,
                    bytes, percent: Math.floor(bytes / 10000),
                })
                window.told++
                this.dispatchEvent(new MessageEvent('transfer', { data }))
            }
        }, 1000)
    }
    close() { clearInterval(this.timer) }
}
"""
)
# How many frames are drawn a second, over two seconds.
FRAMES = """() => new Promise((resolve) => {
    const began = performance.now()
    let frames = 0
    const next = (now) => {
        frames++
        if (now - began < 2000) requestAnimationFrame(next)
        else resolve(frames / ((now - began) / 1000))
    }
    requestAnimationFrame(next)
})"""

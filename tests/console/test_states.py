"""What the console says when something is refused, over, away or very long, and how it looks to everybody."""

from __future__ import annotations

import os
import re
import sqlite3
from collections.abc import Callable
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, expect

from tests.rules import rule
from tests.running import Demo, Service, until

AXE = Path(__file__).parents[2] / "console" / "node_modules" / "axe-core" / "axe.min.js"
MANY = 1000
RULES = (
    rule(
        "group:crew",
        "files/many/** files/data.v1/** files/slow/**",
        "list read bundle",
        "crew",
        quota={"files": 2, "per": "1d", "text": "Ask the survey desk for more."},
    )
    + rule("group:crew", "files/seen/**", "list", "seen only")
    + rule("group:admins", "**", "list read bundle link put manage administer", "admins")
)
FILES = {
    **{f"many/file-{number:04}.txt": b"x" for number in range(MANY)},
    **{f"seen/a rather long name of a sheet {number:03}.txt": b"x" for number in range(120)},
    "data.v1/a.txt": b"content",
    "slow/big.bin": os.urandom(2_000_000),
}


@pytest.fixture(scope="module")
def service(start_shared: Callable[..., Service]) -> Service:
    return start_shared(files=FILES, rules=RULES)


@pytest.fixture
def own(start: Callable[..., Service]) -> Service:
    return start(files={"data.v1/a.txt": b"content", "data.v1/b.txt": b"b", "seen/b.txt": b"x"}, rules=RULES)


def records(service: Service, statement: str) -> int:
    """Alters the records; gives how many lines were."""
    with sqlite3.connect(service.folder / "data" / "records.sqlite") as connection:
        return connection.execute(statement).rowcount


def test_a_long_folder_is_drawn_as_far_as_it_is_seen(service: Service, visit: Callable[..., Page]) -> None:
    page = visit(service, "files/files/many/")
    grid = page.get_by_role("grid")
    expect(page.get_by_text("40 entries so far")).to_be_visible()
    for _ in range(400):
        grid.evaluate("element => { element.scrollTop = element.scrollHeight }")
        page.wait_for_timeout(100)
        if page.get_by_role("row", name="file-0999.txt").count():
            break
    expect(page.get_by_text(f"{MANY:,} entries", exact=True)).to_be_visible()
    expect(page.get_by_role("row", name="file-0999.txt")).to_be_visible()
    assert page.locator("*").count() < 2500
    # A tick is there at once, and not after all the rows were drawn again.
    took = page.evaluate(
        """async () => {
            const box = document.querySelectorAll('[role=row] input[type=checkbox]')[4]
            const began = performance.now()
            box.click()
            await new Promise((drawn) => requestAnimationFrame(() => setTimeout(drawn)))
            return performance.now() - began
        }"""
    )
    expect(page.get_by_text("1 file selected")).to_be_visible()
    assert took < 1000


def test_what_a_download_is_refused_for_stands_where_one_clicked(own: Service, visit: Callable[..., Page]) -> None:
    page = visit(own, "files/files/data.v1/")
    with page.expect_download() as begun:
        page.get_by_role("button", name="Download a.txt").click()
    assert Path(begun.value.path()).read_bytes() == b"content"
    until(lambda: records(own, "UPDATE quota_uses SET files = 2") == 1)
    page.get_by_role("button", name="Download b.txt").click()
    said = page.get_by_role("dialog", name="Download b.txt: refused")
    expect(said).to_contain_text("You have reached a quota.")
    expect(said).to_contain_text("Ask the survey desk for more.")
    page.keyboard.press("Escape")
    expect(said).to_have_count(0)
    page.get_by_role("row", name="b.txt").locator("bdi").click()
    expect(page.get_by_role("alert")).to_contain_text("You have reached a quota.")


def test_a_refused_selection_of_many_fits_and_can_be_left_out(service: Service, visit: Callable[..., Page]) -> None:
    page = visit(service, "files/files/")
    for name in ("seen", "data.v1"):
        page.get_by_role("row", name=f"{name}/").get_by_role("checkbox").click(force=True)
    page.get_by_role("button", name="Download as one archive").click()
    alert = page.get_by_role("alert")
    expect(alert).to_contain_text("120 files would not be in the archive:")
    expect(alert.get_by_role("listitem").first).to_contain_text("you may not have it")
    box = page.get_by_role("region", name="Selection").bounding_box()
    assert box is not None
    assert box["y"] > 0.3 * 800
    with page.expect_download() as begun:
        alert.get_by_role("button", name="Leave these out and go on").click()
    assert begun.value.suggested_filename == "files.zip"
    expect(page.get_by_text(re.compile("Archive of 2 files, .*120 files left out"))).to_be_visible()
    page.get_by_role("row", name="data.v1/").get_by_role("checkbox").click(force=True)
    expect(page.get_by_text("Archive of")).to_have_count(0)


def test_a_session_that_is_over_is_told_and_one_comes_back_to_the_place(
    own: Service, visit: Callable[..., Page]
) -> None:
    page = visit(own, "files/files/")
    expect(page.get_by_role("row", name="data.v1/")).to_be_visible()
    records(own, "DELETE FROM sessions")
    page.wait_for_timeout(1500)  # for which another process may go on honouring it
    page.get_by_text("data.v1/").click()
    expect(page.get_by_text("The session of bob is over.")).to_be_visible()
    expect(page.get_by_role("row", name="a.txt")).to_have_count(0)
    page.get_by_role("link", name="Sign in again").click()
    page.get_by_label("Access token").fill(own.tokens["bob"])
    page.keyboard.press("Enter")
    expect(page.get_by_role("row", name="a.txt")).to_be_visible()
    assert page.url.endswith("/console/files/files/data.v1/")


def test_a_service_that_is_away_is_told_and_comes_back_by_itself(own: Service, visit: Callable[..., Page]) -> None:
    page = visit(own, "files/")
    expect(page.get_by_role("row", name="files/")).to_be_visible()
    page.route("**/api/files*", lambda route: route.abort())
    page.get_by_text("files/", exact=True).click()
    expect(page.get_by_role("alert")).to_contain_text("The service does not answer. It is asked again.")
    page.unroute("**/api/files*")
    expect(page.get_by_role("row", name="data.v1/")).to_be_visible()
    expect(page.get_by_role("alert")).to_have_count(0)


def test_pages_have_titles_take_the_focus_and_are_found_again(service: Service, visit: Callable[..., Page]) -> None:
    page = visit(service, "files/files/")
    assert page.title() == "Files in files/ · Invio"
    page.get_by_text("data.v1/").click()
    expect(page.get_by_role("row", name="a.txt")).to_be_visible()
    assert page.title() == "Files in files/data.v1/ · Invio"
    assert page.evaluate("document.activeElement.textContent") == "Files in files/data.v1/"
    page.reload()
    expect(page.get_by_role("row", name="a.txt")).to_be_visible()


def test_many_tabs_of_transfers_leave_room_for_everything_else(service: Service, visit: Callable[..., Page]) -> None:
    first = visit(service, "transfers")
    tabs = [first]
    for _ in range(7):
        tabs[-1].evaluate(
            """() => {
                Object.defineProperty(document, 'hidden', { value: true, configurable: true })
                document.dispatchEvent(new Event('visibilitychange'))
            }"""
        )
        tab = first.context.new_page()
        tab.goto(f"{service.url}/console/transfers")
        expect(tab.get_by_text("as they go")).to_be_visible()
        tabs.append(tab)


def test_a_state_that_the_page_does_not_know_is_shown_by_its_name(service: Service, visit: Callable[..., Page]) -> None:
    page = visit(service, "files/")
    transfer = {
        "id": "0", "address": "files/slow/big.bin", "version": None, "recipient": "bob", "made_for": None, "link": None,
        "via": None, "tag": None, "state": "paused", "reason": None, "bytes": 5, "size": 10, "percent": 50.0,
        "rate": None, "seconds_left": None, "requests": 1, "started": "2026-01-01T00:00:00Z",
        "updated": "2026-01-01T00:00:00Z", "entries": None, "entries_done": None, "entry": None,
    }  # fmt: skip
    page.route("**/api/transfers?*", lambda route: route.fulfill(json={"transfers": [transfer], "next": None}))
    page.get_by_role("link", name="Transfers").click()
    expect(page.get_by_role("row", name="big.bin")).to_contain_text("paused")


def test_on_a_telephone_nothing_is_cut_off(service: Service, visit: Callable[..., Page]) -> None:
    page = visit(service, "files/files/seen/", viewport={"width": 390, "height": 844})
    name = page.get_by_text("a rather long name of a sheet 000.txt")
    expect(name).to_be_visible()
    for place in ("files/files/seen/", "transfers", "files/"):
        page.goto(f"{service.url}/console/{place}")
        page.wait_for_timeout(500)
        assert page.evaluate("document.documentElement.scrollWidth") == 390, place


def test_scripts_are_sent_compressed(service: Service) -> None:
    page = service.get("/console/").text
    script = re.search(r'src="(/console/assets/[^"]+)"', page)
    assert script is not None
    sizes = {}
    for coding in ("identity", "gzip", "br"):
        with service.client() as client, client.stream("GET", script[1], headers={"accept-encoding": coding}) as sent:
            assert sent.headers.get("content-encoding", "identity") == coding
            assert sent.headers["vary"] == "accept-encoding"
            sizes[coding] = int(sent.headers["content-length"])
    assert sizes["br"] < sizes["gzip"] < sizes["identity"] / 2


def violations(page: Page, *, colours: bool = True, only: list[str] | None = None) -> list[tuple[str, list[str]]]:
    """What axe finds wrong with a page; without `colours` where they are the system's own, which it does not see."""
    if not page.evaluate("'axe' in window"):
        page.evaluate(AXE.read_text("utf-8"))
    options: dict[str, object] = {"resultTypes": ["violations"]}
    if not colours:
        options["rules"] = {"color-contrast": {"enabled": False}}
    if only is not None:
        options["runOnly"] = only
    told = page.evaluate("options => axe.run(document, options).then(told => told.violations)", options)
    return [(one["id"], [node["html"][:120] for node in one["nodes"][:3]]) for one in told]


def test_axe_finds_nothing_on_the_pages_that_the_service_itself_draws(
    service: Service, visit: Callable[..., Page]
) -> None:
    page = visit(service, "files/")
    for path in (
        "/api/docs",
        "/get/files/none.txt",
        "/get/files/seen/a%20rather%20long%20name%20of%20a%20sheet%20000.txt",
    ):
        page.goto(service.url + path)
        if path == "/api/docs":
            page.get_by_role("heading", name="Operations", exact=True).wait_for()
            page.get_by_text("Make a sealed link").wait_for()
        assert violations(page) == [], path


# Of pages as they usually are, see test_everywhere.
STATES = ["sign-in", "files/files/data.v1/", "files/files/none/", "nowhere"]
MODES = [
    {"viewport": {"width": 1280, "height": 800}},
    {"viewport": {"width": 390, "height": 844}, "color_scheme": "dark"},
    {"viewport": {"width": 1280, "height": 800}, "forced_colors": "active"},
]


@pytest.mark.parametrize("mode", MODES, ids=["wide", "narrow and dark", "forced colours"])
def test_axe_finds_nothing_where_nothing_is_or_something_is_selected(
    service: Service, visit: Callable[..., Page], mode: dict[str, object]
) -> None:
    page = visit(service, **mode)
    found = {}
    for state in STATES:
        page.goto(f"{service.url}/console/{state}")
        page.wait_for_timeout(400)
        if state.endswith("data.v1/"):
            page.get_by_role("row", name="a.txt").get_by_role("checkbox").click(force=True)
        broken = violations(page, colours="forced_colors" not in mode)
        if broken:
            found[state] = broken
    assert found == {}


@pytest.mark.parametrize("mode", MODES, ids=["wide", "narrow and dark", "forced colours"])
def test_axe_finds_nothing_where_something_is_refused_over_or_laid_on_top(
    own: Service, visit: Callable[..., Page], mode: dict[str, object]
) -> None:
    colours = "forced_colors" not in mode
    page = visit(own, "files/files/", **mode)
    for name in ("seen", "data.v1"):
        page.get_by_role("row", name=f"{name}/").get_by_role("checkbox").click(force=True)
    page.get_by_role("button", name="Download as one archive").click()
    expect(page.get_by_role("alert")).to_contain_text("Leave these out")
    assert violations(page, colours=colours) == []
    page.goto(f"{own.url}/console/files/files/data.v1/")
    with page.expect_download():
        page.get_by_role("button", name="Download a.txt").click()
    until(lambda: records(own, "UPDATE quota_uses SET files = 2") == 1)
    page.get_by_role("button", name="Download b.txt").click()
    expect(page.get_by_role("dialog", name="Download b.txt: refused")).to_be_visible()
    assert violations(page, colours=colours) == []
    page.goto(f"{own.url}/console/transfers")
    expect(page.get_by_role("row", name="a.txt")).to_be_visible()
    assert violations(page, colours=colours) == []
    records(own, "DELETE FROM sessions")
    page.wait_for_timeout(1500)  # for which another process may go on honouring it
    page.goto(f"{own.url}/console/files/files/")
    expect(page.get_by_role("row", name="data.v1/")).to_have_count(0)
    assert violations(page, colours=colours) == []
    for link in (own.link("files/data.v1/a.txt", until=1), own.link("files/data.v1/none.txt")):
        page.goto(own.url + link)
        assert violations(page, colours=colours) == [], link


@pytest.mark.parametrize("mode", MODES, ids=["wide", "narrow and dark", "forced colours"])
def test_axe_finds_nothing_on_a_page_of_versions(demo: Demo, browser: Browser, mode: dict[str, object]) -> None:
    context = browser.new_context(bypass_csp=True, **mode)  # type: ignore[arg-type]
    page = context.new_page()
    page.goto(demo.card["console"] + "sign-in")
    page.get_by_label("Access token").fill(demo.token("tern-lab"))
    page.keyboard.press("Enter")
    page.get_by_text("tern-lab", exact=True).wait_for()
    page.goto(demo.card["console"] + "files/models/west-bank/")
    page.get_by_role("button", name="version 3 of sea-floor.grid").click()
    expect(page.get_by_role("dialog", name="Versions of sea-floor.grid").get_by_role("listitem")).to_have_count(3)
    assert violations(page, colours="forced_colors" not in mode) == []
    context.close()

"""The service's pages in Chromium: with scripts and without, narrow and wide, light and dark, and what axe says."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, expect

from tests.running import RULES, SETTINGS, Service

AXE = Path(__file__).parents[2] / "console" / "node_modules" / "axe-core" / "axe.min.js"
HUGE = 200_000_000
MODES = {
    "wide": {"viewport": {"width": 1280, "height": 800}},
    "narrow and dark": {"viewport": {"width": 390, "height": 800}, "color_scheme": "dark"},
}


@pytest.fixture(scope="module")
def service(start_shared: Callable[..., Service]) -> Service:
    files = {"a long name of a chart, sheet 7.txt": b"text" * 500, "b.bin": b"b", "deep/c.txt": b"c"}
    service = start_shared(files=files, rules=RULES, settings="[limits]\nrecipient_rate = 60000000\n" + SETTINGS)
    with (service.folder / "files" / "huge.bin").open("wb") as huge:
        huge.truncate(HUGE)
    return service


@pytest.fixture
def visit(browser: Browser) -> Iterator[Callable[..., Page]]:
    contexts = []

    def begin(**given: object) -> Page:
        context = browser.new_context(accept_downloads=True, **given)  # type: ignore[arg-type]
        contexts.append(context)
        page = context.new_page()
        page.set_default_timeout(30_000)
        expect.set_options(timeout=30_000)
        return page

    yield begin
    for context in contexts:
        context.close()


def test_everything_works_without_scripts(service: Service, visit: Callable[..., Page]) -> None:
    page = visit(java_script_enabled=False)
    page.goto(service.url)
    page.wait_for_url("**/files/")
    page.get_by_role("link", name="files/", exact=True).click()
    page.get_by_role("button", name="Download the selected").click()
    expect(page.get_by_role("alert")).to_contain_text("Nothing was selected")
    page.get_by_role("checkbox", name="Select b.bin").check()
    page.get_by_role("checkbox", name="Select deep/").check()
    with page.expect_download() as begun:
        page.get_by_role("button", name="Download the selected").click()
    assert begun.value.suggested_filename.endswith(".zip")
    page.get_by_role("link", name="b.bin", exact=True).click()
    with page.expect_download() as begun:
        page.get_by_role("link", name="Download").click()
    assert begun.value.path().read_bytes() == b"b"
    page.goto(service.url + "/sign-in?then=/files/files/")
    page.get_by_label("or an access token").fill(service.tokens["ann"])
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_text("signed in as ann")).to_be_visible()
    page.get_by_role("button", name="Sign out").click()
    expect(page.get_by_text("You are signed out.")).to_be_visible()


def test_where_scripts_run_the_pickup_page_shows_progress_and_counts_down(
    service: Service, visit: Callable[..., Page]
) -> None:
    page = visit()
    link = service.link("files/huge.bin", until=4_000_000_000)
    page.goto(service.url + link.replace("/get/", "/pickup/"))
    expect(page.locator("time.until")).to_contain_text(re.compile(r"\(\d+ d( \d+ h)? left\)"))
    with page.expect_download() as begun:
        page.get_by_role("link", name="Download").click()
    expect(page.locator("[part=figures]")).to_have_text(re.compile(r"^\d+ % · .*/s · \d+ s left$"))
    expect(page.locator("[part=figures]")).to_have_text("Complete, 191 MiB")
    assert begun.value.path().stat().st_size == HUGE


def test_on_a_listing_page_a_download_is_followed_where_scripts_run(
    service: Service, visit: Callable[..., Page]
) -> None:
    page = visit()
    page.goto(service.url + "/files/files/")
    with page.expect_download() as begun:
        page.get_by_role("link", name="Download b.bin").click()
    assert begun.value.path().read_bytes() == b"b"
    expect(page.get_by_text("Complete, 1 B")).to_be_visible()
    assert page.url.endswith("/files/files/")


def test_a_link_that_ends_while_its_page_is_open_is_refused_there(service: Service, visit: Callable[..., Page]) -> None:
    import time

    page = visit()
    page.goto(service.url + service.link("files/b.bin", until=int(time.time()) + 3).replace("/get/", "/pickup/"))
    expect(page.locator("time.until")).to_contain_text("has expired")
    page.get_by_role("link", name="Download").click()
    expect(page.locator("[part=figures]")).to_contain_text("Refused: ")
    assert "/pickup/" in page.url


@pytest.mark.parametrize("mode", MODES.values(), ids=MODES)
def test_axe_finds_nothing_and_nothing_is_cut_off(
    mode: dict[str, object], service: Service, visit: Callable[..., Page]
) -> None:
    page = visit(bypass_csp=True, **mode)
    link = service.link("files/huge.bin", {"to": "pilot-7"}, until=4_000_000_000).replace("/get/", "/pickup/")
    for path in (
        "/files/",
        "/files/files/",
        "/files/files/?search=none",
        link,
        "/sign-in",
        "/sign-in?out=1",
        "/get/no",
    ):
        page.goto(service.url + path)
        page.add_script_tag(path=AXE)
        found = page.evaluate("axe.run({ resultTypes: ['violations'] })")["violations"]
        assert [(one["id"], [node["html"] for node in one["nodes"]]) for one in found] == [], path
        wide = page.evaluate("document.documentElement.scrollWidth - document.documentElement.clientWidth")
        assert wide <= 0, path

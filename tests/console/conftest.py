"""The console in headless Chromium, against the running demo."""

from __future__ import annotations

from collections.abc import Callable, Iterator

import pytest
from playwright.sync_api import Browser, Page, expect

from tests.running import Demo, Service


@pytest.fixture
def page(browser: Browser, demo: Demo) -> Iterator[Page]:
    """A page of a new visitor; an error in its scripts, or a request to another host, fails the test."""
    context = browser.new_context(viewport={"width": 1280, "height": 800}, accept_downloads=True)
    page = context.new_page()
    page.set_default_timeout(60_000)
    expect.set_options(timeout=60_000)
    errors: list[str] = []
    page.on("pageerror", lambda error: errors.append(str(error)))
    page.on("request", lambda request: _same_host(request.url, demo.url, errors))
    yield page
    context.close()
    assert errors == []


def _same_host(url: str, service: str, errors: list[str]) -> None:
    if not url.startswith((service, "data:", "blob:", "chrome-extension:")):
        errors.append(f"asked another host: {url}")


@pytest.fixture
def signed_in(page: Page, demo: Demo) -> Callable[[str], Page]:
    """Signs in as a person of the demo, through the page."""

    def sign_in(who: str) -> Page:
        page.goto(demo.card["console"] + "sign-in")
        page.get_by_label("Access token").fill(demo.token(who))
        page.keyboard.press("Enter")
        page.get_by_text(who, exact=True).wait_for()
        return page

    return sign_in


@pytest.fixture
def visit(browser: Browser) -> Iterator[Callable[..., Page]]:
    """Signs somebody in at a service, in a window of its own: `visit(service, "links", who="ann")`."""
    contexts = []

    def begin(service: Service, place: str = "", who: str = "bob", **window: object) -> Page:
        size = {"width": 1280, "height": 800}
        context = browser.new_context(**{"viewport": size, "bypass_csp": True, **window})  # type: ignore[arg-type]
        contexts.append(context)
        signed_in = context.request.post(f"{service.url}/api/sessions", data={"token": service.tokens[who]})
        assert signed_in.status == 201
        page = context.new_page()
        page.set_default_timeout(60_000)
        expect.set_options(timeout=60_000)
        page.goto(f"{service.url}/console/{place}")
        page.get_by_role("banner").get_by_text(who, exact=True).wait_for()
        return page

    yield begin
    for context in contexts:
        context.close()

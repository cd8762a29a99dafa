"""Links in the console: made in a form that says what they mean, listed, and ended, by keyboard alone."""

from __future__ import annotations

import re
from collections.abc import Callable

import httpx
import pytest
from playwright.sync_api import Page, expect

from tests.console.test_states import MODES, RULES, violations
from tests.running import Demo, Service


def test_a_link_is_made_works_is_listed_and_is_ended(signed_in: Callable[[str], Page], demo: Demo) -> None:
    page = signed_in("harbour-office")
    page.get_by_role("link", name="Links").click()
    expect(page.get_by_role("heading", name="Links", exact=True)).to_be_focused()
    page.get_by_label("File", exact=True).fill("charts/harbour/inner-basin.pdf")
    page.get_by_label("Downloads").fill("2")
    page.get_by_label("Network").fill("127.0.0.0/8")
    expect(
        page.get_by_text("Anyone with this link can save inner-basin.pdf twice, from the network 127.0.0.0/8, until")
    ).to_be_visible()
    page.get_by_role("button", name="Make the link").click()
    link = page.get_by_role("status").locator("code").first
    url = link.inner_text()
    assert "uses=2" in url
    with httpx.Client(trust_env=False) as client:
        assert client.get(url).status_code == 200
        pickup = page.get_by_role("status").locator("code").nth(1).inner_text()
        assert "1 of 2 downloads left" in client.get(pickup, headers={"accept": "text/html"}).text
        line = page.get_by_role("row", name="charts/harbour/inner-basin.pdf").first
        expect(line).to_contain_text("good")
        page.reload()
        expect(line).to_contain_text("1 of 2")
        line.focus()
        page.keyboard.press("ArrowLeft")  # to the last cell of the row
        expect(line.get_by_role("button", name="Revoke")).to_be_focused()
        page.keyboard.press("Enter")
        expect(line.get_by_role("button", name="Really revoke")).to_be_focused()
        page.keyboard.press("Enter")
        expect(line).to_contain_text("revoked")
        assert client.get(url).status_code == 410
    page.get_by_label("Show").select_option("good")
    expect(page.get_by_role("row", name=re.compile("revoked"))).to_have_count(0)


def test_links_that_are_made_one_after_the_other_stand_in_the_list(signed_in: Callable[[str], Page]) -> None:
    page = signed_in("harbour-office")
    page.get_by_role("link", name="Links").click()
    for name in ("north-channel.pdf", "north-channel.png"):
        page.get_by_label("File", exact=True).fill(f"charts/approach/{name}")
        page.get_by_role("button", name="Make the link").click()
        expect(page.get_by_role("row", name=f"charts/approach/{name}").first).to_be_visible()
        expect(page.get_by_role("status").locator("code").first).to_contain_text(name)


def test_what_is_refused_of_a_link_is_said_in_the_form(signed_in: Callable[[str], Page]) -> None:
    page = signed_in("harbour-office")
    page.get_by_role("link", name="Links").click()
    page.get_by_label("File", exact=True).fill("charts/none.pdf")
    page.get_by_role("button", name="Make the link").click()
    expect(page.get_by_role("alert")).to_contain_text("charts/none.pdf")
    page.get_by_label("File", exact=True).fill("charts/harbour/inner-basin.pdf")
    expect(page.get_by_role("alert")).to_have_count(0)


@pytest.mark.parametrize("mode", MODES, ids=["wide", "narrow and dark", "forced colours"])
def test_axe_finds_nothing_on_the_page_of_links(
    mode: dict[str, object],
    start_shared: Callable[..., Service],
    visit: Callable[..., Page],
) -> None:
    service = start_shared(files={"a long name of a chart.pdf": b"x"}, rules=RULES.replace("group:crew", "group:none"))
    with service.client("ann") as ann:
        assert ann.put("/api/recipients/bob", json={"groups": ["admins"]}).status_code == 200
    page = visit(service, "links", **mode)
    page.get_by_label("File", exact=True).fill("files/a long name of a chart.pdf")
    page.get_by_role("button", name="Make the link").click()
    expect(page.get_by_role("button", name="Copy the link")).to_be_visible()
    expect(page.get_by_role("row", name="a long name")).to_be_visible()
    assert violations(page, colours="forced_colors" not in mode) == []
    assert page.evaluate("document.documentElement.scrollWidth - document.documentElement.clientWidth") <= 0

"""Each page's main job with the demo's own data, as somebody meets it who has just started the demo."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path

from playwright.sync_api import Page, expect

from invio.core.receipts import check
from tests.running import Demo, until

Visit = Callable[..., Page]
PIER = "charts/harbour/fuel pier.png"
ADMIN, PILOT = "harbour-office", "pilot-7"


def _downloaded(demo: Demo) -> str:
    """The id of a download of the pier by the pilot that is complete."""
    found: list[str] = []
    with demo.client(PILOT) as pilot:
        assert pilot.get(f"/get/{PIER}").status_code == 200

        def arrived() -> bool:
            told = pilot.get("/api/transfers").json()["transfers"]
            found[:] = [one["id"] for one in told if (one["address"], one["state"]) == (PIER, "complete")]
            return bool(found)

        until(arrived)
    return found[0]


def test_an_operator_finds_a_chart_and_who_may_have_it(demo: Demo, visit: Visit) -> None:
    page = visit(demo, "files/", ADMIN)
    for store in ("archive", "charts", "gauges", "models", "notices", "tables"):
        expect(page.get_by_role("row", name=store)).to_be_visible()
    page.get_by_role("row", name="charts").get_by_role("link").click()
    page.get_by_label("Search here and below").fill("pier")
    page.get_by_role("row", name="fuel pier.png").get_by_role("link").click()
    panel = page.get_by_role("complementary")
    expect(panel.get_by_role("heading", name="fuel pier.png")).to_be_visible()
    expect(panel.get_by_role("img").first).to_be_visible()
    expect(panel).to_contain_text("charts for pilots")


def test_an_operator_sees_a_transfer_of_the_demo_and_its_receipt_holds(demo: Demo, visit: Visit) -> None:
    transfer = _downloaded(demo)
    page = visit(demo, "transfers", ADMIN)
    page.get_by_label("File or recipient").fill("pier")
    rows = page.get_by_role("row", name="fuel pier.png")
    expect(rows.filter(has_text=PILOT).filter(has_text="complete").first).to_be_visible()
    page.goto(f"{demo.url}/console/transfers/{transfer}")
    expect(page.get_by_role("main")).to_contain_text("rules: charts for pilots")
    with page.expect_download() as saved:
        page.get_by_role("link", name="Save the receipt").click()
    with demo.client() as anyone:
        stated = check(Path(saved.value.path()).read_text(), anyone.get("/api/public-keys").json())
    assert (stated.transfer, stated.recipient, stated.address) == (transfer, PILOT, PIER)


def test_an_operator_sees_in_the_history_what_the_pilot_had(demo: Demo, visit: Visit) -> None:
    _downloaded(demo)
    page = visit(demo, f"history?recipient={PILOT}&address=charts/harbour/", ADMIN)
    expect(page.get_by_label("Recipient")).to_have_value(PILOT)
    expect(page.get_by_role("region", name="Most downloaded")).to_contain_text(PIER)
    expect(page.get_by_role("row", name=PIER).first).to_contain_text(PILOT)


def test_an_operator_asks_why_the_laboratory_may_not_have_a_chart(demo: Demo, visit: Visit) -> None:
    page = visit(demo, "access/why", ADMIN)
    page.get_by_label("Who", exact=True).fill("tern-lab")
    page.get_by_label("File or folder/").fill(PIER)
    page.get_by_role("button", name="Ask").click()
    expect(page.get_by_text(f"No: tern-lab may not read {PIER}.")).to_be_visible()
    page.get_by_label("Who", exact=True).fill(PILOT)
    page.get_by_role("button", name="Ask").click()
    expect(page.get_by_text(f"Yes: {PILOT} may read {PIER}.")).to_be_visible()
    page.get_by_role("link", name="Rules", exact=True).click()
    expect(page.get_by_text(re.compile("the group pilots may list, read, bundle charts/")).first).to_be_visible()


def test_an_operator_sees_who_there_is_and_that_all_is_well(demo: Demo, visit: Visit) -> None:
    page = visit(demo, "people", ADMIN)
    page.get_by_role("row", name="tern-lab").get_by_text("tern-lab").click()
    expect(page.get_by_role("heading", name="About tern-lab")).to_be_visible()
    expect(page.get_by_role("row", name="demo")).to_be_visible()
    page.get_by_role("link", name="Service").click()
    expect(page.get_by_text("✓ Everything works.")).to_be_visible()
    for kind in ("archive (remote)", "charts (directory)", "gauges (table)", "models (managed)", "tables (tables)"):
        expect(page.get_by_role("main")).to_contain_text(kind)
    expect(page.get_by_role("heading", name="Webhooks")).to_be_visible()


def test_a_researcher_finds_what_is_theirs_and_nothing_of_administration(demo: Demo, visit: Visit) -> None:
    page = visit(demo, "files/", "tern-lab")
    places = page.get_by_role("navigation", name="Pages")
    expect(places.get_by_role("link", name="Transfers")).to_be_visible()
    for name in ("Access", "People", "Service"):
        expect(places.get_by_role("link", name=name)).to_have_count(0)
    page.get_by_role("row", name="models").get_by_role("link").click()
    expect(page.get_by_role("row", name="inner-basin")).to_be_visible()
    page.goto(f"{demo.url}/console/account")
    expect(page.get_by_text("You are signed in as tern-lab. Your groups: researchers.")).to_be_visible()

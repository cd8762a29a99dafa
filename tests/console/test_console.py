"""What a person does in the console: sign in, look around, choose, download, watch."""

from __future__ import annotations

import re
import subprocess
import time
import zipfile
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Error, Page, expect

from tests.forking import run_invio
from tests.running import Demo, until

SignIn = Callable[[str], Page]
GRID = "charts/soundings/west-bank-5m.grid"


def test_a_visitor_sees_what_is_open_to_everyone(page: Page, demo: Demo) -> None:
    page.goto(demo.card["console"])
    expect(page.get_by_role("row", name="notices")).to_be_visible()
    expect(page.get_by_role("row", name="charts")).to_have_count(0)
    expect(page.get_by_role("button", name="Sign in")).to_be_visible()


def test_a_wrong_token_is_told_and_a_right_one_opens_the_stores(page: Page, demo: Demo) -> None:
    page.goto(demo.card["console"] + "sign-in")
    page.get_by_label("Access token").fill("not a token")
    page.get_by_role("main").get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("alert")).to_contain_text("No such access token is known here")
    page.get_by_label("Access token").fill(demo.token("pilot-7"))
    page.keyboard.press("Enter")
    expect(page.get_by_role("row", name="charts")).to_be_visible()
    expect(page.get_by_text("pilot-7")).to_be_visible()


def test_a_password_opens_the_stores_as_a_token_does(page: Page, demo: Demo) -> None:
    with demo.client("harbour-office") as office:
        office.put("/api/recipients/night-watch", json={"groups": ["pilots"]}).raise_for_status()
        office.put("/api/recipients/night-watch/password", json={"password": "lantern on the pier"}).raise_for_status()
    page.goto(demo.card["console"] + "sign-in")
    page.get_by_role("button", name="Use a password instead").click()
    page.get_by_label("Recipient").fill("night-watch")
    page.get_by_label("Password").fill("lantern on the quay")
    page.keyboard.press("Enter")
    expect(page.get_by_role("alert")).to_contain_text("The recipient or the password is wrong")
    page.get_by_label("Password").fill("lantern on the pier")
    page.keyboard.press("Enter")
    expect(page.get_by_role("row", name="charts")).to_be_visible()
    expect(page.get_by_text("night-watch")).to_be_visible()


def test_signing_out_takes_the_rights_away(signed_in: SignIn, demo: Demo) -> None:
    page = signed_in("pilot-7")
    page.get_by_role("button", name="Sign out").click()
    expect(page.get_by_label("Access token")).to_be_visible()
    page.goto(demo.card["console"] + "files/charts/")
    expect(page.get_by_role("alert")).to_contain_text("not open to everyone")


def test_a_browser_without_rights_is_sent_to_sign_in_and_back_to_the_file(page: Page, demo: Demo) -> None:
    page.goto(f"{demo.url}/get/charts/harbour/fuel%20pier.png?as=inline")
    expect(page.get_by_text("What you asked for is not open to everyone")).to_be_visible()
    page.get_by_label("or an access token").fill(demo.token("pilot-7"))
    with page.expect_response(lambda answer: "/get/charts/harbour" in answer.url) as answered:
        page.keyboard.press("Enter")
    assert answered.value.status == 200


@pytest.mark.parametrize(
    "place",
    [
        "http://127.0.0.1:9/",
        "//127.0.0.1:9/",
        "/%09/127.0.0.1:9/",
        "/%0A/127.0.0.1:9/",
        "/%5C127.0.0.1:9/",
        "%5C%5C127.0.0.1:9/",
        "/..//127.0.0.1:9/",
        "javascript:document.title=1",
        "data:text/html,gone",
        "blob:http://127.0.0.1:9/x",
        '["//127.0.0.1:9/"]',
    ],
)
def test_signing_in_leads_to_no_other_place_whatever_the_address_says(page: Page, demo: Demo, place: str) -> None:
    page.goto(f"{demo.card['console']}sign-in?then={place}")
    page.get_by_label("Access token").fill(demo.token("pilot-7"))
    page.keyboard.press("Enter")
    page.wait_for_url(lambda url: "/sign-in" not in url, wait_until="commit")
    assert page.url.startswith(demo.url + "/"), f"sent to {page.url}"


def test_folders_are_entered_and_left_by_the_way(signed_in: SignIn, demo: Demo) -> None:
    page = signed_in("pilot-7")
    page.get_by_role("row", name="charts").click()
    page.get_by_role("row", name="approach").click()
    expect(page.get_by_role("row", name="潮汐観測所 配置図.png")).to_be_visible()
    expect(page).to_have_url(re.compile("/console/files/charts/approach/?$"))
    page.get_by_role("link", name="charts").click()
    expect(page.get_by_role("row", name="harbour")).to_be_visible()
    page.go_back()
    expect(page.get_by_role("row", name="north-channel.pdf")).to_be_visible()


def test_one_file_is_downloaded_under_its_name(signed_in: SignIn, demo: Demo, tmp_path: Path) -> None:
    page = signed_in("pilot-7")
    page.goto(demo.card["console"] + "files/charts/approach/")
    name = "Södra leden – översikt.pdf"
    with page.expect_download() as begun:
        page.get_by_role("button", name=f"Download {name}").click()
    assert begun.value.suggested_filename == name
    begun.value.save_as(tmp_path / "got.pdf")
    assert (tmp_path / "got.pdf").read_bytes() == demo.file("charts", f"approach/{name}").read_bytes()


def test_a_selection_is_downloaded_one_by_one(signed_in: SignIn, demo: Demo) -> None:
    page = signed_in("pilot-7")
    page.goto(demo.card["console"] + "files/charts/harbour/")
    page.get_by_role("row", name="inner-basin.pdf").get_by_role("checkbox").click(force=True)
    page.get_by_role("row", name="fuel pier.png").get_by_role("checkbox").click(force=True)
    names: list[str] = []
    page.on("download", lambda download: names.append(download.suggested_filename))
    page.get_by_role("button", name="Download each").click()
    for _ in range(40):
        if len(names) < 2:
            page.wait_for_timeout(250)
    assert sorted(names) == ["fuel pier.png", "inner-basin.pdf"]


def test_a_selection_is_downloaded_as_one_archive(signed_in: SignIn, demo: Demo, tmp_path: Path) -> None:
    page = signed_in("pilot-7")
    page.goto(demo.card["console"] + "files/charts/")
    page.get_by_role("row", name="approach").get_by_role("checkbox").click(force=True)
    page.get_by_role("row", name="harbour").get_by_role("checkbox").click(force=True)
    expect(page.get_by_text("2 folders selected")).to_be_visible()
    expect(page.get_by_role("button", name="Download each")).to_have_count(0)
    with page.expect_download() as begun:
        page.get_by_role("button", name="Download as one archive").click()
    assert begun.value.suggested_filename == "files.zip"
    begun.value.save_as(tmp_path / "files.zip")
    with zipfile.ZipFile(tmp_path / "files.zip") as archive:
        assert archive.testzip() is None
        assert len(archive.namelist()) == 7
    expect(page.get_by_text("Archive of 7 files")).to_be_visible()


def test_a_selection_of_nothing_that_one_may_have_is_told(signed_in: SignIn, demo: Demo) -> None:
    page = signed_in("tern-lab")
    page.goto(demo.card["console"] + "files/charts/approach/")
    # A file that may be seen and not had is not offered.
    expect(page.get_by_role("row", name="north-channel.pdf").get_by_role("checkbox")).to_be_disabled()
    expect(page.get_by_role("button", name="Download north-channel.pdf")).to_have_count(0)
    page.goto(demo.card["console"] + "files/charts/")
    page.get_by_role("row", name="approach").get_by_role("checkbox").click(force=True)
    page.get_by_role("button", name="Download as one archive").click()
    expect(page.get_by_role("alert")).to_contain_text("contain no file that you have access to")


def test_everything_can_be_done_with_the_keyboard_alone(page: Page, demo: Demo) -> None:
    page.goto(demo.card["console"] + "sign-in")
    expect(page.get_by_label("Access token")).to_be_focused()
    page.keyboard.type(demo.token("pilot-7"))
    page.keyboard.press("Enter")
    expect(page.get_by_role("row", name="charts")).to_be_visible()
    _tab_to(page, "row")
    page.keyboard.press("Enter")  # the first store, charts
    expect(page.get_by_role("row", name="harbour")).to_be_visible()
    _tab_to(page, "row")
    page.keyboard.press("ArrowDown")
    page.keyboard.press("Enter")
    expect(page.get_by_role("row", name="inner-basin.pdf")).to_be_visible()
    _tab_to(page, "row")
    page.keyboard.press("Space")
    page.keyboard.press("ArrowDown")
    page.keyboard.press("Space")
    expect(page.get_by_text("2 files selected")).to_be_visible()
    for _ in range(20):
        page.keyboard.press("Tab")
        if page.evaluate("document.activeElement.textContent") == "Download as one archive":
            break
    with page.expect_download() as begun:
        page.keyboard.press("Enter")
    assert begun.value.suggested_filename == "files.zip"


def _tab_to(page: Page, role: str) -> None:
    for _ in range(20):
        if page.evaluate("document.activeElement.getAttribute('role')") == role:
            return
        page.keyboard.press("Tab")
    raise AssertionError(f"no {role} is reached with the Tab key")


def test_transfers_move_while_one_watches_and_end_truthfully(signed_in: SignIn, demo: Demo, tmp_path: Path) -> None:
    page = signed_in("harbour-office")
    page.get_by_role("link", name="Transfers").click()
    expect(page.get_by_text("as they go")).to_be_visible()
    given = ("--rate", "20000000", "--to", "pilot-7", "--id", "watched")
    made = run_invio("link", "make", GRID, "--keys", demo.card["keys"], "--base", demo.url, *given)
    client = subprocess.Popen(["curl", "-s", "-o", str(tmp_path / "grid"), made.stdout.strip()])
    row = page.get_by_role("row", name="west-bank-5m.grid").first
    expect(row).to_contain_text("under way")
    seen: set[str | None] = set()
    deadline = time.monotonic() + 20
    while len(seen) < 4 and time.monotonic() < deadline:
        seen.add(row.get_by_role("progressbar").get_attribute("aria-valuenow"))
        page.wait_for_timeout(150)
    assert len(seen) >= 4, "the progress moves"
    expect(row).to_contain_text("MiB/s")
    client.kill()
    client.wait()
    expect(row).to_contain_text("broken off")
    expect(row).to_contain_text("the client went away")


def test_a_browser_without_scripts_downloads_from_a_link(browser: Browser, demo: Demo, tmp_path: Path) -> None:
    address = "charts/approach/潮汐観測所 配置図.png"
    made = run_invio("link", "make", address, "--keys", demo.card["keys"], "--base", demo.url, "--until", "5m")
    context = browser.new_context(java_script_enabled=False, accept_downloads=True)
    page = context.new_page()
    with page.expect_download() as begun, suppress(Error):  # going to a download ends in an error of the page's
        page.goto(made.stdout.strip())
    assert begun.value.suggested_filename == "潮汐観測所 配置図.png"
    begun.value.save_as(tmp_path / "got.png")
    assert (tmp_path / "got.png").read_bytes() == demo.file("charts", address.removeprefix("charts/")).read_bytes()
    context.close()


def test_the_description_of_the_api_is_drawn_without_another_host(page: Page, demo: Demo) -> None:
    page.goto(demo.url + "/api/docs")
    expect(page.get_by_text("/get/{address}").first).to_be_visible()
    expect(page.get_by_text("Bundle a selection", exact=True)).to_be_visible()


def test_a_refusal_is_a_page_that_says_what_to_do(page: Page, demo: Demo) -> None:
    page.goto(f"{demo.url}/get/notices/2026/none.pdf")
    expect(page.get_by_role("heading", name="There is no such file here")).to_be_visible()
    expect(page.get_by_text("Check the address.")).to_be_visible()


def test_those_who_manage_are_told_of_a_broken_rules_file(signed_in: SignIn, demo: Demo) -> None:
    rules = demo.folder / "rules.toml"
    kept = rules.read_text()
    page = signed_in("harbour-office")
    expect(page.get_by_role("alert")).to_have_count(0)
    try:
        rules.write_text(kept + "\n[[rule]]\n")
        with demo.client() as client:
            until(lambda: "rules" in client.get("/readyz").json().get("hints", {}))
        page.reload()
        expect(page.get_by_role("alert")).to_contain_text("The rules file cannot be used.")
        expect(page.get_by_role("alert")).to_contain_text("the rule has no 'effect'")
    finally:
        rules.write_text(kept)


def test_versions_of_a_file_are_listed_and_an_earlier_one_is_downloaded(signed_in: SignIn, demo: Demo) -> None:
    page = signed_in("tern-lab")
    page.goto(demo.card["console"] + "files/models/west-bank/")
    page.get_by_role("button", name="version 3 of sea-floor.grid").click()
    dialog = page.get_by_role("dialog", name="Versions of sea-floor.grid")
    expect(dialog.get_by_role("listitem")).to_have_count(3)
    expect(dialog.get_by_role("listitem").first).to_contain_text("3, the newest")
    with page.expect_download() as download:
        dialog.get_by_role("button", name="Download version 1 of sea-floor.grid").click()
    with demo.client("tern-lab") as lab:
        wanted = lab.get("/get/models/west-bank/sea-floor.grid?version=1").content
    assert Path(download.value.path()).read_bytes() == wanted
    page.keyboard.press("Escape")
    expect(dialog).to_have_count(0)

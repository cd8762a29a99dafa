"""Files in the console: found, looked at, put, described, renewed, removed, and selected over several folders."""

from __future__ import annotations

import io
import re
import time
import zipfile
from collections.abc import Callable
from pathlib import Path

import pytest
from PIL import Image
from playwright.sync_api import Page, expect

from tests.rules import rule
from tests.running import Service

Visit = Callable[..., Page]
SETTINGS = """
[stores.files]
kind = "directory"
root = "files"
[stores.models]
kind = "managed"
root = "models"
[renditions.thumb]
width = 64
height = 64
"""
RULES = (
    rule("group:crew", "files/open/**", "list read bundle", "crew reads what is open")
    + rule("group:crew", "files/closed/**", "list", "crew sees what is closed")
    + rule("group:admins", "**", "list read bundle link put manage administer", "admins")
)


def image() -> bytes:
    drawn = io.BytesIO()
    Image.new("RGB", (640, 480), "teal").save(drawn, "PNG")
    return drawn.getvalue()


FILES = {
    "open/levels.csv": b'station,level\r\nTern Rock,"1,25"\r\nGull Point,0.98\r\n',
    "open/notes.txt": b"Depths in metres.\n",
    "open/sheet.png": image(),
    "open/deeper/sounding.txt": b"x" * 5000,
    "closed/draft.txt": b"secret",
    "odd/invoice-\u202egnp.exe": b"x",
}


@pytest.fixture(scope="module")
def service(start_shared: Callable[..., Service]) -> Service:
    return start_shared(files=FILES, rules=RULES, settings=SETTINGS)


def names(page: Page) -> list[str]:
    rows = page.get_by_role("grid").get_by_role("rowheader")
    return [rows.nth(place).inner_text() for place in range(rows.count())]


def test_files_are_searched_as_one_types_and_sorted_by_any_column(service: Service, visit: Visit) -> None:
    page = visit(service, "files/files/open/", "ann")
    expect(page.get_by_role("row", name="sheet.png")).to_be_visible()
    page.get_by_role("columnheader", name="Size").click()
    expect(page.get_by_role("columnheader", name="Size")).to_have_attribute("aria-sort", "ascending")
    expect(page.get_by_role("rowheader").nth(1)).to_have_text("notes.txt")
    assert names(page) == ["deeper/", "notes.txt", "levels.csv", "sheet.png"]
    page.get_by_role("columnheader", name="Size").click()
    expect(page.get_by_role("rowheader").nth(1)).to_have_text("sheet.png")
    page.get_by_role("columnheader", name="Type").click()
    expect(page.get_by_role("rowheader").nth(1)).to_have_text("sheet.png")
    assert names(page) == ["deeper/", "sheet.png", "levels.csv", "notes.txt"]
    assert "sort=type" in page.url
    page.get_by_label("Search here and below").press_sequentially("sound")
    expect(page.get_by_role("row", name="sounding.txt")).to_contain_text("deeper/sounding.txt")
    expect(page.get_by_role("rowheader")).to_have_count(1)
    page.reload()
    expect(page.get_by_role("row", name="sounding.txt")).to_be_visible()


def test_a_file_is_looked_at_beside_the_list(service: Service, visit: Visit) -> None:
    page = visit(service, "files/files/open/", "ann")
    page.get_by_role("row", name="levels.csv").get_by_text("levels.csv").click()
    panel = page.get_by_role("complementary", name="About levels.csv")
    expect(panel.get_by_role("heading", name="levels.csv")).to_be_focused()
    expect(panel).to_contain_text("files/open/levels.csv")
    expect(panel.get_by_role("region", name="Preview of levels.csv").get_by_role("cell", name="1,25")).to_be_visible()
    expect(panel).to_contain_text("✓ rule “crew reads what is open”, line 2")
    expect(panel).to_contain_text("✗ no rule")
    page.reload()
    expect(panel).to_contain_text("text/csv")
    panel.get_by_role("button", name="Close").click()
    expect(panel).to_have_count(0)
    page.get_by_role("row", name="sheet.png").get_by_text("sheet.png").click()
    picture = page.get_by_role("img", name="Preview of sheet.png")
    expect(picture).to_be_visible()
    assert picture.evaluate("image => image.decode().then(() => image.naturalWidth)") == 64
    page.get_by_role("row", name="notes.txt").get_by_text("notes.txt").click()
    expect(page.get_by_role("region", name="Preview of notes.txt")).to_have_text("Depths in metres.\n")


def test_no_name_reads_as_another(service: Service, visit: Visit) -> None:
    page = visit(service, "files/files/odd/", "ann")
    page.get_by_text(r"invoice-\u202egnp.exe").click()
    panel = page.get_by_role("complementary")
    expect(panel.get_by_role("heading", name=r"invoice-\u202egnp.exe")).to_be_visible()
    expect(panel).to_contain_text(r"files/odd/invoice-\u202egnp.exe")
    assert "\u202e" not in page.locator("main").inner_text()


def test_who_may_not_manage_is_not_told_who_else_may(service: Service, visit: Visit) -> None:
    page = visit(service, "files/files/open/?show=files/open/notes.txt", "bob")
    panel = page.get_by_role("complementary", name="About notes.txt")
    expect(panel).to_contain_text("list, read, bundle")
    expect(panel.get_by_text("Who may have it")).to_have_count(0)
    expect(panel.get_by_role("button", name="Remove")).to_have_count(0)
    expect(page.get_by_role("button", name="Choose files")).to_have_count(0)


def test_of_many_files_it_is_said_how_many_arrived_and_the_rest_can_be_cancelled(
    start: Callable[..., Service], visit: Visit, tmp_path: Path
) -> None:
    service = start(files=FILES, rules=RULES, settings=SETTINGS)
    page = visit(service, "files/models/", "ann")
    many = [tmp_path / f"{number:03}.txt" for number in range(40)]
    for path in many:
        path.write_text(path.name)
    began, lists = time.monotonic(), list[str]()
    page.on("request", lambda asked: lists.append(asked.url) if "/api/files?" in asked.url else None)
    with page.expect_file_chooser() as chooser:
        page.get_by_role("button", name="Choose files").click()
    chooser.value.set_files(many[:20])
    expect(page.get_by_text("20 of 20 arrived")).to_be_visible()
    expect(page.get_by_text("20 entries", exact=True)).to_be_visible()
    assert len(lists) <= 3 + time.monotonic() - began, "the folder is listed once a second, not for each of them"
    page.get_by_role("button", name="Clear what is done").click()
    page.route("**/api/files/models/03*", lambda _: None)  # the first of those that follow waits for ever
    with page.expect_file_chooser() as chooser:
        page.get_by_role("button", name="Choose files").click()
    chooser.value.set_files(many[20:])
    expect(page.get_by_text("10 of 20 arrived")).to_be_visible()
    page.get_by_role("button", name="Cancel the rest").click()
    put = page.get_by_role("list", name="Put files here")
    expect(put.get_by_text("cancelled", exact=True)).to_have_count(10)
    assert service.get("/api/files/models/030.txt", "ann").status_code == 404


def test_files_are_put_with_progress_and_what_is_there_is_left_alone(
    service: Service, visit: Visit, tmp_path: Path
) -> None:
    page = visit(service, "files/models/", "ann")
    for name, size in (("west.grid", 3_000_000), ("o\u0308st.grid", 10)):
        (tmp_path / name).write_bytes(name.encode() * (size // len(name) + 1))
    choose = page.get_by_role("button", name="Choose files")
    with page.expect_file_chooser() as chooser:
        choose.click()
    chooser.value.set_files([tmp_path / "west.grid", tmp_path / "o\u0308st.grid"])
    put = page.get_by_role("list", name="Put files here")
    expect(put.get_by_text("arrived, version 1")).to_have_count(2)
    expect(page.get_by_role("row", name="west.grid")).to_be_visible()
    assert service.get("/api/files/models/\u00f6st.grid", "ann").status_code == 200, "its letters have their usual form"
    (tmp_path / "west.grid").write_bytes(b"another")
    with page.expect_file_chooser() as chooser:
        choose.click()
    chooser.value.set_files([tmp_path / "west.grid"])
    expect(put.get_by_role("alert")).to_have_text("There is such a file already.")
    put.get_by_role("button", name="Put west.grid all the same").click()
    expect(put.get_by_text("arrived, version 2")).to_be_visible()
    page.get_by_role("button", name="Clear what is done").click()
    expect(put).to_have_count(0)
    # Described, renewed, and removed.
    page.get_by_role("row", name="west.grid").get_by_role("link", name="west.grid").click()
    panel = page.get_by_role("complementary", name="About west.grid")
    panel.get_by_label("Change the description").fill("The west bank")
    panel.get_by_role("button", name="Save").click()
    expect(page.get_by_role("row", name="west.grid")).to_contain_text("The west bank")
    panel.get_by_role("button", name="Make it the newest again: version 1").click()
    expect(panel).to_contain_text("3, the newest")
    panel.get_by_role("button", name="Remove").click()
    panel.get_by_role("button", name="Remove it for good").click()
    expect(page.get_by_role("row", name="west.grid")).to_have_count(0)
    assert service.get("/get/models/west.grid", "ann").status_code == 404


def test_an_upload_is_cancelled_and_tried_again(service: Service, visit: Visit, tmp_path: Path) -> None:
    page = visit(service, "files/models/", "ann")
    (tmp_path / "slow.grid").write_bytes(bytes(2_000_000))
    page.context.set_offline(False)
    session = page.context.new_cdp_session(page)
    session.send("Network.enable")
    slow = {"offline": False, "latency": 0, "downloadThroughput": -1, "uploadThroughput": 100_000}
    session.send("Network.emulateNetworkConditions", slow)
    with page.expect_file_chooser() as chooser:
        page.get_by_role("button", name="Choose files").click()
    chooser.value.set_files([tmp_path / "slow.grid"])
    page.get_by_role("button", name="Cancel slow.grid").click()
    expect(page.get_by_text("cancelled")).to_be_visible()
    assert service.get("/api/files/models/slow.grid", "ann").status_code == 404
    session.send("Network.emulateNetworkConditions", {**slow, "uploadThroughput": -1})
    page.get_by_role("button", name="Try slow.grid again").click()
    expect(page.get_by_text("arrived, version 1")).to_be_visible()


def test_a_selection_is_kept_from_folder_to_folder(service: Service, visit: Visit) -> None:
    page = visit(service, "files/files/open/", "bob")
    page.get_by_role("row", name="notes.txt").get_by_role("checkbox").click(force=True)
    page.get_by_role("row", name="deeper/").get_by_text("deeper/").click()
    page.get_by_role("row", name="sounding.txt").get_by_role("checkbox").click(force=True)
    bar = page.get_by_role("region", name="Selection")
    expect(bar).to_contain_text("2 files selected · 4.9 KiB · 1 of it elsewhere")
    with page.expect_download() as begun:
        bar.get_by_role("button", name="Download as one archive").click()
    with zipfile.ZipFile(begun.value.path()) as archive:
        assert sorted(archive.namelist()) == ["notes.txt", "sounding.txt"]
    page.go_back()
    expect(page.get_by_role("row", name="notes.txt").get_by_role("checkbox")).to_be_checked()
    bar.get_by_role("button", name="Clear").click()
    expect(bar).to_have_count(0)


def test_what_may_be_listed_and_not_read_looks_so(service: Service, visit: Visit) -> None:
    page = visit(service, "files/files/closed/", "bob")
    row = page.get_by_role("row", name="draft.txt")
    expect(row).to_contain_text("You may see this file and not have it.")
    expect(row.get_by_role("checkbox")).to_be_disabled()
    expect(row.get_by_role("button", name=re.compile("Download"))).to_have_count(0)

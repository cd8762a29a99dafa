"""What operators do in the console: transfers, history, access, people, keys; and what recipients see of their own."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterator
from contextlib import suppress
from pathlib import Path
from threading import Thread

import httpx
import pytest
from playwright.sync_api import Page, Route, expect

from invio.core.receipts import check
from tests.rules import expected, rule
from tests.running import Service, until

Visit = Callable[..., Page]
RULES = (
    rule("group:crew", "files/charts/**", "list read", "crew reads charts", quota={"files": 10, "per": "1d"})
    + rule("group:admins", "**", "list read bundle link put manage administer", "admins")
    + expected("recipient:bob", "read", "files/charts/a.txt", "allowed")
)
FILES = {"charts/a.txt": b"aaa", "charts/b.txt": b"b" * 3000, "secret/s.txt": b"s", "slow/big.bin": bytes(4_000_000)}


@pytest.fixture
def service(start: Callable[..., Service]) -> Service:
    return start(files=FILES, rules=RULES)


@pytest.fixture
def slow(service: Service) -> Iterator[None]:
    """A download that takes its time."""
    link = service.link("files/slow/big.bin", {"id": "slowly", "to": "bob"}, rate=150_000)
    with service.client() as client, client.stream("GET", link) as answer:
        pieces = answer.iter_raw(1000)
        next(pieces)
        reading = Thread(target=_read, args=(pieces,), daemon=True)
        reading.start()
        yield
        client.close()
        reading.join(10)


def _read(pieces: Iterator[bytes]) -> None:
    with suppress(httpx.HTTPError):
        for _ in pieces:
            pass


def test_the_requests_of_a_transfer_are_seen_one_by_one(service: Service, visit: Visit) -> None:
    for span in ("bytes=0-999", "bytes=1000-1499", "bytes=1500-"):
        assert service.get("/get/files/charts/b.txt", "bob", Range=span).status_code == 206
    assert service.get("/get/files/charts/a.txt", "bob").status_code == 200
    ids = {one["address"]: one["id"] for one in service.transfers()}
    page = visit(service, f"transfers/{ids['files/charts/b.txt']}", "ann")
    table = page.get_by_role("grid", name="Its requests, one by one")
    expect(table.get_by_role("row")).to_have_count(4)
    expect(table.get_by_role("row").nth(2)).to_contain_text("1,000")
    expect(table.get_by_role("row").nth(2)).to_contain_text("500 B of 500 B")
    page.goto(f"{service.url}/console/transfers/{ids['files/charts/a.txt']}")
    expect(page.get_by_role("heading", name="Transfer of a.txt")).to_be_visible()
    expect(page.get_by_text("complete")).to_be_visible()
    expect(table).to_have_count(0)


@pytest.mark.usefixtures("slow")
def test_a_transfer_is_seen_whole_and_ended(service: Service, visit: Visit) -> None:
    page = visit(service, "transfers", "ann")
    expect(page.get_by_text("Throughput of what is seen here")).to_be_visible()
    row = page.get_by_role("row", name="big.bin")
    expect(row).to_contain_text("under way")
    expect(page.locator("figcaption b")).not_to_have_text("0 B/s now")
    page.get_by_label("File or recipient").fill("nothing")
    expect(page.get_by_text("There are no such transfers.")).to_be_visible()
    page.get_by_label("File or recipient").fill("bob")
    page.get_by_label("Show").select_option("running")
    row.get_by_text("big.bin").click()
    expect(page.get_by_role("heading", name="Transfer of big.bin")).to_be_focused()
    expect(
        page.get_by_role("img", name=re.compile("have arrived, from these parts of the file: 1 part"))
    ).to_be_visible()
    expect(page.get_by_role("main")).to_contain_text("slowly")
    expect(page.get_by_role("main")).to_contain_text("127.0.0.1")
    page.get_by_role("button", name="End this transfer").click()
    page.get_by_role("button", name="Really end it").click()
    expect(page.get_by_text("broken off")).to_be_visible()
    expect(page.get_by_role("definition").filter(has_text="ended by ann")).to_be_visible()


def test_what_was_had_in_parts_is_drawn_and_is_paused_not_broken(service: Service, visit: Visit) -> None:
    for part in ("0-999", "2000-2499"):
        assert service.get("/get/files/charts/b.txt", "bob", Range=f"bytes={part}").status_code == 206
    page = visit(service, "transfers", "ann")
    row = page.get_by_role("row", name="b.txt")
    expect(row).to_contain_text("paused")
    row.get_by_text("b.txt").click()
    strip = page.get_by_role("img", name="50 % have arrived, from these parts of the file: 2 parts")
    expect(strip.locator("rect")).to_have_count(2)
    expect(page.get_by_text("Save the receipt")).to_have_count(0)
    for part in ("1000-1999", "2500-2999"):
        assert service.get("/get/files/charts/b.txt", "bob", Range=f"bytes={part}").status_code == 206
    with page.expect_download() as saved:
        page.get_by_role("link", name="Save the receipt").click()
    stated = check(Path(saved.value.path()).read_text(), service.get("/api/public-keys").json())
    assert (stated.recipient, stated.address, stated.size) == ("bob", "files/charts/b.txt", 3000)


def test_the_history_is_filtered_by_the_address_bar_charted_and_saved(service: Service, visit: Visit) -> None:
    for _ in range(3):
        service.get("/get/files/charts/a.txt", "bob")
    service.get("/get/files/secret/s.txt", "ann")
    service.get("/get/files/secret/s.txt", "bob")
    until(lambda: len(service.get("/api/history", "ann").text.splitlines()) == 5)
    page = visit(service, "history", "ann")
    expect(page.get_by_text("5 lines")).to_be_visible()
    most = page.get_by_role("region", name="Most downloaded")
    expect(most.get_by_role("listitem").first).to_contain_text("files/charts/a.txt")
    expect(page.get_by_role("region", name="Refusals by reason")).to_contain_text("missing")
    page.get_by_label("Recipient").fill("bob")
    page.get_by_label("What came of it").select_option("complete")
    page.get_by_role("button", name="Show these").click()
    expect(page.get_by_text("3 lines")).to_be_visible()
    assert "recipient=bob" in page.url
    page.reload()
    expect(page.get_by_text("3 lines")).to_be_visible()
    expect(page.get_by_role("grid").get_by_role("row")).to_have_count(4)
    with page.expect_download() as begun:
        page.get_by_role("link", name="Save as JSON Lines").click()
    lines = [json.loads(line) for line in Path(begun.value.path()).read_text().splitlines()]
    assert [line["recipient"] for line in lines] == ["bob"] * 3
    page.get_by_role("row", name="files/charts/a.txt").first.get_by_text("files/charts/a.txt").click()
    expect(page.get_by_role("heading", name="Transfer of a.txt")).to_be_visible()


def test_access_is_explained_shown_as_a_matrix_and_as_sentences(service: Service, visit: Visit) -> None:
    page = visit(service, "access/why", "ann")
    page.get_by_label("Who", exact=True).fill("bob")
    page.get_by_label("File or folder/").fill("files/secret/s.txt")
    page.get_by_role("button", name="Ask").click()
    expect(page.get_by_text("No: bob may not read files/secret/s.txt.")).to_be_visible()
    expect(page.get_by_role("row", name="admins")).to_contain_text("is silent")
    page.get_by_role("navigation", name="Access").get_by_role("link", name="Who, where").click()
    page.get_by_label("In", exact=True).fill("files/")
    expect(page.get_by_role("columnheader", name="files/charts/")).to_be_visible()
    crew = page.get_by_role("row", name="the group crew")
    expect(crew.get_by_role("img", name="all")).to_have_count(2)  # list and read, of the charts
    expect(crew.get_by_role("img", name="some")).to_have_count(2)
    page.get_by_role("link", name="Rules", exact=True).click()
    expect(page.get_by_text("the group crew may list, read files/charts/**")).to_be_visible()
    page.get_by_role("link", name="Quotas").click()
    service.get("/get/files/charts/a.txt", "bob")
    page.reload()
    expect(page.get_by_role("row", name="bob")).to_contain_text("1 of 10 files used")
    page.get_by_role("button", name="Begin anew: crew reads charts of bob").click()
    page.get_by_role("button", name="Begin anew: crew reads charts of bob").click()
    expect(page.get_by_role("row", name="bob")).to_contain_text("0 of 10 files used")


def test_other_rules_are_compared_before_they_are_put_in_force(service: Service, visit: Visit) -> None:
    page = visit(service, "access/trial", "ann")
    text = page.get_by_role("textbox", name="The rules file")
    expect(text).to_have_value(re.compile("crew reads charts"))
    text.fill(RULES.replace("files/charts/**", "files/**"))
    page.get_by_role("button", name="See what would change").click()
    expect(page.get_by_text(re.compile("[0-9]+ outcomes would change, of 4 files"))).to_be_visible()
    expect(page.get_by_role("row", name="files/secret/s.txt").first).to_contain_text("allowed")
    held: list[Route] = []
    page.route(
        "**/api/rules/file", lambda route: held.append(route) if route.request.method == "GET" else route.continue_()
    )
    page.get_by_role("button", name="Put them in force").click()
    page.get_by_role("button", name="Really put them in force").click()
    until(lambda: service.get("/get/files/secret/s.txt", "bob").status_code == 200)
    assert [path.read_text() for path in service.folder.glob("rules.toml.before-*")] == [RULES]
    expect(text).to_have_value(re.compile(re.escape("files/**")))
    text.fill("[[rule]]\n")
    while not held:
        page.wait_for_timeout(20)
    with page.expect_response("**/api/rules/file"):
        page.unroute("**/api/rules/file")  # what was held goes on with it
    expect(page.get_by_text("They are in force.")).to_be_visible()
    expect(text).to_have_value("[[rule]]\n")  # what was typed while they were put in force is not lost
    page.get_by_role("button", name="See what would change").click()
    expect(page.get_by_role("alert")).to_contain_text("rules.toml:1")
    expect(page.get_by_role("button", name="Put them in force")).to_have_count(0)


def test_people_are_added_given_tokens_and_disabled(service: Service, visit: Visit) -> None:
    page = visit(service, "people", "ann")
    page.get_by_label("Id").fill("cleo")
    page.get_by_label("Groups").fill("crew, lab")
    page.get_by_role("button", name="Add somebody").click()
    expect(page.get_by_role("heading", name="About cleo")).to_be_focused()
    page.get_by_label("What for").fill("laptop")
    page.get_by_role("button", name="Make a token").click()
    token = page.get_by_role("status").locator("code").inner_text()
    with httpx.Client(base_url=service.url, headers={"authorization": f"Bearer {token}"}, trust_env=False) as cleo:
        assert cleo.get("/api/sessions/current").json()["groups"] == ["crew", "lab"]
        expect(page.get_by_role("row", name="laptop")).to_be_visible()
        page.get_by_label("New password").fill("a long harbour wall")
        page.get_by_role("button", name="Set the password").click()
        expect(page.get_by_text("It is set")).to_be_visible()
        page.get_by_role("button", name="Disable").click()
        page.get_by_role("button", name="Really?").click()
        expect(page.get_by_role("button", name="Enable again")).to_be_visible()
        assert cleo.get("/api/sessions/current").status_code == 401
        page.get_by_role("button", name="Enable again").click()
        page.get_by_role("button", name="Really?").click()
        expect(page.get_by_role("button", name="Disable")).to_be_visible()
        page.get_by_role("button", name="End the token laptop").click()
        page.get_by_role("button", name="End the token laptop").click()
        expect(page.get_by_text("No token holds.")).to_be_visible()
        assert cleo.get("/api/sessions/current").status_code == 401
    page.get_by_role("link", name="← People").click()
    expect(page.get_by_role("row", name="cleo")).to_contain_text("crew, lab")


def test_the_state_of_the_service_and_its_keys_are_shown_and_rotated(service: Service, visit: Visit) -> None:
    link = service.get("/api/links", "ann")
    with service.client("ann") as ann:
        link = ann.post("/api/links", json={"address": "files/charts/a.txt"})
    page = visit(service, "service", "ann")
    expect(page.get_by_text("✓ Everything works.")).to_be_visible()
    expect(page.get_by_role("main")).to_contain_text("files (directory)")
    keys = page.get_by_role("grid", name="Keys")
    expect(keys.get_by_role("row", name="k1")).to_contain_text("1 link holds by it")
    page.get_by_role("button", name="Make a new key").click()
    page.get_by_role("button", name="Really make a new key").click()
    expect(keys.get_by_role("row", name="k2")).to_contain_text("seals new links")
    retire = keys.get_by_role("button", name="Retire k1")
    retire.click()
    expect(retire).to_have_text("Really: 1 link would stop working")
    retire.click()
    expect(keys.get_by_role("row", name="k1")).to_have_count(0)
    assert service.get(link.json()["target"]).status_code == 403
    page.reload()
    expect(page.get_by_role("grid", name="Audit").get_by_role("row", name="key.retired")).to_contain_text("k1")


def test_a_webhook_is_added_tried_and_removed(service: Service, visit: Visit) -> None:
    page = visit(service, "service", "ann")
    card = page.locator("section", has=page.get_by_role("heading", name="Webhooks"))
    expect(card.get_by_text("There are no webhooks.")).to_be_visible()
    add = card.get_by_role("button", name="Add the webhook")
    card.get_by_label("URL").fill("http://app.example.org/hook")
    expect(add).to_be_disabled()
    card.get_by_label("link.made").check()
    add.click()
    expect(card.get_by_text("it has to begin with https://")).to_be_visible()
    card.get_by_label("URL").fill("https://localhost:1/hook")
    card.get_by_label("What it is for").fill("the desk")
    add.click()
    row = card.get_by_role("row", name="https://localhost:1/hook")
    expect(row).to_contain_text("the desk: link.made")
    row.get_by_role("button", name="Try https://localhost:1/hook").click()
    told = card.get_by_role("row", name="webhook.trial")
    expect(told).to_contain_text("is not a public one", timeout=15_000)
    expect(told).to_contain_text("waiting, again")
    told.get_by_role("button", name=re.compile("Tell of .* again")).click()
    row.get_by_role("button", name="Remove https://localhost:1/hook").click()
    row.get_by_role("button", name="Remove https://localhost:1/hook").click()
    expect(card.get_by_text("There are no webhooks.")).to_be_visible()
    expect(told).to_have_count(0)


def test_a_recipient_sees_what_is_theirs_and_no_more(service: Service, visit: Visit) -> None:
    service.get("/get/files/charts/a.txt", "bob")
    service.get("/get/files/charts/a.txt", "ann")
    page = visit(service, "account", "bob")
    expect(page.get_by_text("You are signed in as bob. Your groups: crew.")).to_be_visible()
    expect(page.get_by_text(re.compile("1 of 10 files used, each 1 d; the next is free"))).to_be_visible()
    expect(page.get_by_role("link", name="People")).to_have_count(0)
    expect(page.get_by_role("row", name="test")).to_be_visible()
    expect(page.get_by_role("button", name="Make a token")).to_have_count(0)
    page.get_by_role("link", name="History").click()
    expect(page.get_by_role("grid").get_by_role("row")).to_have_count(2)
    for place in ("people", "service", "access/rules"):
        page.goto(f"{service.url}/console/{place}")
        expect(page.get_by_role("alert").first).to_contain_text("administer")


def test_a_link_is_explained_and_narrowed_in_the_page(service: Service, visit: Visit) -> None:
    page = visit(service, "links?file=files/charts/a.txt", "ann")
    expect(page.get_by_label("File", exact=True)).to_have_value("files/charts/a.txt")
    page.get_by_role("button", name="Make the link").click()
    expect(page.get_by_role("img", name="A code of the page")).to_be_visible()
    link = page.get_by_role("status").locator("code").first.inner_text()
    form = page.get_by_role("form", name="What does this link do?")
    form.get_by_label("Paste a link").fill(link)
    form.get_by_role("button", name="Explain it").click()
    expect(form).to_contain_text("✓ It opens now.")
    expect(form).to_contain_text("had 0 times")
    form.get_by_label("Downloads").fill("1")
    form.get_by_role("button", name="Narrow the link").click()
    narrower = form.get_by_role("status").locator("code").first.inner_text()
    assert narrower != link
    assert [service.get(narrower.removeprefix(service.url)).status_code for _ in range(2)] == [200, 410]
    form.get_by_label("Paste a link").fill(narrower)
    form.get_by_role("button", name="Explain it").click()
    expect(form).to_contain_text("✗ It does not open now.")
    expect(form).to_contain_text("✗ 1")

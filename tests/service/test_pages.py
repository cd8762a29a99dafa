"""Pages without scripts, as a program sees them that reads their HTML and fills in their forms."""

from __future__ import annotations

import io
import re
import zipfile
from collections.abc import Callable
from html import unescape

import httpx
import pytest

from invio.service.page_parts import local
from tests.rules import rule
from tests.running import NO_TLS, SETTINGS, Service

START = Callable[..., Service]
HTML = {"accept": "text/html,*/*"}
RULES = (
    rule("anyone", "files/open/**", "list read bundle", "everyone reads what is open")
    + rule("anyone", "files/secret/**", "list", "the secret is listed")
    + rule("group:crew", "**", "list read bundle put", "crew reads")
)
MANAGED = SETTINGS + '\n[stores.models]\nkind = "managed"\nroot = "models"\n'
FILES = {"open/b.txt": b"bbbb", "open/a <i>.txt": b"a", "open/deep/c.bin": b"c" * 5000, "secret/s.txt": b"s"}


@pytest.fixture(scope="module")
def service(start_shared: START) -> Service:
    service = start_shared(files=FILES, rules=RULES, settings=MANAGED)
    with service.client("bob") as bob:
        for text in ("one", "two", "three"):
            assert bob.put("/api/files/models/floor.grid", content=text.encode()).status_code in (200, 201)
    return service


def browser(service: Service) -> httpx.Client:
    return httpx.Client(base_url=service.url, headers=HTML, trust_env=False, verify=NO_TLS, follow_redirects=True)


def links(page: str) -> dict[str, str]:
    """What a page leads to, by the words of its links."""
    found = re.findall(r'<a[^>]* ?href="([^"]*)"[^>]*>(.*?)</a>', page, re.DOTALL)
    return {unescape(re.sub("<[^>]*>", "", text)).strip(): unescape(href) for href, text in found}


def test_a_folder_shows_what_one_may_see_and_leads_to_it(service: Service) -> None:
    with browser(service) as client:
        shown = client.get("/files/files/open/")
        assert shown.status_code == 200
        there = links(shown.text)
        assert "deep/" in there
        assert there["a <i>.txt"] == "/pickup/files/open/a%20%3Ci%3E.txt"
        assert client.get(there["deep/"]).text.count("c.bin") >= 1
        assert client.get(there["a <i>.txt"]).status_code == 200
        assert client.get("/get/files/open/b.txt").content == b"bbbb"
        assert "secret" not in shown.text
        assert "models" not in client.get("/files/").text
        policy = shown.headers["content-security-policy"]
        assert "script-src 'self'" in policy
        assert "frame-ancestors 'none'" in policy
        assert shown.headers["cache-control"] == "no-store"


def test_it_is_sorted_paged_and_searched_by_plain_links(start: START) -> None:
    files = {f"open/{number:03}.txt": b"x" * (300 - number) for number in range(230)}
    service = start(files=files, rules=RULES)
    with browser(service) as client:
        page, seen = client.get("/files/files/open/").text, []
        for _ in range(3):
            seen += re.findall(r'name="file" value="files/open/(\d+)\.txt"', page)
            following = links(page).get("Next page")
            if following:
                page = client.get(f"/files/files/open/{following}").text
        assert seen == [f"{number:03}" for number in range(230)]
        assert "First page" in links(page)
        by_size = client.get("/files/files/open/" + links(page)["Size"]).text
        assert re.findall(r'value="files/open/(\d+)\.txt"', by_size)[:2] == ["229", "228"]
        assert 'aria-sort="ascending"' in by_size
        other_way = client.get("/files/files/open/" + links(by_size)["Size ↑"]).text
        assert re.findall(r'value="files/open/(\d+)\.txt"', other_way)[:2] == ["000", "001"]
        found = client.get("/files/files/open/?search=22").text
        assert set(re.findall(r'value="files/open/(\d+)\.txt"', found)) >= {"022", "220", "229"}


def test_a_selection_is_one_archive(service: Service) -> None:
    with browser(service) as client:
        page = client.get("/files/files/open/?sort=-size").text
        target = unescape(re.findall(r'name="page" value="([^"]*)"', page)[0])
        assert target == "/files/files/open/?sort=-size"
        made = client.post("/bundles", data={"file": ["files/open/b.txt", "files/open/deep/"], "page": target})
        assert made.status_code == 200
        with zipfile.ZipFile(io.BytesIO(made.content)) as archive:
            assert archive.namelist() == ["b.txt", "deep/c.bin"]


def test_what_is_refused_of_a_selection_is_named_on_the_same_page_and_the_rest_stays_chosen(service: Service) -> None:
    with browser(service) as client:
        nothing = client.post("/bundles", data={"page": "/files/files/open/"})
        assert (nothing.status_code, "Nothing was selected" in nothing.text) == (400, True)
        assert "b.txt" in nothing.text
        chosen = ["files/open/b.txt", "files/secret/s.txt", "files/open/none.txt"]
        refused = client.post("/bundles", data={"file": chosen, "page": "/files/files/open/"})
        assert refused.status_code == 401, "signing in would help"
        assert "<li>files/secret/s.txt" in refused.text
        assert "<li>files/open/none.txt" in refused.text
        ticks = re.findall(r'value="(files/open/[^"]*)" aria-label="[^"]*"( checked)?', refused.text)
        assert dict(ticks)["files/open/b.txt"] == " checked"
        assert dict(ticks)["files/open/deep/"] == ""
        elsewhere = client.post("/bundles", data={"page": "https://evil.example/files/x/"})
        assert (elsewhere.status_code, "evil" in elsewhere.text) == (400, False)


def test_signing_in_leads_back_and_signing_out_ends_it(service: Service) -> None:
    with browser(service) as client:
        asked = client.get("/files/models/")
        assert str(asked.url).endswith("/sign-in?then=%2Ffiles%2Fmodels%2F")
        wrong = client.post("/sign-in", data={"token": "nonsense", "then": "/files/models/"})
        assert (wrong.status_code, 'role="alert"' in wrong.text) == (401, True)
        assert 'value="/files/models/"' in wrong.text
        assert client.post("/sign-in", data={"recipient": "bob"}).status_code == 401
        entered = client.post("/sign-in", data={"token": service.tokens["bob"], "then": "/files/models/"})
        assert (entered.status_code, entered.url.path) == (200, "/files/models/")
        assert "signed in as bob" in entered.text
        left = client.post("/sign-out", headers={"origin": service.url})
        assert (left.url.path, "You are signed out" in left.text) == ("/sign-in", True)
        assert client.get("/files/models/").url.path == "/sign-in"


def test_another_site_neither_signs_in_nor_out(service: Service) -> None:
    with browser(service) as client:
        foreign = {"sec-fetch-site": "cross-site", "origin": "https://evil.example"}
        refused = client.post("/sign-in", data={"token": service.tokens["bob"]}, headers=foreign)
        assert (refused.status_code, "set-cookie" in refused.headers) == (403, False)
        client.post("/sign-in", data={"token": service.tokens["bob"]}, headers={"origin": service.url})
        assert client.post("/sign-out", headers=foreign).status_code == 403
        assert "signed in as bob" in client.get("/files/").text


@pytest.mark.parametrize(
    "given",
    [
        "https://evil.example/",
        "//evil.example/",
        "/\\evil.example/",
        "/\t/evil.example",
        "\\\\evil.example",
        "javascript:alert(1)",
        " /files/",
        "",
    ],
)
def test_nobody_is_led_to_another_host(given: str, service: Service) -> None:
    assert local(given, "/deep") == "/deep/files/"
    with httpx.Client(base_url=service.url, trust_env=False, verify=NO_TLS) as client:
        sent = client.post("/sign-in", data={"token": service.tokens["bob"], "then": given})
        assert (sent.status_code, sent.headers["location"]) == (303, "/files/")


def test_a_link_s_page_says_what_it_is_and_what_it_is_bound_to_and_counts_no_use(service: Service) -> None:
    conditions = {"until": 4_000_000_000, "net": "127.0.0.0/8", "uses": 2, "rate": 4_000_000}
    link = service.link("files/secret/s.txt", {"name": "the secret.txt", "id": "two", "to": "pilot-7"}, **conditions)
    with browser(service) as client:
        for _ in range(4):
            page = client.get(link.replace("/get/", "/pickup/"))
            assert page.status_code == 200
        for said in (
            "the secret.txt", "text/plain", "1 B", "2096-10-02", "2 of 2 downloads left", "made for pilot-7",
            "the network 127.0.0.0/8", "3.8 MiB a second at most",
        ):  # fmt: skip
            assert said in page.text, said
        assert client.get(links(page.text)["Download"]).content == b"s"
        assert "1 of 2 downloads left" in client.get(link.replace("/get/", "/pickup/")).text


def test_a_link_that_is_over_is_told_so_on_a_page(service: Service) -> None:
    with browser(service) as client:
        over = client.get(service.link("files/secret/s.txt", until=5).replace("/get/", "/pickup/"))
        assert (over.status_code, "The link has expired" in over.text) == (410, True)
        broken = client.get(service.link("files/secret/s.txt").replace("/get/", "/pickup/")[:-3] + "AAA")
        assert broken.status_code in (400, 403)
        asks = client.get(service.link("files/secret/s.txt", who="bob").replace("/get/", "/pickup/"))
        assert asks.url.path == "/sign-in"
        assert "%2Fpickup%2F" in str(asks.url)
        assert "%26seal%3D" in str(asks.url), "the whole link comes back"
        assert client.get("/pickup/files/secret/s.txt").url.path == "/sign-in"


def test_versions_are_a_select_on_both_pages(service: Service) -> None:
    with browser(service) as client:
        client.post("/sign-in", data={"token": service.tokens["bob"]})
        listing, pickup = client.get("/files/models/").text, client.get("/pickup/models/floor.grid").text
        for page in (listing, pickup):
            assert re.findall(r'<option value="(\d)">', page) == ["3", "2", "1"]
        assert client.get("/get/models/floor.grid?as=attachment&version=1").content == b"one"


def test_the_first_page_leads_on_with_scripts_and_without(service: Service) -> None:
    with browser(service) as client:
        page = client.get("/").text
        assert '<noscript><meta http-equiv="refresh" content="0; url=/files/"></noscript>' in page
        assert links(page)["Console"] == "/console/"


def test_an_operator_s_own_pages_and_texts_are_shown(start: START) -> None:
    own = '[pages]\nfolder = "pages"\nrefusal = "https://help.example.org/why"\n[service]\npublic_url = "https://f.example"\n'
    from tests.running import make_folder

    folder = start(files={"open/a.txt": b"a"}).folder.parent / "own"
    make_folder(folder, {"open/a.txt": b"a"}, RULES, own + SETTINGS)
    (folder / "pages").mkdir()
    (folder / "pages" / "texts.toml").write_text('name = "Brackwater Sound Survey"\n')
    service = start(folder)
    with httpx.Client(base_url=service.url, headers=HTML, trust_env=False, verify=NO_TLS) as client:
        assert "Brackwater Sound Survey" in client.get("/files/").text
        sent = client.get("/get/files/open/none.txt")
        assert sent.status_code == 303
        assert sent.headers["location"] == (
            "https://help.example.org/why?then=https%3A%2F%2Ff.example%2Fget%2Ffiles%2Fopen%2Fnone.txt&reason=missing"
        )
        plain = client.get("/get/files/open/none.txt", headers={"accept": "*/*"})
        assert plain.json()["reason"] == "missing", "programs are told as ever"


def test_no_name_reads_as_another(start: START) -> None:
    odd = "open/invoice-\u202egnp.exe"
    service = start(files={odd: b"x", "open/\u05d0\u200f1 \U0001f469\u200d\U0001f52c.txt": b"y"}, rules=RULES)
    with browser(service) as client:
        there = links(client.get("/files/files/open/").text)
        assert r"invoice-\u202egnp.exe" in there
        assert "\u05d0\u200f1 \U0001f469\u200d\U0001f52c.txt" in there, "what languages and signs need stays"
        page = client.get(there[r"invoice-\u202egnp.exe"])
        assert r"<h1>invoice-\u202egnp.exe</h1>" in page.text
        assert "\u202e" not in page.text
        assert (
            client.post("/bundles", data={"file": f"files/{odd}"}, headers={"origin": service.url}).content[:2] == b"PK"
        )


def test_what_pages_show_of_names_is_never_script(start: START) -> None:
    name = "open/<script>alert(1)</script>'\"&.txt"
    service = start(files={name.replace("/script", "\u2215script"): b"x"}, rules=RULES)
    with browser(service) as client:
        page = client.get("/files/files/open/").text
        assert "<script>alert" not in page
        assert "&lt;script&gt;alert" in page
        assert client.get(next(href for text, href in links(page).items() if "alert" in text)).status_code == 200

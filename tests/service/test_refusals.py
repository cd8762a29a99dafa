"""What is refused, how it is said, and what it does not give away."""

from __future__ import annotations

from collections.abc import Callable, Iterator

import pytest

from tests import running
from tests.rules import rule
from tests.running import Service, make_folder

Start = Callable[..., Service]
SETTINGS = f"{running.SETTINGS}\n[stores.drop]\nkind = 'managed'\nroot = 'drop'\n"
RULES = (
    rule("anyone", "files/open/**", "list read")
    + rule("group:crew", "files/seen/**", "list")
    + rule("group:admins", "**", "list read bundle put manage administer")
)


@pytest.fixture(scope="module")
def service(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    """One for all tests of this module: none of them changes what others look at."""
    folder = tmp_path_factory.mktemp("refusals") / "service"
    make_folder(
        folder, files={"open/a.txt": b"a", "seen/b.txt": b"b", "hidden/c.txt": b"c"}, rules=RULES, settings=SETTINGS
    )
    service = Service.start(folder)
    yield service
    service.stop()


@pytest.mark.parametrize(
    ("method", "path", "says"),
    [
        (
            "GET",
            "/api/files?inn=files/",
            "GET /api/files has no query parameter 'inn' (did you mean 'in'?); it takes in, ",
        ),
        ("GET", "/api/history?recipent=bob", "did you mean 'recipient'?"),
        ("GET", "/api/transfers/stream?in=files/", "it takes recipient, address, link, tag, transfer"),
        ("GET", "/api/rules?as=bob", "GET /api/rules has no query parameter 'as'; it takes none"),
        ("HEAD", "/api/files?limit=1&Limit=1", ""),
        # Without this it would be removed with all its versions.
        (
            "DELETE",
            "/api/files/drop/a.txt?verison=1",
            "DELETE /api/files/{address} has no query parameter 'verison' (did you mean 'version'?)",
        ),
    ],
)
def test_a_misspelt_query_parameter_is_an_error_and_nothing_happens(
    service: Service, method: str, path: str, says: str
) -> None:
    with service.client("ann") as client:
        put = client.put("/api/files/drop/a.txt", content=b"a")
        answer = client.request(method, path)
        assert client.get("/get/drop/a.txt").content == b"a", put.text
    assert answer.status_code == 400
    assert says in ("" if method == "HEAD" else answer.json()["detail"])


def test_what_others_add_to_the_address_of_a_page_does_not_matter(service: Service) -> None:
    assert service.get("/files/files/open/?from=newsletter").status_code == 200


@pytest.mark.parametrize(
    ("path", "who", "status", "reason"),
    [
        ("/get/files/open/none.txt", None, 404, "missing"),
        ("/get/files/hidden/c.txt", None, 401, "sign-in"),
        ("/get/files/hidden/none.txt", None, 401, "sign-in"),
        ("/get/files/hidden/c.txt", "bob", 404, "missing"),
        ("/get/files/hidden/none.txt", "bob", 404, "missing"),
        ("/get/files/seen/b.txt", "bob", 403, "not-allowed"),
        ("/get/files/seen/b.txt", "ann", 200, None),
        ("/api/files/files/hidden/c.txt", "bob", 404, "missing"),
        ("/api/files/files/seen/b.txt", "bob", 200, None),
        ("/api/files?in=files/hidden/", "bob", 404, "missing"),
        ("/api/files?in=files/hidden/", None, 401, "sign-in"),
        ("/api/files?in=files/open", None, 400, "bad-request"),
        ("/api/files?in=none/", "ann", 404, "missing"),
        ("/api/files?limit=0", None, 400, "bad-request"),
        ("/api/files/files/open/", None, 400, "bad-request"),
        ("/api/files/files/%ff", None, 400, "malformed"),
        ("/api/none", None, 404, "missing"),
        ("/console/assets/none.js", None, 404, "missing"),
    ],
)
def test_each_refusal_has_its_status_and_word(
    service: Service, path: str, who: str | None, status: int, reason: str | None
) -> None:
    answer = service.get(path, who)
    assert answer.status_code == status, answer.text
    if reason:
        problem = answer.json()
        assert answer.headers["content-type"] == "application/problem+json"
        assert (problem["reason"], problem["status"]) == (reason, status)
        assert problem["type"]
        assert problem["title"]
        assert problem["detail"]
        assert str(service.folder) not in answer.text
        assert answer.headers["cache-control"] == "no-store"
    assert ("www-authenticate" in answer.headers) is (status == 401)


def test_a_token_that_is_none_is_refused_everywhere(service: Service) -> None:
    for path in ("/get/files/open/a.txt", "/api/files", "/api/transfers/stream"):
        for value in ("Bearer wrong", "Basic YTpi", "Bearer", ""):
            answer = service.get(path, authorization=value)
            assert (answer.status_code, answer.json()["reason"]) == (401, "bad-token"), (path, value)


def test_a_browser_gets_a_page_that_says_the_same(service: Service) -> None:
    page = service.get("/get/files/open/none.txt", accept="text/html,application/xhtml+xml")
    assert page.status_code == 404
    assert page.headers["content-type"] == "text/html; charset=utf-8"
    assert "There is no such file here" in page.text
    assert "default-src 'none'" in page.headers["content-security-policy"]
    evil = service.get("/get/files/open/%3Cscript%3Ealert(1)%3C%2Fscript%3E", accept="text/html")
    assert "<script>" not in evil.text


def test_a_browser_is_sent_to_sign_in_and_back(service: Service) -> None:
    answer = service.get("/get/files/hidden/c.txt?as=inline", accept="text/html")
    assert answer.status_code == 303
    assert answer.headers["location"] == "/sign-in?then=%2Fget%2Ffiles%2Fhidden%2Fc.txt%3Fas%3Dinline"


def test_a_listing_shows_only_what_the_caller_may_have(service: Service) -> None:
    def shown(who: str | None, folder: str = "files/") -> list[str]:
        return [file["address"] for file in service.get(f"/api/files?in={folder}", who).json()["files"]]

    assert shown(None) == ["files/open/"]
    assert shown("bob") == ["files/open/", "files/seen/"]
    assert shown("ann") == ["files/hidden/", "files/open/", "files/seen/"]
    assert shown("bob", "files/seen/") == ["files/seen/b.txt"]
    [listed] = service.get("/api/files?in=files/seen/", "bob").json()["files"]
    assert listed["may"] == ["list"]
    assert (listed["size"], listed["media_type"], listed["folder"]) == (1, "text/plain", False)


def test_a_long_listing_comes_in_pages(start: Start) -> None:
    names = [f"{number:03}.txt" for number in range(25)]
    service = start(files=dict.fromkeys(names, b"x"))
    seen: list[str] = []
    after = ""
    while True:
        page = service.get(f"/api/files?in=files/&limit=10{after}").json()
        seen += [file["name"] for file in page["files"]]
        if page["next"] is None:
            break
        after = f"&after={page['next']}"
    assert seen == names


def test_why_tells_the_rules_to_those_who_manage(service: Service) -> None:
    told = service.get("/api/decisions?address=files/seen/b.txt&as=bob", "ann").json()
    assert (told["recipient"], told["groups"], told["allowed"]) == ("bob", ["crew"], False)
    assert [(reason["line"], reason["because"]) for reason in told["reasons"]] == [
        (2, "files/seen/b.txt is not in files/open/**"),
        (8, "it is about list, not read"),
        (14, "bob is not group:admins"),
    ]
    own = service.get("/api/decisions?address=files/open/a.txt", "bob").json()
    assert (own["allowed"], own["reasons"]) == (True, [])
    assert service.get("/api/decisions?address=files/open/a.txt&as=ann", "bob").status_code == 403
    assert service.get("/api/decisions?address=files/hidden/c.txt&as=ann", "bob").status_code == 404
    assert service.get("/api/decisions?address=files/open/a.txt&as=nobody", "ann").status_code == 404
    anyone = service.get("/api/decisions?address=files/open/a.txt&as=anyone", "ann").json()
    assert (anyone["recipient"], anyone["allowed"]) == (None, True)


def test_a_refusal_says_whom_to_ask_and_to_those_who_manage_why(start: Callable[..., Service]) -> None:
    contact = '[service]\ncontact = "Ask the chart desk"\ncontact_link = "mailto:desk@example.org"\n'
    deny = (
        '[[rule]]\nname = "embargo"\neffect = "deny"\nwho = ["signed-in"]\nwhat = ["files/b.txt"]\nactions = ["read"]\n'
    )
    service = start(files={"b.txt": b"b"}, settings=contact + running.SETTINGS, rules=running.RULES + deny)
    page = service.get("/get/files/b.txt", "bob", accept="text/html").text
    assert '<a href="mailto:desk@example.org">Ask the chart desk</a>' in page
    assert "embargo" not in page
    expired = service.link("files/b.txt", until=1)
    assert "Ask the chart desk" in service.get(expired, accept="text/html").text
    assert service.get("/api/none").json()["contact"] == "Ask the chart desk"
    refused = service.get("/get/files/b.txt", "ann").json()
    assert refused["reasons"][0] == {
        "rule": "embargo", "line": 15, "effect": "deny", "spoke": True, "because": "it applies",
    }  # fmt: skip
    assert "denied by embargo" in service.get("/get/files/b.txt", "ann", accept="text/html").text
    assert "reasons" not in service.get("/get/files/b.txt", "bob").json()


def test_the_same_bad_token_is_refused_each_time(service: Service) -> None:
    with service.client() as client:
        client.headers["authorization"] = "Bearer invio_nothing"
        for path in ("/get/files/open/a.txt", "/get/files/hidden/c.txt"):
            assert [client.get(path).status_code for _ in range(3)] == [401, 401, 401]

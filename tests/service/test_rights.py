"""Who may do what: every route of the API put to every kind of caller, and what rights on one store do not give."""

from __future__ import annotations

import json
import re
import time
from collections.abc import Callable, Iterator
from typing import Any

import httpx
import pytest

from tests.rules import rule
from tests.running import Service, until

Start = Callable[..., Service]
SETTINGS = """
[stores.files]
kind = "directory"
root = "files"
[stores.drop]
kind = "directory"
root = "drop"
writable = true
[stores.models]
kind = "managed"
root = "models"
"""
RULES = (
    rule("group:admins", "**", "list read bundle link put manage administer", "administrators have everything")
    + rule("group:keepers", "drop/**", "list read bundle link put manage", "keepers have all of drop")
    + rule("group:putters", "drop/** models/**", "put", "putters put")
    + rule("group:readers", "files/open/**", "list read bundle link", "readers read what is open")
)
FILES = {"open/a.txt": b"aaa", "secret/s.txt": b"secret"}
PEOPLE = {"admin": ["admins"], "keeper": ["keepers"], "putter": ["putters"], "reader": ["readers"], "gone": ["admins"]}


@pytest.fixture(scope="module")
def service(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    from tests.running import make_folder

    folder = tmp_path_factory.mktemp("rights") / "service"
    make_folder(folder, FILES, RULES, SETTINGS)
    (folder / "drop").mkdir()
    (folder / "drop" / "d.txt").write_bytes(b"ddd")
    running = Service.start(folder)
    with running.client("ann") as client:
        for name, groups in PEOPLE.items():
            assert client.put(f"/api/recipients/{name}", json={"groups": groups}).status_code == 200
            made = client.post(f"/api/recipients/{name}/tokens", json={})
            running.tokens[name] = made.json()["token"]
        short = client.post("/api/recipients/admin/tokens", json={"seconds": 1}).json()["token"]
        running.tokens["expired"] = short
        link = client.post("/api/links", json={"address": "files/secret/s.txt", "id": "admins-own"})
        assert link.status_code == 201
        assert client.post("/api/recipients/gone/disable").status_code == 200
    running.tokens["bad"] = "no-such-token"
    time.sleep(2.1)
    yield running
    running.stop()


CALLERS = ("nobody", "bad", "expired", "gone", "reader", "putter", "keeper", "admin")
NOT_SIGNED_IN = ("nobody", "bad", "expired", "gone")


def expected(**of: int | tuple[int, ...]) -> dict[str, tuple[int, ...]]:
    """By caller; `others` is for those who are not named, and those who are not signed in are refused with 401."""
    by = {caller: of.get(caller, of["others"]) for caller in CALLERS}
    by |= {caller: 401 for caller in NOT_SIGNED_IN if caller not in of and "everybody" not in of}
    return {caller: status if isinstance(status, tuple) else (status,) for caller, status in by.items()}


ADMINS_ALONE = expected(others=403, admin=(200, 201, 204))
# method, path, body, what each kind of caller is answered
MATRIX: list[tuple[str, str, Any, dict[str, tuple[int, ...]]]] = [
    ("GET", "/api/recipients", None, ADMINS_ALONE),
    ("PUT", "/api/recipients/new-one", {"groups": ["admins"]}, ADMINS_ALONE),
    ("PATCH", "/api/recipients/reader", {"name": "Reader"}, ADMINS_ALONE),
    ("POST", "/api/recipients/reader/tokens", {"label": "x"}, ADMINS_ALONE),
    ("DELETE", "/api/recipients/reader/tokens/000000000000", None, expected(others=403, reader=404, admin=404)),
    ("PUT", "/api/recipients/ann/password", {"password": "a long harbour wall"}, ADMINS_ALONE),
    ("POST", "/api/recipients/bob/disable", None, ADMINS_ALONE),
    ("POST", "/api/recipients/bob/enable", None, ADMINS_ALONE),
    ("GET", "/api/rules", None, ADMINS_ALONE),
    ("GET", "/api/audit", None, ADMINS_ALONE),
    ("DELETE", "/api/links?maker=ann", None, ADMINS_ALONE),
    ("DELETE", "/api/links/admins-own", None, expected(others=404, admin=200)),
    ("GET", "/api/links", None, expected(others=200)),
    ("GET", "/api/links?maker=ann", None, ADMINS_ALONE),
    ("GET", "/api/decisions?address=files/secret/s.txt&as=reader", None, expected(others=404, reader=200, admin=200)),
    (
        "GET",
        "/api/decisions?address=drop/d.txt&as=reader",
        None,
        expected(others=404, reader=200, keeper=200, admin=200),
    ),
    ("GET", "/api/files?in=files/secret/", None, expected(others=404, admin=200)),
    ("GET", "/api/files/files/secret/s.txt", None, expected(others=404, admin=200)),
    ("GET", "/get/files/secret/s.txt", None, expected(others=404, admin=200)),
    ("GET", "/get/files/open/a.txt", None, expected(others=404, reader=200, admin=200)),
    ("POST", "/api/bundles", {"files": ["files/secret/s.txt"]}, expected(others=403, admin=201)),
    ("POST", "/api/links", {"address": "files/secret/s.txt", "seconds": 60}, expected(others=404, admin=201)),
    ("POST", "/api/links", {"address": "files/open/a.txt", "seconds": 60}, expected(others=404, reader=201, admin=201)),
    ("POST", "/api/short-links", {"address": "files/secret/s.txt"}, expected(others=404, admin=201)),
    ("POST", "/api/short-links", {"address": "files/open/a.txt"}, expected(others=404, reader=201, admin=201)),
    (
        "PUT",
        "/api/files/drop/new.txt",
        b"x",
        expected(others=404, keeper=(200, 201), putter=(200, 201), admin=(200, 201)),
    ),
    ("PUT", "/api/files/files/new.txt", b"x", expected(others=404, admin=405)),
    ("GET", "/api/versions/models/none.grid", None, expected(others=404)),
    ("POST", "/api/versions/models/none.grid?version=1", None, expected(others=404)),
    ("DELETE", "/api/files/models/none.grid", None, expected(others=404)),
    ("GET", "/api/transfers/stream", None, expected(others=200)),
    ("GET", "/api/transfers", None, {**expected(others=200), "nobody": (200,)}),
    ("GET", "/api/history", None, {**expected(others=200), "nobody": (200,)}),
    ("GET", "/api/quotas", None, {**expected(others=200), "nobody": (200,)}),
    ("GET", "/api/quotas?recipient=ann", None, ADMINS_ALONE),
    ("POST", "/api/quotas/ann/grants", {"rule": "none", "files": 1}, expected(others=403, admin=404)),
    ("DELETE", "/api/quotas/ann?rule=none", None, expected(others=403, admin=404)),
    ("GET", "/api/recipients/ann", None, ADMINS_ALONE),
    ("GET", "/api/recipients/reader", None, expected(others=403, reader=200, admin=200)),
    ("GET", "/api/recipients/reader/sessions", None, expected(others=403, reader=200, admin=200)),
    ("DELETE", "/api/recipients/reader/sessions", None, expected(others=403, reader=204, admin=204)),
    ("DELETE", "/api/recipients/ann/sessions", None, ADMINS_ALONE),
    ("GET", "/api/rules/file", None, ADMINS_ALONE),
    ("GET", "/api/rules/expectations", None, ADMINS_ALONE),
    ("POST", "/api/rules/trial", {"text": RULES}, ADMINS_ALONE),
    ("PUT", "/api/rules/file", {"text": RULES, "replaces": "another"}, expected(others=403, admin=412)),
    ("GET", "/api/access", None, ADMINS_ALONE),
    ("GET", "/api/audience?address=drop/d.txt", None, expected(others=404, reader=404, keeper=200, admin=200)),
    ("GET", "/api/audience?address=files/open/a.txt", None, expected(others=404, reader=403, admin=200)),
    ("GET", "/api/keys", None, ADMINS_ALONE),
    ("POST", "/api/keys", None, ADMINS_ALONE),
    ("DELETE", "/api/keys/none", None, expected(others=403, admin=404)),
    ("POST", "/api/links/explanation", {"link": "/get/files/open/a.txt?key=k1&seal=x"}, expected(others=400)),
    ("GET", "/api/history/summary", None, {**expected(others=200), "nobody": (200,)}),
    ("GET", "/api/transfers/00000000000000000000", None, {**expected(others=404), "nobody": (404,)}),
    ("GET", "/api/transfers/00000000000000000000/receipt", None, {**expected(others=404), "nobody": (404,)}),
    ("GET", "/api/transfers/00000000000000000000/requests", None, {**expected(others=404), "nobody": (404,)}),
    ("GET", "/api/public-keys", None, expected(others=200, everybody=200)),
    ("GET", "/api/webhooks", None, ADMINS_ALONE),
    ("POST", "/api/webhooks", {"url": "https://192.0.2.1/", "events": ["link.made"]}, ADMINS_ALONE),
    ("DELETE", "/api/webhooks/000000000000", None, expected(others=403, admin=404)),
    ("POST", "/api/webhooks/000000000000/trial", None, expected(others=403, admin=404)),
    ("GET", "/api/webhooks/000000000000/deliveries", None, expected(others=403, admin=404)),
    ("POST", "/api/webhooks/000000000000/deliveries/1", None, expected(others=403, admin=404)),
    ("DELETE", "/api/transfers/00000000000000000000", None, {**expected(others=404), "nobody": (404,)}),
    ("GET", "/api/service", None, ADMINS_ALONE),
    ("DELETE", "/api/recipients/new-one", None, expected(others=403, admin=(204, 404))),
    ("GET", "/api/sessions/current", None, {**expected(others=200), "nobody": (200,)}),
    ("GET", "/healthz", None, dict.fromkeys(CALLERS, (200,))),
    ("GET", "/readyz", None, dict.fromkeys(CALLERS, (200,))),
    ("GET", "/api/openapi.json", None, dict.fromkeys(CALLERS, (200,))),
]


def described(service: Service, method: str, path: str) -> set[str]:
    """The statuses that the API's description has for a request; all of them where it describes none."""
    paths = service.get("/api/openapi.json").json()["paths"]
    for template, operations in paths.items():
        shape = re.escape(template).replace(r"\{address\}", ".+")  # which holds slashes
        shape = re.sub(r"\\{\w+\\}", "[^/]+", shape)
        if method.lower() in operations and re.fullmatch(shape, path.partition("?")[0]):
            return set(operations[method.lower()]["responses"])
    assert path == "/api/openapi.json"
    return {"200"}


@pytest.mark.parametrize(("method", "path", "body", "answers"), MATRIX, ids=[f"{one[0]} {one[1]}" for one in MATRIX])
def test_every_route_answers_every_kind_of_caller_as_the_table_says(
    service: Service, method: str, path: str, body: Any, answers: dict[str, tuple[int, ...]]
) -> None:
    for caller in CALLERS:
        with service.client(None if caller == "nobody" else caller) as client:
            given: dict[str, Any] = {"content": body} if isinstance(body, bytes) else {"json": body} if body else {}
            with client.stream(method, path, **given) as answer:
                assert answer.status_code in answers[caller], (caller, answer.status_code)
                assert str(answer.status_code) in described(service, method, path), "the API's description names it"


def test_every_route_there_is_stands_in_the_table(service: Service) -> None:
    described = service.get("/api/openapi.json").json()["paths"]
    routes = {(method.upper(), path) for path, methods in described.items() for method in methods}
    tried = {(method, path.partition("?")[0]) for method, path, _, _ in MATRIX}

    def is_tried(method: str, path: str) -> bool:
        begin = path.partition("{")[0]
        return any(how == method and (one == path or ("{" in path and one.startswith(begin))) for how, one in tried)

    elsewhere = {  # each with tests of its own: they open what only their maker knows, or are for everybody
        ("GET", "/api/bundles/{bundle_id}"), ("GET", "/api/bundles/{bundle_id}/entries"), ("POST", "/bundles"),
        ("GET", "/follow/{path}"), ("POST", "/api/sessions"), ("DELETE", "/api/sessions/current"), ("HEAD", "/get/{address}"),
    }  # fmt: skip
    assert {route for route in routes - elsewhere if not is_tried(*route)} == set()


def test_a_link_for_a_bundle_opens_that_bundle_and_nothing_else(service: Service) -> None:
    with service.client("reader") as client:
        made = client.post("/api/bundles", json={"files": ["files/open/a.txt"]}).json()
        for more in ({"in": "files/"}, {"in": "models/"}, {"in": "bundles/"}, {"version": 1}):
            refused = client.post("/api/links", json={"address": made["address"], **more})
            assert refused.status_code == 400, more
            assert "opens that bundle" in refused.json()["detail"]
        elsewhere = client.post("/api/links", json={"address": "files/open/a.txt", "in": "files/secret/"})
        assert elsewhere.status_code == 400
        wider = client.post("/api/links", json={"address": "files/open/a.txt", "in": "files/"})
        assert (wider.status_code, wider.json()["reason"]) == (403, "not-allowed")
        good = client.post("/api/links", json={"address": made["address"], "seconds": 60}).json()
    assert service.get(good["target"]).status_code == 200
    query = good["target"].partition("?")[2]
    assert service.get(f"/get/files/secret/s.txt?{query}").status_code == 403


def test_nobody_revokes_counts_or_uses_up_links_of_another(service: Service) -> None:
    operators = service.link("files/secret/s.txt", {"id": "invoice-2026"}, uses=1)
    with service.client("reader") as client:
        made = client.post("/api/links", json={"address": "files/open/a.txt", "id": "invoice-2026"}).json()
        assert made["id"] == "invoice-2026@reader"
        assert service.get(made["target"]).status_code == 200
        assert client.delete("/api/links/invoice-2026").status_code == 404
        assert client.delete("/api/links/invoice-2026@reader").status_code == 200
        pretends = client.post("/api/links", json={"address": "files/open/a.txt", "id": "x@admin"})
        assert pretends.status_code == 400
    assert service.get(operators).content == b"secret", "what the operator sealed is counted by itself"
    assert service.get(operators).status_code == 410


def test_links_end_with_the_recipient_who_made_them(start: Start) -> None:
    own = start(files={"a.txt": b"a"}, rules=RULES_OF_ONE + CREW_LINKS, settings=ONE_STORE)
    with own.client("bob") as bob, own.client("ann") as ann:
        targets = [bob.post("/api/links", json={"address": "files/a.txt"}).json()["target"] for _ in range(3)]
        assert [own.get(target).status_code for target in targets] == [200] * 3
        assert ann.post("/api/recipients/bob/disable").status_code == 200
        refused = [own.get(target) for target in targets]
        assert [(one.status_code, one.json()["reason"]) for one in refused] == [(410, "revoked")] * 3
        assert ann.post("/api/recipients/bob/enable").status_code == 200
        assert own.get(targets[0]).status_code == 200
        assert ann.delete("/api/links", params={"maker": "bob"}).json() == {"maker": "bob", "revoked": 3}
        assert {own.get(target).status_code for target in targets} == {410}


def test_a_link_for_somebody_neither_joins_nor_cuts_nor_writes_theirs(start: Start) -> None:
    content = bytes(40_000_000)
    own = start(files={"large.bin": content}, rules=RULES_OF_ONE + CREW_LINKS, settings=ONE_STORE)
    with own.client("bob") as bob:
        made = bob.post("/api/links", json={"address": "files/large.bin", "to": "ann", "uses": 5}).json()["target"]
    with own.client("ann") as ann, ann.stream("GET", "/get/files/large.bin") as victim:
        pieces = victim.iter_raw(65536)
        taken = len(next(pieces))
        assert own.get(made, Range="bytes=0-99999").status_code == 206
        assert own.get(made, Range="bytes=0-").status_code == 206
        taken += sum(map(len, pieces))
        assert taken == len(content), "her download is not cut"
    until(lambda: all(one["state"] != "running" for one in own.transfers()))
    told = [json.loads(line) for line in own.get("/api/history", "ann").text.splitlines()]
    hers = [one for one in told if one["recipient"] == "ann"]
    assert [(one["bytes"], one["requests"], one["link"]) for one in hers] == [(len(content), 1, None)]
    his = [one for one in told if one["link"] is not None]
    assert {(one["recipient"], one["made_for"]) for one in his} == {(None, "ann")}


ONE_STORE = "[stores.files]\nkind = 'directory'\nroot = 'files'\n"
CREW_LINKS = rule("group:crew", "files/**", "list read link")
RULES_OF_ONE = RULES.replace('what = ["drop/**", "models/**"]', 'what = ["files/drop/**"]').replace(
    'what = ["drop/**"]', 'what = ["files/drop/**"]'
)


def test_rules_of_before_the_right_to_administer_give_it_to_who_manages_everything(start: Start) -> None:
    old = start(files={"a.txt": b"a"})  # its rules know no such action
    with old.client("ann") as ann, old.client("bob") as bob:
        assert ann.get("/api/recipients").status_code == 200
        assert bob.get("/api/recipients").status_code == 403
    rules = old.folder / "rules.toml"
    rules.write_text(rules.read_text().replace('what = ["**"]', 'what = ["files/**"]'))
    until(lambda: old.get("/api/recipients", "ann").status_code == 403)


def test_a_stream_ends_with_its_callers_rights(service: Service, start: Start) -> None:
    with service.client("ann") as ann:
        ann.put("/api/recipients/watcher", json={"groups": ["admins"]})
        token = ann.post("/api/recipients/watcher/tokens", json={}).json()
        head = {"authorization": f"Bearer {token['token']}"}
        with httpx.Client(base_url=service.url, headers=head, timeout=10, trust_env=False) as client:  # noqa: SIM117
            with client.stream("GET", "/api/transfers/stream") as stream:
                lines = stream.iter_lines()
                next(lines)
                assert ann.delete(f"/api/recipients/watcher/tokens/{token['id']}").status_code == 204
                began = time.monotonic()
                told = "".join(lines)  # until the service ends it
                assert time.monotonic() - began < 2.0
                assert "secret" not in told


def test_what_somebody_managed_is_not_streamed_once_their_groups_have_changed(service: Service) -> None:
    with service.client("ann") as ann:
        ann.put("/api/recipients/watcher", json={"groups": ["admins"]})
        token = ann.post("/api/recipients/watcher/tokens", json={}).json()["token"]
        head = {"authorization": f"Bearer {token}"}
        with httpx.Client(base_url=service.url, headers=head, timeout=3, trust_env=False) as client:  # noqa: SIM117
            with client.stream("GET", "/api/transfers/stream") as stream:
                lines = stream.iter_lines()
                next(lines)
                service.get("/get/files/secret/s.txt", "admin")
                assert any("secret/s.txt" in line for line in lines_for(lines, 1.5))
                ann.put("/api/recipients/watcher", json={"groups": []})
                time.sleep(2.0)
                list(lines_for(lines, 0.1))
                for _ in range(3):
                    service.get("/get/files/secret/s.txt", "admin")
                assert not any("secret/s.txt" in line for line in lines_for(lines, 1.0))


def lines_for(lines: Iterator[str], seconds: float) -> Iterator[str]:
    """What comes of a stream, until it has been silent for so long that reading it times out, or time is over."""
    end = time.monotonic() + seconds
    try:
        for line in lines:
            yield line
            if time.monotonic() > end:
                return
    except httpx.ReadTimeout:
        return

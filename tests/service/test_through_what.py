"""The history tells through what something was obtained: which token or session, and what decided."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

import httpx
import pytest
from click.testing import CliRunner, Result

from invio.cli.main import main
from tests.rules import rule
from tests.running import NO_TLS, RULES, Service, until

Start = Callable[..., Service]
DRAFTS = """
[[rule]]
name = "no drafts"
effect = "deny"
who = ["not group:admins"]
what = ["files/drafts/**"]
actions = ["read"]
""" + rule("group:crew", "files/a.txt", "read", "the crew reads, too")


@pytest.fixture(scope="module")
def service(start_shared: Start) -> Service:
    return start_shared(files={"a.txt": b"content", "b.txt": b"b" * 1000, "drafts/d.txt": b"d"}, rules=RULES + DRAFTS)


@pytest.fixture
def own(start: Start) -> Service:
    """One that a test may alter or end, or in which nothing else is to have happened."""
    return start(files={"a.txt": b"content", "b.txt": b"b" * 1000, "drafts/d.txt": b"d"}, rules=RULES + DRAFTS)


def invio(service: Service, *command: str, who: str = "ann") -> Result:
    return CliRunner().invoke(main, [*command, "--url", service.url, "--token", service.tokens[who]])


def history(service: Service, *filters: str) -> list[dict[str, Any]]:
    said = invio(service, "history", "--json", *filters)
    assert said.exit_code == 0, said.output
    return [json.loads(line) for line in said.stdout.splitlines()]


def token_of_bob(service: Service, label: str) -> dict[str, str]:
    made: dict[str, str] = json.loads(invio(service, "recipients", "token", "bob", "--label", label, "--json").stdout)
    return made


def get(service: Service, path: str, token: str, **headers: str) -> httpx.Response:
    with service.client() as client:
        return client.get(path, headers={"authorization": f"Bearer {token}", **headers})


@contextmanager
def session(service: Service, token: str) -> Iterator[httpx.Client]:
    with service.client() as browser:
        assert browser.post("/api/sessions", json={"token": token}).status_code == 201
        yield browser


def test_each_delivery_names_its_credential_and_the_rules_that_allowed_it(service: Service) -> None:
    laptop, desk = token_of_bob(service, "laptop; old"), token_of_bob(service, "")
    get(service, "/get/files/a.txt", laptop["token"])
    get(service, "/get/files/b.txt", desk["token"])
    with session(service, laptop["token"]) as browser:
        assert browser.get("/get/files/b.txt").status_code == 200
    service.get("/get/files/b.txt")
    key = json.loads((service.folder / "keys.json").read_text())["current"]
    service.get(service.link("files/drafts/d.txt"), "bob")
    with service.client("ann") as client:
        bundle = client.post("/api/bundles", json={"files": ["files/a.txt"]}).json()
        assert client.get(f"/get/{bundle['address']}").status_code == 200
    told = [(one["credential"], one["decided_by"]) for one in reversed(history(service))]
    called = f"token {laptop['id']} (laptop, old)"
    assert told[:4] == [
        (called, "rules: everyone reads, the crew reads, too"),
        (f"token {desk['id']}", "rules: everyone reads"),
        (f"session by {called}", "rules: everyone reads"),
        (None, "rules: everyone reads"),
    ]
    assert told[4][0].endswith("(test)")
    assert [decided for _, decided in told[4:]] == [f"seal: {key}", "bundle"]
    of_laptop = history(service, "--of-token", laptop["id"])
    assert [one["address"] for one in of_laptop] == ["files/b.txt", "files/a.txt"]
    assert invio(service, "history", "--of-token", "%").exit_code == 1
    rows = list(csv.DictReader(io.StringIO(invio(service, "history", "--csv").stdout)))
    assert rows[-1]["credential"] == called
    assert rows[-1]["decided_by"] == "rules: everyone reads, the crew reads, too"
    assert "laptop" in invio(service, "history").stdout
    secrets = [laptop["token"], desk["token"], service.tokens["bob"]]
    assert not [one for one in secrets if one in json.dumps(history(service)) + service.logged()]


def test_a_refusal_names_the_rules_that_denied_it(own: Service) -> None:
    assert own.get("/get/files/drafts/d.txt", "bob").status_code == 403
    assert own.get("/get/elsewhere/x.txt", "bob").status_code == 404
    assert own.get("/get/files/none.txt", "bob").status_code == 404
    told = [(one["reason"].partition(":")[0], one["decided_by"]) for one in reversed(history(own))]
    assert told == [("not-allowed", "rules: no drafts"), ("missing", "rules: none"), ("missing", None)]


def test_what_goes_on_by_another_token_or_from_elsewhere_tells_of_both(own: Service) -> None:
    first, second = token_of_bob(own, "first"), token_of_bob(own, "second")
    get(own, "/get/files/b.txt", first["token"], range="bytes=0-99")
    get(own, "/get/files/b.txt", second["token"], range="bytes=100-199")
    elsewhere = httpx.HTTPTransport(local_address="127.0.0.2", verify=NO_TLS)
    with httpx.Client(base_url=own.url, transport=elsewhere) as client:
        said = {"authorization": f"Bearer {first['token']}", "range": "bytes=200-999"}
        assert client.get("/get/files/b.txt", headers=said).status_code == 206

    def told() -> bool:
        [one] = history(own)
        return (one["state"], one["requests"], one["network"], one["credential"]) == (
            "complete",
            3,
            "127.0.0.1; 127.0.0.2",
            f"token {first['id']} (first); token {second['id']} (second)",
        )

    until(told)
    for token in (first, second):
        assert len(history(own, "--of-token", token["id"])) == 1


def test_a_session_ends_with_the_token_that_opened_it(service: Service) -> None:
    ended, other = token_of_bob(service, "ended"), token_of_bob(service, "other")
    short = json.loads(invio(service, "recipients", "token", "bob", "--until", "1m", "--json").stdout)
    with session(service, ended["token"]) as one, session(service, other["token"]) as two:
        assert invio(service, "recipients", "token", "bob", "--end", ended["id"]).exit_code == 0
        assert one.get("/api/sessions/current").json()["recipient"] is None
        assert two.get("/api/sessions/current").json()["recipient"] == "bob"
    with service.client() as browser:
        cookie = browser.post("/api/sessions", json={"token": short["token"]}).headers["set-cookie"]
        assert 0 < int(cookie.lower().partition("max-age=")[2].partition(";")[0]) <= 60

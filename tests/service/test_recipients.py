"""Recipients, their tokens and the keys, as an administrator manages them."""

from __future__ import annotations

import json
import sqlite3
import time
from collections.abc import Callable

import pytest
from click.testing import CliRunner, Result

from invio.cli.main import main
from tests.running import Service

Start = Callable[..., Service]
READERS = """
[[rule]]
effect = "allow"
who = ["group:readers"]
what = ["files/**"]
actions = ["read"]

[[rule]]
effect = "allow"
who = ["group:admins"]
what = ["**"]
actions = ["list", "read", "bundle", "link", "put", "manage"]
"""


@pytest.fixture
def service(start: Start) -> Service:
    return start(files={"a.txt": b"content"}, rules=READERS)


def invio(service: Service, *command: str, who: str = "ann") -> Result:
    return CliRunner().invoke(main, [*command, "--url", service.url, "--token", service.tokens[who]])


def status(service: Service, token: str) -> int:
    with service.client() as client:
        return client.get("/get/files/a.txt", headers={"authorization": f"Bearer {token}"}).status_code


def test_somebody_is_added_given_a_token_and_let_in_no_more(service: Service) -> None:
    added = invio(service, "recipients", "add", "cleo", "--name", "Cleo", "--group", "readers")
    assert added.output == "cleo: Cleo in readers\n"
    made = json.loads(invio(service, "recipients", "token", "cleo", "--label", "laptop", "--json").stdout)
    assert (made["label"], made["expires"], made["used"]) == ("laptop", None, None)
    assert status(service, made["token"]) == 200
    kept = sqlite3.connect(service.folder / "data" / "records.sqlite")
    assert made["token"] not in "".join(kept.iterdump()), "what is kept of a token is a hash"
    kept.close()
    listed = json.loads(invio(service, "recipients", "list", "--json").stdout)["recipients"]
    [cleo] = [one for one in listed if one["id"] == "cleo"]
    assert cleo["tokens"][0]["used"] is not None
    assert "token" not in cleo["tokens"][0] or cleo["tokens"][0]["token"] is None
    assert "laptop" in invio(service, "recipients", "list").stdout

    assert "let in no more" in invio(service, "recipients", "disable", "cleo").stdout
    assert status(service, made["token"]) == 401
    assert invio(service, "recipients", "disable", "cleo", "--undo").exit_code == 0
    assert status(service, made["token"]) == 200
    invio(service, "recipients", "add", "cleo", "--group", "cooks")
    assert status(service, made["token"]) == 404, "the rules see the groups as they are now"
    assert invio(service, "recipients", "token", "cleo", "--end", made["id"]).exit_code == 0
    assert status(service, made["token"]) == 401
    assert invio(service, "recipients", "token", "cleo", "--end", made["id"]).exit_code == 1
    assert made["token"] not in service.logged()


def test_a_token_ends_when_it_was_said_to(service: Service) -> None:
    invio(service, "recipients", "add", "cleo", "--group", "readers")
    with service.client("ann") as client:
        made = client.post("/api/recipients/cleo/tokens", json={"seconds": 2}).json()
    assert status(service, made["token"]) == 200
    time.sleep(4.2)
    assert status(service, made["token"]) == 401


def test_only_those_who_manage_may(service: Service) -> None:
    for method, path in (("GET", ""), ("PUT", "/eve"), ("POST", "/bob/tokens"), ("POST", "/ann/disable")):
        with service.client("bob") as client:
            refused = client.request(method, "/api/recipients" + path, json={})
            assert (refused.status_code, refused.json()["reason"]) == (403, "not-allowed"), path
        with service.client() as client:
            assert client.request(method, "/api/recipients" + path, json={}).status_code == 401
    oneself = invio(service, "recipients", "disable", "ann")
    assert (oneself.exit_code, "that is yourself" in oneself.stderr) == (1, True)
    nobody = invio(service, "recipients", "token", "nobody")
    assert (nobody.exit_code, "no recipient 'nobody'" in nobody.stderr) == (1, True)


def test_failed_sign_ins_are_slowed_down(service: Service) -> None:
    with service.client() as client:
        answers = [client.post("/api/sessions", json={"token": f"guess-{number}"}) for number in range(8)]
        assert [answer.status_code for answer in answers[:6]] == [401] * 6
        assert answers[-1].status_code == 429
        assert answers[-1].json()["reason"] == "slow-down"
        right = client.post("/api/sessions", json={"token": service.tokens["bob"]})
        assert right.status_code == 429, "nor is the right one looked at"
        time.sleep(int(right.headers["retry-after"]) + 0.1)
        assert client.post("/api/sessions", json={"token": service.tokens["bob"]}).status_code == 201
        assert client.post("/api/sessions", json={"token": "guess"}).status_code == 401, "all is well again"


def test_keys_are_rotated_with_an_overlap(service: Service) -> None:
    keys = str(service.folder / "keys.json")
    old = service.link("files/a.txt")

    def run(*command: str) -> Result:
        return CliRunner().invoke(main, ["keys", *command, "--keys", keys])

    first = json.loads(run("list", "--json").stdout)["keys"]
    assert [one["current"] for one in first] == [True]
    assert "seals new links now" in run("new", "autumn").stdout
    new = service.link("files/a.txt")
    assert "key=autumn" in new
    for _ in range(50):
        if service.get(new).status_code == 200:
            break
        time.sleep(0.1)
    assert (service.get(old).status_code, service.get(new).status_code) == (200, 200)
    assert run("retire", "autumn").exit_code == 1
    assert run("new", "autumn").exit_code == 1
    assert run("retire", first[0]["id"]).exit_code == 0
    for _ in range(50):
        if service.get(old).status_code == 403:
            break
        time.sleep(0.1)
    refused = service.get(old)
    assert (refused.status_code, refused.json()["reason"]) == (403, "unknown-key")
    assert service.get(new).status_code == 200
    (service.folder / "keys.json").write_text("{}")
    for _ in range(50):
        if "keys" in service.get("/readyz").json():
            break
        time.sleep(0.1)
    assert service.get(new).status_code == 200, "a broken key file leaves the keys before it in force"
    with service.client("ann") as client:
        made = client.post("/api/links", json={"address": "files/a.txt"}).json()
    assert made["key"] == "autumn"


def test_a_password_opens_the_console_and_nothing_else(service: Service) -> None:
    with service.client("ann") as client:
        short = client.put("/api/recipients/bob/password", json={"password": "short"})
        assert (short.status_code, "at least 10" in short.json()["detail"]) == (400, True)
        assert client.put("/api/recipients/bob/password", json={"password": "a long harbour wall"}).status_code == 204
        assert (
            client.put("/api/recipients/nobody/password", json={"password": "a long harbour wall"}).status_code == 404
        )
    with service.client() as client:
        given = {"recipient": "bob", "password": "a long harbour wall"}
        assert client.post("/api/sessions", json=given).json()["recipient"] == "bob"
        cookie = client.cookies["invio-session"]
        assert client.get("/api/sessions/current").json()["recipient"] == "bob"
        for wrong in (
            {"recipient": "bob", "password": "a long harbour wal"},
            {"recipient": "nobody", "password": "a long harbour wall"},
            {"recipient": "ann", "password": "a long harbour wall"},
        ):
            assert client.post("/api/sessions", json=wrong).status_code == 401
        assert client.post("/api/sessions", json={"recipient": "bob"}).status_code == 400
        assert client.post("/api/sessions", json={**given, "token": "x"}).status_code == 400
    kept = sqlite3.connect(service.folder / "data" / "records.sqlite")
    [hashed] = kept.execute("SELECT password FROM recipients WHERE id = 'bob'").fetchone()
    kept.close()
    assert hashed.startswith("$argon2id$")
    with service.client("bob") as client:
        assert client.put("/api/recipients/ann/password", json={"password": None}).status_code == 403
        assert client.put("/api/recipients/bob/password", json={"password": "another harbour wall"}).status_code == 204
    time.sleep(2.2)
    over = service.get("/api/sessions/current", cookie=f"invio-session={cookie}")
    assert over.json()["recipient"] is None, "a new password ends the sessions before it"
    set_again = CliRunner().invoke(
        main,
        ["recipients", "password", "bob", "--url", service.url, "--token", service.tokens["ann"]],
        input="yet another wall\nyet another wall\n",
    )
    assert set_again.exit_code == 0, set_again.output
    with service.client() as client:
        answer = client.post("/api/sessions", json={"recipient": "bob", "password": "yet another wall"})
        assert answer.status_code == 201
    assert "yet another wall" not in service.logged()

"""Recipients, their tokens and the keys, as an administrator manages them."""

from __future__ import annotations

import json
import sqlite3
import time
from collections.abc import Callable

import httpx
import pytest
from click.testing import CliRunner, Result

from invio.cli.main import main
from tests.rules import rule
from tests.running import Service, at_once, until

Start = Callable[..., Service]
READERS = rule("group:readers", "files/**", "read") + rule("group:admins", "**", "list read bundle link put manage")


@pytest.fixture(scope="module")
def service(start_shared: Start) -> Service:
    return start_shared(files={"a.txt": b"content"}, rules=READERS)


@pytest.fixture
def own(start: Start) -> Service:
    """One that a test may alter or end, or in which nothing else is to have happened."""
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

    assert "disabled" in invio(service, "recipients", "disable", "cleo").stdout
    assert status(service, made["token"]) == 401
    assert invio(service, "recipients", "disable", "cleo", "--undo").exit_code == 0
    assert status(service, made["token"]) == 200
    invio(service, "recipients", "change", "cleo", "--add-group", "cooks", "--remove-group", "readers")
    assert status(service, made["token"]) == 404, "the rules see the groups as they are now"
    assert invio(service, "recipients", "token", "cleo", "--end", made["id"]).exit_code == 0
    assert status(service, made["token"]) == 401
    assert invio(service, "recipients", "token", "cleo", "--end", made["id"]).exit_code == 1
    assert made["token"] not in service.logged()


def test_a_change_leaves_what_is_not_named_and_adding_leaves_who_is_there(service: Service) -> None:
    invio(service, "recipients", "add", "silvia", "--name", "S", "--group", "gold", "--group", "cooks")
    again = invio(service, "recipients", "add", "silvia", "--name", "Silvia")
    assert again.exit_code == 1
    assert "use 'invio recipients change silvia' with --name, --add-group or --remove-group" in again.stderr
    renamed = invio(service, "recipients", "change", "silvia", "--name", "Silvia")
    assert renamed.stdout == "silvia: Silvia in cooks, gold\n"
    moved = invio(service, "recipients", "change", "silvia", "--add-group", "readers", "--remove-group", "gold")
    assert moved.stdout == "silvia: Silvia in cooks, readers\n"
    assert invio(service, "recipients", "change", "silvia").exit_code == 2
    assert "there is no recipient 'nobody'" in invio(service, "recipients", "change", "nobody", "--name", "N").stderr
    with service.client("ann") as client:
        both = {"add_groups": ["a"], "remove_groups": ["a"]}
        assert client.patch("/api/recipients/silvia", json=both).status_code == 400
        listed = client.get("/api/recipients").json()["recipients"]
    assert next(one["groups"] for one in listed if one["id"] == "silvia") == ["cooks", "readers"]


def test_a_token_ends_when_it_was_said_to(service: Service) -> None:
    with service.client("ann") as client:
        client.put("/api/recipients/cleo", json={"groups": ["readers"]}).raise_for_status()
        made = client.post("/api/recipients/cleo/tokens", json={"seconds": 2}).json()
    assert status(service, made["token"]) == 200
    time.sleep(4.2)
    assert status(service, made["token"]) == 401


def test_a_token_that_does_not_hold_says_why_to_whoever_has_it(own: Service) -> None:
    def detail(token: str) -> str:
        with own.client() as client:
            answer = client.get("/api/files", headers={"authorization": f"Bearer {token}"})
            by_session = str(client.post("/api/sessions", json={"token": token}).json()["detail"])
        assert (answer.status_code, answer.json()["detail"]) == (401, by_session)
        return by_session

    with own.client("ann") as client:
        made = {name: client.post("/api/recipients/bob/tokens", json={"label": name}).json() for name in ("one", "two")}
        assert client.delete(f"/api/recipients/bob/tokens/{made['one']['id']}").status_code == 204
        listed = client.get("/api/recipients").json()["recipients"]
        assert made["one"]["id"] not in [token["id"] for one in listed for token in one["tokens"]]
        assert "of bob was revoked on 2" in detail(made["one"]["token"])
        with sqlite3.connect(own.folder / "data" / "records.sqlite") as records:
            records.execute("UPDATE tokens SET expires = 1000 WHERE label = 'two'")
        assert detail(made["two"]["token"]).startswith("this access token of bob expired on 1970-01-01 00:16 UTC")
        assert client.post("/api/recipients/bob/disable").status_code == 200
        assert detail(own.tokens["bob"]) == "bob is disabled and cannot sign in; ask an administrator"
    assert "no such access token is known here" in detail("nonsense")


def test_somebody_is_removed_with_what_is_personal_and_the_history_keeps_the_id(own: Service) -> None:
    with own.client("ann") as client:
        client.put("/api/recipients/gull", json={"name": "Gull", "groups": ["readers"]})
        own.tokens["gull"] = client.post("/api/recipients/gull/tokens", json={"label": "Gull's laptop"}).json()["token"]
        assert own.get("/get/files/a.txt", "gull").status_code == 200
    until(lambda: own.transfers()[0]["state"] == "complete")
    assert invio(own, "recipients", "remove", "gull").exit_code == 0
    assert own.get("/api/files", "gull").status_code == 401
    assert invio(own, "recipients", "remove", "gull").exit_code == 1
    assert "cannot do this to yourself" in invio(own, "recipients", "remove", "ann").stderr
    [line] = [json.loads(text) for text in own.get("/api/history?recipient=gull&format=jsonl", "ann").text.splitlines()]
    assert (line["recipient"], line["network"], line["credential"], line["state"]) == ("gull", None, None, "complete")
    with sqlite3.connect(own.folder / "data" / "records.sqlite") as records:
        told = "\n".join(records.iterdump())
    assert "Gull" not in told


def test_a_lost_administrator_gets_in_again_on_the_service_s_machine(own: Service) -> None:
    def offline(*command: str) -> Result:
        return CliRunner().invoke(
            main, ["recipients", *command, "--settings", str(own.folder / "invio.toml"), "--json"]
        )

    assert json.loads(offline("add", "warden", "--group", "admins").stdout)["groups"] == ["admins"]
    assert "there is a recipient warden already" in offline("add", "warden").stderr
    made = json.loads(offline("token", "warden", "--label", "new").stdout)
    with own.client() as client:
        answer = client.get("/api/recipients", headers={"authorization": f"Bearer {made['token']}"})
    assert answer.status_code == 200
    assert (
        "there is no recipient nobody in these records, which know ann, bob, warden"
        in offline("token", "nobody").stderr
    )
    lines = json.loads(invio(own, "audit", "--event", "token", "--json").stdout.splitlines()[0])
    assert (lines["event"], lines["by"], lines["credential"]) == ("token.made", None, "the service's own machine")


@pytest.mark.parametrize(
    ("path", "body", "says"),
    [
        ("a%20b", {}, "recipient is 'a b': expected 1 to 64 of the letters"),
        ("gull", {"grups": []}, "the body has no 'grups' (did you mean 'groups'?); it may hold name, groups"),
        ("gull", {"name": 5}, "name is 5: input should be a valid string"),
        ("gull", None, "the body must be a JSON object, sent with Content-Type: application/json"),
    ],
)
def test_a_request_that_is_not_as_described_is_refused_in_words(
    service: Service, path: str, body: object, says: str
) -> None:
    with service.client("ann") as client:
        given = {"content": b"name=gull"} if body is None else {"json": body}
        refused = client.put(f"/api/recipients/{path}", **given)
    assert (refused.status_code, refused.json()["detail"]) == (400, refused.json()["detail"])
    assert says in refused.json()["detail"]


def test_only_those_who_manage_may(service: Service) -> None:
    for method, path in (("GET", ""), ("PUT", "/eve"), ("POST", "/bob/tokens"), ("POST", "/ann/disable")):
        with service.client("bob") as client:
            refused = client.request(method, "/api/recipients" + path, json={})
            assert (refused.status_code, refused.json()["reason"]) == (403, "not-allowed"), path
        with service.client() as client:
            assert client.request(method, "/api/recipients" + path, json={}).status_code == 401
    oneself = invio(service, "recipients", "disable", "ann")
    assert (oneself.exit_code, "you cannot do this to yourself" in oneself.stderr) == (1, True)
    nobody = invio(service, "recipients", "token", "nobody")
    assert (nobody.exit_code, "no recipient 'nobody'" in nobody.stderr) == (1, True)


def test_failed_sign_ins_are_slowed_down(service: Service) -> None:
    with service.client() as client:
        answers = [client.post("/api/sessions", json={"token": f"guess-{number}"}) for number in range(8)]
        assert [answer.status_code for answer in answers[:6]] == [401] * 6
        assert answers[-1].status_code == 429
        assert answers[-1].json()["reason"] == "slow-down"
        right = client.post("/api/sessions", json={"token": service.tokens["bob"]})
        assert right.status_code == 201, "a good token is always looked at: nobody guesses one"
        assert client.post("/api/sessions", json={"token": "guess"}).status_code == 429, "and forgives no guesses"


PASSWORD = "a long harbour wall"


def try_password(service: Service, recipient: str, password: str, **cookies: str) -> httpx.Response:
    with service.client() as client:
        cookie = {"cookie": "; ".join(f"{name.replace('_', '-')}={value}" for name, value in cookies.items())}
        given = {"recipient": recipient, "password": password}
        return client.post("/api/sessions", json=given, headers=cookie if cookies else {})


def test_guesses_at_one_account_are_slowed_whatever_else_succeeds_and_in_every_process(
    service: Service, start: Start
) -> None:
    other = start(service.folder)
    with service.client("ann") as client:
        for name in ("ann", "bob"):
            assert client.put(f"/api/recipients/{name}/password", json={"password": PASSWORD}).status_code == 204
    known = try_password(service, "ann", PASSWORD)
    device = known.cookies["invio-device"]
    looked_at, begun = 0, time.monotonic()
    for number in range(12):
        at = (service, other)[number % 2]
        looked_at += try_password(at, "ann", f"guess number {number}").status_code == 401
        assert try_password(at, "bob", PASSWORD).status_code in (201, 429), "a success of one's own in between"
    # After five, the next wait 2, 4, 8 s …: on a machine that takes its time, as many as fit into what it took.
    seconds = time.monotonic() - begun
    assert 6 <= looked_at <= 6 + sum(2**number - 2 <= seconds for number in range(2, 8))
    slowed = try_password(other, "ann", "one more")
    while slowed.status_code != 429 or int(slowed.headers["retry-after"]) < 5:
        slowed = try_password(other, "ann", "one more")  # the wait is over, or nearly, and the next one is longer
    assert try_password(other, "ann", PASSWORD).status_code == 429, "from a device that nobody knows"
    signed_in = try_password(other, "ann", PASSWORD, invio_device=device)
    assert signed_in.status_code == 201, "its owner's own device is not kept out by others' guesses"
    wrong = [try_password(service, "ann", "guess", invio_device=device).status_code for _ in range(8)]
    assert wrong == [401] * 6 + [429] * 2


def test_a_hundred_guesses_at_once_are_a_hundred_guesses(service: Service) -> None:
    with service.client("ann") as client:
        assert client.put("/api/recipients/bob/password", json={"password": PASSWORD}).status_code == 204
    answers = at_once(40, lambda number: [try_password(service, "bob", f"guess {number}").status_code])
    assert answers[401] == 6
    assert answers[401] + answers[429] == 40


def test_a_token_sets_no_password_and_a_password_needs_the_one_before_it(own: Service) -> None:
    with own.client("bob") as bob:
        first = bob.put("/api/recipients/bob/password", json={"password": PASSWORD})
        assert (first.status_code, "ask an administrator" in first.json()["detail"]) == (403, True)
        with own.client("ann") as ann:
            assert ann.put("/api/recipients/bob/password", json={"password": PASSWORD}).status_code == 204
        for given in ({}, {"current": "not this one"}):
            refused = bob.put("/api/recipients/bob/password", json={"password": "another long wall", **given})
            assert refused.status_code == 403
        kept = bob.put("/api/recipients/bob/password", json={"password": "another long wall", "current": PASSWORD})
        assert kept.status_code == 204
    same = {"sec-fetch-site": "same-origin"}
    with own.client() as browser:
        assert browser.post("/api/sessions", json={"token": own.tokens["bob"]}).status_code == 201
        by_token = browser.put("/api/recipients/bob/password", json={"password": PASSWORD}, headers=same)
        assert by_token.status_code == 403, "a session that a token has opened is worth no more than the token"
    with own.client() as browser:
        given = {"recipient": "bob", "password": "another long wall"}
        assert browser.post("/api/sessions", json=given).status_code == 201
        lately = browser.put("/api/recipients/bob/password", json={"password": PASSWORD}, headers=same)
        assert lately.status_code == 204, "who has just signed in with it knows it"


def test_an_old_session_does_not_come_back_with_its_recipient(service: Service) -> None:
    with service.client() as browser, service.client("ann") as ann:
        assert browser.post("/api/sessions", json={"token": service.tokens["bob"]}).status_code == 201
        ann.post("/api/recipients/bob/disable")
        ann.post("/api/recipients/bob/enable")
        assert browser.get("/api/sessions/current").json()["recipient"] is None


def test_the_cookie_is_for_tls_alone_where_there_is_tls(start: Start) -> None:
    settings = (
        "[service]\npublic_url = 'https://files.example.org'\n[stores.files]\nkind = 'directory'\nroot = 'files'\n"
    )
    behind = "[front]\nnetworks = ['127.0.0.1/32']\n[stores.files]\nkind = 'directory'\nroot = 'files'\n"
    plain, public, front = start(), start(settings=settings), start(settings=behind)
    for service, headers, secure in (
        (plain, {}, False),
        (plain, {"x-forwarded-proto": "https"}, False),
        (public, {}, True),
        (front, {}, False),
        (front, {"x-forwarded-proto": "https"}, True),
    ):
        with service.client() as client:
            signed = client.post("/api/sessions", json={"token": service.tokens["bob"]}, headers=headers)
            assert ("secure" in signed.headers["set-cookie"].lower()) is secure


def test_nobody_is_called_what_means_others(service: Service) -> None:
    with service.client("ann") as ann:
        for name in ("anyone", "signed-in"):
            assert ann.put(f"/api/recipients/{name}", json={}).status_code == 400


def test_whatever_changes_who_may_have_what_is_written_down(own: Service) -> None:
    with own.client("ann") as ann, own.client() as nobody:
        ann.put("/api/recipients/eve", json={"groups": ["admins"]})
        token = ann.post("/api/recipients/eve/tokens", json={"label": "x"}).json()
        ann.delete(f"/api/recipients/eve/tokens/{token['id']}")
        ann.put("/api/recipients/eve/password", json={"password": PASSWORD})
        nobody.post("/api/sessions", json={"recipient": "eve", "password": "wrong"})
        nobody.post("/api/sessions", json={"recipient": "eve", "password": PASSWORD})
        made = ann.post("/api/links", json={"address": "files/a.txt"}).json()
        ann.delete(f"/api/links/{made['id']}")
        ann.post("/api/recipients/eve/disable")
    events = [json.loads(line) for line in own.logged().splitlines() if '"invio.audit"' in line]
    assert [one["event"] for one in events] == [
        "recipient.saved", "token.made", "token.ended", "password.set", "sign-in.attempt", "sign-in.attempt",
        "sign-in.done", "link.made", "link.revoked", "recipient.disabled",
    ]  # fmt: skip
    assert (events[0]["by"], events[0]["recipient"], events[0]["groups"]) == ("ann", "eve", ["admins"])
    assert all(one["network"] == "127.0.0.1" for one in events)
    for secret in (PASSWORD, token["token"], made["target"].rpartition("seal=")[2]):
        assert secret not in own.logged()


def test_keys_are_rotated_with_an_overlap(own: Service) -> None:
    keys = str(own.folder / "keys.json")
    old = own.link("files/a.txt")

    def run(*command: str) -> Result:
        return CliRunner().invoke(main, ["keys", *command, "--keys", keys])

    first = json.loads(run("list", "--json").stdout)["keys"]
    assert [one["current"] for one in first] == [True]
    assert "seals new links now" in run("new", "autumn").stdout
    new = own.link("files/a.txt")
    assert "key=autumn" in new
    for _ in range(50):
        if own.get(new).status_code == 200:
            break
        time.sleep(0.1)
    assert (own.get(old).status_code, own.get(new).status_code) == (200, 200)
    assert run("retire", "autumn").exit_code == 1
    assert run("new", "autumn").exit_code == 1
    assert run("retire", first[0]["id"]).exit_code == 0
    for _ in range(50):
        if own.get(old).status_code == 403:
            break
        time.sleep(0.1)
    refused = own.get(old)
    assert (refused.status_code, refused.json()["reason"]) == (403, "unknown-key")
    assert own.get(new).status_code == 200
    (own.folder / "keys.json").write_text("{}")
    for _ in range(50):
        if "keys" in own.get("/readyz").json().get("hints", {}):
            break
        time.sleep(0.1)
    assert own.get(new).status_code == 200, "a broken key file leaves the keys before it in force"
    with own.client("ann") as client:
        made = client.post("/api/links", json={"address": "files/a.txt"}).json()
    assert made["key"] == "autumn"


def test_a_password_opens_the_console_and_nothing_else(own: Service) -> None:
    with own.client("ann") as client:
        short = client.put("/api/recipients/bob/password", json={"password": "short"})
        assert (short.status_code, "at least 10" in short.json()["detail"]) == (400, True)
        assert client.put("/api/recipients/bob/password", json={"password": "a long harbour wall"}).status_code == 204
        assert (
            client.put("/api/recipients/nobody/password", json={"password": "a long harbour wall"}).status_code == 404
        )
    with own.client() as client:
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
    kept = sqlite3.connect(own.folder / "data" / "records.sqlite")
    [hashed] = kept.execute("SELECT password FROM recipients WHERE id = 'bob'").fetchone()
    kept.close()
    assert hashed.startswith("$argon2id$")
    with own.client("bob") as client:
        assert client.put("/api/recipients/ann/password", json={"password": None}).status_code == 403
        given = {"password": "another harbour wall", "current": "a long harbour wall"}
        assert client.put("/api/recipients/bob/password", json=given).status_code == 204
    time.sleep(2.2)
    over = own.get("/api/sessions/current", cookie=f"invio-session={cookie}")
    assert over.json()["recipient"] is None, "a new password ends the sessions before it"
    set_again = CliRunner().invoke(
        main,
        ["recipients", "password", "bob", "--url", own.url, "--token", own.tokens["ann"]],
        input="yet another wall\nyet another wall\n",
    )
    assert set_again.exit_code == 0, set_again.output
    with own.client() as client:
        answer = client.post("/api/sessions", json={"recipient": "bob", "password": "yet another wall"})
        assert answer.status_code == 201
    assert "yet another wall" not in own.logged()

"""What operators see and change from afar: rules, keys, sessions, one transfer, the history in sums, the state."""

from __future__ import annotations

import json
import time
from collections.abc import Callable

import httpx
import pytest

from invio.service.slow_requests import Slow, SlowRequests
from tests.rules import expected, rule
from tests.running import SETTINGS, Service, until

Start = Callable[..., Service]
RULES = (
    rule("group:crew", "files/charts/**", "list read link", "crew reads charts")
    + rule("group:admins", "**", "list read bundle link put manage administer", "admins")
    + expected("recipient:bob", "read", "files/charts/a.txt", "allowed")
)
WORKERS = "[service]\nworkers = 2\n"
FILES = {"charts/a.txt": b"aaa", "charts/b.txt": b"bb", "secret/s.txt": b"s", "slow/big.bin": bytes(3_000_000)}


@pytest.fixture
def service(start: Start) -> Service:
    return start(files=FILES, rules=RULES)


def test_rules_are_tried_and_put_in_force_and_the_file_before_is_kept(service: Service) -> None:
    with service.client("ann") as ann:
        file = ann.get("/api/rules/file").json()
        assert file["text"] == RULES
        wider = RULES.replace('what = ["files/charts/**"]', 'what = ["files/charts/**", "files/secret/**"]')
        tried = ann.post("/api/rules/trial", json={"text": wider}).json()
        assert tried["fault"] is None
        assert tried["whole"]
        who_gains = {(one["who"], one["address"], one["action"], one["allowed"]) for one in tried["changes"]}
        assert ("recipient:bob", "files/secret/s.txt", "read", True) in who_gains
        assert tried["count"] == len(tried["changes"]) == 6, "group crew and bob: list, read, link"
        assert [(one["met"], one["because"]) for one in tried["expectations"]] == [
            (True, "allow: crew reads charts (line 2)")
        ]
        assert service.get("/get/files/secret/s.txt", "bob").status_code == 404, "nothing is in force by being tried"
        put = ann.put("/api/rules/file", json={"text": wider, "replaces": file["digest"]})
        assert put.status_code == 200
        assert service.get("/get/files/secret/s.txt", "bob").status_code == 200
        assert (service.folder / put.json()["kept"]).read_text() == RULES
        again = ann.put("/api/rules/file", json={"text": RULES, "replaces": file["digest"]})
        assert (again.status_code, again.json()["reason"]) == (412, "precondition")
        until(lambda: any(one["event"] == "rules.put" for one in ann.get("/api/audit").json()["lines"]))


@pytest.mark.parametrize(
    ("change", "said"),
    [
        (("effect", "affect"), "these rules cannot be used"),
        (('what = ["files/charts/**"]', 'what = ["files/none/**"]'), "1 of their expectations are not met, in line 16"),
        ((', "administer"]', "]"), "would take the right 'administer' from you"),
    ],
)
def test_rules_that_would_do_harm_are_not_written(service: Service, change: tuple[str, str], said: str) -> None:
    before = sorted(path.name for path in service.folder.iterdir())
    # Who manages everything administers where no rule names that right; so another has it here.
    rules = RULES.replace(*change) + (
        '\n[[rule]]\neffect = "allow"\nwho = ["group:others"]\nwhat = ["**"]\nactions = ["administer"]\n'
    )
    with service.client("ann") as ann:
        file = ann.get("/api/rules/file").json()
        refused = ann.put("/api/rules/file", json={"text": rules, "replaces": file["digest"]})
        assert refused.status_code == 400
        assert said in refused.json()["detail"]
    assert (service.folder / "rules.toml").read_text() == RULES
    assert sorted(path.name for path in service.folder.iterdir()) == before


def test_unusable_rules_are_told_of_and_nothing_is_compared(service: Service) -> None:
    with service.client("ann") as ann:
        tried = ann.post("/api/rules/trial", json={"text": "[[rule]]\n"}).json()
        assert tried["fault"].startswith("rules.toml:1: ")
        assert (tried["changes"], tried["files"]) == ([], 0)


def test_who_may_do_what_where(service: Service) -> None:
    with service.client("ann") as ann:
        matrix = ann.get("/api/access", params={"in": "files/"}).json()
        assert matrix["folders"] == ["files/", "files/charts/", "files/secret/", "files/slow/"]
        rows = {row["who"]: {cell["folder"]: cell["extents"] for cell in row["cells"]} for row in matrix["rows"]}
        assert rows["group:crew"]["files/"]["read"] == "some"
        assert rows["group:crew"]["files/charts/"]["read"] == "all"
        assert rows["group:crew"]["files/charts/"]["put"] == "none"
        assert rows["group:crew"]["files/secret/"]["read"] == "none"
        assert rows["anyone"]["files/"]["list"] == "none"
        assert ann.get("/api/access").json()["folders"] == ["files/"]
        assert ann.get("/api/access", params={"in": "files/none"}).status_code == 404
        told = ann.get("/api/audience", params={"address": "files/charts/a.txt"}).json()["audience"]
        assert [(one["who"], one["allowed"], one["rule"]) for one in told] == [
            ("anyone", False, None),
            ("group:admins", True, "admins"),
            ("group:crew", True, "crew reads charts"),
        ]


def test_who_there_is_is_told_to_administrators_alone(start: Start) -> None:
    rules = RULES.partition("[[expect]]")[0] + (
        '[[rule]]\neffect = "allow"\nwho = ["group:crew"]\nwhat = ["files/charts/**"]\nactions = ["manage"]\n'
        '[[rule]]\nname = "not ann"\neffect = "deny"\nwho = ["recipient:ann"]\nwhat = ["files/charts/b.txt"]\n'
        'actions = ["read"]\n'
    )
    own = start(files=FILES, rules=rules)
    asked = {"address": "files/charts/b.txt"}
    with own.client("ann") as ann, own.client("bob") as bob:
        told = {one["who"]: one["rule"] for one in ann.get("/api/audience", params=asked).json()["audience"]}
        assert told["recipient:ann"] == "not ann"
        his = [one["who"] for one in bob.get("/api/audience", params=asked).json()["audience"]]
        assert his == ["anyone", "group:admins", "group:crew"]


def test_a_decision_is_told_for_another_time_and_network(start: Start) -> None:
    timed = RULES.replace(
        'actions = ["list", "read", "link"]', 'actions = ["list", "read", "link"]\nwhen = { from = 2030-01-01 }'
    )
    own = start(files=FILES, rules=timed.partition("[[expect]]")[0])
    asked = {"address": "files/charts/a.txt", "as": "bob"}
    with own.client("ann") as ann:
        assert not ann.get("/api/decisions", params=asked).json()["allowed"]
        assert ann.get("/api/decisions", params={**asked, "at": 1_900_000_000}).json()["allowed"]
        assert ann.get("/api/decisions", params={**asked, "network": "nowhere"}).status_code == 400
    with own.client("bob") as bob:
        refused = bob.get("/api/decisions", params={"address": "files/charts/a.txt", "at": 1_900_000_000})
        assert refused.status_code in (403, 404), "what will be is told to those who manage"


def test_keys_are_made_and_retired_and_it_is_told_what_would_stop_working(service: Service) -> None:
    with service.client("ann") as ann:
        first = ann.post("/api/links", json={"address": "files/charts/a.txt"}).json()
        before = ann.get("/api/keys").json()["keys"]
        assert [(one["current"], one["links"]) for one in before] == [(True, 1)]
        assert ann.delete(f"/api/keys/{before[0]['id']}").status_code == 400
        made = ann.post("/api/keys").json()["keys"]
        assert [(one["current"], one["links"]) for one in made] == [(False, 1), (True, 0)]
        assert service.get(first["target"]).status_code == 200
        second = ann.post("/api/links", json={"address": "files/charts/a.txt"}).json()
        assert second["key"] == made[1]["id"]
        assert [one["id"] for one in ann.delete(f"/api/keys/{before[0]['id']}").json()["keys"]] == [second["key"]]
        assert service.get(first["target"]).status_code == 403
        assert service.get(second["target"]).status_code == 200
        assert (service.folder / "keys.json").stat().st_mode & 0o777 == 0o600
        made = {one["event"] for one in ann.get("/api/audit").json()["lines"]}
        assert {"key.made", "key.retired"} <= made


def test_sessions_are_listed_and_ended_everywhere(service: Service) -> None:
    with service.client() as browser, service.client("bob") as bob, service.client("ann") as ann:
        browser.post("/api/sessions", json={"token": service.tokens["bob"]})
        assert browser.get("/api/sessions/current").json()["recipient"] == "bob"
        [session] = ann.get("/api/recipients/bob/sessions").json()["sessions"]
        assert session["opened_by"].startswith("token ")
        assert bob.get("/api/recipients/bob/sessions").json()["sessions"] == [session]
        assert ann.delete("/api/recipients/bob/sessions").status_code == 204
        assert browser.get("/api/sessions/current").json()["recipient"] is None
        assert bob.get("/api/sessions/current").json()["recipient"] == "bob", "a token holds on"
        own = bob.get("/api/recipients/bob").json()["tokens"]
        assert bob.delete(f"/api/recipients/bob/tokens/{own[0]['id']}").status_code == 204
        assert bob.get("/api/sessions/current").status_code == 401


def test_a_link_is_explained_condition_by_condition(service: Service) -> None:
    with service.client("ann") as ann, service.client("bob") as bob:
        asked = {"address": "files/charts/a.txt", "uses": 1, "net": ["192.0.2.0/24"], "seconds": 60, "tag": "t"}
        made = ann.post("/api/links", json=asked).json()
        for form in (made["url"], made["target"], made["url"].replace("/get/", "/pickup/")):
            told = bob.post("/api/links/explanation", json={"link": form}).json()
            assert (told["sealed"], told["reason"], told["address"]) == (True, "wrong-network", "files/charts/a.txt")
        holds = {one["name"]: one["holds"] for one in told["conditions"]}
        assert holds == {"id": None, "until": True, "net": False, "uses": True, "tag": None}
        assert (told["used"], told["uses"], told["maker"]) == (0, 1, None)
        assert ann.post("/api/links/explanation", json={"link": made["url"]}).json()["maker"] == "ann"
        altered = made["url"].replace("uses=1", "uses=9")
        told = bob.post("/api/links/explanation", json={"link": altered}).json()
        assert (told["sealed"], told["reason"], told["used"]) == (False, "bad-seal", None)
        assert bob.post("/api/links/explanation", json={"link": "https://example.org/"}).status_code == 400
        open_to_all = ann.post("/api/links", json={"address": "files/charts/a.txt", "uses": 1}).json()
        assert service.get(open_to_all["target"]).status_code == 200
        listed = {one["id"]: one for one in ann.get("/api/links").json()["links"]}
        assert listed[open_to_all["id"]]["last"] is not None
        assert listed[made["id"]]["last"] is None


def test_a_transfer_is_told_whole_and_ended_by_hand(service: Service) -> None:
    link = service.link("files/slow/big.bin", {"id": "x"}, rate=100_000)
    with service.client("ann") as ann, service.client("bob") as bob, service.client() as client:
        with client.stream("GET", link) as answer, pytest.raises(httpx.TransportError):  # noqa: PT012
            pieces = answer.iter_raw(1000)
            next(pieces)
            [running] = ann.get("/api/transfers").json()["transfers"]
            told = ann.get(f"/api/transfers/{running['id']}").json()
            assert told["state"] == "running"
            assert told["coverage"][0][0] == 0
            assert told["network"] == "127.0.0.1"
            assert bob.get(f"/api/transfers/{running['id']}").status_code == 404
            assert bob.delete(f"/api/transfers/{running['id']}").status_code == 404
            assert ann.delete(f"/api/transfers/{running['id']}").status_code == 204
            for _ in pieces:
                pass
        until(lambda: ann.get(f"/api/transfers/{running['id']}").json()["state"] == "broken-off")
        ended = ann.get(f"/api/transfers/{running['id']}").json()
        assert ended["reason"] == "ended by ann"
        assert ann.delete(f"/api/transfers/{running['id']}").status_code == 400


def test_a_transfer_of_another_process_is_ended_within_seconds(start: Start) -> None:
    own = start(files=FILES, rules=RULES, settings=WORKERS + SETTINGS)
    link = own.link("files/slow/big.bin", {"id": "x"}, rate=50_000)
    with own.client("ann") as ann:
        for _ in range(6):  # whichever process takes each of these, another is asked some time
            with own.client() as client, client.stream("GET", link) as answer:
                pieces = answer.iter_raw(1000)
                next(pieces)
                found = [one for one in ann.get("/api/transfers").json()["transfers"] if one["state"] == "running"]
                began = time.monotonic()
                with own.client("ann") as other:
                    assert other.delete(f"/api/transfers/{found[0]['id']}").status_code == 204
                with pytest.raises(httpx.TransportError):
                    for _ in pieces:
                        pass
                assert time.monotonic() - began < 5


def test_the_history_is_told_in_sums_to_those_who_may_see_it(service: Service) -> None:
    for name, who in (("a", "bob"), ("a", "bob"), ("b", "bob"), ("a", "ann")):
        assert service.get(f"/get/files/charts/{name}.txt", who).status_code == 200
    assert service.get("/get/files/secret/s.txt", "bob").status_code == 404
    with service.client("ann") as ann, service.client("bob") as bob:
        until(lambda: ann.get("/api/history/summary").json()["lines"] == 5)
        told = ann.get("/api/history/summary").json()
        assert told["whole"]
        assert told["files"][0] == {"name": "files/charts/a.txt", "downloads": 3, "bytes": 9}
        assert [(one["name"], one["downloads"]) for one in told["recipients"]] == [("bob", 3), ("ann", 1)]
        assert told["refusals"] == [{"reason": "missing", "count": 1}]
        assert [(one["downloads"], one["bytes"], one["refused"]) for one in told["days"]] == [(4, 11, 1)]
        his = bob.get("/api/history/summary").json()
        assert sum(one["downloads"] for one in his["days"]) == 3
        refused = json.loads(ann.get("/api/history", params={"state": "refused"}).text.splitlines()[0])
        told = ann.get(f"/api/transfers/{refused['id']}").json()
        assert (told["state"], told["bytes"]) == ("refused", 0)
        narrowed = ann.get("/api/history/summary", params={"recipient": "ann", "state": "complete"}).json()
        lines = ann.get("/api/history", params={"recipient": "ann", "state": "complete"}).text.splitlines()
        assert narrowed["lines"] == len([json.loads(line) for line in lines]) == 1


def test_the_state_of_the_service_names_its_parts(service: Service) -> None:
    with service.client("ann") as ann:
        ann.get("/api/recipients")
        told = ann.get("/api/service").json()
    assert [(one["name"], one["kind"], one["fault"]) for one in told["stores"]] == [("files", "directory", None)]
    assert told["disks"][0]["total"] > told["disks"][0]["free"] > 0
    assert {"records", "files"} <= {name for one in told["disks"] for name in one["what"]}
    assert {"history", "identification"} <= {one["name"] for one in told["queues"]}
    assert any(one["path"] == "/api/recipients" for one in told["slowest"])
    assert (told["processes"], told["faults"]) == (1, {})


def test_the_slowest_requests_of_an_hour_are_kept() -> None:
    slow = SlowRequests()
    for number in range(50):
        slow.note(Slow("GET", f"/{number}", 200, number / 10, 1000.0 + number))
    assert [one.path for one in slow.slowest(1100)][:3] == ["/49", "/48", "/47"]
    assert len(slow.slowest(1100)) == 20
    assert slow.slowest(1049 + 3600) == []
    slow.note(Slow("GET", "/fast", 200, 0.01, 9000))
    assert [one.path for one in slow.slowest(9001)] == ["/fast"]


def test_a_description_is_changed_without_a_further_version(start: Start) -> None:
    settings = "[stores.models]\nkind = 'managed'\nroot = 'models'\n"
    own = start(files={}, rules=RULES.replace("files/", "models/").partition("[[expect]]")[0], settings=settings)
    with own.client("ann") as ann:
        ann.put("/api/files/models/a.grid", content=b"one", params={"description": "first"}).raise_for_status()
        ann.put("/api/files/models/a.grid", content=b"two").raise_for_status()
        told = ann.post("/api/versions/models/a.grid", params={"version": 2, "description": "the second"}).json()
        assert (told["version"], told["description"]) == (2, "the second")
        told = ann.post("/api/versions/models/a.grid", params={"version": 1}).json()
        assert (told["version"], told["description"]) == (3, "first")

"""Links under control, and the history: who obtained what, filtered and exported."""

from __future__ import annotations

import csv
import io
import json
import sqlite3
import time
from collections.abc import Callable
from datetime import datetime

import httpx
import pytest
from click.testing import CliRunner, Result

from invio.cli.main import main
from tests.running import RULES, Service, at_once, until

Start = Callable[..., Service]
FILES = {"a.txt": b"content", "sub/=b.txt": b"b" * 1000}
CREW = RULES + '\n[[rule]]\neffect = "allow"\nwho = ["group:crew"]\nwhat = ["files/**"]\nactions = ["link", "read"]\n'


@pytest.fixture(scope="module")
def service(start_shared: Start) -> Service:
    return start_shared(files=FILES, rules=CREW)


@pytest.fixture
def own(start: Start) -> Service:
    """One that a test may alter or end, or in which nothing else is to have happened."""
    return start(files=FILES, rules=CREW)


def invio(service: Service, *command: str, who: str = "ann") -> Result:
    return CliRunner().invoke(main, [*command, "--url", service.url, "--token", service.tokens[who]])


def test_links_are_listed_inspected_and_revoked(service: Service) -> None:
    with service.client("bob") as client:
        made = client.post("/api/links", json={"address": "files/a.txt", "uses": 2, "to": "cleo"}).json()
        assert len(made["id"]) >= 8
        twice = client.post("/api/links", json={"address": "files/a.txt", "id": made["id"]})
        assert (twice.status_code, "already" in twice.json()["detail"]) == (400, True)
    assert service.get(made["target"]).status_code == 200
    [listed] = json.loads(invio(service, "link", "list", "--json", who="bob").stdout)["links"]
    assert (listed["id"], listed["state"], listed["used"], listed["uses"]) == (made["id"], "holds", 1, 2)
    assert (listed["maker"], listed["recipient"]) == ("bob", "cleo")
    assert "1 of 2" in invio(service, "link", "list").stdout
    narrowed = CliRunner().invoke(main, ["link", "narrow", made["url"], "--until", "1h", "--json"])
    assert invio(service, "link", "revoke", made["id"], who="bob").exit_code == 0
    for url in (made["url"], json.loads(narrowed.stdout)["url"]):
        refused = service.get(url.removeprefix(service.url))
        assert (refused.status_code, refused.json()["reason"]) == (410, "revoked")
    assert json.loads(invio(service, "link", "list", "--json").stdout)["links"][0]["state"] == "revoked"


def test_a_link_is_made_through_the_service_from_the_command_line(service: Service) -> None:
    def make(*more: str) -> Result:
        given = ["--service", "--base", service.url, "--token", service.tokens["ann"], *more]
        return CliRunner().invoke(main, ["link", "make", "files/a.txt", *given])

    made = make("--until", "2h", "--id", "for-the-desk", "--net", "127.0.0.0/8", "--agent", "desk/1")
    assert made.exit_code == 0, made.stderr
    target = made.stdout.strip().removeprefix(service.url)
    assert service.get(target, user_agent="desk/1").status_code == 200
    assert service.get(target, user_agent="other/1").status_code == 403
    assert "revoked by: invio link revoke for-the-desk" in made.stderr
    assert "can be given once with --service" in make("--via", "a", "--via", "b").stderr
    with service.client("ann") as client:
        text = client.post("/api/links", json={"address": "files/a.txt", "until": "2030-01-01T00:00Z"})
        assert text.json()["until"] == 1_893_456_000
        wrong = client.post("/api/links", json={"address": "files/a.txt", "until": "tomorrow"})
        assert "until: 'tomorrow' is no time; expected Unix seconds, or as in 2026-12-24T18:00Z" in wrong.text


def test_nobody_revokes_another_s_link_and_those_who_manage_any(own: Service) -> None:
    with own.client("ann") as client:
        made = client.post("/api/links", json={"address": "files/a.txt"}).json()
    assert invio(own, "link", "revoke", made["id"], who="bob").exit_code == 1
    with own.client() as client:
        assert client.delete(f"/api/links/{made['id']}").status_code == 401
        assert client.get("/api/links").status_code == 401
    assert json.loads(invio(own, "link", "list", "--json", who="bob").stdout)["links"] == []
    elsewhere = own.link("files/a.txt", {"id": "from-elsewhere"})
    assert invio(own, "link", "revoke", "from-elsewhere").exit_code == 0
    assert own.get(elsewhere).status_code == 410, "a link need not be known to be revoked"
    assert own.get(made["target"]).status_code == 200


def test_the_rules_say_for_how_long_a_link_holds(start: Start) -> None:
    terms = 'actions = ["link", "read"]\nlink_default = "1h"\nlink_longest = "1d"\n'
    service = start(files=FILES, rules=CREW.replace('actions = ["link", "read"]\n', terms))
    with service.client("bob") as client:
        usual = client.post("/api/links", json={"address": "files/a.txt"}).json()
        assert abs(usual["until"] - time.time() - 3600) < 10
        assert client.post("/api/links", json={"address": "files/a.txt", "seconds": 86_000}).status_code == 201
        longer = client.post("/api/links", json={"address": "files/a.txt", "seconds": 90_000})
        assert (longer.status_code, longer.json()["reason"]) == (403, "not-allowed")
        assert "at most 1 day" in longer.json()["detail"]
        never = client.post("/api/links", json={"address": "files/a.txt", "until": 99_999_999_999})
        assert never.status_code == 403
    with service.client("ann") as client:
        assert client.post("/api/links", json={"address": "files/a.txt"}).json()["until"] is None


def test_uses_are_never_one_too_many_at_three_processes(service: Service, start: Start) -> None:
    services = [service, start(service.folder), start(service.folder)]
    link = service.link("files/a.txt", {"id": "counted"}, uses=20)
    answers = at_once(64, lambda number: [services[number % 3].get(link).status_code])
    assert answers == {200: 20, 410: 44}


def history(service: Service, who: str = "ann", **filters: str) -> list[dict[str, object]]:
    with service.client(who) as client:
        answer = client.get("/api/history", params=filters)
        assert answer.status_code == 200, answer.text
        return [json.loads(line) for line in answer.text.splitlines()]


def test_the_history_tells_who_obtained_what_and_how_it_ended(own: Service) -> None:
    link = own.link("files/a.txt", {"id": "mail-1", "to": "cleo"}, via="newsletter")
    own.get("/get/files/a.txt", "bob")
    own.get("/get/files/sub/%3Db.txt", "ann", range="bytes=0-99")
    began = time.time()
    own.get(link)
    assert own.get("/get/files/a.txt").status_code == 200
    told = history(own)
    assert [(one["recipient"], one["link"], one["state"]) for one in told] == [
        (None, None, "complete"),
        ("cleo", "mail-1", "complete"),
        ("ann", None, "partial"),
        ("bob", None, "complete"),
    ]
    assert (told[1]["via"], told[1]["network"]) == ("newsletter", "127.0.0.1")
    assert told[2]["coverage"] == [[0, 100]]
    for filters, count in (
        ({"recipient": "bob"}, 1),
        ({"address": "files/sub/"}, 1),
        ({"address": "files/a.txt"}, 3),
        ({"link": "mail-1"}, 1),
        ({"state": "partial"}, 1),
        ({"since": str(began)}, 2),
        ({"until": str(began)}, 2),
        ({"limit": "3"}, 3),
        ({"recipient": "nobody"}, 0),
    ):
        assert len(history(own, **filters)) == count, filters
    assert [one["recipient"] for one in history(own, "bob")] == ["bob"], "of others' it tells nothing"
    rows = list(csv.DictReader(io.StringIO(invio(own, "history", "--csv").stdout)))
    assert [row["address"] for row in rows] == [one["address"] for one in told]
    assert rows[2]["coverage"] == "0-100"
    shown = invio(own, "history", "--recipient", "cleo").stdout
    assert "link mail-1" in shown
    whole = json.dumps(told) + own.logged() + own.errors.read_text()
    assert "seal=" not in whole
    assert own.tokens["bob"] not in whole


def test_a_long_history_is_streamed_and_kept_for_as_long_as_the_settings_say(start: Start) -> None:
    settings = '[service]\nhistory_days = 30\n[stores.files]\nkind = "directory"\nroot = "files"\n'
    service = start(files=FILES, settings=settings)
    assert service.get("/get/files/a.txt").status_code == 200
    assert len(history(service)) == 1
    service.stop()
    with sqlite3.connect(service.folder / "data" / "records.sqlite") as records:
        row = list(records.execute("SELECT * FROM transfers").fetchone())
        names = [column[1] for column in records.execute("PRAGMA table_info(transfers)")]
        for number in range(1300):
            old = number >= 1200
            when = time.time() - (40 if old else 10) * 86_400
            row[names.index("id")] = f"{int(when * 1000):012x}{number:08x}"
            row[names.index("started")] = row[names.index("updated")] = when
            records.execute(f"INSERT INTO transfers VALUES ({', '.join('?' * len(row))})", row)
    again = start(service.folder)
    for _ in range(50):
        told = history(again)
        if len(told) == 1201:
            break
        time.sleep(0.1)
    assert len(told) == 1201
    assert [one["id"] for one in told] == sorted((one["id"] for one in told), reverse=True)  # type: ignore[type-var]


def test_quotas_are_told_with_what_is_used(start: Start) -> None:
    limited = RULES.replace('"bundle"]\n', '"bundle"]\nquota = { files = 3, bytes = 5000, per = "2h" }\n', 1)
    service = start(files=FILES, rules=limited)
    service.get("/get/files/sub/%3Db.txt", "bob")
    for _ in range(50):
        [told] = service.get("/api/quotas", "bob").json()["quotas"]
        if told["used_bytes"] == 1000:
            break
        time.sleep(0.05)
    frees = datetime.fromisoformat(told.pop("frees")).timestamp()
    assert abs(frees - time.time() - 7200) < 30
    assert told == {
        "rule": "everyone reads",
        "seconds": 7200,
        "files": 3,
        "bytes": 5000,
        "used_files": 1,
        "used_bytes": 1000,
    }


def refusals(service: Service, who: str = "ann") -> list[dict[str, object]]:
    listed = invio(service, "history", "--state", "refused", "--json", who=who).stdout.splitlines()
    return [json.loads(line) for line in listed]


def test_a_span_of_the_history_reaches_back_from_now(own: Service) -> None:
    own.get("/get/files/a.txt", "ann")
    for span in ("1h", "2d"):
        [line] = invio(own, "history", "--since", span, "--json").stdout.splitlines()
        assert json.loads(line)["address"] == "files/a.txt"
        assert invio(own, "history", "--until", span, "--json").stdout == ""


def test_the_history_tells_what_was_refused_and_why(service: Service) -> None:
    link = service.link("files/a.txt", {"id": "given", "to": "cleo"}, until=1, via="the desk")
    assert service.get(link).status_code == 410
    assert service.get(link[:-3] + "AAA").status_code in (400, 403)
    assert service.get("/get/files/none.txt", "bob").status_code == 404
    assert service.get("/get/files/..%2Fa.txt", "bob").status_code == 400
    told = {(one["recipient"], one["link"], str(one["reason"]).partition(":")[0]) for one in refusals(service)}
    assert ("cleo", "given", "expired") in told
    assert ("bob", None, "missing") in told
    assert ("bob", None, "malformed") in told
    assert {(who, link) for who, link, why in told if why in ("bad-seal", "malformed") and who is None} == {
        (None, None)
    }
    assert {one["address"] for one in refusals(service, "bob")} == {"files/none.txt", "files/../a.txt"}
    assert "refused" not in {one["state"] for one in service.transfers()}
    assert link.rpartition("=")[2] not in json.dumps(refusals(service))
    assert "expired" in invio(service, "history", "--state", "refused").stdout


def test_a_flood_of_refusals_is_cut_short_and_told(service: Service) -> None:
    before, sent = len(refusals(service)), 0
    with service.client() as client:
        while sent < 4000 and "history.refusals-left-out" not in service.logged():
            for n in range(400):  # more than a hundred a second, unless the machine stands still
                client.get(f"/get/files/none-{n}.txt")
            sent += 400
    assert 100 <= len(refusals(service)) - before < sent
    until(lambda: "history.refusals-left-out" in service.logged())


def test_a_link_of_one_use_does_not_give_the_file_twice_in_pieces(start: Start) -> None:
    content = bytes(range(256)) * 4096
    service = start(files={"large.bin": content})
    link, size = service.link("files/large.bin", {"id": "once"}, uses=1), len(content)
    most = service.get(link, range=f"bytes=0-{size - 101}")
    assert most.content == content[:-100]
    # What was lost on the other side may be had again, and the rest: that is the same use.
    assert service.get(link, range=f"bytes={size - 2000}-{size - 51}").content == content[-2000:-50]
    got = 0
    for begin in range(0, size, size // 8):
        answer = service.get(link, range=f"bytes={begin}-{begin + size // 8 - 1}")
        assert answer.status_code in (206, 410)
        got += len(answer.content) if answer.status_code == 206 else 0
    assert got <= size // 2
    assert service.get(link, range="bytes=-50").status_code in (206, 410)
    assert service.get(link).status_code == 410


def test_a_link_of_one_use_is_not_sent_to_two_at_once(start: Start) -> None:
    content = bytes(64 * 1024 * 1024)
    service = start(files={"large.bin": content})
    link = service.link("files/large.bin", {"id": "once"}, uses=1)
    asked = {"range": "bytes=0-"}
    with service.client() as first, first.stream("GET", link, headers=asked) as slow:
        pieces = slow.iter_raw(65536)
        next(pieces)
        assert len(service.get(link, **asked).content) == len(content)
        with pytest.raises(httpx.TransportError):
            sum(len(piece) for piece in pieces)
    assert service.get(link).status_code == 410

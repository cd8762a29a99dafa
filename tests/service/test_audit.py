"""The audit: a line for every sign-in, failure, and change of who may have what; in the log and for administrators."""

from __future__ import annotations

import json
from collections.abc import Callable

import httpx
import pytest
from click.testing import CliRunner

from invio.cli.main import main
from invio.core.links.keys import new_keys
from invio.service.configuration import write_keys
from tests.running import RULES, Service, until

Start = Callable[..., Service]


def _events(service: Service, query: str = "limit=1000") -> list[str]:
    return [line["event"] for line in service.get(f"/api/audit?{query}", "ann").json()["lines"]]


@pytest.fixture
def service(start: Start) -> Service:
    return start(files={"a.txt": b"a"})


def test_what_was_just_done_is_in_the_audit(service: Service) -> None:
    with service.client("ann") as client:
        for change in ("disable", "enable") * 3:
            client.post(f"/api/recipients/bob/{change}").raise_for_status()
            assert client.get("/api/audit?limit=1").json()["lines"][0]["event"] == f"recipient.{change}d"


def test_everything_that_changes_who_may_have_what_leaves_a_line(service: Service) -> None:
    with service.client("ann") as client:
        client.put("/api/recipients/eve", json={"groups": ["crew"]}).raise_for_status()
        token = client.post("/api/recipients/eve/tokens", json={"label": "tablet"}).json()
        client.put("/api/recipients/eve/password", json={"password": "lantern on the pier"}).raise_for_status()
        client.delete(f"/api/recipients/eve/tokens/{token['id']}").raise_for_status()
        link = client.post("/api/links", json={"address": "files/a.txt", "seconds": 60}).json()
        client.delete(f"/api/links/{link['id']}").raise_for_status()
        client.delete("/api/links?maker=eve").raise_for_status()
    with httpx.Client(base_url=service.url, trust_env=False) as browser:
        origin = {"origin": service.url}
        wrong = {"recipient": "eve", "password": "wrong and long enough"}
        assert browser.post("/api/sessions", json=wrong, headers=origin).status_code == 401
        right = {"recipient": "eve", "password": "lantern on the pier"}
        assert browser.post("/api/sessions", json=right, headers=origin).status_code < 300
        assert browser.delete("/api/sessions/current", headers=origin).status_code == 204
    with service.client("ann") as client:
        client.post("/api/recipients/eve/disable").raise_for_status()
        client.post("/api/recipients/eve/enable").raise_for_status()
    (service.folder / "rules.toml").write_text(RULES + "\n# altered\n")
    write_keys(new_keys(), service.folder / "keys.json")
    wanted = {
        "recipient.saved", "token.made", "password.set", "token.ended", "link.made", "link.revoked", "links.revoked",
        "sign-in.attempt", "sign-in.done", "sign-out", "recipient.disabled", "recipient.enabled", "rules.read",
        "keys.read",
    }  # fmt: skip
    until(lambda: wanted <= set(_events(service)))
    logged = {line["event"] for line in map(json.loads, filter(None, service.logged().splitlines()))}
    assert wanted <= logged
    told = json.dumps(service.get("/api/audit", "ann").json())
    for secret in (token["token"], "lantern on the pier", "wrong and long enough", link["url"].rpartition("seal=")[2]):
        assert secret not in told
        assert secret not in service.logged()
    [made] = service.get("/api/audit?event=token.made", "ann").json()["lines"]
    assert (made["by"], made["about"]["recipient"], made["about"]["label"]) == ("ann", "eve", "tablet")
    assert set(_events(service, "event=token")) == {"token.made", "token.ended"}
    assert set(_events(service, "by=eve")) == {"sign-in.done", "sign-out"}


def test_lines_come_in_pages_and_by_command(service: Service) -> None:
    with service.client("ann") as client:
        for number in range(7):
            client.put(f"/api/recipients/p{number}", json={"groups": []}).raise_for_status()
    until(lambda: _events(service).count("recipient.saved") == 7)
    first = service.get("/api/audit?limit=3&event=recipient", "ann").json()
    second = service.get(f"/api/audit?limit=3&event=recipient&before={first['next']}", "ann").json()
    names = [line["about"]["recipient"] for line in first["lines"] + second["lines"]]
    assert names == ["p6", "p5", "p4", "p3", "p2", "p1"]
    reach = ["--url", service.url, "--token", service.tokens["ann"]]
    shown = CliRunner().invoke(main, ["audit", "--event", "recipient", "--limit", "2", "--json", *reach])
    assert [json.loads(line)["about"]["recipient"] for line in shown.stdout.splitlines()] == ["p6", "p5"]
    table = CliRunner().invoke(main, ["audit", *reach])
    assert (table.exit_code, "recipient.saved" in table.stdout, "p6" in table.stdout) == (0, True, True)
    refused = CliRunner().invoke(main, ["audit", "--url", service.url, "--token", service.tokens["bob"]])
    assert refused.exit_code == 1


def test_lines_outlive_the_service(start: Start, service: Service) -> None:
    with service.client("ann") as client:
        client.put("/api/recipients/last", json={"groups": []}).raise_for_status()
    service.stop()
    again = start(service.folder)
    assert "last" in json.dumps(again.get("/api/audit", "ann").json())

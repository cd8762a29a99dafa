"""Rules that change while the service runs, and the commands that prove them before they do."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Callable
from pathlib import Path

import pytest
from click.testing import CliRunner, Result

from invio.cli.main import main
from tests.running import RULES, Service, make_folder, until

Start = Callable[..., Service]
FILES = {"a.txt": b"a", "large.bin": b"x" * 5000, "sub/b.txt": b"b"}


def test_changed_rules_hold_without_a_restart_and_broken_ones_never(start: Start) -> None:
    service = start(files=FILES)
    rules = service.folder / "rules.toml"
    assert service.get("/get/files/a.txt").status_code == 200
    rules.write_text(RULES.replace('["anyone"]', '["signed-in"]'))
    until(lambda: service.get("/get/files/a.txt").status_code == 401)
    assert service.get("/get/files/a.txt", "bob").status_code == 200

    rules.write_text(RULES.replace('"allow"', '"permit"'))
    until(lambda: "rules" in service.get("/readyz").json().get("hints", {}))
    assert service.get("/get/files/a.txt").status_code == 401, "the rules before it are in force"
    told = service.get("/api/rules", "ann").json()
    assert "rules.toml:4: effect is 'permit'" in told["fault"]
    assert [rule["who"] for rule in told["rules"]] == [["signed-in"], ["group:admins"]]
    assert "rules.broken" in service.logged()
    assert service.get("/api/rules", "bob").status_code == 403
    assert service.get("/api/rules").status_code == 401

    rules.unlink()
    until(lambda: "cannot be read" in service.get("/api/rules", "ann").json()["fault"])
    rules.write_text(RULES)
    until(lambda: service.get("/get/files/a.txt").status_code == 200)
    assert service.get("/readyz").json() == {"status": "ready"}
    assert service.get("/api/rules", "ann").json()["fault"] is None


def test_rules_on_size_and_type_hold_wherever_a_file_is_had(start: Start) -> None:
    small = RULES.replace(
        'actions = ["list", "read", "bundle"]\n', 'actions = ["list", "read", "bundle"]\nmax_size = 100\n', 1
    )
    service = start(files=FILES, rules=small)
    assert service.get("/get/files/a.txt").status_code == 200
    assert service.get("/get/files/large.bin").status_code == 401
    assert service.get("/get/files/large.bin", "bob").status_code == 404
    listed = service.get("/api/files?in=files/").json()["files"]
    assert [line["address"] for line in listed] == ["files/sub/", "files/a.txt"]
    with service.client("bob") as client:
        refused = client.post("/api/bundles", json={"files": ["files/large.bin"]})
        assert refused.status_code == 403
        assert client.post("/api/bundles", json={"files": ["files/"]}).json()["entries"] == 2
    assert service.get("/get/files/large.bin", "ann").status_code == 200
    why = service.get("/api/decisions?address=files/large.bin&as=bob", "ann").json()
    assert not why["allowed"]
    assert "at most 100 bytes, and this one has 5000" in why["reasons"][0]["because"] + why["reasons"][1]["because"]


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    make_folder(tmp_path / "service", files=FILES)
    return tmp_path / "service"


def invio(folder: Path, *command: str) -> Result:
    return CliRunner().invoke(main, [*command, "--settings", str(folder / "invio.toml")])


def test_expectations_are_put_to_the_rules(folder: Path) -> None:
    expect = '\n[[expect]]\nwho = "{}"\naction = "{}"\naddress = "files/a.txt"\noutcome = "{}"\n'
    good = expect.format("anyone", "read", "allowed") + expect.format("recipient:bob", "manage", "refused")
    (folder / "rules.toml").write_text(RULES + good + expect.format("recipient:ann", "manage", "allowed"))
    met = invio(folder, "rules", "check")
    assert met.exit_code == 0, met.output
    assert "2 rules, 3 expectations, 0 not met" in met.stdout
    bad = folder / "bad.toml"
    bad.write_text(RULES + good + expect.format("recipient:bob", "manage", "allowed"))
    not_met = invio(folder, "rules", "check", str(bad), "--json")
    assert not_met.exit_code == 1
    told = json.loads(not_met.stdout)["expectations"]
    assert [one["met"] for one in told] == [True, True, False]
    assert told[2]["because"] == "no rule speaks about it"
    bad.write_text("[[rule]]\n")
    broken = invio(folder, "rules", "check", str(bad))
    assert (broken.exit_code, "bad.toml:1: the rule has no 'effect'" in broken.stderr) == (1, True)


def test_a_change_is_told_before_it_holds(folder: Path) -> None:
    new = folder / "new.toml"
    new.write_text(RULES.replace('what = ["files/**"]', 'what = ["files/*"]'))
    told = invio(folder, "rules", "compare", str(new), "--json")
    assert told.exit_code == 1
    changes = json.loads(told.stdout)
    assert {(one["who"], one["address"], one["would_be"]) for one in changes["changes"]} == {
        ("anyone", "files/sub/b.txt", "refused"),
        ("recipient:bob", "files/sub/b.txt", "refused"),
    }
    assert changes["count"] == 6
    assert {one["rule"] for one in changes["changes"]} == {"everyone reads"}
    rows = list(csv.DictReader(io.StringIO(invio(folder, "rules", "compare", str(new), "--csv").stdout)))
    assert [{**row, "line": int(row["line"])} for row in rows] == changes["changes"]
    shown = invio(folder, "rules", "compare", str(new))
    assert "6 outcomes would change" in shown.stdout
    same = invio(folder, "rules", "compare", str(folder / "rules.toml"))
    assert (same.exit_code, "no outcomes would change" in same.stdout) == (0, True)

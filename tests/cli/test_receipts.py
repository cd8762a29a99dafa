"""`invio receipt`, as it is typed."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from subprocess import CompletedProcess

import pytest

from tests.rules import rule
from tests.running import Service, until

Invio = Callable[..., CompletedProcess[str]]
RULES = rule("group:crew", "files/charts/**", "list read", "crew reads charts")
CONTENT = b"n" * 2000


@pytest.fixture(scope="module")
def service(start_shared: Callable[..., Service]) -> Service:
    return start_shared(files={"charts/north.pdf": CONTENT}, rules=RULES)


@pytest.fixture
def bob(invio: Invio, service: Service) -> Invio:
    return lambda *given: invio(*map(str, given), url=service.url, token=service.tokens["bob"])


@pytest.fixture
def transfer(bob: Invio, service: Service) -> str:
    asked = service.get("/get/files/charts/north.pdf", "bob", **{"Want-Repr-Digest": "sha-256=1"})
    assert asked.headers["repr-digest"].startswith("sha-256=")
    until(lambda: "complete" in bob("transfers").stdout)
    return str(json.loads(bob("history", "--json", "--limit", "1").stdout)["id"])


def test_a_receipt_is_kept_and_checked_without_the_service(
    bob: Invio, invio: Invio, transfer: str, service: Service, tmp_path: Path
) -> None:
    receipt, keys, content = tmp_path / "r.jws", tmp_path / "keys.json", tmp_path / "north.pdf"
    content.write_bytes(CONTENT)
    assert bob("receipt", transfer, "-o", receipt).returncode == 0
    assert bob("receipt", "keys", "-o", keys).returncode == 0
    assert receipt.read_text().count(".") == 2
    nowhere = "http://127.0.0.1:1"
    checked = invio(
        *("receipt", "check", str(receipt), "--keys", str(keys), "--content", str(content)), url=nowhere, token="none"
    )
    assert checked.returncode == 0, checked.stderr
    assert checked.stdout.startswith("bob obtained files/charts/north.pdf, 2.0 KiB\nbegan ")
    assert f"signed by {service.url} at " in checked.stdout
    assert checked.stdout.endswith("north.pdf is that content\n")
    told = json.loads(bob("receipt", "check", receipt, "--json").stdout)
    assert (told["transfer"], told["recipient"], told["size"]) == (transfer, "bob", 2000)


def test_what_does_not_hold_is_said_and_ends_with_one(bob: Invio, transfer: str, tmp_path: Path) -> None:
    receipt, other = tmp_path / "r.jws", tmp_path / "other"
    other.write_text("[]")
    assert bob("receipt", transfer, "-o", receipt).returncode == 0
    again = bob("receipt", transfer, "-o", receipt)
    assert (again.returncode, again.stderr) == (1, f"Error: {receipt} is there already; name another file\n")
    text = receipt.read_text()
    altered = tmp_path / "altered.jws"
    altered.write_text(text[:150] + ("A" if text[150] != "A" else "B") + text[151:])
    for command, says in (
        (("receipt", "check", altered), "the receipt does not hold: it was altered"),
        (("receipt", "check", other), "the receipt does not hold: it is not a JWS"),
        (("receipt", "check", receipt, "--keys", other), "these are no public keys"),
        (("receipt", "check", receipt, "--content", other), "another content"),
        (("receipt", "0" * 20), "no such transfer that you may see"),
    ):
        result = bob(*command)
        assert result.returncode == 1, command
        assert says in result.stderr

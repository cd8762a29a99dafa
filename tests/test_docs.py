"""The docs say what the code says."""

import json
import re
import subprocess
import time
import tomllib
from pathlib import Path
from typing import Any

import pytest
from fastapi.testclient import TestClient

from invio.core.http.ranges import RANGES
from invio.core.links.keys import new_keys
from invio.core.links.seals import check_link, parse_url
from invio.core.links.terms import Asked, LinkRefused
from invio.core.reasons import REASONS
from invio.core.rules.decisions import ACTIONS, Rule
from invio.core.rules.file import KEYS, parse_rules
from invio.core.signing import SigningKey
from invio.core.webhook_signatures import FIELD, signature_of
from invio.core.webhooks import EVENTS, body_of
from invio.pages.rendering import Renderer
from invio.service.configuration import write_keys
from invio.service.settings import BundleSettings, Settings

ROOT = Path(__file__).parents[1]
GUIDE = (ROOT / "docs" / "guide.md").read_text("utf-8")


def block(begin: str) -> str:
    """The TOML example of the guide that holds this text."""
    return next(piece.split("```")[0] for piece in GUIDE.split("```toml\n")[1:] if begin in piece.split("```")[0])


def test_every_reason_stands_in_the_guide() -> None:
    for reason in REASONS.values():
        assert f"| `{reason.word}` | {reason.status} | {reason.title}. {reason.advice} |" in GUIDE


def test_the_examples_of_settings_and_rules_can_be_used() -> None:
    settings = Settings.model_validate(tomllib.loads(block("[service]")))
    assert set(settings.stores) == {"charts", "models", "tables", "archive"}
    settings = Settings.model_validate(tomllib.loads(block("[service]") + block("[identity]")))
    assert settings.identity is not None
    assert settings.identity.audience == "files"
    [rule] = parse_rules(block("[[rule]]")).rules
    assert isinstance(rule, Rule)
    assert all(f"| `{action}` |" in GUIDE for action in ACTIONS)


def test_the_receiver_of_the_guide_takes_what_is_signed_and_nothing_else(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    section = GUIDE.partition("## Webhooks")[2].partition("\n## ")[0]
    assert [event for event in EVENTS if f"`{event}`" not in section] == []
    key = SigningKey(bytes(32))
    monkeypatch.chdir(tmp_path)
    Path("invio-keys.json").write_text(json.dumps({"keys": [key.public()]}))
    program: dict[str, Any] = {}
    # Annotations are looked up where the program's names are.
    exec(compile(section.split("```python\n")[1].split("```")[0], "guide.md", "exec", dont_inherit=True), program)
    body = body_of(7, "transfer.complete", "2026-01-01T00:00:00Z", {"transfer": {"address": "charts/a.pdf"}})
    with TestClient(program["app"]) as client:
        signed = {FIELD: signature_of(body, key)}
        assert client.post("/hook", content=body, headers=signed).status_code == 204
        assert client.post("/hook", content=body.replace(b"a.pdf", b"b.pdf"), headers=signed).status_code == 403
        assert client.post("/hook", content=body).status_code == 403
        forged = {FIELD: signature_of(body, SigningKey(b"x" * 32))}
        assert client.post("/hook", content=body, headers=forged).status_code == 403
    assert capsys.readouterr().out == "transfer.complete charts/a.pdf\n"


@pytest.mark.parametrize(("page", "first", "most"), [("http.md", "rule", 40), ("security.md", "promise", 60)])
def test_the_tables_of_promises_name_tests_that_there_are(page: str, first: str, most: int) -> None:
    text = (ROOT / "docs" / page).read_text("utf-8")
    named = set(re.findall(r"`(test_\w+)`", text))
    there = {
        name
        for path in (ROOT / "tests").rglob("test_*.py")
        for name in re.findall(r"^def (test_\w+)", path.read_text("utf-8"), re.MULTILINE)
    }
    assert len(named) > most
    assert sorted(named - there) == []
    lines = [line for line in text.splitlines() if line.startswith("| ")]
    rows = [line for line in lines if " --- " not in line and f"| {first} |" not in line]
    assert [row for row in rows if "`test_" not in row] == []


def test_the_most_ranges_are_those_of_the_page() -> None:
    assert f"more than {RANGES}**" in (ROOT / "docs" / "http.md").read_text("utf-8")


def test_the_settings_of_the_front_server_can_be_used() -> None:
    page = (ROOT / "docs" / "front.md").read_text("utf-8")
    settings = Settings.model_validate(tomllib.loads(page.split("```toml\n")[1].split("```")[0]))
    assert settings.front.redirect_header == "X-Accel-Redirect"


def test_the_settings_and_texts_of_pages_can_be_used(tmp_path: Path) -> None:
    page = (ROOT / "docs" / "pages.md").read_text("utf-8")
    settings, texts, *_ = [piece.split("```")[0] for piece in page.split("```toml\n")[1:]]
    stores = {"stores": {"files": {"kind": "directory", "root": "files"}}}
    assert Settings.model_validate({**tomllib.loads(settings), **stores}).pages.quota
    (tmp_path / "texts.toml").write_text(texts)
    (tmp_path / "base.html").write_text(page.split("```html\n")[1].split("```")[0])
    shown = Renderer(tmp_path).render("sign_in.html")
    assert "<strong>Brackwater Sound Survey</strong>" not in shown, "that page has no head"
    assert "Not for navigation." in shown
    assert "<strong>Brackwater Sound Survey</strong>" in Renderer(tmp_path).render("base.html")


def test_the_example_of_bundles_settings_is_what_holds_without_them() -> None:
    page = (ROOT / "docs" / "bundles.md").read_text("utf-8")
    given = tomllib.loads(page.split("```toml\n")[1].split("```")[0])["bundles"]
    assert BundleSettings(**given) == BundleSettings()


def test_every_picture_and_page_that_is_linked_is_there() -> None:
    readme = (ROOT / "README.md").read_text("utf-8")
    linked = {piece.split(")")[0] for piece in readme.split("](")[1:]}
    assert {path for path in linked if not (ROOT / path).exists()} == set()
    pictures = {f"docs/screenshots/{path.name}" for path in (ROOT / "docs" / "screenshots").iterdir()}
    assert pictures == {path for path in linked if path.endswith(".png")}


def test_the_example_of_rules_can_be_used_and_so_can_that_of_expectations() -> None:
    page = (ROOT / "docs" / "rules.md").read_text("utf-8")
    rule, expectation = (piece.split("```")[0] for piece in page.split("```toml\n")[1:])
    rules = parse_rules(rule + expectation)
    assert rules.rules[0].terms.quotas[0].files == 100
    assert rules.expectations[0].outcome == "refused"
    assert all(f"`{name}`" in page or f"{name} = " in page for name in KEYS)


def test_a_link_that_another_language_makes_is_good(tmp_path: Path) -> None:
    page = (ROOT / "docs" / "links.md").read_text("utf-8")
    program = page.split("```js\n")[1].split("```")[0]
    assert len(program.strip().splitlines()) <= 30
    (tmp_path / "link.mjs").write_text(program, "utf-8")
    ring = new_keys()
    write_keys(ring, tmp_path / "keys.json")
    address = "charts/Södra leden – 100% (översikt)!.pdf"
    command = ["node", "link.mjs", "keys.json", "https://files.example.org", address, "3600", "pilot-7"]
    made = subprocess.run(command, cwd=tmp_path, capture_output=True, text=True, timeout=30, check=True)
    link = parse_url(made.stdout.strip())
    assert str(link.address) == address
    check_link(link, ring.keys, Asked(time.time()))
    with pytest.raises(LinkRefused):
        check_link(link, new_keys().keys, Asked(time.time()))
    assert 3500 < (link.expires or 0) - time.time() <= 3600

"""The docs say what the code says."""

import re
import tomllib
from pathlib import Path

from invio.core.ranges import RANGES
from invio.core.reasons import REASONS
from invio.core.rules import ACTIONS, Rule
from invio.core.rules_file import parse_rules
from invio.service.settings import Settings

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
    assert set(settings.stores) == {"charts", "tables"}
    [rule] = parse_rules(block("[[rule]]")).rules
    assert isinstance(rule, Rule)
    assert all(f"| `{action}` |" in GUIDE for action in ACTIONS)


def test_the_table_of_http_names_tests_that_there_are() -> None:
    page = (ROOT / "docs" / "http.md").read_text("utf-8")
    named = set(re.findall(r"`(test_\w+)`", page))
    there = {
        name
        for path in (ROOT / "tests").rglob("test_*.py")
        for name in re.findall(r"^def (test_\w+)", path.read_text("utf-8"), re.MULTILINE)
    }
    assert len(named) > 40
    assert named <= there
    rows = [
        line for line in page.splitlines() if line.startswith("| ") and " --- " not in line and "| rule |" not in line
    ]
    assert [row for row in rows if "`test_" not in row] == []
    assert f"more than {RANGES}**" in page


def test_the_settings_of_the_front_server_can_be_used() -> None:
    page = (ROOT / "docs" / "front.md").read_text("utf-8")
    settings = Settings.model_validate(tomllib.loads(page.split("```toml\n")[1].split("```")[0]))
    assert settings.front.redirect_header == "X-Accel-Redirect"


def test_every_picture_and_page_that_is_linked_is_there() -> None:
    readme = (ROOT / "README.md").read_text("utf-8")
    linked = {piece.split(")")[0] for piece in readme.split("](")[1:]}
    assert {path for path in linked if not (ROOT / path).exists()} == set()
    pictures = {f"docs/screenshots/{path.name}" for path in (ROOT / "docs" / "screenshots").iterdir()}
    assert pictures == {path for path in linked if path.endswith(".png")}

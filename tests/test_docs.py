"""The docs say what the code says."""

import tomllib
from pathlib import Path

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


def test_every_picture_and_page_that_is_linked_is_there() -> None:
    readme = (ROOT / "README.md").read_text("utf-8")
    linked = {piece.split(")")[0] for piece in readme.split("](")[1:]}
    assert {path for path in linked if not (ROOT / path).exists()} == set()
    pictures = {f"docs/screenshots/{path.name}" for path in (ROOT / "docs" / "screenshots").iterdir()}
    assert pictures == {path for path in linked if path.endswith(".png")}

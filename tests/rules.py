"""Rules as they stand in `rules.toml`, for tests that need some."""

from __future__ import annotations

import json


def rule(who: str, what: str, actions: str, name: str | None = None, *, effect: str = "allow", **more: object) -> str:
    """A rule; `who`, `what` and `actions` are words with spaces between them, `more` what else it says."""
    listed = {"who": who.split(), "what": what.split(), "actions": actions.split()}
    says = {"name": name, "effect": effect, **listed, **more}
    return "\n[[rule]]\n" + "".join(f"{key} = {_value(value)}\n" for key, value in says.items() if value is not None)


def expected(who: str, action: str, address: str, outcome: str) -> str:
    """What the rules are expected to decide."""
    says = {"who": who, "action": action, "address": address, "outcome": outcome}
    return "\n[[expect]]\n" + "".join(f"{key} = {_value(value)}\n" for key, value in says.items())


def _value(value: object) -> str:
    if isinstance(value, dict):
        return "{ " + ", ".join(f"{key} = {_value(one)}" for key, one in value.items()) + " }"
    if isinstance(value, list):
        return "[" + ", ".join(map(_value, value)) + "]"
    return json.dumps(value, ensure_ascii=False)

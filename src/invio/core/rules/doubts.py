"""Warnings about rules that are valid and look wrong."""

from __future__ import annotations

from collections.abc import Collection

from invio.core.rules.decisions import RuleSet
from invio.core.toml import did_you_mean


def groups_without_members(rules: RuleSet, known: Collection[str]) -> list[str]:
    """A sentence for each group that rules name and nobody is in; `known` are the groups that somebody is in."""
    named: dict[str, int] = {}
    for rule in rules.rules:
        for who in rule.who:
            if who.kind == "group" and who.id not in known:
                named.setdefault(who.id, rule.line)
    return [f"line {line}: nobody is in the group {name!r}{did_you_mean(name, known)}" for name, line in named.items()]

"""The rules in force, for administrators."""

from __future__ import annotations

from invio.core.moments import timestamp
from invio.core.rules.decisions import Rule
from invio.service.dependencies import TheCaller, TheParts, require_administrator
from invio.service.reloading import required
from invio.service.routes import Routes
from invio.service.schemas import RuleShape, RulesShape

routes = Routes("rules")


@routes.get("/api/rules", summary="The rules in force")
async def get_rules(caller: TheCaller, parts: TheParts) -> RulesShape:
    """The rules in force, and the error of a newer rules file that cannot be used. For administrators."""
    await require_administrator(parts, caller)
    in_force = required(parts.rules_file)
    fault = in_force.fault
    if fault is not None:  # by the file's name; where it lies is for the log
        fault = fault.replace(str(in_force.path), in_force.path.name)
    return RulesShape(
        since=timestamp(in_force.since), fault=fault, rules=[rule_shape(rule) for rule in in_force.value.rules]
    )


def rule_shape(rule: Rule) -> RuleShape:
    """A rule as it is told."""
    return RuleShape(
        name=rule.name,
        line=rule.line,
        effect=rule.effect,
        who=[str(who) for who in rule.who],
        what=[pattern.text for pattern in rule.what],
        actions=sorted(rule.actions),
    )

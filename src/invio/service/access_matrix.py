"""Who may do what: with one file, and below the folders of a store, for everybody that the rules tell apart."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Annotated, get_args

from fastapi import Query

from invio.core.addresses import Address
from invio.core.files import ANYONE, Caller
from invio.core.reasons import Refusal
from invio.core.rules.decisions import RuleSet
from invio.records.recipients import Recipient, all_recipients
from invio.service.assembly import Parts
from invio.service.deciding import decided
from invio.service.dependencies import TheCaller, TheParts, read_address, require_administrator
from invio.service.operating_schemas import (
    AccessCell,
    AccessMatrix,
    AccessRow,
    AudienceLine,
    AudienceList,
    Extent,
)
from invio.service.routes import Routes
from invio.service.schemas import Action
from invio.stores.store import Missing

routes = Routes("decisions")
_FOLDERS = 40  # columns of the matrix
_ACTIONS: tuple[str, ...] = get_args(Action)


@routes.get("/api/audience", summary="Who may do one thing with a file")
async def get_audience(
    caller: TheCaller, parts: TheParts, address: Annotated[str, Query(max_length=4096)], action: Action = "read"
) -> AudienceList:
    """Whether anyone, each group, and each recipient whose outcome differs from their groups' may do this with a file.

    Takes `manage` on the file. Only administrators see recipients; others see groups alone.
    """
    where = read_address(address)

    def work() -> AudienceList:
        parts.catalogue.require(caller, "manage", where)
        lines = list(_audience(_rules(parts), parts, action, where))
        if not parts.rules.administers(caller):
            lines = [line for line in lines if not line.who.startswith("recipient:")]
        return AudienceList(address=str(where), action=action, audience=lines)

    return await decided(parts.catalogue.pool_of(where), work, whose=caller.principal)


def _rules(parts: Parts) -> RuleSet:
    rules = parts.rules
    assert isinstance(rules, RuleSet)  # these routes are of a service, which has a rules file
    return rules


def _audience(rules: RuleSet, parts: Parts, action: str, where: Address) -> Iterator[AudienceLine]:
    facts = parts.catalogue.facts(where, None)

    def decided(who: str, caller: Caller) -> AudienceLine:
        decision = rules.explain(caller, action, where, facts)
        reason = next((one for one in decision.reasons if one.spoke), None)
        return AudienceLine(
            who=who,
            allowed=decision.allowed,
            rule=None if reason is None else reason.rule,
            line=None if reason is None else reason.line,
        )

    recipients = _recipients(parts)
    anyone = decided("anyone", ANYONE)
    yield anyone
    groups = {name: decided(f"group:{name}", _somebody_of(name)) for name in _groups(rules, recipients)}
    yield from groups.values()
    for one in recipients:
        line = decided(f"recipient:{one.id}", Caller(one.id, one.groups))
        if line.allowed != (anyone.allowed or any(groups[name].allowed for name in one.groups)):
            yield line


def _recipients(parts: Parts) -> list[Recipient]:
    with parts.engine.connect() as connection:
        return all_recipients(connection)


def _groups(rules: RuleSet, recipients: list[Recipient]) -> list[str]:
    """Every group that the rules name, or somebody is in."""
    named = {who.id for rule in rules.rules for who in rule.who if who.kind == "group"}
    return sorted({str(name) for name in named} | {name for one in recipients for name in one.groups})


def _somebody_of(group: str) -> Caller:
    return Caller(f"somebody-of-{group}", frozenset({group}))


@routes.get("/api/access", summary="Who may do what, folder by folder")
async def get_access(
    caller: TheCaller,
    parts: TheParts,
    within: Annotated[
        str | None, Query(alias="in", max_length=4096, description="`store/` or a folder; without it, the stores")
    ] = None,
) -> AccessMatrix:
    """The access of anyone, of signed-in recipients, and of a member of each group, as of now. For administrators."""
    await require_administrator(parts, caller)
    where = None if within is None else read_address(within if within.endswith("/") else within + "/")
    return await decided(parts.catalogue.pool_of(where), _matrix, parts, where, whose=caller.principal)


def _matrix(parts: Parts, where: Address | None) -> AccessMatrix:
    rules = _rules(parts)
    if where is None:
        folders = [Address(name, "") for name in sorted(parts.catalogue.stores)]
    else:
        folders = [where, *_folders_of(parts, where)]
    shown = folders[:_FOLDERS]
    callers = [("anyone", ANYONE), ("signed-in", Caller("somebody"))]
    callers += [(f"group:{name}", _somebody_of(name)) for name in _groups(rules, _recipients(parts))]
    rows = [
        AccessRow(who=who, cells=[AccessCell(folder=str(one), extents=_extents(rules, who_asks, one)) for one in shown])
        for who, who_asks in callers
    ]
    return AccessMatrix(folders=[str(one) for one in shown], rows=rows, more=len(folders) > len(shown))


def _folders_of(parts: Parts, where: Address) -> list[Address]:
    store = parts.catalogue.stores.get(where.store)
    try:
        listed = [] if store is None else store.list(where)
    except Missing:
        listed = []
    if store is None or (not listed and where.path):
        raise Refusal("missing", f"there is no folder {where}")
    return [one for one in listed if one.folder]


def _extents(rules: RuleSet, caller: Caller, folder: Address) -> dict[str, Extent]:
    return {action: _extent(rules, caller, action, folder) for action in _ACTIONS}


def _extent(rules: RuleSet, caller: Caller, action: str, folder: Address) -> Extent:
    if rules.allows_below(caller, action, folder):
        return "all"
    return "some" if rules.may_reach(caller, action, folder) else "none"

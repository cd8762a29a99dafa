"""Quotas: which apply to a recipient, how much of them is used, and what administrators grant or reset."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated

import sqlalchemy as sa
from fastapi import Query

from invio.core.files import Caller
from invio.core.moments import timestamp
from invio.core.networks import principal
from invio.core.reasons import Refusal
from invio.core.rules.decisions import RuleSet
from invio.core.rules.quotas import Quota
from invio.records import quotas as records
from invio.records.recipients import recipient_named
from invio.service.assembly import Parts
from invio.service.dependencies import TheCaller, TheParts, require_administrator
from invio.service.people_schemas import QuotaGrant, QuotaList, QuotaShape
from invio.service.routes import Routes

routes = Routes("quotas")


@routes.get("/api/quotas", summary="What may still be obtained")
async def get_quotas(
    caller: TheCaller,
    parts: TheParts,
    recipient: Annotated[str | None, Query(max_length=64, description="somebody else, for administrators")] = None,
) -> QuotaList:
    """The quotas of the rules that name the caller or, for administrators, another recipient."""
    if recipient is None or recipient == caller.recipient:
        who = principal(caller.recipient, caller.network)
        return await parts.journal.call(lambda connection: _shown(connection, _quotas_of(parts, caller), who))
    await require_administrator(parts, caller)

    def work(connection: sa.Connection) -> QuotaList:
        return _shown(connection, _quotas_of(parts, _named(connection, recipient)), f"recipient:{recipient}")

    return await parts.journal.call(work)


@routes.post("/api/quotas/{recipient}/grants", summary="Let somebody have more than a quota allows")
async def post_grant(asked: QuotaGrant, caller: TheCaller, parts: TheParts, recipient: str) -> QuotaList:
    """Grants files and bytes beyond the quota of one rule, for one of its periods."""
    files, size = asked.files, asked.bytes

    def work(connection: sa.Connection, quota: Quota) -> None:
        records.grant(connection, f"recipient:{recipient}", quota, files, size)

    shown = await _changed(parts, caller, recipient, asked.rule, work)
    parts.audit("quota.granted", caller, recipient=recipient, rule=asked.rule, files=files, bytes=size)
    return shown


@routes.delete("/api/quotas/{recipient}", summary="Begin somebody's quota anew")
async def delete_quota(
    caller: TheCaller, parts: TheParts, recipient: str, rule: Annotated[str, Query(max_length=200)]
) -> QuotaList:
    """Resets a quota: the recipient's earlier downloads no longer count towards this rule's quota."""

    def work(connection: sa.Connection, quota: Quota) -> None:
        records.reset(connection, f"recipient:{recipient}", quota)

    shown = await _changed(parts, caller, recipient, rule, work)
    parts.audit("quota.reset", caller, recipient=recipient, rule=rule)
    return shown


async def _changed(
    parts: Parts, caller: Caller, recipient: str, rule: str, work: Callable[[sa.Connection, Quota], None]
) -> QuotaList:
    """Changes one quota of a recipient; returns all of theirs. Raises Refusal."""
    await require_administrator(parts, caller)

    def change(connection: sa.Connection) -> QuotaList:
        quotas = _quotas_of(parts, _named(connection, recipient))
        quota = next((one for one in quotas if one.name == rule), None)
        if quota is None:
            names = ", ".join(repr(one.name) for one in quotas) or "none"
            said = f"no rule {rule[:80]!r} with a quota is about {recipient}; theirs are: {names}"
            raise Refusal("missing", said)
        work(connection, quota)
        return _shown(connection, quotas, f"recipient:{recipient}")

    return await parts.journal.call(change)


def _named(connection: sa.Connection, recipient: str) -> Caller:
    found = recipient_named(connection, recipient)
    if found is None:
        raise Refusal("missing", f"there is no recipient {recipient[:64]!r}")
    return Caller(found.id, found.groups)


def _quotas_of(parts: Parts, caller: Caller) -> list[Quota]:
    """The quotas of all rules that name somebody, each once."""
    rules = parts.rules
    assert isinstance(rules, RuleSet)
    return list(dict.fromkeys(quota for rule in rules.rules if rule.concerns(caller) for quota in rule.terms.quotas))


def _shown(connection: sa.Connection, quotas: list[Quota], who: str) -> QuotaList:
    shown = []
    for quota in quotas:
        files, size = records.used(connection, who, quota)
        frees = records.frees_at(connection, who, quota)
        shown.append(
            QuotaShape(
                rule=quota.name,
                seconds=quota.period,
                files=quota.files,
                bytes=quota.bytes,
                used_files=files,
                used_bytes=size,
                frees=None if frees is None else timestamp(frees),
            )
        )
    return QuotaList(quotas=shown)

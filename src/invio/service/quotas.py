"""Quotas: which hold for somebody, and what of them is used."""

from __future__ import annotations

from fastapi import APIRouter

from invio.core.rules.decisions import RuleSet
from invio.records.quotas import used
from invio.service.dependencies import TheCaller, TheParts
from invio.service.schemas import QuotaList, QuotaShape

router = APIRouter(tags=["quotas"])


@router.get("/api/quotas", summary="What may still be obtained")
def get_quotas(caller: TheCaller, parts: TheParts) -> QuotaList:
    """The quotas of the rules that name the caller."""
    rules = parts.rules
    assert isinstance(rules, RuleSet)
    who = f"recipient:{caller.recipient}" if caller.recipient else f"network:{caller.network}"
    shown = []
    quotas = dict.fromkeys(quota for rule in rules.rules if rule.concerns(caller) for quota in rule.terms.quotas)
    with parts.engine.connect() as connection:
        for quota in quotas:
            files, size = used(connection, who, quota)
            shown.append(
                QuotaShape(
                    rule=quota.name,
                    seconds=quota.period,
                    files=quota.files,
                    bytes=quota.bytes,
                    used_files=files,
                    used_bytes=size,
                )
            )
    return QuotaList(quotas=shown)

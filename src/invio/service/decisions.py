"""Why: the decision on one question, with its reasons."""

from __future__ import annotations

from dataclasses import asdict, replace
from ipaddress import ip_address
from typing import Annotated

from fastapi import Query
from starlette.concurrency import run_in_threadpool

from invio.core.addresses import Address
from invio.core.files import ANYONE, Caller
from invio.core.moments import LAST_MOMENT
from invio.core.reasons import Refusal
from invio.core.rules.decisions import RuleSet
from invio.delivery.sending.eager import in_pool
from invio.records.recipients import recipient_named
from invio.service.assembly import Parts
from invio.service.dependencies import TheCaller, TheParts, read_address
from invio.service.routes import Routes
from invio.service.schemas import Action, DecisionShape, ReasonShape

routes = Routes("decisions")


@routes.get("/api/decisions", summary="Why may, or may not, somebody do this")
async def get_decision(
    *,
    caller: TheCaller,
    parts: TheParts,
    address: str,
    recipient: str | None = Query(
        None, alias="as", description="a recipient's id, or `anyone`; without it, the caller"
    ),
    action: Action = "read",
    version: Annotated[
        int | None, Query(ge=1, le=10**15 - 1, description="of a file that is kept in versions; else the newest")
    ] = None,
    at: Annotated[float | None, Query(ge=0, le=LAST_MOMENT, description="Unix seconds; without it, now")] = None,
    network: Annotated[str | None, Query(max_length=45, description="asked from this network address")] = None,
) -> DecisionShape:
    """Explains one decision: each rule that applied and, for the others, the first condition that failed.

    Callers may ask about themselves and get the outcome. The rules behind it, other recipients' outcomes, and those at
    another time or from another network are for callers who may `manage` the address.
    """
    where = read_address(address)
    await parts.rules.prefetch(caller, "manage", where)
    subject = await run_in_threadpool(_subject, parts, caller, where, recipient)
    if at is not None or network is not None:
        parts.catalogue.require(caller, "manage", where)
        subject = replace(subject, network=_network(network) if network is not None else subject.network)
    facts = await in_pool(parts.catalogue.pool_of(where), parts.catalogue.facts, where, version, whose=caller.principal)
    await parts.rules.prefetch(subject, action, where)
    rules = parts.rules
    if at is not None and isinstance(rules, RuleSet):
        moment = at
        rules = rules.under(clock=lambda: moment)
    decision = rules.explain(subject, action, where, facts)
    allowed = decision.allowed
    if facts is None and rules.looks_at_files and not where.folder:
        # What depends on the file is not told of one that is not there: or absence would differ from refusal.
        allowed = allowed and rules.allows_below(subject, action, where)
    reasons = [ReasonShape.model_validate(asdict(reason)) for reason in decision.reasons]
    if not parts.rules.allows(caller, "manage", where):
        reasons = []
    return DecisionShape(
        recipient=subject.recipient,
        groups=sorted(subject.groups),
        action=action,
        address=str(where),
        allowed=allowed,
        reasons=reasons,
    )


def _network(text: str) -> str:
    """A network address that somebody sent. Raises Refusal (`bad-request`)."""
    try:
        return str(ip_address(text))
    except ValueError:
        raise Refusal("bad-request", f"{text!r} is no network address; give one as in 192.0.2.7") from None


def _subject(parts: Parts, caller: Caller, address: Address, recipient: str | None) -> Caller:
    """Whom the question is about."""
    if recipient is None or recipient == caller.recipient:
        return caller
    parts.catalogue.require(caller, "manage", address)
    if recipient == "anyone":
        return ANYONE
    with parts.engine.connect() as connection:
        found = recipient_named(connection, recipient)
    if found is None:
        raise Refusal("missing", f"there is no recipient {recipient!r}")
    return Caller(found.id, found.groups)

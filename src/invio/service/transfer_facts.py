"""One transfer: all that is known of it, and ending it by hand."""

from __future__ import annotations

from typing import Annotated

from fastapi import Path

from invio.core.files import Caller
from invio.core.moments import timestamp
from invio.core.reasons import Refusal
from invio.delivery.sending.eager import in_pool
from invio.delivery.transfers.states import TransferState, view
from invio.records.rows import RUNNING, TransferRow
from invio.records.transfer_requests import EndedRequest, requests_of
from invio.records.transfers import with_ids
from invio.service.assembly import Parts
from invio.service.dependencies import TheCaller, TheParts
from invio.service.operating_schemas import TransferFacts, TransferRequest, TransferRequests
from invio.service.routes import Routes
from invio.service.transfers import TransferVisibility

routes = Routes("transfers")
TransferId = Annotated[str, Path(pattern=r"^[0-9a-f]{20}$", description="the transfer's id")]


@routes.get("/api/transfers/{transfer}", summary="One transfer")
async def get_transfer(transfer: TransferId, caller: TheCaller, parts: TheParts) -> TransferFacts:
    """A transfer: the caller's own; for callers who may `manage` its file, anybody's, with its network address."""
    state, manages = await seen_transfer(parts, caller, transfer)
    row = state.row
    return TransferFacts.model_validate(
        view(state)
        | {
            "network": row.network if manages else None,
            "credential": row.credential if manages else None,
            "decided_by": row.decided_by if manages else None,
            "etag": row.etag,
            "coverage": [(span[0], span[1]) for span in row.coverage],
        }
    )


@routes.get("/api/transfers/{transfer}/requests", summary="The requests of a transfer")
async def get_transfer_requests(transfer: TransferId, caller: TheCaller, parts: TheParts) -> TransferRequests:
    """The ended requests of a transfer. A single request that delivered everything is not listed separately."""
    state, _ = await seen_transfer(parts, caller, transfer)

    def look_up() -> list[EndedRequest]:
        with parts.engine.connect() as connection:
            return requests_of(connection, state.row.id)

    found = await in_pool(parts.pools.history, look_up, whose=caller.principal)
    return TransferRequests(requests=[_shown(one) for one in found])


def _shown(one: EndedRequest) -> TransferRequest:
    return TransferRequest(
        started=timestamp(one.began),
        ended=timestamp(one.ended),
        start=one.start,
        asked=one.asked,
        arrived=one.arrived,
        reason=one.reason,
    )


@routes.delete("/api/transfers/{transfer}", status_code=204, summary="End a transfer")
async def end_transfer(transfer: TransferId, caller: TheCaller, parts: TheParts) -> None:
    """Ends a running transfer: the caller's own; for callers who may `manage` its file, anybody's.

    Bytes that arrived stay with the client, which may resume the rest while it has access; to prevent that, remove the
    right or revoke the link first. A transfer of another process ends within two seconds.
    """
    state, _ = await seen_transfer(parts, caller, transfer)
    if state.row.state != RUNNING:
        raise Refusal("bad-request", "this transfer has ended already")
    await parts.endings.end(transfer, caller.recipient or "anyone")
    parts.audit("transfer.ended", caller, transfer=transfer, address=state.row.address)


async def seen_transfer(parts: Parts, caller: Caller, transfer: str) -> tuple[TransferState, bool]:
    """The transfer, and whether the caller manages its file. Raises Refusal (`missing`)."""
    may_see = TransferVisibility(parts, caller)
    await parts.transfers.recorded()

    def look_up() -> list[TransferRow]:
        with parts.engine.connect() as connection:
            return with_ids(connection, [transfer])

    running = list(parts.transfers.live.running(lambda row: row.id == transfer))
    found = running or [
        TransferState(row) for row in await in_pool(parts.pools.history, look_up, whose=caller.principal)
    ]
    if found:
        await may_see.prefetch({found[0].row.address})
        if may_see(found[0].row):
            return found[0], await may_see.manages(found[0].row.address)
    raise Refusal("missing", "there is no such transfer that you may see")

"""Receipts for transfers that arrived, and the public keys that prove them."""

from __future__ import annotations

import time

from fastapi import Request, Response

from invio.core.addresses import parse_address
from invio.core.reasons import Refusal
from invio.delivery.sending.eager import in_pool
from invio.records.rows import COMPLETE, TransferRow
from invio.records.versions import digest_of_version
from invio.service.assembly import Parts
from invio.service.dependencies import TheCaller, TheParts
from invio.service.operating_schemas import KeySet
from invio.service.routes import Routes
from invio.service.transfer_facts import TransferId, seen_transfer

routes = Routes("transfers")
_JWS = "application/jose"  # RFC 7515 §9.2.1


@routes.get(
    "/api/transfers/{transfer}/receipt",
    summary="A signed statement that a transfer arrived",
    response_class=Response,
    responses={200: {"content": {_JWS: {"schema": {"type": "string"}}}, "description": "A JWS in its compact form"}},
)
async def get_receipt(transfer: TransferId, request: Request, caller: TheCaller, parts: TheParts) -> Response:
    """The receipt of a transfer that has arrived whole. For its recipient, and callers who may `manage` the file.

    It is signed with Ed25519 by a key of `/api/public-keys`, and can be checked without the service.
    """
    state, _ = await seen_transfer(parts, caller, transfer)
    if state.row.state != COMPLETE:
        said = "it is still on its way" if state.row.state == "running" else "it did not arrive whole"
        raise Refusal("not-arrived", f"there is no receipt for this transfer: {said}")
    # With the cryptography of its signature it takes memory, which only those need who ask for receipts.
    from invio.core.receipts import Receipt, sign

    row, key = state.row, (await parts.signing_keys.known())[0]
    digest = await in_pool(parts.pools.history, _digest, parts, row, whose=caller.principal)
    receipt = Receipt(
        service=parts.behind.base_of(request),
        transfer=row.id,
        address=row.address,
        version=row.version,
        rendition=row.rendition,
        size=row.size,
        etag=row.etag,
        sha256=digest,
        recipient=row.recipient,
        made_for=row.made_for,
        link=row.link_id,
        began=row.started,
        arrived=row.updated,
        signed=time.time(),
    )
    headers = {"Content-Disposition": f'attachment; filename="receipt-{row.id}.jws"'}
    return Response(sign(receipt, key), media_type=_JWS, headers=headers)


@routes.get("/api/public-keys", summary="The keys that prove receipts")
async def get_public_keys(parts: TheParts) -> KeySet:
    """The keys that prove receipts and webhooks: a JWK Set (RFC 7517), for anyone.

    Keep it beside your receipts to check them without the service.
    """
    return KeySet.model_validate({"keys": [key.public() for key in await parts.signing_keys.known()]})


def _digest(parts: Parts, row: TransferRow) -> str | None:
    """SHA-256 of what arrived, in hexadecimal; None where it is not known."""
    if row.version is None or row.rendition is not None:
        found = parts.digests.known(row.etag)
    else:
        address = parse_address(row.address)
        with parts.engine.connect() as connection:
            found = digest_of_version(connection, address.store, address.path, row.version)
    return None if found is None else found.hex()

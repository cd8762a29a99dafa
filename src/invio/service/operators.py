"""For operators: is the service alive, and can it deliver."""

from __future__ import annotations

import sqlalchemy as sa
from fastapi import APIRouter, Response

from invio.service.asking import TheParts

router = APIRouter(tags=["operators"])


@router.get("/healthz", summary="The process answers")
async def healthz() -> dict[str, str]:
    """Answers as long as the process runs its event loop."""
    return {"status": "alive"}


@router.get("/readyz", summary="The service can deliver")
async def readyz(response: Response, parts: TheParts) -> dict[str, str]:
    """200 when the records can be written; 503 otherwise, and while the service is stopping.

    `rules` and `keys` stand there when a file of them came that cannot be used.
    """
    if parts.stopping():
        response.status_code = 503
        return {"status": "stopping"}
    try:
        await parts.journal.call(lambda connection: connection.execute(sa.text("SELECT 1")).scalar())
    except sa.exc.SQLAlchemyError:
        response.status_code = 503
        return {"status": "the records cannot be written"}
    told = {"status": "ready"}
    for what, file in (("rules", parts.rules_file), ("keys", parts.keys_file)):
        if file is not None and file.fault is not None:
            told[what] = f"the file of the {what} cannot be used; those before it are in force"
    return told

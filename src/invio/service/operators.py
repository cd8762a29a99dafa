"""For operators: is the service alive, and can it deliver."""

from __future__ import annotations

import asyncio
import time

import sqlalchemy as sa
from fastapi import Response

from invio.records.facts import save_fact
from invio.service.assembly import Parts
from invio.service.dependencies import TheParts
from invio.service.routes import Routes
from invio.service.schemas import Readiness

routes = Routes("operators")
_WRITES_WITHIN = 2.0  # seconds


@routes.get("/healthz", summary="The process answers")
async def healthz() -> dict[str, str]:
    """Responds as long as the process runs its event loop."""
    return {"status": "alive"}


@routes.get(
    "/readyz",
    summary="The service can deliver",
    response_model_exclude_defaults=True,
    responses={503: {"model": Readiness}},
)
async def readyz(response: Response, parts: TheParts) -> Readiness:
    """200 while the service can deliver and record; 503 otherwise, and from the announcement of a stop on.

    `faults` name each part that does not work. `hints` name what needs attention although everything is delivered, such
    as a rules or key file that cannot be used, so that the previous one stays in force.
    """
    faults, hints = parts.health.faults, parts.health.hints
    for what, file in (("rules", parts.rules_file), ("keys", parts.keys_file)):
        if file is not None and file.fault is not None:
            hints[what] = f"the file of the {what} cannot be used; those before it are in force"
    if parts.stopping():
        response.status_code = 503
        return Readiness(status="stopping", faults=faults, hints=hints)
    fault = await _writing_fails(parts)
    if fault is not None:
        faults["records"] = fault
    if faults:
        response.status_code = 503
        return Readiness(status="not ready", faults=faults, hints=hints)
    return Readiness(status="ready", faults={}, hints=hints)


async def _writing_fails(parts: Parts) -> str | None:
    """Why the records cannot be written now; None when they can."""
    try:
        async with asyncio.timeout(_WRITES_WITHIN):
            await parts.journal.call(lambda connection: save_fact(connection, "readiness", str(int(time.time()))))
    except TimeoutError:
        return f"nothing could be written to the records for {_WRITES_WITHIN:g} seconds"
    except sa.exc.SQLAlchemyError as error:
        return f"the records cannot be written: {error.__cause__ or error}"
    return None

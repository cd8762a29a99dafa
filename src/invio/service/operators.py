"""For operators: is the service alive, and can it deliver."""

from __future__ import annotations

from fastapi import Response

from invio.service.dependencies import TheParts
from invio.service.probes import ALIVE, readiness
from invio.service.routes import Routes
from invio.service.schemas import Readiness

routes = Routes("operators")


@routes.get("/healthz", summary="The process answers")
async def healthz() -> dict[str, str]:
    """Responds as long as the process runs its event loop."""
    return dict(ALIVE)


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
    response.status_code, said = await readiness(parts)
    return Readiness(**said)

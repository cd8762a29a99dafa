"""The audit, for administrators: sign-ins, and changes of recipients, tokens, passwords, keys, rules and links."""

from __future__ import annotations

from contextlib import suppress
from functools import partial
from typing import Annotated

from fastapi import Query
from sqlalchemy.exc import SQLAlchemyError

from invio.core.moments import timestamp
from invio.delivery.sending.eager import in_pool
from invio.records.audit import AuditLine, page_of_lines
from invio.service.assembly import Parts
from invio.service.dependencies import TheCaller, TheParts, require_administrator
from invio.service.people_schemas import AuditList, AuditShape
from invio.service.routes import Routes

routes = Routes("history")


@routes.get("/api/audit", summary="Who changed what, and who signed in")
async def get_audit(
    *,
    caller: TheCaller,
    parts: TheParts,
    before: Annotated[int | None, Query(ge=1, le=2**53, description="lines before this id")] = None,
    event: Annotated[str | None, Query(max_length=40, description="an event, or all of a kind: `token`")] = None,
    by: Annotated[str | None, Query(max_length=64, description="a recipient's id")] = None,
    limit: Annotated[int, Query(ge=1, le=1000)] = 100,
) -> AuditList:
    """The audit, newest first. Takes the right `administer`. Lines of other processes appear within two seconds."""
    await require_administrator(parts, caller)
    with suppress(SQLAlchemyError):  # what cannot be written now waits on, and what is there is shown
        await parts.audit.write(parts.journal)
    wanted = partial(_lines, parts, before, event, by, limit)
    lines = await in_pool(parts.pools.history, wanted, whose=caller.principal)
    following = lines[-1].id if len(lines) == limit else None
    return AuditList(lines=[_shape(line) for line in lines], next=following)


def _lines(parts: Parts, before: int | None, event: str | None, by: str | None, limit: int) -> list[AuditLine]:
    with parts.engine.connect() as connection:
        return page_of_lines(connection, before, event, by, limit)


def _shape(line: AuditLine) -> AuditShape:
    return AuditShape(
        id=line.id,
        at=timestamp(line.at),
        event=line.event,
        by=line.by,
        network=line.network,
        credential=line.credential,
        about=line.about,
    )

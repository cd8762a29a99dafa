"""Sessions of one recipient: who is signed in, and ending that. For administrators, and for oneself."""

from __future__ import annotations

import sqlalchemy as sa
from fastapi import Path

from invio.core.files import Caller
from invio.core.moments import timestamp
from invio.core.reasons import Refusal
from invio.records import recipients as records
from invio.service.assembly import Parts
from invio.service.dependencies import TheCaller, TheParts, require_administrator
from invio.service.operating_schemas import SessionList, SessionShape
from invio.service.routes import Routes

routes = Routes("sessions")
_Id = Path(pattern=r"^[A-Za-z0-9._@-]{1,64}$", description="the recipient")


@routes.get("/api/recipients/{recipient}/sessions", summary="Where somebody is signed in")
async def list_sessions(caller: TheCaller, parts: TheParts, recipient: str = _Id) -> SessionList:
    """A recipient's valid console sessions, newest first. For administrators and the recipient."""
    await require_own(parts, caller, recipient)

    def work(connection: sa.Connection) -> list[SessionShape]:
        return [
            SessionShape(
                id=one.id, created=timestamp(one.created), expires=timestamp(one.expires), opened_by=one.opened_by
            )
            for one in records.sessions_of(connection, recipient)
        ]

    return SessionList(sessions=await parts.journal.call(work))


@routes.delete("/api/recipients/{recipient}/sessions", status_code=204, summary="Sign somebody out everywhere")
async def delete_sessions(caller: TheCaller, parts: TheParts, recipient: str = _Id) -> None:
    """Ends all console sessions of a recipient; tokens stay valid. For administrators and the recipient."""
    await require_own(parts, caller, recipient)
    count = await parts.journal.call(lambda connection: records.close_sessions(connection, recipient))
    parts.identifier.forget_all()
    parts.audit("sessions.ended", caller, recipient=recipient, count=count)


async def require_own(parts: Parts, caller: Caller, recipient: str) -> None:
    """Raises Refusal, unless this is about the caller, or the caller administers and there is such a recipient."""
    if caller.recipient is not None and caller.recipient == recipient:
        return
    await require_administrator(parts, caller)
    if not await parts.journal.call(lambda connection: records.recipient_named(connection, recipient)):
        raise Refusal("missing", f"there is no recipient {recipient!r}")

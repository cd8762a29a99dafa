"""Recipients and their tokens, for those who manage a store."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import TypeVar

import sqlalchemy as sa
from fastapi import APIRouter, Path
from starlette.concurrency import run_in_threadpool

from invio.core.reasons import Refusal
from invio.delivery.board import timestamp
from invio.records import recipients as records
from invio.records.recipients import Recipient, TokenFacts
from invio.service.asking import TheCaller, TheParts, require_manager
from invio.service.assembly import Parts
from invio.service.passwords import hashed_password
from invio.service.shapes import PasswordAsk, RecipientAsk, RecipientList, RecipientShape, TokenAsk, TokenShape

router = APIRouter(tags=["recipients"])
_Id = Path(pattern=r"^[A-Za-z0-9._@-]{1,64}$", description="the recipient")
T = TypeVar("T")


@router.get("/api/recipients", summary="Everybody")
async def list_recipients(caller: TheCaller, parts: TheParts) -> RecipientList:
    """All recipients with what is known of their tokens. For those who may `manage` a store."""
    require_manager(parts, caller)

    def work(connection: sa.Connection) -> list[RecipientShape]:
        return [_shape(connection, one) for one in records.all_recipients(connection)]

    return RecipientList(recipients=await parts.journal.call(work))


@router.put("/api/recipients/{recipient}", summary="Add somebody, or change their name and groups")
async def put_recipient(
    asked: RecipientAsk, caller: TheCaller, parts: TheParts, recipient: str = _Id
) -> RecipientShape:
    """Adds a recipient, without a token; or gives an existing one this name and these groups."""
    require_manager(parts, caller)

    def work(connection: sa.Connection) -> RecipientShape:
        records.save_recipient(connection, recipient, asked.name or recipient, asked.groups)
        return _known(connection, recipient)

    return await _changed(parts, work)


@router.post("/api/recipients/{recipient}/tokens", status_code=201, summary="Make a token")
async def post_token(asked: TokenAsk, caller: TheCaller, parts: TheParts, recipient: str = _Id) -> TokenShape:
    """The token is told in this answer and never again; what is kept of it is a hash."""
    require_manager(parts, caller)

    def work(connection: sa.Connection) -> TokenShape:
        _known(connection, recipient)
        expires = None if asked.seconds is None else time.time() + asked.seconds
        token = records.add_token(connection, recipient, asked.label, expires)
        [facts] = [one for one in records.tokens_of(connection, recipient) if one.id == records.token_id(token)]
        return _token(facts).model_copy(update={"token": token})

    return await _changed(parts, work)


@router.delete("/api/recipients/{recipient}/tokens/{token}", status_code=204, summary="End a token")
async def delete_token(caller: TheCaller, parts: TheParts, token: str, recipient: str = _Id) -> None:
    """By its id. It is refused from now on; in other processes within two seconds."""
    require_manager(parts, caller)
    if not await _changed(parts, lambda connection: records.end_token(connection, recipient, token)):
        raise Refusal("missing", f"{recipient} has no token {token[:64]!r}")


@router.put("/api/recipients/{recipient}/password", status_code=204, summary="Set a password for the console")
async def put_password(asked: PasswordAsk, caller: TheCaller, parts: TheParts, recipient: str = _Id) -> None:
    """Anybody for themselves, with a session or a token; those who manage, for everybody. Ends their sessions."""
    if caller.recipient is None or caller.recipient != recipient:
        require_manager(parts, caller)
    kept = None if asked.password is None else await run_in_threadpool(hashed_password, asked.password)
    if not await _changed(parts, lambda connection: records.set_password(connection, recipient, kept)):
        raise Refusal("missing", f"there is no recipient {recipient!r}")


@router.post("/api/recipients/{recipient}/disable", summary="Let nobody in as this recipient")
async def post_disable(caller: TheCaller, parts: TheParts, recipient: str = _Id) -> RecipientShape:
    """Tokens and sessions are refused from now on, and what is being delivered goes on."""
    return await _disable(caller, parts, recipient, True)


@router.post("/api/recipients/{recipient}/enable", summary="Let them in again")
async def post_enable(caller: TheCaller, parts: TheParts, recipient: str = _Id) -> RecipientShape:
    """The tokens that have not ended hold again."""
    return await _disable(caller, parts, recipient, False)


async def _disable(caller: TheCaller, parts: TheParts, recipient: str, disabled: bool) -> RecipientShape:
    require_manager(parts, caller)
    if disabled and recipient == caller.recipient:
        raise Refusal("bad-request", "that is yourself; have somebody else do it")

    def work(connection: sa.Connection) -> RecipientShape:
        records.disable(connection, recipient, disabled)
        return _known(connection, recipient)

    return await _changed(parts, work)


async def _changed(parts: Parts, work: Callable[[sa.Connection], T]) -> T:
    """Does it, and forgets who was let in before."""
    result = await parts.journal.call(work)
    parts.identifier.forget_all()
    return result


def _known(connection: sa.Connection, recipient: str) -> RecipientShape:
    found = records.recipient_named(connection, recipient)
    if found is None:
        raise Refusal("missing", f"there is no recipient {recipient!r}")
    return _shape(connection, found)


def _shape(connection: sa.Connection, recipient: Recipient) -> RecipientShape:
    return RecipientShape(
        id=recipient.id,
        name=recipient.name,
        groups=sorted(recipient.groups),
        disabled=None if recipient.disabled is None else timestamp(recipient.disabled),
        tokens=[_token(facts) for facts in records.tokens_of(connection, recipient.id)],
    )


def _token(facts: TokenFacts) -> TokenShape:
    return TokenShape(
        id=facts.id,
        label=facts.label,
        created=timestamp(facts.created),
        expires=None if facts.expires is None else timestamp(facts.expires),
        used=None if facts.used is None else timestamp(facts.used),
    )

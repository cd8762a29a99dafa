"""Recipients and their tokens, for administrators."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import TypeVar

import sqlalchemy as sa
from fastapi import Path, Request

from invio.core.files import Caller
from invio.core.moments import timestamp
from invio.core.reasons import Refusal
from invio.core.sign_ins import password_counters
from invio.delivery.access.authentication import session_secret
from invio.records import recipients as records
from invio.records.links import revoke_all
from invio.records.recipients import Recipient, TokenFacts
from invio.records.sign_ins import forget_devices, succeeded
from invio.service.assembly import Parts
from invio.service.console_sessions import require_own
from invio.service.dependencies import TheCaller, TheParts, administers, head_of, require_administrator
from invio.service.passwords import hashed_password, is_password
from invio.service.people_schemas import (
    PasswordAsk,
    RecipientAsk,
    RecipientChange,
    RecipientList,
    RecipientShape,
    TokenAsk,
    TokenShape,
)
from invio.service.routes import Routes
from invio.service.sessions import count_attempt
from invio.workers.pool import PoolBusy

routes = Routes("recipients")
_Id = Path(pattern=r"^[A-Za-z0-9._@-]{1,64}$", description="the recipient")
_FRESH = 600.0  # seconds after signing in within which a password need not be given again
_MEANS_OTHERS = ("anyone", "signed-in")
T = TypeVar("T")


@routes.get("/api/recipients", summary="Everybody")
async def list_recipients(caller: TheCaller, parts: TheParts) -> RecipientList:
    """All recipients, with the facts of their tokens. For administrators."""
    await require_administrator(parts, caller)

    def work(connection: sa.Connection) -> list[RecipientShape]:
        return [_shape(connection, one) for one in records.all_recipients(connection)]

    return RecipientList(recipients=await parts.journal.call(work))


@routes.get("/api/recipients/{recipient}", summary="One recipient")
async def get_recipient(caller: TheCaller, parts: TheParts, recipient: str = _Id) -> RecipientShape:
    """A recipient, with the facts of their tokens. For administrators and the recipient."""
    await require_own(parts, caller, recipient)
    return await parts.journal.call(lambda connection: _known(connection, recipient))


@routes.put("/api/recipients/{recipient}", summary="Add somebody, or change their name and groups")
async def put_recipient(
    asked: RecipientAsk, request: Request, caller: TheCaller, parts: TheParts, recipient: str = _Id
) -> RecipientShape:
    """Adds a recipient, without a token, or replaces the name and groups of an existing one.

    With `If-None-Match: *` an existing recipient is not changed (412). `PATCH` changes single groups.
    """
    if recipient in _MEANS_OTHERS:
        raise Refusal("bad-request", f"{recipient!r} has a meaning of its own in the rules; choose another id")
    await require_administrator(parts, caller)
    only_new = head_of(request).get(b"if-none-match") == "*"

    def work(connection: sa.Connection) -> RecipientShape:
        if only_new and records.recipient_named(connection, recipient) is not None:
            raise Refusal("precondition", f"there is a recipient {recipient!r} already; nothing was changed")
        records.save_recipient(connection, recipient, asked.name or recipient, asked.groups)
        return _known(connection, recipient)

    changed = await _changed(parts, work)
    parts.audit("recipient.saved", caller, recipient=recipient, groups=changed.groups)
    return changed


@routes.patch("/api/recipients/{recipient}", summary="Change somebody's name, or single groups")
async def patch_recipient(
    asked: RecipientChange, caller: TheCaller, parts: TheParts, recipient: str = _Id
) -> RecipientShape:
    """Changes the given fields, and keeps the others."""
    await require_administrator(parts, caller)
    both = sorted({*asked.add_groups} & {*asked.remove_groups})
    if both:
        raise Refusal("bad-request", f"the group {both[0]!r} is to be added and removed; name it once")

    def work(connection: sa.Connection) -> RecipientShape:
        before = _known(connection, recipient)
        groups = {*before.groups, *asked.add_groups} - {*asked.remove_groups}
        records.save_recipient(connection, recipient, asked.name or before.name, groups)
        return _known(connection, recipient)

    changed = await _changed(parts, work)
    parts.audit("recipient.saved", caller, recipient=recipient, groups=changed.groups)
    return changed


@routes.delete("/api/recipients/{recipient}", status_code=204, summary="Remove somebody")
async def delete_recipient(caller: TheCaller, parts: TheParts, recipient: str = _Id) -> None:
    """Removes a recipient's name, groups, password, tokens and sessions, and their network addresses in the history.

    Their downloads stay in the history, by the id. The links they made are revoked.
    """
    await require_administrator(parts, caller)
    if recipient == caller.recipient:
        raise Refusal("bad-request", "you cannot do this to yourself; ask another administrator")

    def work(connection: sa.Connection) -> bool:
        revoke_all(connection, recipient)
        return records.remove(connection, recipient)

    # Lines that this process has not written yet must be removed as well.
    await parts.audit.write(parts.journal)
    if not await _changed(parts, work):
        raise Refusal("missing", f"there is no recipient {recipient!r}")
    parts.audit("recipient.removed", caller, recipient=recipient)


@routes.post("/api/recipients/{recipient}/tokens", status_code=201, summary="Make a token")
async def post_token(asked: TokenAsk, caller: TheCaller, parts: TheParts, recipient: str = _Id) -> TokenShape:
    """Creates a token. Only this response contains it; the service keeps its hash."""
    await require_administrator(parts, caller)

    def work(connection: sa.Connection) -> TokenShape:
        _known(connection, recipient)
        expires = None if asked.seconds is None else time.time() + asked.seconds
        token = records.add_token(connection, recipient, asked.label, expires)
        [facts] = [one for one in records.tokens_of(connection, recipient) if one.id == records.token_id(token)]
        return _token(facts).model_copy(update={"token": token})

    made = await _changed(parts, work)
    parts.audit("token.made", caller, recipient=recipient, token=made.id, label=made.label, until=made.expires)
    return made


@routes.delete("/api/recipients/{recipient}/tokens/{token}", status_code=204, summary="End a token")
async def delete_token(caller: TheCaller, parts: TheParts, token: str, recipient: str = _Id) -> None:
    """Ends a token by its id, in other processes within two seconds. For administrators and its recipient."""
    await require_own(parts, caller, recipient)
    if not await _changed(parts, lambda connection: records.end_token(connection, recipient, token)):
        raise Refusal("missing", f"{recipient} has no token {token[:64]!r}")
    parts.audit("token.ended", caller, recipient=recipient, token=token)


@routes.put("/api/recipients/{recipient}/password", status_code=204, summary="Set a password for the console")
async def put_password(
    asked: PasswordAsk, request: Request, caller: TheCaller, parts: TheParts, recipient: str = _Id
) -> None:
    """Sets or removes a password, and ends the recipient's sessions.

    Administrators may do this for everybody; recipients for themselves, with `current`, or within ten minutes of
    signing in with the password. A token alone is not enough, so that a stolen one cannot set a password.
    """
    if caller.recipient is None or caller.recipient != recipient:
        await require_administrator(parts, caller)
    elif not await administers(parts, caller):
        await _require_current(asked, request, parts, caller)
    kept = None if asked.password is None else await _hashed(parts, asked.password)

    def work(connection: sa.Connection) -> bool:
        forget_devices(connection, recipient)
        return records.set_password(connection, recipient, kept)

    if not await _changed(parts, work):
        raise Refusal("missing", f"there is no recipient {recipient!r}")
    parts.audit("password.set" if kept else "password.removed", caller, recipient=recipient)


async def _hashed(parts: Parts, password: str) -> str:
    try:
        return await parts.pools.passwords.run(hashed_password, password)
    except PoolBusy:
        raise Refusal("busy", "too many sign-ins are being checked; try again in a moment", retry_after=2) from None


async def _require_current(asked: PasswordAsk, request: Request, parts: Parts, caller: Caller) -> None:
    """Raises Refusal, unless the caller knows the password that is to be changed."""
    recipient, secret = str(caller.recipient), session_secret(head_of(request)) if caller.session else None

    def look_up() -> tuple[str | None, bool]:
        with parts.engine.connect() as connection:
            lately = secret is not None and records.signed_in_lately(connection, secret, _FRESH)
            return records.password_of(connection, recipient), lately

    kept, lately = await parts.pools.identification.run(look_up)
    if lately:
        return
    if kept is None:
        raise Refusal("not-allowed", "ask an administrator to set your first password")
    if asked.current is None:
        raise Refusal("not-allowed", "'current' must be the password that you have now")
    counters = password_counters(recipient, caller.network, None)
    await count_attempt(parts, counters, caller.network, recipient)
    if not await parts.pools.passwords.run(is_password, kept, asked.current):
        raise Refusal("not-allowed", "'current' is not the password that you have now")
    await parts.journal.call(lambda connection: succeeded(connection, counters))


@routes.post("/api/recipients/{recipient}/disable", summary="Let nobody in as this recipient")
async def post_disable(caller: TheCaller, parts: TheParts, recipient: str = _Id) -> RecipientShape:
    """Disables a recipient: tokens and sessions are refused. Downloads under way continue."""
    return await _disable(caller, parts, recipient, disabled=True)


@routes.post("/api/recipients/{recipient}/enable", summary="Let them in again")
async def post_enable(caller: TheCaller, parts: TheParts, recipient: str = _Id) -> RecipientShape:
    """Enables a recipient: tokens that have not ended are valid again."""
    return await _disable(caller, parts, recipient, disabled=False)


async def _disable(caller: TheCaller, parts: TheParts, recipient: str, *, disabled: bool) -> RecipientShape:
    await require_administrator(parts, caller)
    if disabled and recipient == caller.recipient:
        raise Refusal("bad-request", "you cannot do this to yourself; ask another administrator")

    def work(connection: sa.Connection) -> RecipientShape:
        records.disable(connection, recipient, disabled=disabled)
        return _known(connection, recipient)

    changed = await _changed(parts, work)
    parts.audit("recipient.disabled" if disabled else "recipient.enabled", caller, recipient=recipient)
    return changed


async def _changed(parts: Parts, work: Callable[[sa.Connection], T]) -> T:
    """Makes the change, and clears the cache of credentials."""
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

"""Webhooks, for administrators: which addresses are told of what, and what became of it."""

from __future__ import annotations

import secrets
import time
from collections.abc import Callable
from functools import partial
from typing import Annotated

import sqlalchemy as sa
from fastapi import Path, Query

from invio.core.files import Caller
from invio.core.moments import timestamp
from invio.core.reasons import Refusal
from invio.core.webhooks import EVENTS, TRIAL
from invio.delivery.sending.eager import in_pool
from invio.records import webhooks
from invio.records.webhooks import Delivery, Webhook
from invio.service.assembly import Parts
from invio.service.dependencies import TheCaller, TheParts, require_administrator
from invio.service.routes import Routes
from invio.service.webhook_schemas import DeliveryList, DeliveryShape, WebhookAsk, WebhookList, WebhookShape

routes = Routes("webhooks")
_Id = Annotated[str, Path(pattern=r"^[0-9a-f]{12}$", description="the webhook's id")]
_Number = Annotated[int, Path(ge=1, le=2**53, description="the delivery's number")]
_MOST = 100  # webhooks


@routes.get("/api/webhooks", summary="Addresses that are told of events")
async def list_webhooks(caller: TheCaller, parts: TheParts) -> WebhookList:
    """The webhooks, with the number of waiting deliveries of each, and the available events."""
    await require_administrator(parts, caller)
    return await in_pool(parts.pools.history, _list, parts, whose=caller.principal)


@routes.post("/api/webhooks", status_code=201, summary="Have an address be told of events")
async def post_webhook(ask: WebhookAsk, caller: TheCaller, parts: TheParts) -> WebhookShape:
    """Adds a webhook: each event is posted as signed JSON, and again for most of a day until the response is a 2xx.

    `delivery` numbers it. `Invio-Signature` is a detached JWS over the body, by a key of `/api/public-keys`.
    """
    await require_administrator(parts, caller)
    from invio.service.webhook_posts import why_not  # loads what speaks HTTP

    refused = why_not(parts.settings.webhooks, ask.url)
    if refused is not None:
        raise Refusal("bad-request", f"{ask.url} cannot be a webhook: {refused}")
    hook = Webhook(secrets.token_hex(6), ask.url, ask.label, tuple(ask.events), time.time(), caller.recipient)

    def add(connection: sa.Connection) -> None:
        if len(webhooks.all_of(connection)) >= _MOST:
            raise Refusal("bad-request", f"there are {_MOST} webhooks, which is as many as there may be; remove one")
        webhooks.add(connection, hook)

    await parts.journal.call(add)
    # What stands after the path may be a secret between the two.
    where = hook.url.partition("?")[0]
    parts.audit("webhook.made", caller, webhook=hook.id, url=where, events=list(hook.events))
    return _shape(hook, 0)


@routes.delete("/api/webhooks/{webhook}", status_code=204, summary="Remove a webhook")
async def delete_webhook(webhook: _Id, caller: TheCaller, parts: TheParts) -> None:
    """Removes a webhook, and its waiting deliveries."""
    await _changed(parts, caller, webhook, partial(webhooks.remove, webhook=webhook))
    parts.audit("webhook.removed", caller, webhook=webhook)


@routes.post("/api/webhooks/{webhook}/trial", status_code=204, summary="Try a webhook")
async def post_trial(webhook: _Id, caller: TheCaller, parts: TheParts) -> None:
    """Sends the webhook the event `webhook.trial` within two seconds. Its deliveries show the response."""

    def queue(connection: sa.Connection) -> bool:
        if not webhooks.is_known(connection, webhook):
            return False
        webhooks.queue(connection, webhook, TRIAL, "", time.time())
        return True

    await _changed(parts, caller, webhook, queue)


@routes.get("/api/webhooks/{webhook}/deliveries", summary="What a webhook was told of")
async def list_deliveries(
    *,
    webhook: _Id,
    caller: TheCaller,
    parts: TheParts,
    before: Annotated[int | None, Query(ge=1, le=2**53, description="deliveries before this number")] = None,
    limit: Annotated[int, Query(ge=1, le=1000)] = 100,
) -> DeliveryList:
    """A webhook's deliveries, newest first, with the responses. Ended ones are kept for a week."""
    await require_administrator(parts, caller)
    found = await in_pool(parts.pools.history, _page, parts, webhook, before, limit, whose=caller.principal)
    following = found[-1].id if len(found) == limit else None
    return DeliveryList(deliveries=[_delivery(one) for one in found], next=following)


@routes.post("/api/webhooks/{webhook}/deliveries/{delivery}", status_code=204, summary="Tell it once more")
async def post_delivery(webhook: _Id, delivery: _Number, caller: TheCaller, parts: TheParts) -> None:
    """Sends a delivery again, now, whether it was delivered, given up, or waits for its next attempt."""
    await _changed(parts, caller, webhook, partial(webhooks.again, webhook=webhook, delivery=delivery))


async def _changed(parts: Parts, caller: Caller, webhook: str, change: Callable[[sa.Connection], bool]) -> None:
    """Changes something of a webhook. Raises Refusal (`missing`)."""
    await require_administrator(parts, caller)
    if not await parts.journal.call(change):
        raise Refusal("missing", f"there is no such webhook, or no such delivery of it: {webhook}")


def _list(parts: Parts) -> WebhookList:
    with parts.engine.connect() as connection:
        waiting = webhooks.waiting(connection)
        shapes = [_shape(hook, waiting.get(hook.id, 0)) for hook in webhooks.all_of(connection)]
    return WebhookList(webhooks=shapes, events=dict(EVENTS))


def _page(parts: Parts, webhook: str, before: int | None, limit: int) -> list[Delivery]:
    """Raises Refusal (`missing`)."""
    with parts.engine.connect() as connection:
        if not webhooks.is_known(connection, webhook):
            raise Refusal("missing", f"there is no webhook {webhook}")
        return webhooks.page_of(connection, webhook, before, limit)


def _shape(hook: Webhook, waiting: int) -> WebhookShape:
    return WebhookShape(
        id=hook.id,
        url=hook.url,
        label=hook.label,
        events=list(hook.events),
        made=timestamp(hook.made),
        by=hook.by,
        waiting=waiting,
    )


def _delivery(one: Delivery) -> DeliveryShape:
    return DeliveryShape(
        id=one.id,
        event=one.event,
        subject=one.subject,
        made=timestamp(one.made),
        state=one.state,
        attempts=one.attempts,
        said=one.said,
        next=timestamp(one.next) if one.state == "waiting" and one.next else None,
    )

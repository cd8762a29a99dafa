"""Tells webhooks what they are waiting for; called again and again in every process that serves.

What is due is taken in the records, so that one process alone tells it. Of each webhook one process tells a few
deliveries after the other, in their order; one that fails ends the turn, and waits longer each time.

Invariants:
- A receiver that hangs takes one thread, as long as `webhook_posts` waits for it, and delays no other webhook as long
  as there are fewer of its kind than threads.
"""

from __future__ import annotations

import asyncio
import logging
import time
from collections.abc import Sequence
from functools import partial
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from invio.core.moments import timestamp
from invio.core.webhooks import TRIAL, body_of
from invio.delivery.transfers.states import TransferState, view
from invio.records import webhooks
from invio.records.audit import line_with
from invio.records.transfers import with_ids
from invio.records.webhooks import Delivery, Webhook
from invio.service.assembly import Parts

if TYPE_CHECKING:
    from invio.core.signing import SigningKey

log = logging.getLogger("invio.service")

_TURN = 64  # deliveries of one webhook that are taken together
_LONGEST_TURN = 60.0  # seconds after which none of a turn is begun
Outcome = tuple[Delivery, str, bool]  # what was to be told, what came of it, and whether it was told


class WebhookSender:
    """Takes what is due and tells it."""

    def __init__(self, parts: Parts) -> None:
        self._parts = parts
        self._telling: dict[str, asyncio.Task[None]] = {}  # by webhook

    async def look(self) -> None:
        """Begins to tell what is due, and does not wait for its end."""
        parts = self._parts
        if not await parts.pools.history.run(self._any_due):
            return
        key = (await parts.signing_keys.known())[0]
        take = partial(webhooks.take, now=time.time(), each=_TURN, busy=tuple(self._telling))
        hooks, taken = await parts.journal.call(lambda connection: (webhooks.all_of(connection), take(connection)))
        for hook in hooks:
            turn = [one for one in taken if one.webhook == hook.id]
            if turn:
                task = self._telling[hook.id] = asyncio.create_task(self._tell(hook, turn, key))
                task.add_done_callback(partial(self._ended, hook.id))

    async def stop(self) -> None:
        """Ends what is being told; it is told again by whoever comes next."""
        for task in list(self._telling.values()):
            task.cancel()
        await asyncio.gather(*self._telling.values(), return_exceptions=True)

    def _ended(self, hook: str, task: asyncio.Task[None]) -> None:
        if self._telling.get(hook) is task:
            del self._telling[hook]

    def _any_due(self) -> bool:
        with self._parts.engine.connect() as connection:
            return webhooks.any_due(connection, time.time())

    async def _tell(self, hook: Webhook, turn: Sequence[Delivery], key: SigningKey) -> None:
        try:
            outcomes = await self._parts.pools.webhooks.run(self._post_all, hook, turn, key)
            rest = [one.id for one in turn[len(outcomes) :]]
            await self._parts.journal.call(partial(webhooks.settle, outcomes=outcomes, rest=rest, now=time.time()))
        except Exception as error:  # what was taken is due again after a while
            log.warning("webhook.not-told", extra={"fields": {"webhook": hook.id, "error": str(error)[:300]}})

    def _post_all(self, hook: Webhook, turn: Sequence[Delivery], key: SigningKey) -> list[Outcome]:
        """Tells one after the other, until one fails."""
        from invio.service.webhook_posts import Posts  # what it needs is loaded where somebody is told of something

        outcomes: list[Outcome] = []
        began = time.monotonic()
        with Posts(hook.url, self._parts.settings.webhooks, key) as posts:
            for delivery in turn:
                if time.monotonic() - began > _LONGEST_TURN:
                    break
                about = self._about(delivery)
                if about is None:
                    outcomes.append((delivery, "the line that it is about has been forgotten", True))
                    continue
                said, told = posts.post(body_of(delivery.id, delivery.event, timestamp(delivery.made), about))
                outcomes.append((delivery, said, told))
                if not told:
                    break
        return outcomes

    def _about(self, delivery: Delivery) -> dict[str, Any] | None:
        """What is told of a delivery's subject; None where it is no longer known."""
        with self._parts.engine.connect() as connection:
            if delivery.event == TRIAL:
                return {}
            if delivery.event.startswith("transfer."):
                return _of_transfer(connection, delivery)
            line = line_with(connection, int(delivery.subject))
            return None if line is None else {"by": line.by, "about": line.about}


def _of_transfer(connection: sa.Connection, delivery: Delivery) -> dict[str, Any] | None:
    rows = with_ids(connection, [delivery.subject])
    return {"transfer": view(TransferState(rows[0]))} if rows else None

"""Tells webhooks what they are waiting for; called again and again in every process that serves.

What is due is taken in the records, so that one process alone tells it. Of each webhook one process tells a few
deliveries after the other, in their order; one that fails ends the turn, and waits longer each time.

Invariants:
- A receiver that hangs takes one thread, for at most `_PATIENCE` seconds an attempt, and delays no other webhook
  as long as there are fewer of its kind than threads.
- Nothing is posted to an address that is not a public one, nor without encryption, unless the settings name its origin.
- An answer's body is never read, and a redirect is a failure: the receiver has to be named where it is.
"""

from __future__ import annotations

import asyncio
import logging
import time
from collections.abc import Sequence
from functools import partial
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from invio import __version__
from invio.core.moments import timestamp
from invio.core.webhooks import TRIAL, body_of
from invio.delivery.transfers.states import TransferState, view
from invio.records import webhooks
from invio.records.audit import line_with
from invio.records.transfers import with_ids
from invio.records.webhooks import Delivery, Webhook
from invio.service.assembly import Parts
from invio.service.settings import WebhookSettings
from invio.service.signing import signing_keys
from invio.stores.store import StoreFault
from invio.stores.urls import origin_of, resolved

if TYPE_CHECKING:
    import httpx

    from invio.core.signing import SigningKey

log = logging.getLogger("invio.service")

_PATIENCE = 10.0  # seconds for connecting, and for each wait after that
_TURN = 64  # deliveries of one webhook that are taken together
_LONGEST_TURN = 60.0  # seconds after which none of a turn is begun
Outcome = tuple[Delivery, str, bool]  # what was to be told, what came of it, and whether it was told


def why_not(settings: WebhookSettings, url: httpx.URL) -> str | None:
    """Why a webhook may not be at this URL; None: it may."""
    if not url.host or url.userinfo:
        return "it has to name a host, and no user"
    if url.scheme != "https" and not _is_named(settings, url):
        return "it has to begin with https://, unless 'origins' of [webhooks] in the settings names its origin"
    return None


def _is_named(settings: WebhookSettings, url: httpx.URL) -> bool:
    import httpx

    return origin_of(url) in {origin_of(httpx.URL(one)) for one in settings.origins}


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
        key = (await signing_keys(parts))[0]
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
        import httpx

        outcomes: list[Outcome] = []
        began = time.monotonic()
        with httpx.Client(timeout=_PATIENCE, trust_env=False, headers={"user-agent": f"invio/{__version__}"}) as http:
            for delivery in turn:
                if time.monotonic() - began > _LONGEST_TURN:
                    break
                about = self._about(delivery)
                if about is None:
                    outcomes.append((delivery, "the line that it is about has been forgotten", True))
                    continue
                body = body_of(delivery.id, delivery.event, timestamp(delivery.made), about)
                said, told = self._post(http, httpx.URL(hook.url), body, key)
                outcomes.append((delivery, said, told))
                if not told:
                    break
        return outcomes

    def _post(self, http: httpx.Client, url: httpx.URL, body: bytes, key: SigningKey) -> tuple[str, bool]:
        """Posts one; gives what came back, and whether it was told."""
        import httpx

        from invio.core.webhook_signatures import FIELD, signature_of

        settings = self._parts.settings.webhooks
        refused = why_not(settings, url)
        if refused is not None:
            return refused, False
        fields = {
            "host": url.netloc.decode("ascii"),
            "content-type": "application/json",
            FIELD: signature_of(body, key),
        }
        try:
            where = url.host if _is_named(settings, url) else resolved(url)
            request = http.build_request(
                "POST", url.copy_with(host=where), headers=fields, content=body, extensions={"sni_hostname": url.host}
            )
            answer = http.send(request, stream=True)
            answer.close()
        except StoreFault as error:
            return str(error), False
        except httpx.HTTPError as error:
            return f"{url.host}: {error or type(error).__name__}", False
        return f"{answer.status_code} {answer.reason_phrase}".strip(), answer.is_success

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

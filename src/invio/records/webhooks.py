"""Webhooks and their deliveries in the records.

What happens and that somebody is to be told of it are written in one transaction, by triggers: so a process may die
at any moment, and nothing is told that did not happen, nor left out that did. The triggers are there only while there
is a webhook, for every download would pay for them.

A delivery waits until its time (`next`), is taken by one process for a while (`taken`), and is told, given up, or
waits again. A process that dies with it leaves it to the others when that while has passed: somebody may be told
twice, and knows it by the delivery's number.
"""

from __future__ import annotations

import json
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from typing import Any, Literal

import sqlalchemy as sa

from invio.core.webhooks import again_after
from invio.records.tables import webhook_deliveries as deliveries
from invio.records.tables import webhooks

_TAKEN_FOR = 120.0  # seconds, longer than any attempt takes
_KEPT = 7 * 86_400.0  # seconds, of what was told or given up

_WANTED = (
    "INSERT INTO webhook_deliveries (webhook, event, subject, made, next, taken, attempts, state) "
    "SELECT webhooks.id, {event}, {subject}, {at}, 0, 0, 0, 'waiting' FROM webhooks "
    "WHERE EXISTS (SELECT 1 FROM json_each(webhooks.events) WHERE json_each.value = {event});"
)
_TRIGGERS = {
    "webhooks_of_transfers": (
        "AFTER UPDATE OF state ON transfers "
        "WHEN NEW.state IN ('complete', 'broken-off') AND OLD.state <> NEW.state BEGIN "
        + _WANTED.format(event="'transfer.' || NEW.state", subject="NEW.id", at="NEW.updated")
        + " END"
    ),
    "webhooks_of_the_audit": (
        "AFTER INSERT ON audit_lines BEGIN "
        + _WANTED.format(event="NEW.event", subject="CAST(NEW.id AS TEXT)", at="NEW.at")
        + " END"
    ),
}

State = Literal["waiting", "told", "given-up"]


@dataclass(frozen=True, slots=True)
class Webhook:
    """An address that is told of events."""

    id: str
    url: str
    label: str
    events: tuple[str, ...]
    made: float
    by: str | None


@dataclass(frozen=True, slots=True)
class Delivery:
    """One event for one webhook. `subject` is the id of a transfer or of a line of the audit; `said` what came back."""

    id: int
    webhook: str
    event: str
    subject: str
    made: float
    next: float
    taken: float
    attempts: int
    state: State
    said: str | None


def add(connection: sa.Connection, webhook: Webhook) -> None:
    """Adds a webhook."""
    values = {"id": webhook.id, "url": webhook.url, "label": webhook.label, "made": webhook.made, "by": webhook.by}
    connection.execute(sa.insert(webhooks).values(values | {"events": json.dumps(webhook.events)}))
    for name, trigger in _TRIGGERS.items():
        connection.exec_driver_sql(f"CREATE TRIGGER IF NOT EXISTS {name} {trigger}")


def remove(connection: sa.Connection, webhook: str) -> bool:
    """Deletes a webhook and its deliveries; false when there is none."""
    connection.execute(sa.delete(deliveries).where(deliveries.c.webhook == webhook))
    removed = connection.execute(sa.delete(webhooks).where(webhooks.c.id == webhook)).rowcount > 0
    if not all_of(connection):
        for name in _TRIGGERS:
            connection.exec_driver_sql(f"DROP TRIGGER IF EXISTS {name}")
    return removed


def all_of(connection: sa.Connection) -> list[Webhook]:
    """Every webhook, the oldest first."""
    rows = connection.execute(sa.select(webhooks).order_by(webhooks.c.made, webhooks.c.id))
    return [Webhook(row.id, row.url, row.label, tuple(json.loads(row.events)), row.made, row.by) for row in rows]


def is_known(connection: sa.Connection, webhook: str) -> bool:
    """Whether there is a webhook of this id."""
    return connection.execute(sa.select(webhooks.c.id).where(webhooks.c.id == webhook)).first() is not None


def queue(connection: sa.Connection, webhook: str, event: str, subject: str, at: float) -> None:
    """Queues an event for one webhook, whatever events it asked for."""
    connection.execute(
        sa.insert(deliveries).values(
            webhook=webhook, event=event, subject=subject, made=at, next=0.0, taken=0.0, attempts=0, state="waiting"
        )
    )


def again(connection: sa.Connection, webhook: str, delivery: int) -> bool:
    """Queues a delivery again, for now; false when there is no such delivery."""
    of = (deliveries.c.webhook == webhook) & (deliveries.c.id == delivery)
    values = {"state": "waiting", "next": 0.0, "taken": 0.0, "attempts": 0}
    return connection.execute(sa.update(deliveries).where(of).values(values)).rowcount > 0


def page_of(connection: sa.Connection, webhook: str, before: int | None, limit: int) -> list[Delivery]:
    """A webhook's newest deliveries, those before the number `before`."""
    query = sa.select(deliveries).where(deliveries.c.webhook == webhook)
    if before is not None:
        query = query.where(deliveries.c.id < before)
    return [
        Delivery(**row) for row in connection.execute(query.order_by(deliveries.c.id.desc()).limit(limit)).mappings()
    ]


def waiting(connection: sa.Connection) -> dict[str, int]:
    """How many deliveries wait, of each webhook that has any."""
    query = sa.select(deliveries.c.webhook, sa.func.count()).where(deliveries.c.state == "waiting")
    return {row[0]: row[1] for row in connection.execute(query.group_by(deliveries.c.webhook))}


def given_up(connection: sa.Connection, since: float) -> dict[str, int]:
    """How many deliveries made after a moment (Unix seconds) were given up, by webhook."""
    query = sa.select(deliveries.c.webhook, sa.func.count()).group_by(deliveries.c.webhook)
    found = connection.execute(query.where((deliveries.c.state == "given-up") & (deliveries.c.made >= since)))
    return {row[0]: row[1] for row in found}


def any_due(connection: sa.Connection, now: float) -> bool:
    """Whether a delivery is due."""
    return connection.execute(sa.select(deliveries.c.id).where(_due(now)).limit(1)).first() is not None


def take(connection: sa.Connection, now: float, each: int, busy: Collection[str] = ()) -> list[Delivery]:
    """Takes the due deliveries, at most `each` per webhook, and none of the `busy` webhooks."""
    place = sa.func.row_number().over(partition_by=deliveries.c.webhook, order_by=deliveries.c.id).label("place")
    query = sa.select(deliveries, place).where(_due(now) & deliveries.c.webhook.not_in(busy)).subquery()
    columns = [query.c[column.name] for column in deliveries.c]
    rows = connection.execute(sa.select(*columns).where(query.c.place <= each).order_by(query.c.id))
    taken = [Delivery(**row) for row in rows.mappings()]
    of = deliveries.c.id.in_([one.id for one in taken])
    connection.execute(sa.update(deliveries).where(of).values(taken=now + _TAKEN_FOR))
    return taken


def settle(
    connection: sa.Connection, outcomes: Sequence[tuple[Delivery, str, bool]], rest: Sequence[int], now: float
) -> None:
    """Records the result of each attempt; `rest` was taken and not tried."""
    connection.execute(sa.update(deliveries).where(deliveries.c.id.in_(rest)).values(taken=0.0))
    for delivery, said, told in outcomes:
        attempts = delivery.attempts + 1
        pause = again_after(attempts)
        state: State = "told" if told else "waiting" if pause is not None else "given-up"
        values: dict[str, Any] = {"attempts": attempts, "said": said[:300], "state": state, "taken": 0.0}
        values["next"] = now + (pause or 0.0)
        connection.execute(sa.update(deliveries).where(deliveries.c.id == delivery.id).values(values))


def forget(connection: sa.Connection, now: float, most: int) -> int:
    """Deletes deliveries that ended long ago; returns how many."""
    old = (deliveries.c.state != "waiting") & (deliveries.c.made < now - _KEPT)
    ids = sa.select(deliveries.c.id).where(old).limit(most)
    return connection.execute(sa.delete(deliveries).where(deliveries.c.id.in_(ids))).rowcount


def _due(now: float) -> sa.ColumnElement[bool]:
    return (deliveries.c.state == "waiting") & (deliveries.c.next <= now) & (deliveries.c.taken <= now)

"""The audit: who signed in or failed to, and who changed recipients, tokens, keys, rules and links."""

from __future__ import annotations

import json
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

import sqlalchemy as sa

from invio.records.tables import audit_lines


@dataclass(frozen=True, slots=True)
class AuditLine:
    """What happened, at which Unix second, by whom and from where; `about` says to what."""

    at: float
    event: str
    by: str | None
    network: str | None
    credential: str | None
    about: dict[str, Any]
    id: int = 0


def add_lines(connection: sa.Connection, lines: Iterable[AuditLine]) -> None:
    """Writes lines down, in their order."""
    rows = [
        {
            "at": line.at, "event": line.event, "by": line.by, "network": line.network, "credential": line.credential,
            "about": json.dumps(line.about, default=str),
        }
        for line in lines
    ]  # fmt: skip
    if rows:
        connection.execute(sa.insert(audit_lines), rows)


def page_of_lines(
    connection: sa.Connection, before: int | None = None, event: str | None = None, by: str | None = None,
    limit: int = 100,
) -> list[AuditLine]:  # fmt: skip
    """The newest lines, those before the id `before`; of an event (`token` for all of its kind), by somebody."""
    table = audit_lines.c
    query = sa.select(audit_lines).order_by(table.id.desc()).limit(limit)
    if before is not None:
        query = query.where(table.id < before)
    if event is not None:
        query = query.where(sa.or_(table.event == event, table.event.startswith(f"{event}.", autoescape=True)))
    if by is not None:
        query = query.where(table.by == by)
    return [
        AuditLine(row.at, row.event, row.by, row.network, row.credential, json.loads(row.about), row.id)
        for row in connection.execute(query)
    ]


def line_with(connection: sa.Connection, line: int) -> AuditLine | None:
    """The line of this id."""
    found = page_of_lines(connection, before=line + 1, limit=1)
    return found[0] if found and found[0].id == line else None


def forget_lines(connection: sa.Connection, before: float, most: int) -> int:
    """Deletes at most `most` lines from before a moment, in Unix seconds; returns how many."""
    old = sa.select(audit_lines.c.id).where(audit_lines.c.at < before).limit(most)
    return connection.execute(sa.delete(audit_lines).where(audit_lines.c.id.in_(old))).rowcount

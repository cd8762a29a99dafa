"""What was obtained under quotas: reserved when a download begins, corrected to what was taken when it ends.

Both happen in the transaction that writes the transfer itself, so that no number of processes, and no
death of one, counts anything twice or not at all.
"""

from __future__ import annotations

import hashlib
import secrets
import time
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import sqlalchemy as sa

from invio.core.rules.quotas import LONGEST, Claim, Quota, Use, room_at
from invio.records.tables import quota_uses, transfers
from invio.records.transfers import orphans

# Lines of one recipient's under one quota that are looked at for a download; when there are more they are merged.
_MOST = 500
_PARTS = 200  # of a period


class QuotaReached(Exception):
    """There is no room for a download; `frees` says when there will be, Unix seconds, None for never.

    `who` is whose quota it is.
    """

    def __init__(self, quota: Quota, frees: float | None, who: str) -> None:
        super().__init__(quota.name)
        self.quota = quota
        self.frees = frees
        self.who = who


def reserve(connection: sa.Connection, transfer: str, claims: Sequence[Claim], *, begins: bool) -> None:
    """Reserves what a request claims, within the caller's transaction, or nothing.

    `begins` says that the transfer is new: later requests of one count no further file.

    Raises:
        QuotaReached: one of the quotas has no room.
    """
    now = time.time()
    for claim in claims:
        asked = claim if begins else replace(claim, files=0)
        frees = room_at(asked, _uses(connection, claim.who, claim.quota, now), now)
        if frees is None or frees > now:
            raise QuotaReached(claim.quota, frees, claim.who)
    for claim in claims:
        known = connection.execute(
            sa.update(quota_uses)
            .where(quota_uses.c.quota == claim.quota.name, quota_uses.c.transfer == transfer)
            .values(reserved=quota_uses.c.reserved + claim.bytes)
        )
        if not known.rowcount:
            connection.execute(
                sa.insert(quota_uses).values(
                    quota=claim.quota.name, transfer=transfer, who=claim.who, at=now,
                    files=claim.files if begins else 0, taken=0, reserved=claim.bytes,
                )
            )  # fmt: skip


def _uses(connection: sa.Connection, who: str, quota: Quota, now: float) -> list[Use]:
    held = quota_uses.c
    rows = connection.execute(
        sa.select(held.at, held.files, held.taken + held.reserved).where(
            held.who == who, held.quota == quota.name, held.at > now - quota.period
        )
    )
    uses = [Use(at, files, size) for at, files, size in rows]
    if len(uses) > _MOST:
        _merge(connection, who, quota, now)
    return uses


def _merge(connection: sa.Connection, who: str, quota: Quota, now: float) -> None:
    """Makes one line of those that ended within the same part of the period, so that there are never many.

    It counts from the last of them on: what is merged frees a two-hundredth of the period later at most.
    """
    held, width = quota_uses.c, quota.period / _PARTS
    own = held.transfer.not_like("+%")  # what was granted is not merged
    ended = sa.and_(held.who == who, held.quota == quota.name, held.reserved == 0, held.at <= now, own)
    rows = connection.execute(sa.select(held.transfer, held.at, held.files, held.taken).where(ended)).all()
    parts: dict[int, list[Any]] = {}
    for row in rows:
        parts.setdefault(int(row.at // width), []).append(row)
    for number, some in parts.items():
        if len(some) < 2:
            continue
        gone = sa.and_(held.quota == quota.name, held.transfer.in_([row.transfer for row in some]))
        connection.execute(sa.delete(quota_uses).where(gone))
        called = hashlib.blake2b(f"{who} {number}".encode(), digest_size=11).hexdigest()
        connection.execute(
            sa.insert(quota_uses).values(
                quota=quota.name, transfer=f"~{called}", who=who, at=max(row.at for row in some),
                files=sum(row.files for row in some), taken=sum(row.taken for row in some), reserved=0,
            )
        )  # fmt: skip


def give_back(connection: sa.Connection, transfer: str, claims: Sequence[Claim], taken: int) -> None:
    """Ends a request's reservation, and counts what it took; in bytes."""
    for claim in claims:
        held = quota_uses.c
        connection.execute(
            sa.update(quota_uses)
            .where(held.quota == claim.quota.name, held.transfer == transfer)
            .values(
                taken=held.taken + taken,
                reserved=sa.func.max(0, held.reserved - claim.bytes),
            )
        )


def used(connection: sa.Connection, who: str, quota: Quota) -> tuple[int, int]:
    """Files and bytes that count at present, including those under way."""
    uses = _uses(connection, who, quota, time.time())
    return sum(use.files for use in uses), sum(use.bytes for use in uses)


def frees_at(connection: sa.Connection, who: str, quota: Quota) -> float | None:
    """When the oldest use expires, in Unix seconds; None when nothing counts."""
    counting = [use.at for use in _uses(connection, who, quota, time.time()) if use.files > 0 or use.bytes > 0]
    return min(counting) + quota.period if counting else None


def grant(connection: sa.Connection, who: str, quota: Quota, files: int, size: int) -> None:
    """Grants files and bytes beyond a quota, for one of its periods."""
    called = f"+{secrets.token_hex(11)}"
    values = {"quota": quota.name, "transfer": called, "who": who, "at": time.time()}
    connection.execute(sa.insert(quota_uses).values(**values, files=-files, taken=-size, reserved=0))


def reset(connection: sa.Connection, who: str, quota: Quota) -> None:
    """Resets a quota's use; downloads under way still count once they have arrived."""
    held = quota_uses.c
    its = sa.and_(held.who == who, held.quota == quota.name)
    connection.execute(sa.update(quota_uses).where(its).values(files=0, taken=0))
    connection.execute(sa.delete(quota_uses).where(its, held.reserved == 0))


def take_orphans(connection: sa.Connection, held_by: int | None = None, since: float = 0.0) -> None:
    """Counts the reservations of a dead process as taken: nobody knows how much of them had arrived.

    Given back, each death would be worth as much as was on its way. To be called before its transfers are ended.
    """
    held = quota_uses.c
    reserved = sa.update(quota_uses).where(held.reserved > 0)
    if held_by is not None:
        running = sa.select(transfers.c.id).where(orphans(held_by, since))
        reserved = reserved.where(held.transfer.in_(running))
    connection.execute(reserved.values(taken=held.taken + held.reserved, reserved=0))


LONGEST_KEPT = LONGEST + 86_400  # seconds: no period reaches back to what is older


def forget(connection: sa.Connection, before: float) -> None:
    """Deletes uses from before a moment that no period reaches back to."""
    connection.execute(sa.delete(quota_uses).where(quota_uses.c.at < before))

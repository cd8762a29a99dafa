"""What was obtained under quotas: reserved when a download begins, corrected to what was taken when it ends.

Both happen in the transaction that writes the transfer itself, so that no number of processes, and no
death of one, counts anything twice or not at all.
"""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import replace

import sqlalchemy as sa

from invio.core.quotas import Claim, Quota, Use, room_at
from invio.records.tables import quota_uses, transfers


class QuotaReached(Exception):
    """There is no room for a download; `frees` says when there will be, Unix seconds, None for never.

    `who` is whose quota it is.
    """

    def __init__(self, quota: Quota, frees: float | None, who: str) -> None:
        super().__init__(quota.name)
        self.quota = quota
        self.frees = frees
        self.who = who


def reserve(connection: sa.Connection, transfer: str, claims: Sequence[Claim], begins: bool) -> None:
    """Takes what a request claims, within the caller's transaction; or nothing.

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
    return [Use(at, files, size) for at, files, size in rows]


def give_back(connection: sa.Connection, transfer: str, claims: Sequence[Claim], taken: int) -> None:
    """A request has ended: what it had reserved is given back, and what it took counts. Bytes."""
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
    """Files and bytes that count at present, those included that are on their way."""
    uses = _uses(connection, who, quota, time.time())
    return sum(use.files for use in uses), sum(use.bytes for use in uses)


def give_back_orphans(connection: sa.Connection) -> None:
    """What a process that died had reserved: what is known to have arrived counts, and the rest does not.

    To be called before its transfers are ended.
    """
    covered = sa.select(transfers.c.covered).where(transfers.c.id == quota_uses.c.transfer).scalar_subquery()
    arrived = sa.func.max(quota_uses.c.taken, sa.func.coalesce(covered, 0))
    connection.execute(sa.update(quota_uses).where(quota_uses.c.reserved > 0).values(taken=arrived, reserved=0))


def forget(connection: sa.Connection, before: float) -> None:
    """Drops what began before a moment, which no period reaches back to."""
    connection.execute(sa.delete(quota_uses).where(quota_uses.c.at < before))

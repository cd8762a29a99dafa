"""What a caller is told when a quota or a link has nothing left."""

from __future__ import annotations

import math
import time

import sqlalchemy as sa

from invio.core.links.seals import SealedLink
from invio.core.memory import ExpiringMemory
from invio.core.reasons import QuotaRefused, Refusal
from invio.core.rules.quotas import amount_text, moment_text, period_text
from invio.delivery.sending.eager import in_pool
from invio.records.quotas import QuotaReached
from invio.records.transfers import LinkExhausted, check_link_use
from invio.workers.pool import Pool

_GOOD_FOR = 1.0  # seconds
_KNOWN = 4096  # links
_UNKNOWN = object()


class EndedLinks:
    """Tells which links' ids have ended; one look a second serves all who ask about the same."""

    def __init__(self, engine: sa.Engine, pool: Pool) -> None:
        self._engine, self._pool = engine, pool
        self._known: ExpiringMemory[tuple[str, int | None], LinkExhausted | None] = ExpiringMemory(_KNOWN, _GOOD_FOR)

    async def check(self, link_id: str, uses: int | None, *, again: bool) -> None:
        """Raises Refusal (`revoked`, `used-up`), for a link that has ended or was used `uses` times.

        `again`: of a link that was good before, where what was known a second ago will do.
        """
        now = time.monotonic()
        spent = self._known.fresh((link_id, uses), now, _UNKNOWN) if again else _UNKNOWN
        if spent is _UNKNOWN:
            spent = self._known.keep_at((link_id, uses), await in_pool(self._pool, self._read, link_id, uses), now)
        if isinstance(spent, LinkExhausted):
            raise link_refusal(spent)

    async def check_link(self, link: SealedLink) -> None:
        """The same of a link, for answers that deliver nothing. Raises Refusal."""
        said = link.summary
        if said.id is not None:
            await self.check(said.id, said.uses, again=False)

    def _read(self, link_id: str, uses: int | None) -> LinkExhausted | None:
        try:
            with self._engine.connect() as connection:
                check_link_use(connection, link_id, uses)
        except LinkExhausted as spent:
            return spent
        return None


def quota_refusal(reached: QuotaReached, who: str) -> Refusal:
    """What `who` is told when there is no room in a quota, their own or a link's maker's, with the operator's words."""
    quota, now = reached.quota, time.time()
    said = f"{amount_text(quota)} in {period_text(quota.period)}"
    if reached.who != who:
        said = f"downloads by this link count towards its maker's quota: {said}"
    if reached.frees is None:
        said += "; this file alone exceeds it"
        return QuotaRefused(said, text=quota.text, link=quota.link, retry_after=quota.period)
    said += f"; more is available at {moment_text(reached.frees)}"
    wait = max(1, math.ceil(reached.frees - now))
    return QuotaRefused(said, text=quota.text, link=quota.link, retry_after=wait)


def link_refusal(spent: LinkExhausted) -> Refusal:
    """What is answered when a link was revoked, or has no use left."""
    detail = {"revoked": "the link was revoked", "used-up": "the link has no uses left"}
    return Refusal(spent.word, detail[spent.word])

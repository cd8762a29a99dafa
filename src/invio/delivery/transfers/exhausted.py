"""What a caller is told when a quota or a link has nothing left."""

from __future__ import annotations

import math
import time

from invio.core.reasons import Refusal
from invio.core.rules.quotas import amount_text, moment_text, period_text
from invio.records.quotas import QuotaReached
from invio.records.transfers import LinkExhausted


def quota_refusal(reached: QuotaReached, who: str) -> Refusal:
    """What `who` is told when there is no room in a quota, their own or a link's maker's, with the operator's words."""
    quota, now = reached.quota, time.time()
    said = f"{amount_text(quota)} in {period_text(quota.period)}"
    if reached.who != who:
        said = f"downloads by this link count towards its maker's quota: {said}"
    if reached.frees is None:
        said += "; this file alone exceeds it"
        return Refusal("quota", said, text=quota.text, link=quota.link, retry_after=quota.period)
    said += f"; more is available at {moment_text(reached.frees)}"
    wait = max(1, math.ceil(reached.frees - now))
    return Refusal("quota", said, text=quota.text, link=quota.link, retry_after=wait)


def link_refusal(spent: LinkExhausted) -> Refusal:
    """What is answered when a link was revoked, or has no use left."""
    detail = {"revoked": "the link was revoked", "used-up": "the link has no uses left"}
    return Refusal(spent.word, detail[spent.word])

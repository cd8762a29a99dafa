"""Webhooks: what an application is told of, in which words, and when it is told again."""

from __future__ import annotations

import json
from collections.abc import Mapping
from typing import Any

TRIAL = "webhook.trial"
# What may be asked for. Those of transfers come with what ends them, the others with their lines of the audit.
EVENTS: Mapping[str, str] = {
    "transfer.complete": "all of a file has arrived",
    "transfer.broken-off": "a request ended before its last byte",
    "file.put": "a file, or a further version of one, was put",
    "file.removed": "a file, or a version of it, was removed",
    "link.made": "a link was made",
    "link.revoked": "a link was revoked",
    "recipient.saved": "a recipient was added or changed",
    "recipient.disabled": "a recipient can no longer sign in",
    "recipient.removed": "a recipient was removed",
    "rules.put": "other rules are in force",
}

# Seconds to wait after each failed attempt; retries go on for most of a day.
_AGAIN = (10.0, 60.0, 300.0, 1800.0, 7200.0, 21_600.0, 43_200.0)


def again_after(attempts: int) -> float | None:
    """Seconds until the next attempt after the given number of failures; None after the last attempt."""
    return _AGAIN[attempts - 1] if attempts <= len(_AGAIN) else None


def body_of(delivery: int, event: str, at: str, about: Mapping[str, Any]) -> bytes:
    """What is posted. `delivery` is the same in every attempt: who has it has been told."""
    told = {"delivery": delivery, "event": event, "at": at, **about}
    return json.dumps(told, ensure_ascii=False, separators=(",", ":")).encode()

"""The keys with which the service signs, from its records."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from invio.core.reasons import Refusal
from invio.delivery.sending.eager import in_pool
from invio.records.signing_keys import first_signing_key, signing_keys_of

if TYPE_CHECKING:
    from invio.core.signing import SigningKey
    from invio.service.assembly import Parts

_READ_EVERY = 5.0  # seconds


@dataclass(slots=True)
class KnownSigningKeys:
    """The signing keys as a process read them last; `due` says when to read them again, by the clock."""

    keys: list[SigningKey] = field(default_factory=list)
    due: float = 0.0
    clock: Callable[[], float] = time.monotonic  # seconds


async def signing_keys(parts: Parts) -> list[SigningKey]:
    """The signing keys, the newest first; the first time there is none, one is made.

    Anybody may ask for their public halves, so they are read once in five seconds, by one of those who ask; the
    others have what was read before, and so has whoever asks while the records have no time.
    """
    known = parts.signed_by
    if known.keys and known.clock() < known.due:
        return known.keys
    known.due = known.clock() + _READ_EVERY
    # Cryptography takes memory, which only those need who have something signed.
    from invio.core.signing import SigningKey

    def look_up() -> list[bytes]:
        with parts.engine.connect() as connection:
            return signing_keys_of(connection)

    try:
        found = await in_pool(parts.pools.history, look_up)
    except Refusal:
        if known.keys:
            return known.keys
        raise
    if not found:
        new = SigningKey.new().raw
        found = await parts.journal.call(lambda connection: first_signing_key(connection, new))
    if found != [key.raw for key in known.keys]:
        known.keys = [SigningKey(raw) for raw in found]
    return known.keys

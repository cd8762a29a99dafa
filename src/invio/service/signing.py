"""The keys with which the service signs, from its records."""

from __future__ import annotations

from typing import TYPE_CHECKING

from invio.delivery.sending.eager import in_pool
from invio.records.signing_keys import first_signing_key, signing_keys_of
from invio.service.assembly import Parts

if TYPE_CHECKING:
    from invio.core.signing import SigningKey


async def signing_keys(parts: Parts) -> list[SigningKey]:
    """The signing keys, the newest first; the first time there is none, one is made.

    They do not change while a service runs, and anybody may ask for their public halves: so they are read once.
    """
    if parts.signed_by:
        return parts.signed_by
    # Cryptography takes memory, which only those need who have something signed.
    from invio.core.signing import SigningKey

    def look_up() -> list[bytes]:
        with parts.engine.connect() as connection:
            return signing_keys_of(connection)

    found = await in_pool(parts.pools.history, look_up)
    if not found:
        new = SigningKey.new().raw
        found = await parts.journal.call(lambda connection: first_signing_key(connection, new))
    parts.signed_by = [SigningKey(raw) for raw in found]
    return parts.signed_by

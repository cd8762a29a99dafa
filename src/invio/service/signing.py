"""The keys with which the service signs, from its records."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import TYPE_CHECKING

import sqlalchemy as sa

from invio.core.reasons import Refusal
from invio.delivery.sending.eager import in_pool
from invio.records.journal import Journal
from invio.records.signing_keys import first_signing_key, signing_keys_of
from invio.workers.pool import Pool

if TYPE_CHECKING:
    from invio.core.signing import SigningKey

_READ_EVERY = 5.0  # seconds


class SigningKeys:
    """The signing keys of the records.

    Anybody may ask for their public halves, so they are read once in five seconds, by one of those who ask; the
    others have what was read before, and so has whoever asks while the records have no time.
    """

    def __init__(
        self, engine: sa.Engine, journal: Journal, pool: Pool, clock: Callable[[], float] = time.monotonic
    ) -> None:
        """`pool` has the threads that read them; `clock` gives seconds."""
        self._engine, self._journal, self._pool, self._clock = engine, journal, pool, clock
        self._keys: list[SigningKey] = []
        self._due = 0.0  # when to read them again

    async def known(self) -> list[SigningKey]:
        """The signing keys, the newest first; the first time there is none, one is made. Raises Refusal (`busy`)."""
        if self._keys and self._clock() < self._due:
            return self._keys
        self._due = self._clock() + _READ_EVERY
        try:
            found = await in_pool(self._pool, self._read)
        except Refusal:
            if self._keys:
                return self._keys
            raise
        if not found:
            from invio.core.signing import SigningKey

            new = SigningKey.new().raw
            raws = await self._journal.call(lambda connection: first_signing_key(connection, new))
            found = [SigningKey(raw) for raw in raws]
        if [key.raw for key in found] != [key.raw for key in self._keys]:
            self._keys = found
        return self._keys

    def _read(self) -> list[SigningKey]:
        # Cryptography takes memory, which only those need who have something signed; and to load it, a tenth of a
        # second, in which the event loop goes on.
        from invio.core.signing import SigningKey

        with self._engine.connect() as connection:
            return [SigningKey(raw) for raw in signing_keys_of(connection)]

"""Limits the archives planned per caller, so that nobody takes all planning threads."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from dataclasses import dataclass, field

from invio.core.files import Caller
from invio.core.networks import principal
from invio.core.reasons import Refusal

_OF_ONE = 2  # plans of one recipient, or of one network, that are made at once
_WAITING = 100  # more of theirs that wait for these
_AGAIN = 5  # seconds


@dataclass(slots=True)
class _Turns:
    free: asyncio.Semaphore = field(default_factory=lambda: asyncio.Semaphore(_OF_ONE))
    taken: int = 0  # plans that are made or wait


class Planners:
    """Plans under way by whom they are for. To be used in one event loop."""

    def __init__(self) -> None:
        self._turns: dict[str, _Turns] = {}

    @asynccontextmanager
    async def turn(self, caller: Caller) -> AsyncIterator[None]:
        """One more plan for a caller, once it is its turn. Raises Refusal (`too-many`)."""
        who = principal(caller.recipient, caller.network)
        turns = self._turns.setdefault(who, _Turns())
        if turns.taken >= _OF_ONE + _WAITING:
            raise Refusal(
                "too-many",
                f"{turns.taken} of your archives are being prepared already; wait for one of them",
                retry_after=_AGAIN,
            )
        turns.taken += 1
        try:
            async with turns.free:
                yield
        finally:
            turns.taken -= 1
            if not turns.taken:
                self._turns.pop(who, None)

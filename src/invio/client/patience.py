"""Patience: how often a client tries again, and how long it waits in between.

A lost connection is taken up again after a pause that grows; a service that is busy is asked again when it said that
it would have time. Both end: after so many tries without a byte of progress, or when the wait would be too long.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass

import httpx

from invio.client.errors import Refused, ServiceUnreachable

# Seconds before each further try, some 35 in all: a service that is started anew is back by then.
PAUSES = (0.5, 1.0, 2.0, 4.0, 8.0, 10.0, 10.0)
_WAITED_FOR = (429, 502, 503, 504)

Waiting = Callable[[float, Refused], None]


@dataclass(frozen=True, slots=True)
class Patience:
    """`timeout`: seconds without a byte after which a connection is taken for lost.

    `retries`: how often a connection that was lost, or that could not be made, is tried again without a byte of
    progress; None: a lost one some seven times, and a first one not at all, because its address may be wrong.
    `longest_wait`: the seconds of a `Retry-After` that are waited for at most. `waiting` is told of each such wait.
    """

    timeout: float = 30.0
    retries: int | None = None
    longest_wait: float = 60.0
    waiting: Waiting | None = None

    def timeouts(self, read: float | None = None) -> httpx.Timeout:
        """The limits of one request; `read` is in seconds, for an answer that takes its time."""
        return httpx.Timeout(self.timeout, connect=min(10.0, self.timeout), read=read or self.timeout)


USUAL_PATIENCE = Patience()


class Attempts:
    """The tries of one piece of work."""

    def __init__(self, patience: Patience, service: str) -> None:
        """`service` is the URL that errors name."""
        self._patience = patience
        self._service = service.partition("?")[0]
        self._tries = 0

    def lost(self, error: httpx.TransportError, *, begun: bool, progress: bool = False, kept: str = "") -> None:
        """Waits before the next try.

        `begun`: something has arrived already; `progress`: since the last try; `kept` ends the error's message.

        Raises:
            ServiceUnreachable: there were enough tries.
        """
        self._tries = 1 if progress else self._tries + 1
        retries = self._patience.retries
        if retries is None:
            retries = len(PAUSES) if begun else 0
        if self._tries > retries:
            said = "the connection to the service was lost" if begun else f"no service answers at {self._service}"
            raise ServiceUnreachable(f"{said}: {error}{kept}") from None
        time.sleep(PAUSES[min(self._tries, len(PAUSES)) - 1])

    def busy(self, refused: Refused) -> None:
        """Waits as long as a busy service asks. Raises `refused` when that is too long, or too often."""
        wait, most = refused.retry_after, self._patience.retries
        if wait is None or refused.status not in _WAITED_FOR or wait > self._patience.longest_wait:
            raise refused
        self._tries += 1
        if self._tries > (len(PAUSES) if most is None else most):
            raise refused
        if self._patience.waiting is not None:
            self._patience.waiting(wait, refused)
        time.sleep(wait)

"""Failed sign-ins by the network address that they came from: each one after the fifth makes the next wait longer."""

from __future__ import annotations

import time

from invio.core.reasons import Refusal

_FREE = 5  # failures that nobody waits for
_LONGEST = 300.0  # seconds
_FORGOTTEN = 900.0  # seconds without a failure after which all is well again
_KEPT = 10_000


class Attempts:
    """Counts for this process; a success forgets the failures before it."""

    def __init__(self) -> None:
        self._failed: dict[str, tuple[int, float]] = {}  # how many, and when the last was

    def check(self, network: str | None) -> None:
        """To be asked before a credential is looked at. Raises Refusal (`slow-down`)."""
        count, last = self._failed.get(network or "", (0, 0.0))
        if count <= _FREE:
            return
        left = last + min(_LONGEST, 2.0 ** (count - _FREE)) - time.monotonic()
        if left > 0:
            raise Refusal("slow-down", f"{count} sign-ins failed from {network}", retry_after=int(left) + 1)

    def failed(self, network: str | None) -> None:
        now = time.monotonic()
        count, last = self._failed.get(network or "", (0, now))
        if now - last > _FORGOTTEN:
            count = 0
        if len(self._failed) >= _KEPT:
            self._failed.clear()
        self._failed[network or ""] = (count + 1, now)

    def succeeded(self, network: str | None) -> None:
        self._failed.pop(network or "", None)

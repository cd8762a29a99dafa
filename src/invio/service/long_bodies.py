"""The bytes of requests' long bodies that are in memory at once: of all, and of each network.

A body is read before anybody is asked who they are. Each is bounded, and what many of them hold together is, too: a
hundred that never end held eight hundred megabytes. Short ones do not count, so that whoever fills what there is keeps
nobody from signing in or making a link.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable

from starlette.exceptions import HTTPException

_SHORT = 64 * 1024  # bytes
_OF_NETWORK, _OF_ALL = 4, 32  # times as much as the longest body may have


class LongBodies:
    """Counts what is held; `longest` is the number of bytes that one body may have."""

    def __init__(self, longest: int) -> None:
        self._of_network, self._of_all = _OF_NETWORK * longest, _OF_ALL * longest
        self._held: Counter[str] = Counter()  # bytes, by network
        self._all = 0

    @property
    def held(self) -> int:
        """Bytes of all long bodies at present."""
        return self._all

    def begin(self, network: Callable[[], str]) -> LongBody:
        """The body of one request; `network` is asked for whence it comes, once the body is long."""
        return LongBody(self, network)

    def count(self, network: str, more: int) -> None:
        """Adds bytes, or with less than 0 takes them away. Raises HTTPException (503): there is no room for them."""
        if more > 0:
            if self._all + more > self._of_all:
                raise HTTPException(503, "the service holds as many long requests as it can; try again in a moment")
            if self._held[network] + more > self._of_network:
                raise HTTPException(503, "too many long requests come from your network; send one after another")
        self._all += more
        self._held[network] += more
        if not self._held[network]:
            del self._held[network]


class LongBody:
    """What one request's body holds, from its first byte to the end of the answer."""

    __slots__ = ("_ask", "_bodies", "_counted", "_network")

    def __init__(self, bodies: LongBodies, network: Callable[[], str]) -> None:
        self._bodies, self._ask = bodies, network
        self._network = ""
        self._counted = 0

    def grown(self, count: int) -> None:
        """Notes that `count` bytes of it have come in all. Raises HTTPException (503): there is no room for them."""
        if count > _SHORT:
            if not self._counted:
                self._network = self._ask()
            self._bodies.count(self._network, count - self._counted)
            self._counted = count

    def end(self) -> None:
        """Forgets it."""
        if self._counted:
            self._bodies.count(self._network, -self._counted)
            self._counted = 0

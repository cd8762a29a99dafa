"""Event streams: how many may be open at once, of one recipient and of this process."""

from __future__ import annotations

from collections import Counter

from invio.core.reasons import Refusal

_AGAIN = 5  # seconds


class Watching:
    """One stream that is open, until it has ended."""

    __slots__ = ("_ended", "_recipient", "_streams")

    def __init__(self, streams: Streams, recipient: str) -> None:
        self._streams, self._recipient, self._ended = streams, recipient, False

    def end(self) -> None:
        if not self._ended:
            self._ended = True
            self._streams.end(self._recipient)

    def __del__(self) -> None:
        self.end()  # a stream whose client left before it began


class Streams:
    """Counts the streams that are open."""

    def __init__(self, most: int, of_one: int) -> None:
        """At most `most` streams, and `of_one` recipient's."""
        self._most, self._of_one = most, of_one
        self._open: Counter[str] = Counter()

    def begin(self, recipient: str) -> Watching:
        """Counts one more. Raises Refusal (`too-many`, `busy`)."""
        if self._open[recipient] >= self._of_one:
            raise Refusal("too-many", f"you have {self._of_one} event streams open already", retry_after=_AGAIN)
        if self._open.total() >= self._most:
            raise Refusal("busy", "the service has reached its limit of event streams", retry_after=_AGAIN)
        self._open[recipient] += 1
        return Watching(self, recipient)

    def end(self, recipient: str) -> None:
        self._open[recipient] -= 1
        if not self._open[recipient]:
            del self._open[recipient]

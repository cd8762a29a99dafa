"""Event streams: how many may be open at once, of one recipient and of this process."""

from __future__ import annotations

from collections.abc import AsyncIterator, Mapping

from starlette.responses import StreamingResponse

from invio.core.networks import network_of
from invio.core.reasons import Refusal
from invio.workers.shared import OwnCounts, Sharing

_AGAIN = 5  # seconds
_HEADERS = {"Cache-Control": "no-store", "X-Accel-Buffering": "no"}  # headers that make proxies pass events on at once


def event_stream(events: AsyncIterator[str]) -> StreamingResponse:
    """Server-sent events as an answer."""
    return StreamingResponse(events, media_type="text/event-stream", headers=_HEADERS)


class Watching:
    """One stream that is open, until it has ended."""

    __slots__ = ("_counted", "_ended", "_streams")

    def __init__(self, streams: Streams, counted: tuple[str, ...]) -> None:
        self._streams, self._counted, self._ended = streams, counted, False

    def end(self) -> None:
        """Ends the stream; may be called again."""
        if not self._ended:
            self._ended = True
            self._streams.end(self._counted)

    def __del__(self) -> None:
        self.end()  # a stream whose client left before it began


class Streams:
    """Counts the streams that are open."""

    def __init__(self, most: int, of_one: int, of_network: int, sharing: Sharing | None = None) -> None:
        """At most `most` streams, `of_one` recipient's or link's, and `of_network` address's by links."""
        self._most, self._of_one, self._of_network = most, of_one, of_network
        self._count = 0
        self._open = sharing or OwnCounts()

    def begin(self, recipient: str) -> Watching:
        """Counts one more of a recipient. Raises Refusal (`too-many`, `busy`)."""
        return self._begin({f"recipient {recipient}": (self._of_one, "you have")})

    def begin_following(self, link: str, network: str | None) -> Watching:
        """Counts one more of those who follow by a link. Raises Refusal (`too-many`, `busy`)."""
        here = (self._of_network, "your network address has")
        return self._begin({f"link {link}": (self._of_one, "this link has"), f"network {network_of(network)}": here})

    def _begin(self, counted: Mapping[str, tuple[int, str]]) -> Watching:
        for name, (most, who) in counted.items():
            if self._open.total(name) >= most:
                raise Refusal("too-many", f"{who} {most} event streams open already", retry_after=_AGAIN)
        if self._count >= self._most:
            raise Refusal("busy", "the service has reached its limit of event streams", retry_after=_AGAIN)
        self._count += 1
        for name in counted:
            self._open.add(name, 1)
        return Watching(self, tuple(counted))

    def end(self, counted: tuple[str, ...]) -> None:
        """Counts one less."""
        self._count -= 1
        for name in counted:
            self._open.add(name, -1)

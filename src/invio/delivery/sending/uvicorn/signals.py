"""What a connection and its responses wait for: that something came, or that the transport takes more.

There may be thousands of idle connections, so each of these is as small as it can be.
"""

from __future__ import annotations

import asyncio
from typing import Any

from invio.delivery.sending.uvicorn.closing import wake

NO_QUEUE: Any = ()  # of requests that wait for their turn: mostly there are none, and a connection has no list of them


class Signal:
    """As much of asyncio.Event as a response needs, in a tenth of its memory: one waiter, if any."""

    __slots__ = ("_set", "_waiting")

    def __init__(self) -> None:
        self._set = False
        self._waiting: asyncio.Future[None] | None = None

    def is_set(self) -> bool:
        """Whether it is set."""
        return self._set

    def set(self) -> None:
        """Sets it; whoever waits goes on."""
        self._set = True
        if self._waiting is not None:
            wake(self._waiting)

    def clear(self) -> None:
        """Resets it, so that the next waiter waits."""
        self._set = False

    async def wait(self) -> bool:
        """Returns once it is set."""
        while not self._set:
            if self._waiting is not None:  # a second waiter is not expected: it polls
                await asyncio.sleep(0.01)
                continue
            self._waiting = asyncio.get_running_loop().create_future()
            try:
                await self._waiting
            finally:
                self._waiting = None
        return True


class Queue(list[Any]):
    """Requests that wait for their turn on a connection: few."""

    def appendleft(self, item: Any) -> None:
        """Puts an item at the beginning, as a deque does."""
        self.insert(0, item)


class Flow(Signal):
    """The server's flow control of a connection, and the signal in it, as one object."""

    __slots__ = ("_transport", "read_paused", "write_paused")

    def __init__(self, transport: Any) -> None:
        super().__init__()
        self._transport = transport
        self.read_paused = self.write_paused = False
        self.set()

    async def drain(self) -> None:
        """Returns when the transport takes more."""
        await self.wait()

    def pause_reading(self) -> None:
        """Pauses reading."""
        if not self.read_paused:
            self.read_paused = True
            self._transport.pause_reading()

    def resume_reading(self) -> None:
        """Resumes reading."""
        if self.read_paused:
            self.read_paused = False
            self._transport.resume_reading()

    def pause_writing(self) -> None:
        """The transport has more than it can send at present."""
        self.write_paused = True
        self.clear()

    def resume_writing(self) -> None:
        """The transport takes more again."""
        self.write_paused = False
        self.set()


class Deaf(Signal):
    """Takes the place of a response's signal when nobody waits for it."""

    def set(self) -> None:
        """Nothing is to be told."""


DEAF: Any = Deaf()

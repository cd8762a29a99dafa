"""Two protocols: what a connection offers to the sender of a response, and what it reports back.

They separate the senders from the one server whose connections implement them (`sending.uvicorn`). Support for another
server needs only these.
"""

from __future__ import annotations

import socket
from collections.abc import Callable, Coroutine
from typing import Any, Protocol

# One call of sendfile: large enough to cost nothing, small enough to let others in.
STEP = 16 * 1024 * 1024  # bytes
TURN = 32 * 1024 * 1024  # bytes after which other tasks get a turn, even if the socket takes more


class Unfinished(Protocol):
    """A response that goes on by itself after its application has returned, as its connection sees it."""

    @property
    def sending(self) -> bool:
        """Whether something of the body has not been handed over yet."""
        ...

    def look_for_arrival(self) -> bool:
        """Ends the response when all of it is acknowledged; whether that is so."""
        ...

    def lost(self, why: Any) -> None:
        """The connection is lost; `why` says how."""
        ...


class Connection(Protocol):
    """One response on one connection, which sends without copying and knows what has arrived."""

    body_sent: int  # bytes of the body that the kernel, or the transport's buffer, has taken
    taken: bool  # whether all of it is known to have arrived
    answered: bool  # whether the message of `question` has reached it

    @property
    def gone(self) -> bool:
        """Whether the other side is no longer there."""
        ...

    @property
    def leaving(self) -> bool:
        """Whether the other side is gone, or has closed at least its own side."""
        ...

    @property
    def untouched(self) -> bool:
        """Whether nothing of the response has left, its head included."""
        ...

    @property
    def free(self) -> bool:
        """Whether nothing of the response, or of one before it, waits in the transport."""
        ...

    @property
    def arrived(self) -> int:
        """Bytes of the body that the other side has acknowledged."""
        ...

    @property
    def at_most(self) -> int:
        """Bytes of the body that the other side may have got."""
        ...

    def question(self) -> dict[str, Any]:
        """A message without effect but that the response is `answered` if it arrives."""
        ...

    def unacknowledged(self) -> int:
        """Bytes that were sent, and that the other side has not acknowledged yet."""
        ...

    def waiting(self) -> bool:
        """Whether something was sent that the other side has not taken yet."""
        ...

    def cut(self, why: str) -> None:
        """Breaks the connection; whoever is sending on it gets ReaderStuck."""
        ...

    def give_up(self) -> None:
        """Breaks the connection: the response is not sent whole."""
        ...

    def defer(self) -> None:
        """Lets the application return before its response was sent."""
        ...

    def resume(self) -> None:
        """Continues a response that `defer` postponed."""
        ...

    def spawn(self, sending: Coroutine[Any, Any, None]) -> None:
        """Sends a postponed response with a coroutine."""
        ...

    def head_of(self, status: int, headers: list[tuple[bytes, bytes]]) -> bytes:
        """The response's head, for the caller to send."""
        ...

    def hold_head(self, status: int, headers: list[tuple[bytes, bytes]]) -> None:
        """Keeps the response's head, to leave together with the first of the body."""
        ...

    def send_whole(self, status: int, headers: list[tuple[bytes, bytes]], body: bytes) -> bool:
        """Sends a response with its length in one write; False where that cannot be, and nothing was sent."""
        ...

    async def send_file(self, descriptor: int, offset: int, count: int, *, more: bool) -> None:
        """Sends `count` bytes of an open file; `more` says that they are not the body's last."""
        ...

    def direct_socket(self) -> socket.socket:
        """The socket itself. Raises ClientGone."""
        ...

    def attempt(self, send: Callable[..., int], *given: object) -> int | None:
        """How many bytes a call has sent; None when the socket takes no more at present. Raises ClientGone."""
        ...

    def complete(self) -> None:
        """Ends a response whose body the caller has sent. Raises ReplyBroken."""
        ...

    def attach(self, response: Unfinished) -> None:
        """Registers the response to be told when the connection is lost."""
        ...

    def detach(self, response: Unfinished) -> None:
        """Ends what `attach` began."""
        ...

    def release_request_state(self) -> None:
        """Frees the memory that reading the request needed."""
        ...

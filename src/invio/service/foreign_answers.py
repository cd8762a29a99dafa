"""Answers of other services over HTTP: each is read within a limit of bytes, and one of time for the whole of it."""

from __future__ import annotations

import socket
import threading
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager, suppress
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    import httpx


def body_within(answer: httpx.Response, most: int, seconds: float, began: float, now: Callable[[], float]) -> bytes:
    """The body of an answer: at most `most` bytes, within `seconds` of `began` by the clock `now`.

    The library's own time limit is of each piece: a body that drips would never reach it.

    Raises:
        ValueError: it is longer. TimeoutError: it takes longer. httpx.HTTPError: it breaks off.
    """
    body = b""
    for piece in answer.iter_bytes():
        body += piece
        if len(body) > most:
            raise ValueError(f"its answer is longer than {most} bytes")
        if now() > began + seconds:
            raise TimeoutError(f"its answer took longer than {seconds:g} seconds")
    return body


class ExchangeLimit:
    """Breaks off what takes too long altogether, on the one connection of a client whose exchanges follow each other.

    The library's own time limit is of each wait: a head that drips would never reach it.
    """

    def __init__(self, seconds: float) -> None:
        self._seconds = seconds
        self._connection: socket.socket | None = None
        self._passed = False  # whether the exchange that began last took too long

    def trace(self, event: str, info: Mapping[str, Any]) -> None:
        """The `trace` extension of the client's requests: it says what they are sent over."""
        if event == "connection.connect_tcp.complete":
            self.close()
            # The socket itself becomes part of another where TLS is spoken.
            self._connection = info["return_value"].get_extra_info("socket").dup()
            if self._passed:
                self._break()

    @contextmanager
    def exchange(self) -> Iterator[None]:
        """One request and its answer, for as long as the `with` lasts. Raises TimeoutError: it was broken off."""
        self._passed = False
        timer = threading.Timer(self._seconds, self._pass)
        timer.daemon = True
        timer.start()
        try:
            yield
        except Exception:
            if self._passed:
                raise TimeoutError(f"its answer was not complete after {self._seconds:g} seconds") from None
            raise
        finally:
            timer.cancel()

    def close(self) -> None:
        """Closes the copy of the socket that is kept here; the client closes its own."""
        if self._connection is not None:
            self._connection.close()
            self._connection = None

    def _pass(self) -> None:
        self._passed = True
        self._break()

    def _break(self) -> None:
        connection = self._connection
        if connection is not None:
            with suppress(OSError):  # it has ended already
                connection.shutdown(socket.SHUT_RDWR)

"""Answers of other services over HTTP: each is read within a limit of bytes, and one of time for the whole of it."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

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

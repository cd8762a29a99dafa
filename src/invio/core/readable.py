"""What a slice of a reply is read from: one small protocol for every kind of source.

A source is one finding of a content. It is read as it was found or not at all: if it was replaced or altered since,
reading raises `ContentChanged`. A new kind of source implements `Readable`; no other module needs to know it.
"""

from __future__ import annotations

from collections.abc import AsyncIterator
from typing import Protocol


class ContentChanged(Exception):
    """The content is not the one that was planned for. The message is meant for the records."""


class Readable(Protocol):
    """`size` bytes that can be read from any offset."""

    @property
    def size(self) -> int:
        """Bytes of all of it."""
        ...

    @property
    def may_block(self) -> bool:
        """Whether reading waits for another system; in the event loop it is then read by `pieces` alone."""
        ...

    def read(self, offset: int, count: int) -> bytes:
        """Reads `count` bytes, no fewer, from `offset` on.

        Raises:
            ContentChanged: it is not, or no longer, what was found.
            StoreFault: another system has it, and failed.
        """
        ...

    def open(self) -> int | None:
        """A descriptor for reading, which the caller closes; None where there is none, and `read` is the way.

        Raises:
            ContentChanged: it is not, or no longer, what was found.
        """
        ...

    def is_at(self, descriptor: int) -> bool:
        """Whether what `open` gave is, still, what was found."""
        ...

    def is_unaltered(self) -> bool:
        """Whether what `read` gave until now is of what was found. Raises StoreFault."""
        ...

    def pieces(self, offset: int, count: int) -> AsyncIterator[bytes]:
        """Like `read`, in the event loop and piece by piece; the last one comes only when nothing was altered."""
        ...


class HeldInMemory:
    """Base class of sources that need neither a descriptor nor another system."""

    __slots__ = ()
    may_block = False

    def read(self, offset: int, count: int) -> bytes:
        """`count` bytes from `offset` on."""
        raise NotImplementedError

    def open(self) -> int | None:
        """There is no file of it."""
        return None

    def is_at(self, descriptor: int) -> bool:  # noqa: ARG002 - there is none
        """It cannot change."""
        return True

    def is_unaltered(self) -> bool:
        """It cannot change."""
        return True

    async def pieces(self, offset: int, count: int) -> AsyncIterator[bytes]:
        """`count` bytes from `offset` on, in one piece."""
        yield self.read(offset, count)

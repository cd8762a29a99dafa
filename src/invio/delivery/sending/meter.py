"""How much of a reply was handed over, and how much of that arrived."""

from __future__ import annotations

from invio.delivery.sending.connection import Connection


class Meter:
    """Counts what a reply has handed over, and knows what of it arrived. Bytes, from the body's first."""

    __slots__ = ("_wire", "counted")

    def __init__(self, wire: Connection | None) -> None:
        self._wire = wire
        self.counted = 0

    def through(self, wire: Connection | None) -> None:
        """Switches to another connection before anything was sent."""
        self._wire = wire

    def cut(self, why: str) -> None:
        """Breaks the connection if we can; its sender gets `why`."""
        if self._wire is not None:
            self._wire.cut(why)

    @property
    def leaving(self) -> bool:
        """Whether the other side is gone, or probably about to be."""
        return self._wire is not None and self._wire.leaving

    @property
    def sent(self) -> int:
        """Bytes of the body that were handed over."""
        return self.counted if self._wire is None else self._wire.body_sent

    @property
    def arrived(self) -> int:
        """What was sent, less what the other side has not acknowledged yet."""
        if self._wire is None:
            return self.counted
        return self._wire.arrived

    @property
    def at_most(self) -> int:
        """What the other side may have got: what arrived, and what was on its way when the connection ended."""
        return self.counted if self._wire is None else self._wire.at_most

"""How an answer ends when it does not end whole, and for how long a reader may take nothing."""

from __future__ import annotations


class ClientGone(OSError):
    """The other side closed the connection, or it was lost."""


class ReaderStuck(ClientGone):
    """The client took nothing for too long and was disconnected."""


class ReplyBroken(Exception):
    """The response cannot be completed as announced; the connection must be broken, not ended."""


class ProducerFailed(ReplyBroken):
    """Producing the content failed. `word` is the reason's."""

    def __init__(self, said: str, word: str = "not-made") -> None:
        super().__init__(said)
        self.word = word


class NobodyWaits(Exception):
    """The caller of a long operation is gone."""


class IdleTimer:
    """Notices when a reader takes nothing for too long."""

    __slots__ = ("_arrived", "_since")

    def __init__(self) -> None:
        self._since, self._arrived = 0.0, -1

    def ended(self, now: float, arrived: int, *, waiting: bool, idle: float) -> bool:
        """Whether nothing was taken for `idle` seconds, up to `now`, while something was waiting to be."""
        if arrived != self._arrived or not waiting:
            self._since, self._arrived = now, arrived
        return now - self._since >= idle

"""Room: how much of the disk the contents may take that are made on demand, all together and one caller's.

Invariants:
- What is taken is given back once: by whoever took it, or when the content that holds it is gone.
- It is given back without a lock: the interpreter collects garbage wherever it likes, so also in a thread that holds
  the lock at that moment. What was given back waits in a queue until somebody looks.
- One caller has half of it at most, but always enough for one content.
- Where there is none, contents that are whole and kept for those who come later are dropped first (`gives_room`).
"""

from __future__ import annotations

import threading
from collections import Counter
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from queue import Empty, SimpleQueue

from invio.producers.failures import NoRoom

_LOCK = threading.Lock()


def _gives_none(whose: str | None) -> bool:  # noqa: ARG001 - as what does
    return False


@dataclass(slots=True)
class Room:
    """Where contents lie while they are made, and how much may.

    `folder` None: the system's own. `bytes` of one content, `all_bytes` of those together that are there at once;
    `seconds` for which one may be made. `fair`: one caller has half of it at most.
    """

    folder: Path | None = None
    bytes: int = 4 << 30
    all_bytes: int = 16 << 30
    seconds: float = 600.0
    fair: bool = True
    # Drops something that can be missed, of one caller's or of all, and tells whether there was anything.
    gives_room: Callable[[str | None], bool] = field(default=_gives_none, init=False, repr=False, compare=False)
    _taken: int = field(default=0, init=False, compare=False)
    _taken_by: Counter[str] = field(default_factory=Counter, init=False, repr=False, compare=False)
    _returned: SimpleQueue[tuple[int, str | None]] = field(
        default_factory=SimpleQueue, init=False, repr=False, compare=False
    )

    @property
    def used(self) -> int:
        """Bytes of the room that are taken."""
        with _LOCK:
            return self._used()

    def take(self, count: int, whose: str | None = None) -> None:
        """Takes some of the room, for whoever it is. Raises NoRoom."""
        while True:
            try:
                self._take(count, whose)
            except NoRoom as none:
                if not self.gives_room(none.whose):
                    raise
            else:
                return

    def _take(self, count: int, whose: str | None) -> None:
        with _LOCK:
            if self._used() + count > self.all_bytes:
                raise NoRoom
            if whose is not None and self.fair:
                if self._taken_by[whose] + count > max(self.bytes, self.all_bytes // 2):
                    raise NoRoom(whose)
                self._taken_by[whose] += count
            self._taken += count

    def give_back(self, count: int, whose: str | None = None) -> None:
        """Gives some of the room back. It takes no lock: garbage may be collected where the lock is held."""
        self._returned.put((count, whose))

    def _used(self) -> int:
        with suppress(Empty):
            while True:
                count, whose = self._returned.get_nowait()
                self._taken -= count
                if whose is not None and self.fair:
                    self._taken_by[whose] -= count
                    if not self._taken_by[whose]:
                        del self._taken_by[whose]
        return self._taken


class Taken:
    """What one content has taken of the room; given back when it is gone."""

    def __init__(self, room: Room, whose: str | None = None) -> None:
        self._room, self._whose, self._taken = room, whose, 0

    def take(self, count: int) -> None:
        """Takes some more. Raises NoRoom."""
        self._room.take(count, self._whose)
        self._taken += count

    def give_back(self) -> None:
        """Gives all of it back."""
        with _LOCK:  # the watch and the producer's thread may both give up at once
            self.give_back_the_rest()

    def give_back_the_rest(self) -> None:
        """The same when the content is gone, and nobody else can do it at the same time; without a lock."""
        taken, self._taken = self._taken, 0
        self._room.give_back(taken, self._whose)

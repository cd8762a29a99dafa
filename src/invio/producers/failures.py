"""Failures: why a content was not produced, for whoever waits for it."""

from __future__ import annotations


class NotProduced(Exception):
    """The content could not be made, or not in full. `word` is the reason's; the message may be shown to anybody."""

    def __init__(self, said: str, word: str = "not-made") -> None:
        super().__init__(said)
        self.word = word


class NoRoom(NotProduced):
    """As much lies there already as may; `whose` it is, where it is one caller's part of the room that is taken."""

    def __init__(self, whose: str | None = None) -> None:
        super().__init__("as much is being made at present as there is room for", "busy")
        self.whose = whose

"""An in-memory cache of small, frequently requested files: a few megabytes.

A content is keyed by its finding, which the store returns only while the file is unaltered, so entries need no expiry.
A file that was just written is not cached: a second change may have the same time.
"""

from __future__ import annotations

from invio.stores.sources import DiskFile, is_settled

LARGEST = 16 * 1024  # bytes of the largest that is kept
_ALL = 6 * 1024 * 1024  # bytes of all


class SmallContents:
    """Contents by their sources; when they become too many, all are let go."""

    def __init__(self) -> None:
        self._kept: dict[DiskFile, bytes] = {}
        self._size = 0

    def get(self, source: object, offset: int, length: int) -> bytes | None:
        """Bytes of a file, if its content is kept."""
        kept = self._kept.get(source)  # type: ignore[call-overload]
        return None if kept is None else kept if length == len(kept) else kept[offset : offset + length]

    def keep(self, source: object, content: bytes) -> None:
        """Keeps the whole content of a file, if it is small and at rest."""
        if not isinstance(source, DiskFile) or not len(content) == source.size <= LARGEST:
            return
        if not is_settled(source.modified_ns / 1e9):
            return
        if self._size + len(content) > _ALL:
            self._kept.clear()
            self._size = 0
        self._kept[source] = content
        self._size += len(content)

"""An archive as a content: entry headers and contents as parts, produced on request.

An archive of a hundred thousand files is a few arrays here, and a range of it starts as fast as one
of a single file. Small entries stand together in runs, which are read in one go.
"""

from __future__ import annotations

from array import array
from bisect import bisect_left, bisect_right
from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager
from typing import Protocol, overload

from invio.core.archive.zip_layout import Entry
from invio.core.http.replies import Content, Part, Slice
from invio.core.readable import Readable

SMALL = 64 * 1024  # bytes of a content that is read together with its neighbours
RUN = 256 * 1024  # bytes, at most, of such a run
ENDINGS = (".zip", ".tar")  # what the names of archives end in


class Layout(Protocol):
    """How one kind of archive is laid out."""

    media_type: str
    extension: str
    deflates: bool
    size: int

    def add(self, entry: Entry) -> bytes:
        """Lays out one more entry; gives the bytes that stand before its content."""
        ...

    def end(self) -> bytes:
        """The bytes that stand after the last content; nothing is added after it."""
        ...

    @property
    def tag(self) -> str:
        """A tag that differs for every other sequence of entries. Call it after `end`."""
        ...


class Sources(Protocol):
    """What the contents of entries are read from, by the entries' numbers."""

    def slices(self, number: int, start: int, count: int) -> Iterator[Slice]:
        """What gives `count` bytes of one content, from `start` on."""
        ...

    def run(self, places: EntryPlaces, first: int, last: int) -> Readable:
        """What slices of several entries (`last` not included), headers and contents, are of."""
        ...

    def name_of(self, number: int) -> str:
        """What people are told of which entry is being sent."""
        ...

    def sent(self) -> AbstractContextManager[object]:
        """What is entered while the archive is being sent to somebody."""
        ...


class EntryPlaces:
    """Where the entries of an archive stand, and their headers. Add entries, then call `end`; no change after that."""

    def __init__(self, layout: Layout) -> None:
        self._layout = layout
        self._heads = bytearray()
        self._head_at = array("Q", [0])  # where each header begins within `_heads`
        self._at = array("Q", [0])  # where each entry begins within the archive, with its header
        self._alone = bytearray()  # 1 for an entry that stands in no run
        self.tail = b""  # the bytes that stand after the last content
        self.may_block = False
        self.size = 0
        self.tag = ""

    @property
    def media_type(self) -> str:
        """The archive's media type."""
        return self._layout.media_type

    def __len__(self) -> int:
        """How many entries there are."""
        return len(self._alone)

    def add(self, entry: Entry, *, alone: bool = False) -> None:
        """Adds an entry; `alone`: reading its content blocks, so it stays out of runs."""
        layout, heads = self._layout, self._heads
        heads += layout.add(entry)
        self._head_at.append(len(heads))
        self._at.append(layout.size)
        if alone:
            self.may_block = True
        self._alone.append(alone or entry.held > SMALL)

    def end(self) -> None:
        """Closes the archive: nothing is added after it, and its size and tag are known."""
        self.tail = self._layout.end()
        self.size, self.tag = self._layout.size, self._layout.tag
        self._heads = bytes(self._heads)  # type: ignore[assignment]

    def head(self, number: int) -> bytes:
        """The bytes that stand before an entry's content."""
        return bytes(self._heads[self._head_at[number] : self._head_at[number + 1]])

    def held(self, number: int) -> int:
        """The number of bytes this entry's content takes in the archive."""
        return self._at[number + 1] - self.content_at(number)

    def at(self, number: int) -> int:
        """Where an entry begins, with its header; for the number after the last one, where all of them end."""
        return self._at[number]

    def content_at(self, number: int) -> int:
        """Where an entry's content begins."""
        return self._at[number] + self._head_at[number + 1] - self._head_at[number]

    @property
    def spans(self) -> Iterator[tuple[int, int]]:
        """Where the content of each entry begins in the archive, and where it ends."""
        heads, places = self._head_at, self._at
        for head, content, place, end in zip(heads, heads[1:], places, places[1:], strict=False):
            yield place + content - head, end

    def holding(self, offset: int) -> int:
        """The entry in which an offset of the archive lies."""
        return bisect_right(self._at, offset) - 1

    def whole_within(self, start: int, stop: int) -> int:
        """How many entries lie whole between two offsets of the archive."""
        return max(0, self.ended_by(stop) - bisect_left(self._at, start))

    def ended_by(self, offset: int) -> int:
        """How many entries end at or before an offset of the archive."""
        return min(len(self), bisect_right(self._at, offset, 1) - 1)

    def run_end(self, number: int, stop: int) -> int:
        """The entry after which a run that begins with this one ends, of which bytes up to `stop` are wanted."""
        most, last, at, alone = self._at[number] + RUN, len(self), self._at, self._alone
        while number < last and not alone[number] and at[number] < stop and at[number + 1] <= most:
            number += 1
        return number


class ArchiveContent(Content):
    """The parts of an archive: headers from its entries' places, contents from its sources.

    Sources do not refer to it: the two would form a reference cycle, and stay in memory after the archive was sent.
    """

    kept = False

    def __init__(self, places: EntryPlaces, sources: Sources) -> None:
        self.places = places
        self._sources = sources
        self.may_block = places.may_block
        self.size, self.tag, self.media_type = places.size, places.tag, places.media_type

    def name_of(self, number: int) -> str:
        """What people are told of which entry is being sent."""
        return self._sources.name_of(number)

    @property
    def parts(self) -> Sequence[Part]:
        """All of the archive."""
        return Stretch(self, 0, self.size)

    def cut(self, start: int, stop: int) -> Sequence[Part]:
        """The archive's bytes from `start` up to `stop`."""
        return Stretch(self, start, stop)

    def stretch(self, start: int, stop: int) -> Iterator[Part]:
        """The parts that hold bytes `start` to `stop` (not included)."""
        with self._sources.sent():
            yield from self._stretch(start, stop)

    def _stretch(self, start: int, stop: int) -> Iterator[Part]:
        places = self.places
        number = places.holding(start)
        while start < stop and number < len(places):
            upto, begin = places.run_end(number, stop), places.at(number)
            if upto > number:
                end = min(stop, places.at(upto))
                source = self._sources.run(places, number, upto)
                yield Slice(source, start - begin, end - start)
                number = upto
            else:
                end, content = min(stop, places.at(number + 1)), places.content_at(number)
                if start < content:
                    yield places.head(number)[start - begin : end - begin]
                    start = min(content, end)
                if start < end:
                    yield from self._sources.slices(number, start - content, end - start)
                number += 1
            start = end
        if start < stop:
            begin = places.at(len(places))
            for at in range(start, stop, RUN):
                yield places.tail[at - begin : min(at + RUN, stop) - begin]


class Stretch(Sequence[Part]):
    """Parts that are produced anew for each iteration."""

    __slots__ = ("_archive", "_count", "_start", "_stop")

    def __init__(self, archive: ArchiveContent, start: int, stop: int) -> None:
        self._archive, self._start, self._stop = archive, start, stop
        self._count: int | None = None

    def __iter__(self) -> Iterator[Part]:
        return self._archive.stretch(self._start, self._stop)

    def __len__(self) -> int:
        if self._count is None:
            self._count = sum(1 for _ in self)
        return self._count

    def __bool__(self) -> bool:
        return self._start < self._stop

    @overload
    def __getitem__(self, place: int) -> Part: ...
    @overload
    def __getitem__(self, place: slice) -> Sequence[Part]: ...
    def __getitem__(self, place: int | slice) -> Part | Sequence[Part]:
        return list(self)[place]

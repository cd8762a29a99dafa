"""What every kind of store offers: locate one file, list one folder."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple, Protocol, runtime_checkable

from invio.core.addresses import Address
from invio.core.files import Caller, FileFacts
from invio.core.readable import Readable
from invio.core.versions import Putting, Version
from invio.stores.arriving import Arriving
from invio.stores.sources import BlockingFile, DiskFile, Made, SpooledFile


class Missing(Exception):
    """There is no such file or folder in the store, or none that an address may name."""


class StoreFault(Exception):
    """The store itself cannot be used, as when its root is gone. The message is for the operator.

    `store` is its name, where callers may be told; `word` the reason's: `unreachable`, `no-answer` or `busy`.
    """

    def __init__(self, message: str, *, store: str | None = None, word: str = "unreachable") -> None:
        super().__init__(message)
        self.store, self.word = store, word


class _Finding(NamedTuple):
    facts: FileFacts
    source: DiskFile | Made | BlockingFile | SpooledFile
    neighbours: bool = False
    passing: bool = False
    personal: bool = False
    lasting: Readable | None = None


class Found(_Finding):
    """A file that exists: its facts, and what it is read from. One finding is another than the next.

    `neighbours` says that the same content may lie compressed beside it, as `name.gz` or `name.zst`. `passing`: its
    content is dropped as soon as nobody reads it, so it must not be cached. `personal`: it is one recipient's own, and
    in no shared cache. `lasting`: the source is a file of a bounded cache, and not of the store; this gives the same
    content after it was evicted, too.
    """

    __slots__ = ()
    __eq__ = object.__eq__
    __ne__ = object.__ne__
    __hash__ = object.__hash__

    def of(self, caller: Caller) -> Found:
        """The file as this caller gets it: what is made on demand may be each recipient's own."""
        source = self.source
        return self._replace(source=source.of(caller)) if isinstance(source, Made) else self

    @property
    def made(self) -> Made | None:
        """What makes it, for a file that is made on demand."""
        return self.source if isinstance(self.source, Made) else None

    @property
    def content(self) -> Readable:
        """What it is read from, for a file that is not made on demand."""
        if isinstance(self.source, Made):
            raise TypeError(f"{self.facts.address} is made on demand")
        return self.source

    @property
    def on_disk(self) -> DiskFile | None:
        """The file, where it is one on a disk of this machine."""
        source = self.source
        return source if isinstance(source, DiskFile) else None

    @property
    def blocking(self) -> BlockingFile | None:
        """The file, where it cannot be opened and reading it waits: another system has it, or a database."""
        return self.source if isinstance(self.source, BlockingFile) else None


@runtime_checkable
class WalkableStore(Protocol):
    """A store that finds everything below a folder faster than one by one."""

    def walk(self, folder: Address) -> Iterator[Found]:
        """Every file below a folder, in the order of `list`, folders first. Raises Missing."""
        ...


@runtime_checkable
class PagedStore(Protocol):
    """A store that lists a folder page by page, so that nobody holds all of a long one."""

    def page(self, folder: Address, after: Address | None, limit: int) -> Sequence[Address]:
        """What follows `after` (None: from the beginning) in the order of `list`, at most `limit`; fewer at the end.

        `after` need not be there any more. Raises Missing: there is no such folder.
        """
        ...


@runtime_checkable
class GlancingStore(Protocol):
    """A store whose listing of a folder includes facts that would otherwise take a call per file."""

    def glance(self, address: Address) -> Found:
        """Like `locate`, by what a listing told a moment ago where it did. Raises Missing."""
        ...


@runtime_checkable
class SearchableStore(Protocol):
    """A store that keeps descriptions of its files."""

    def search(self, folder: Address, text: str) -> Sequence[Address]:
        """The files below a folder whose descriptions have a text, whatever the case. Raises StoreFault."""
        ...


@runtime_checkable
class VersionedStore(Protocol):
    """A store that keeps earlier versions of a file."""

    def locate_version(self, address: Address, number: int | None) -> Found:
        """Finds one version of a file; None: the newest. Raises Missing."""
        ...

    def versions(self, address: Address, before: int | None = None, limit: int = 100) -> Sequence[Version]:
        """Versions of a file, the newest first; `before` is the number to go on after. Raises Missing."""
        ...

    def renew(self, address: Address, number: int, putting: Putting) -> tuple[Found, bool]:
        """Makes an earlier version the newest again, as a further one. Raises Missing; Refusal: `precondition`."""
        ...


@runtime_checkable
class WritableStore(Protocol):
    """A store that files can be put into, and removed from."""

    @property
    def describes(self) -> bool:
        """Whether it keeps what a file is about."""
        ...

    def begin(self) -> Arriving:
        """What a content is written to as it comes. Raises OSError."""
        ...

    def put(self, address: Address, arriving: Arriving, putting: Putting) -> tuple[Found, bool]:
        """Makes what has arrived the file's content; gives the file, and whether it is a new one.

        The file is as it was when anything is raised. A store that says `describes` keeps what it is about.

        Raises:
            Refusal: `precondition`.
            PathConflict, OSError: it cannot be put there.
        """
        ...

    def remove(self, address: Address, number: int | None, putting: Putting) -> int:
        """Removes a file, or one of its versions; gives how many versions are gone. Downloads under way go on.

        Raises:
            Missing; Refusal: `precondition`.
        """
        ...


@runtime_checkable
class SweepableStore(Protocol):
    """A store that may hold remains of a process that died."""

    def sweep(self, *, alone: bool) -> None:
        """Drops that; `alone`: no other process uses the store. To be called while none starts."""
        ...


class Store(Protocol):
    """A named place that files come from.

    `waits` says that its calls may take as long as a network does: they are for a worker thread, and
    raise StoreFault when the other side does not answer.
    """

    name: str
    kind: str
    waits: bool

    def locate(self, address: Address) -> Found:
        """Finds a file without reading it. Raises Missing."""
        ...

    def list(self, folder: Address) -> Sequence[Address]:
        """The addresses in a folder, in the order of their names; folders end in `/`. Raises Missing."""
        ...

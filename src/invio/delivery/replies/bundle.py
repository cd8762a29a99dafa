"""`invio.BundleReply`: a selection of files as one archive, as the response of a route."""

from __future__ import annotations

import inspect
import os
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any, Literal

from starlette.background import BackgroundTask

from invio.core.addresses import Address
from invio.core.archive.entry_names import LEFT_OUT, SUMS, EntryNames
from invio.core.archive.plan import ENDINGS
from invio.core.archive.tar_layout import TarLayout
from invio.core.archive.zip_layout import Entry, ZipLayout
from invio.core.files import FileFacts
from invio.core.http.caching import USUAL
from invio.core.http.media_types import is_compressed, media_type_by_name
from invio.core.http.names import safe_name
from invio.core.http.replies import Representation
from invio.core.http.request_head import RequestHead
from invio.core.readable import ContentChanged, Readable
from invio.core.reasons import Refusal
from invio.delivery.archives.deflate_cache import CODER
from invio.delivery.archives.plan import Literal as Bytes
from invio.delivery.archives.plan import Plan
from invio.delivery.archives.spools import SharedFile, spooled
from invio.delivery.replies.account import OnEnd, OnProgress
from invio.delivery.replies.base import RouteReply, require_text
from invio.delivery.replies.contents import deflated, known_crc, known_sha256
from invio.delivery.replies.file import folder_at
from invio.delivery.replies.making import Making, all_pieces, require_makes
from invio.delivery.sending.eager import in_pool
from invio.producers.failures import NotProduced
from invio.producers.room import Room
from invio.stores.arriving import crc32
from invio.stores.single import found_at
from invio.stores.sources import Made
from invio.stores.store import Missing
from invio.workers.pool import Pool

_LEAST = 512  # bytes of a content that is worth deflating
# What compressible contents come to at most for an archive to be deflated: it is done before the first byte.
_WAIT_FOR = 64_000_000
# Contents may take long to be made, and the application needs its own threads for its functions that are not `async`.
_PLANNING = Pool("planning-replies", 8, waiting=200)

FileLike = str | os.PathLike[str]


@dataclass(frozen=True, slots=True)
class _Item:
    """One entry: its name and its content."""

    called: str
    source: Readable
    modified: float | None


class BundleReply(RouteReply):
    """A selection of files as one archive that is never written: `return invio.BundleReply(paths)`.

    Its length is known before its first byte, and it can be resumed at any of them. What is read of a file for that,
    its CRC and its deflated form, is kept while the file is the same.
    """

    media_type = "application/zip"

    def __init__(
        self,
        files: Iterable[FileLike] | Mapping[str, FileLike | bytes | Making],
        *,
        name: str = "files.zip",
        format: Literal["zip", "tar"] | None = None,
        flat: bool = False,
        sums: bool = False,
        on_problem: Literal["refuse", "leave-out"] = "refuse",
        compress: bool = True,
        most_files: int = 200_000,
        most_bytes: int = 1 << 40,
        cache: str | None = None,
        speed: int | None = None,
        status_code: int = 200,
        headers: Mapping[str, str] | None = None,
        background: BackgroundTask | None = None,
        on_progress: OnProgress | None = None,
        on_end: OnEnd | None = None,
    ) -> None:
        """`files` are paths of files and folders; or a mapping of names in the archive to them or to contents.

        A content is bytes, or a function that makes one (as that of `StreamReply`, but not asynchronous); it is made
        before the first byte, into a file without a name.

        `format`: `zip` unless the name ends in `.tar`. `flat`: without folders. `sums`: with an entry SHA256SUMS.
        `on_problem`: whether a file that cannot be read refuses the archive or is left out of it, and listed in
        LEFT-OUT.txt. `compress`: contents that are worth it are deflated, unless they are more than 64 MB in all.
        `most_files` and `most_bytes` are what it may hold; more is refused. The rest is as of `FileReply`.

        Raises:
            TypeError, ValueError: an argument is not of its kind.
        """
        super().__init__("attachment", cache, speed, headers, background, status_code, on_progress, on_end)
        require_text("name", name)
        if format not in (None, "zip", "tar"):
            raise ValueError(f"format is {format!r}; expected 'zip' or 'tar'")
        if on_problem not in ("refuse", "leave-out"):
            raise ValueError(f"on_problem is {on_problem!r}; expected 'refuse' or 'leave-out'")
        self._files = _checked(files)
        format = format or ("tar" if name.lower().endswith(".tar") else "zip")
        self._tar = format == "tar"
        self._name = name if name.lower().endswith(ENDINGS) else f"{name}.{format}"
        self._flat, self._sums, self._compress = flat, sums, compress and not self._tar
        self._leaves_out = on_problem == "leave-out"
        self._most_files, self._most_bytes = most_files, most_bytes

    async def represent(self, head: RequestHead) -> Representation:  # noqa: ARG002
        """The archive, planned."""
        content = (await in_pool(_PLANNING, self._plan)).content
        return Representation(
            content=content,
            size=content.size,
            tag=content.tag,
            modified=None,
            media_type=content.media_type,
            name=self._name,
            cache=self._terms.cache or USUAL,
        )

    def _plan(self) -> Plan:
        if not self._files:
            raise Refusal("no-selection", "the selection is empty")
        left_out: list[str] = []
        shared = SharedFile(Room())
        items = list(self._bounded(self._items(left_out, shared)))
        packs = self._compress and sum(item.source.size for item in items if _is_worth(item)) <= _WAIT_FOR
        plan = Plan(TarLayout() if self._tar else ZipLayout(CODER if packs else ""))
        names, sums = EntryNames(flat=self._flat), []
        for item in items:
            try:
                sums.append(self._add(plan, item, names, shared if packs else None))
            except (Refusal, ContentChanged, OSError) as error:
                if not self._leaves_out:
                    raise _refusal(item.called, error) from None
                left_out.append(item.called)
                continue
        if not len(plan):
            raise Refusal("no-selection", "nothing of the selection can be read")
        if self._sums:
            _add_text(plan, names.name(SUMS), "".join(sums))
        if left_out:
            _add_text(plan, names.name(LEFT_OUT), "".join(f"{called}\n" for called in left_out))
        return plan.end()

    def _add(self, plan: Plan, item: _Item, names: EntryNames, shared: SharedFile | None) -> str:
        """Adds an entry, deflated where there is a `shared` file for small ones; gives its line of the sums.

        Nothing is added when anything is raised.
        """
        source = item.source
        packed = deflated(source, shared) if shared is not None and _is_worth(item) else None
        crc = known_crc(source, item.called)
        sha256 = known_sha256(source).hex() if self._sums else ""
        size = None if packed is None else packed.size
        entry = Entry(names.name(item.called), source.size, crc, item.modified, size)
        facts = FileFacts(Address("", entry.name), source.size, item.modified, None)
        plan.add(facts, source, entry, packed)
        return f"{sha256}  {entry.name}\n"

    def _bounded(self, items: Iterator[_Item]) -> Iterator[_Item]:
        count = size = 0
        for item in items:
            count, size = count + 1, size + item.source.size
            if count > self._most_files:
                raise Refusal("too-large", f"an archive holds at most {self._most_files} files")
            if size > self._most_bytes:
                raise self._too_long()
            yield item

    def _too_long(self) -> Refusal:
        return Refusal("too-large", f"an archive holds at most {self._most_bytes} bytes")

    def _items(self, left_out: list[str], shared: SharedFile) -> Iterator[_Item]:
        for called, given in self._files:
            try:
                if isinstance(given, Path):
                    yield from _below(called, given)
                    continue
                spool = spooled(Made(partial(self._made, given)), shared)
                yield _Item(called, spool.file, spool.made)
            except (Refusal, NotProduced) as error:
                if not self._leaves_out:
                    raise _refusal(called, error) from None
                left_out.append(called)

    def _made(self, given: Making) -> Iterator[bytes]:
        """A content in pieces, no more of it than the archive may hold: it is written to the disk as it comes."""
        size = 0
        for piece in all_pieces(given, header=True):
            size += len(piece)
            if size > self._most_bytes:
                raise self._too_long()
            yield piece


def _checked(files: Any) -> list[tuple[str, Any]]:
    """What each entry or folder is called, and its path or what makes it. Raises TypeError."""
    if isinstance(files, str | bytes | os.PathLike):
        raise TypeError(f"files is one path, {files!r}; expected a list of paths, as in [{files!r}]")
    if isinstance(files, Mapping):
        return [(_called(name), _given(name, value)) for name, value in files.items()]
    if not isinstance(files, Iterable):
        raise TypeError(f"files is {type(files).__name__}; expected paths, or a mapping of names to them")
    paths = list(files)
    for path in paths:
        if not isinstance(path, str | os.PathLike):
            raise TypeError(f"files holds {type(path).__name__}; expected paths, and contents in a mapping of names")
    return [(Path(path).name, Path(path)) for path in paths]


def _called(name: object) -> str:
    if not isinstance(name, str) or not name:
        raise TypeError(f"files has the name {name!r}; expected a text")
    return name


def _given(name: str, value: Any) -> Any:
    if isinstance(value, str | os.PathLike):
        return Path(value)
    if inspect.iscoroutinefunction(value) or inspect.isasyncgenfunction(value) or inspect.isawaitable(value):
        raise TypeError(f"{name!r} is made asynchronously; what is in an archive is made plainly")
    require_makes(value)
    return value


def _below(called: str, path: Path) -> Iterator[_Item]:
    """The file at `path`, or every file below it, with what each is called in the archive."""
    if not path.is_dir():
        try:
            found = found_at(path)
        except Missing:
            raise Refusal("missing", f"there is no file {safe_name(called)!r}") from None
        yield _Item(called, found.content, found.facts.modified)
        return
    for found in folder_at(os.fspath(path)).walk(Address("files", "")):
        yield _Item(f"{called}/{found.facts.address.path}", found.content, found.facts.modified)


def _is_worth(item: _Item) -> bool:
    media_type = media_type_by_name(item.called.rpartition("/")[2])
    return item.source.size >= _LEAST and (media_type is None or not is_compressed(media_type))


def _refusal(called: str, error: Exception) -> Refusal:
    if isinstance(error, Refusal):
        return error
    if isinstance(error, ContentChanged):
        return Refusal("changed", f"{safe_name(called)!r}: {error}")
    if isinstance(error, NotProduced):
        return Refusal(error.word, f"{safe_name(called)!r}: {error}")
    said = error.strerror if isinstance(error, OSError) else str(error)
    return Refusal("no-space", f"{safe_name(called)!r} could not be compressed: {said}")


def _add_text(plan: Plan, name: str, text: str) -> None:
    data = text.encode()
    facts = FileFacts(Address("", name), len(data), None, None)
    plan.add(facts, Bytes(data), Entry(name, len(data), crc32()(data, 0), None))

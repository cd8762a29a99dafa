"""Files on another system, through fsspec: an object store, a file server, or any other it supports.

Nothing is copied to the disk: what is asked for is read from there, piece by piece, while it is sent.
Every call may take as long as the network does, and is meant for a worker thread.
"""

from __future__ import annotations

import hashlib
import re
import threading
import time
from collections.abc import Callable, Iterable, Mapping
from datetime import UTC, datetime
from types import SimpleNamespace
from typing import Any, TypeVar

import fsspec
from fsspec.spec import AbstractFileSystem

from invio.core.addresses import Address, BadAddress, parse_address
from invio.core.files import FileFacts
from invio.core.http.media_types import essence
from invio.core.readable import ContentChanged
from invio.stores.blocking import FRESH, BlockingStore
from invio.stores.sources import BlockingFile
from invio.stores.store import Missing, StoreFault

_REFUSES_FOR = 2.0  # seconds for which a system that could not be reached is not tried again
# Media types that systems report when they do not know the type.
_SAYS_NOTHING = ("application/octet-stream", "binary/octet-stream", "application/x-www-form-urlencoded")
_PASSWORD = re.compile(r"(://[^/@:]*):[^/@]*@")
T = TypeVar("T")
# What the kinds of file systems call the time of the last change.
_TIMES = ("mtime", "LastModified", "last_modified", "modified", "modify", "updated", "created")
_TYPES = ("ContentType", "content_type", "mimetype", "contentType")
# A connection of these is one conversation, which two threads must not lead at once.
_CONVERSATIONS = ("ftp", "sftp", "ssh")
# What the kinds of file systems call a tag that changes with the content.
_TAGS = ("ETag", "etag", "version", "checksum")
# Kinds whose listings tell size and time as exactly as asking for one file does.
_LISTS_EXACTLY = ("file", "ftp", "local", "memory", "sftp", "ssh")
_GONE = (FileNotFoundError, NotADirectoryError, IsADirectoryError, PermissionError)


class RemoteStore(BlockingStore):
    """Files below `url`, which says by its scheme how they are reached."""

    kind = "remote"
    lists_all = False  # of the media type, for one, most say nothing in a listing

    def __init__(
        self,
        name: str,
        url: str,
        options: Mapping[str, Any],
        redirect: int | None = None,
        *,
        timeout: float = 20.0,
        fresh: float = FRESH,
    ) -> None:
        """`options` are for the kind of file system; `redirect` is for how many seconds addresses of its own hold.

        `timeout` is for how many seconds one call may take, `fresh` for how many facts are good. It is reached when it
        is first asked for: a system that is down does not keep the service from starting.

        Raises:
            StoreFault: nothing reaches such a URL, or it cannot make addresses and is to.
        """
        super().__init__(name, timeout=timeout, fresh=fresh)
        self._url, self._options = url, options
        self._held = threading.local() if scheme_of(url) in _CONVERSATIONS else SimpleNamespace()
        self._failed_at, self._failed = -_REFUSES_FOR, ""
        self._lock = threading.Lock()
        scheme = scheme_of(url)
        try:
            kind = fsspec.get_filesystem_class(scheme)
        except (ValueError, ImportError) as error:
            raise StoreFault(f"store {name!r}: {without_password(url)!r} cannot be reached: {error}") from None
        if redirect is not None and kind.sign is AbstractFileSystem.sign:
            raise StoreFault(f"store {name!r}: {scheme!r} makes no addresses; leave 'redirect' out")
        self._redirect = redirect

    def _connected(self) -> tuple[Any, str]:
        """The file system and the path of the root in it, reached now if it was not. Raises StoreFault.

        One for the store or, where a connection is one conversation, one for each of its threads.
        """
        reached: tuple[Any, str] | None = getattr(self._held, "reached", None)
        if reached is not None:
            return reached
        with self._lock:
            if time.monotonic() - self._failed_at < _REFUSES_FOR:
                raise StoreFault(self._failed)
            try:
                # Not shared with whoever else uses the library.
                usual: dict[str, Any] = {"skip_instance_cache": True}
                if scheme_of(self._url) in _CONVERSATIONS:
                    usual["timeout"] = self._timeout
                files, root = fsspec.url_to_fs(self._url, **{**usual, **self._options})
                if scheme_of(self._url) in ("sftp", "ssh"):  # which would wait for ever for one that went silent
                    files.ftp.get_channel().settimeout(self._timeout)
            except Exception as error:  # each kind of file system has errors of its own
                said = f"{type(error).__name__}: {error}".replace(self._url, without_password(self._url))
                self._failed_at = time.monotonic()
                self._failed = f"store {self.name!r}: {without_password(self._url)!r} cannot be reached: {said}"
                raise StoreFault(self._failed) from None
        # No lists of an hour ago. Not as an option: some hand on those that they do not know to the connection.
        files.use_listings_cache = files.dircache.use_listings_cache = False
        self._held.reached = files, root.rstrip("/")
        return files, root.rstrip("/")

    def _spoken(self, work: Callable[[Any], T]) -> T:
        """Calls the file system. After a lost connection it reconnects once: the other side may be back.

        Raises:
            StoreFault, and what `work` raises.
        """
        held = getattr(self._held, "reached", None) is not None
        try:
            return work(self._connected()[0])
        except (*_GONE, StoreFault, ContentChanged):
            raise
        except Exception:
            self._held.reached = None
            if not held:
                raise
        return work(self._connected()[0])

    def _path(self, address: Address) -> str:
        return f"{self._connected()[1]}/{address.path}".rstrip("/")

    def look_up(self, address: Address) -> FileFacts:
        """See `BlockingStore.look_up`."""
        info = self._answered(address, lambda files, path: files.info(path))
        if info.get("type") != "file" or info.get("size") is None:
            raise Missing(str(address))
        return self._facts(address, info)

    def look_into(self, folder: Address) -> Iterable[FileFacts | Address]:
        """See `BlockingStore.look_into`. What a listing tells of a file that a look at it tells, too, is taken."""
        path = self._path(folder)
        for entry in self._answered(folder, lambda files, path: files.ls(path, detail=True)):
            name = entry["name"].rstrip("/").rpartition("/")[2]
            try:
                address = parse_address(f"{folder}{name}" + ("/" if entry["type"] == "directory" else ""))
            except BadAddress:
                continue
            if address.folder:
                yield address
            elif entry["name"].rstrip("/") != path:  # some answer for a file with the file itself
                yield self._listed(address, entry)

    def _listed(self, address: Address, entry: Mapping[str, Any]) -> FileFacts | Address:
        """A file of a listing, with its facts where they are as good as those that asking for it gives."""
        exact = _tag_of(entry) is not None or scheme_of(self._url) in _LISTS_EXACTLY
        return self._facts(address, entry) if exact and entry.get("size") is not None else address

    def _answered(self, address: Address, ask: Callable[[Any, str], T]) -> T:
        """What the other system says. Raises Missing, StoreFault."""
        try:
            return self._spoken(lambda files: ask(files, self._path(address)))
        except _GONE as error:
            if _is_of_the_network(error.__cause__) or _is_of_the_network(error.__context__):
                # Some say of a system that does not answer that there is no such file.
                raise StoreFault(f"store {self.name!r}: {error.__cause__ or error.__context__}") from error
            raise Missing(str(address)) from None

    def _facts(self, address: Address, info: Mapping[str, Any]) -> FileFacts:
        tag = hashlib.blake2b(f"{self.name}/{address.path} {_mark(info)}".encode(), digest_size=12).hexdigest()
        return FileFacts(address, int(info["size"]), _changed(info), tag, _media_type(info))

    def read_at(self, address: Address, tag: str, offset: int, count: int) -> bytes:  # noqa: ARG002 - it is told at the end
        """See `BlockingStore.read_at`."""
        path = self._path(address)
        try:
            data: bytes = self._spoken(lambda files: files.cat_file(path, start=offset, end=offset + count))
        except FileNotFoundError:
            raise Missing(str(address)) from None
        return data

    def address_of(self, source: BlockingFile) -> str | None:
        """An address that the other system makes, good for a while; None where it is not to. Raises StoreFault."""
        if self._redirect is None:
            return None
        path = self._path(source.address)
        return self._patiently(lambda: self._spoken(lambda files: str(files.sign(path, expiration=self._redirect))))


def scheme_of(url: str) -> str:
    """The kind of file system that a URL names; a path is a `file`."""
    return url.partition("://")[0].partition("::")[0] if "://" in url else "file"


def without_password(url: str) -> str:
    """A URL as it may be shown and logged."""
    return _PASSWORD.sub(r"\1:***@", url)


def _media_type(info: Mapping[str, Any]) -> str | None:
    """The media type the other system reports, unless it is a default."""
    said = info.get("media_type") or next((info[name] for name in _TYPES if info.get(name)), None)
    media_type = essence(str(said or ""))
    return None if media_type in _SAYS_NOTHING else media_type


def _is_of_the_network(error: BaseException | None) -> bool:
    """Whether an error is of the connection and not of the file."""
    if isinstance(error, ConnectionError | TimeoutError):
        return True
    return error is not None and type(error).__module__.partition(".")[0] in ("aiohttp", "requests", "urllib3", "httpx")


def _tag_of(info: Mapping[str, Any]) -> str | None:
    """A tag of the other system that changes with the content, if it has one."""
    tag = next((info[name] for name in _TAGS if info.get(name)), None)
    return None if tag is None else str(tag).strip('"')


def _mark(info: Mapping[str, Any]) -> str:
    """Changes with the content: the other system's tag, else the time, else all its facts; and the length."""
    tag, changed = _tag_of(info), _changed(info)
    facts: object = tag if tag is not None else changed
    if facts is None:
        facts = sorted((key, repr(value)) for key, value in info.items() if key != "name")
    return hashlib.blake2b(repr((info.get("size"), facts)).encode(), digest_size=16).hexdigest()


def _changed(info: Mapping[str, Any]) -> float | None:
    """Unix seconds of the last change, if it is told."""
    for name in _TIMES:
        value = info.get(name)
        if isinstance(value, datetime):
            return _seconds(value)
        if isinstance(value, int | float) and not isinstance(value, bool):
            return float(value)
        if isinstance(value, str):
            try:
                # RFC 3659 §2.3 (`20261127101112`, UTC) is a form of ISO 8601 without its `T`.
                text = f"{value[:8]}T{value[8:]}Z" if value.isdigit() and len(value) == 14 else value
                moment = datetime.fromisoformat(text)
            except ValueError:
                continue
            return _seconds(moment if moment.tzinfo else moment.replace(tzinfo=UTC))
    return None


def _seconds(moment: datetime) -> float | None:
    try:
        return moment.timestamp()
    except (OverflowError, ValueError, OSError):  # the first or last year there is, by a clock with another zone
        return None

"""Files on another system, through fsspec: an object store, a file server, whatever it reaches.

Nothing is copied to the disk: what is asked for is read from there, piece by piece, while it is sent.
Every call may take as long as the network does, and is meant for a worker thread.
"""

from __future__ import annotations

import hashlib
import re
import threading
import time
from collections.abc import Callable, Mapping
from datetime import UTC, datetime
from types import SimpleNamespace
from typing import Any, TypeVar

import fsspec
from fsspec.spec import AbstractFileSystem

from invio.core.addresses import Address, BadAddress, parse_address
from invio.core.files import FileFacts
from invio.core.memory import Memory
from invio.core.readable import ContentChanged
from invio.stores.sources import RemoteFile
from invio.stores.store import Found, Missing, StoreFault
from invio.workers.pool import DeadlinePassed, Pool, PoolBusy

# For how long a finding is good without asking again: a player asks for a range after the other.
_FRESH = 2.0  # seconds
_SEEN = 4096
_AT_ONCE = 8  # calls of one store, and as many that wait
_TYPE = re.compile(r"[a-z0-9!#$&^_.+-]+/[a-z0-9!#$&^_.+-]+\Z")
# What systems say of a file whose type nobody told them.
_SAYS_NOTHING = ("application/octet-stream", "binary/octet-stream", "application/x-www-form-urlencoded")
_PASSWORD = re.compile(r"(://[^/@:]*):[^/@]*@")
T = TypeVar("T")
# What the kinds of file systems call the time of the last change.
_TIMES = ("mtime", "LastModified", "last_modified", "modified", "modify", "updated", "created")
_TYPES = ("ContentType", "content_type", "mimetype", "contentType")
# A connection of these is one conversation, which two threads must not lead at once.
_CONVERSATIONS = ("ftp", "sftp", "ssh")
_GONE = (FileNotFoundError, NotADirectoryError, IsADirectoryError, PermissionError)


class RemoteStore:
    """Files below `url`, which says by its scheme how they are reached."""

    kind = "remote"
    waits = True

    def __init__(
        self, name: str, url: str, options: Mapping[str, Any], redirect: int | None = None, timeout: float = 20.0
    ) -> None:
        """`options` are for the kind of file system; `redirect` is for how many seconds addresses of its own hold.

        `timeout` is for how many seconds one call may take. It is reached when it is first asked for: a system that
        is down does not keep the service from starting.

        Raises:
            StoreFault: nothing reaches such a URL, or it cannot make addresses and is to.
        """
        self.name = name
        self._url, self._options, self._timeout = url, options, timeout
        self._held = threading.local() if scheme_of(url) in _CONVERSATIONS else SimpleNamespace()
        self._failed_at, self._failed = -_FRESH, ""
        self._lock = threading.Lock()
        # Threads of its own: what hangs there stands in nobody else's way, and more than a few are refused at once.
        self._calls = Pool(f"store-{name}", _AT_ONCE, waiting=_AT_ONCE, deadline=timeout)
        scheme = scheme_of(url)
        try:
            kind = fsspec.get_filesystem_class(scheme)
        except (ValueError, ImportError) as error:
            raise StoreFault(f"store {name!r}: {without_password(url)!r} cannot be reached: {error}") from None
        if redirect is not None and kind.sign is AbstractFileSystem.sign:
            raise StoreFault(f"store {name!r}: {scheme!r} makes no addresses; leave 'redirect' out")
        self._redirect = redirect
        self._seen: Memory[str, tuple[float, Found]] = Memory(_SEEN)

    def _connected(self) -> tuple[Any, str]:
        """The file system and the path of the root in it, reached now if it was not. Raises StoreFault.

        One for the store or, where a connection is one conversation, one for each of its threads.
        """
        reached: tuple[Any, str] | None = getattr(self._held, "reached", None)
        if reached is not None:
            return reached
        with self._lock:
            if time.monotonic() - self._failed_at < _FRESH:
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
        """What the file system says. A conversation that broke off is begun anew, once: the other side may be back.

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

    def _call(self, work: Callable[[], T]) -> T:
        """Calls the other system by a thread of the store's own. Raises StoreFault, and what `work` raises."""
        try:
            return self._calls.call(work)
        except (PoolBusy, DeadlinePassed) as error:
            raise StoreFault(f"store {self.name!r}: {error}") from None

    async def _call_async(self, work: Callable[[], T]) -> T:
        """Like `_call`, in the event loop."""
        try:
            return await self._calls.run(work)
        except (PoolBusy, DeadlinePassed) as error:
            raise StoreFault(f"store {self.name!r}: {error}") from None

    def locate(self, address: Address) -> Found:
        if address.folder:
            raise Missing(str(address))
        now = time.monotonic()
        seen = self._seen.get(address.path)
        if seen is not None and now - seen[0] < _FRESH:
            return seen[1]
        info = self._asked(address, lambda files, path: files.info(path))
        if info.get("type") != "file" or info.get("size") is None:
            raise Missing(str(address))
        found = self._found(address, info)
        if seen is not None and seen[1].source == found.source:
            found = seen[1]  # unaltered: what was made of it is still good
        self._seen.keep(address.path, (now, found))
        return found

    def list(self, folder: Address) -> list[Address]:
        entries = self._asked(folder, lambda files, path: files.ls(path, detail=True))
        listed, path = [], self._path(folder)
        for entry in entries:
            name = entry["name"].rstrip("/").rpartition("/")[2]
            try:
                address = parse_address(f"{folder}{name}" + ("/" if entry["type"] == "directory" else ""))
            except BadAddress:
                continue
            # Some answer for a file with the file itself.
            if address.folder or entry["name"].rstrip("/") != path:
                listed.append(address)
        if not listed and folder.path:
            raise Missing(str(folder))
        return sorted(listed, key=lambda address: (not address.folder, address.path))

    def _path(self, address: Address) -> str:
        return f"{self._connected()[1]}/{address.path}".rstrip("/")

    def _asked(self, address: Address, ask: Callable[[Any, str], T]) -> T:
        """What the other system says. Raises Missing, or StoreFault when it does not answer."""

        def work() -> T:
            return self._spoken(lambda files: ask(files, self._path(address)))

        try:
            return self._call(work)
        except _GONE as error:
            if _is_of_the_network(error.__cause__) or _is_of_the_network(error.__context__):
                # Some say of a system that does not answer that there is no such file.
                raise StoreFault(f"store {self.name!r}: {error.__cause__ or error.__context__}") from error
            raise Missing(str(address)) from None
        except StoreFault:
            raise
        except Exception as error:  # each kind of file system has errors of its own
            raise StoreFault(f"store {self.name!r}: {type(error).__name__}: {error}") from error

    def _found(self, address: Address, info: Mapping[str, Any]) -> Found:
        mark = _mark(info)
        tag = hashlib.blake2b(f"{self.name}/{address.path} {mark}".encode(), digest_size=12).hexdigest()
        source = RemoteFile(self, self._path(address), int(info["size"]), mark)
        return Found(FileFacts(address, source.size, _changed(info), tag, _media_type(info)), source)

    def read(self, source: RemoteFile, offset: int, count: int) -> bytes:
        """`count` bytes of a file that was found. Raises ContentChanged, StoreFault."""
        return self._call(lambda: self._read(source, offset, count))

    async def read_async(self, source: RemoteFile, offset: int, count: int) -> bytes:
        """Like `read`, in the event loop."""
        return await self._call_async(lambda: self._read(source, offset, count))

    def _read(self, source: RemoteFile, offset: int, count: int) -> bytes:
        if not count:
            return b""
        try:
            data: bytes = self._spoken(lambda files: files.cat_file(source.path, start=offset, end=offset + count))
        except FileNotFoundError:
            raise ContentChanged("the remote file is no longer there") from None
        except StoreFault:
            raise
        except Exception as error:  # each kind of file system has errors of its own
            raise StoreFault(f"store {self.name!r}: {type(error).__name__}: {error}") from error
        if len(data) != count:
            raise ContentChanged("the remote file ended before its announced length")
        return data

    def is_unaltered(self, source: RemoteFile) -> bool:
        """Whether the file is what was found, asked anew. Raises StoreFault."""
        return self._call(lambda: self._is_unaltered(source))

    async def is_unaltered_async(self, source: RemoteFile) -> bool:
        """Like `is_unaltered`, in the event loop."""
        return await self._call_async(lambda: self._is_unaltered(source))

    def _is_unaltered(self, source: RemoteFile) -> bool:
        try:
            return _mark(self._spoken(lambda files: files.info(source.path))) == source.mark
        except FileNotFoundError:
            return False
        except StoreFault:
            raise
        except Exception as error:  # each kind of file system has errors of its own
            raise StoreFault(f"store {self.name!r}: {type(error).__name__}: {error}") from error

    def address_of(self, source: RemoteFile) -> str | None:
        """An address that the other system makes, good for a while; None where it is not to. Raises StoreFault."""
        if self._redirect is None:
            return None
        try:
            made: str = self._call(
                lambda: self._spoken(lambda files: files.sign(source.path, expiration=self._redirect))
            )
        except StoreFault:
            raise
        except Exception as error:  # each kind of file system has errors of its own
            raise StoreFault(f"store {self.name!r}: {type(error).__name__}: {error}") from error
        return made


def scheme_of(url: str) -> str:
    """The kind of file system that a URL names; a path is a `file`."""
    return url.partition("://")[0].partition("::")[0] if "://" in url else "file"


def without_password(url: str) -> str:
    """A URL as it may be shown and logged."""
    return _PASSWORD.sub(r"\1:***@", url)


def _media_type(info: Mapping[str, Any]) -> str | None:
    """What the other system says that the file is, unless it says nothing by it."""
    said = info.get("media_type") or next((info[name] for name in _TYPES if info.get(name)), None)
    said = str(said or "").partition(";")[0].strip().lower()
    return said if _TYPE.match(said) and said not in _SAYS_NOTHING else None


def _is_of_the_network(error: BaseException | None) -> bool:
    """Whether an error is of the connection and not of the file."""
    if isinstance(error, ConnectionError | TimeoutError):
        return True
    return error is not None and type(error).__module__.partition(".")[0] in ("aiohttp", "requests", "urllib3", "httpx")


def _mark(info: Mapping[str, Any]) -> str:
    """What differs once the content does, as far as the other system tells: tag, version, time, length."""
    facts = sorted((key, repr(value)) for key, value in info.items() if key != "name")
    return hashlib.blake2b(repr(facts).encode(), digest_size=16).hexdigest()


def _changed(info: Mapping[str, Any]) -> float | None:
    """Unix seconds of the last change, if it is told."""
    for name in _TIMES:
        value = info.get(name)
        if isinstance(value, datetime):
            return value.timestamp()
        if isinstance(value, int | float) and not isinstance(value, bool):
            return float(value)
        if isinstance(value, str):
            try:
                # RFC 3659 §2.3 (`20261127101112`, UTC) is a form of ISO 8601 without its `T`.
                text = f"{value[:8]}T{value[8:]}Z" if value.isdigit() and len(value) == 14 else value
                moment = datetime.fromisoformat(text)
            except ValueError:
                continue
            return (moment if moment.tzinfo else moment.replace(tzinfo=UTC)).timestamp()
    return None

"""Files on another system, through fsspec: an object store, a file server, whatever it reaches.

Nothing is copied to the disk: what is asked for is read from there, piece by piece, while it is sent.
Every call may take as long as the network does, and is meant for a worker thread.
"""

from __future__ import annotations

import hashlib
import time
from collections.abc import Mapping
from datetime import datetime
from typing import Any
from urllib.parse import urlsplit

import fsspec
from fsspec.spec import AbstractFileSystem

from invio.core.addresses import Address, BadAddress, parse_address
from invio.core.files import FileFacts
from invio.stores.sources import ContentChanged, RemoteFile
from invio.stores.store import Found, Missing, StoreFault

# For how long a finding is good without asking again: a player asks for a range after the other.
_FRESH = 2.0  # seconds
_SEEN = 4096
# What the kinds of file systems call the time of the last change.
_TIMES = ("mtime", "LastModified", "last_modified", "modified", "updated", "created")
# No lists of an hour ago, and no connection shared with whoever else uses the library.
_OPTIONS = {"use_listings_cache": False, "skip_instance_cache": True}


class RemoteStore:
    """Files below `url`, which says by its scheme how they are reached."""

    kind = "remote"
    waits = True

    def __init__(self, name: str, url: str, options: Mapping[str, Any], redirect: int | None = None) -> None:
        """`options` are for the kind of file system; `redirect` is for how many seconds addresses of its own hold.

        Raises:
            StoreFault: nothing reaches such a URL, or it cannot make addresses and is to.
        """
        self.name = name
        try:
            self._files, root = fsspec.url_to_fs(url, **{**_OPTIONS, **options})
        except (ValueError, ImportError, TypeError, OSError) as error:
            raise StoreFault(f"store {name!r}: {url!r} cannot be reached: {error}") from None
        if redirect is not None and type(self._files).sign is AbstractFileSystem.sign:
            raise StoreFault(f"store {name!r}: {urlsplit(url).scheme!r} makes no addresses; leave 'redirect' out")
        self._root = root.rstrip("/")
        self._redirect = redirect
        self._seen: dict[str, tuple[float, Found]] = {}

    def locate(self, address: Address) -> Found:
        if address.folder:
            raise Missing(str(address))
        now = time.monotonic()
        seen = self._seen.get(address.path)
        if seen is not None and now - seen[0] < _FRESH:
            return seen[1]
        info = self._asked(address, lambda path: self._files.info(path))
        if info.get("type") != "file" or info.get("size") is None:
            raise Missing(str(address))
        found = self._found(address, info)
        if seen is not None and seen[1].source == found.source:
            found = seen[1]  # unaltered: what was made of it is still good
        if len(self._seen) >= _SEEN:
            self._seen.clear()
        self._seen[address.path] = (now, found)
        return found

    def list(self, folder: Address) -> list[Address]:
        entries = self._asked(folder, lambda path: self._files.ls(path, detail=True))
        listed = []
        for entry in entries:
            name = entry["name"].rstrip("/").rpartition("/")[2]
            try:
                address = parse_address(f"{folder}{name}" + ("/" if entry["type"] == "directory" else ""))
            except BadAddress:
                continue
            # Some answer for a file with the file itself.
            if address.folder or entry["name"].rstrip("/") != self._path(folder):
                listed.append(address)
        if not listed and folder.path:
            raise Missing(str(folder))
        return sorted(listed, key=lambda address: (not address.folder, address.path))

    def _path(self, address: Address) -> str:
        return f"{self._root}/{address.path}".rstrip("/")

    def _asked(self, address: Address, ask: Any) -> Any:
        """What the other system says. Raises Missing, or StoreFault when it does not answer."""
        try:
            return ask(self._path(address))
        except (FileNotFoundError, NotADirectoryError, IsADirectoryError, PermissionError):
            raise Missing(str(address)) from None
        except Exception as error:  # each kind of file system has errors of its own
            raise StoreFault(f"store {self.name!r}: {type(error).__name__}: {error}") from error

    def _found(self, address: Address, info: Mapping[str, Any]) -> Found:
        mark = _mark(info)
        tag = hashlib.blake2b(f"{self.name}/{address.path} {mark}".encode(), digest_size=12).hexdigest()
        source = RemoteFile(self, self._path(address), int(info["size"]), mark)
        return Found(FileFacts(address, source.size, _changed(info), tag, info.get("media_type")), source)

    def read(self, source: RemoteFile, offset: int, count: int) -> bytes:
        """`count` bytes of a file that was found. Raises ContentChanged, StoreFault."""
        if not count:
            return b""
        try:
            data: bytes = self._files.cat_file(source.path, start=offset, end=offset + count)
        except FileNotFoundError:
            raise ContentChanged("the remote file is no longer there") from None
        except Exception as error:  # each kind of file system has errors of its own
            raise StoreFault(f"store {self.name!r}: {type(error).__name__}: {error}") from error
        if len(data) != count:
            raise ContentChanged("the remote file ended before its announced length")
        return data

    def is_unaltered(self, source: RemoteFile) -> bool:
        """Whether the file is what was found, asked anew. Raises StoreFault."""
        try:
            return _mark(self._files.info(source.path)) == source.mark
        except FileNotFoundError:
            return False
        except Exception as error:  # each kind of file system has errors of its own
            raise StoreFault(f"store {self.name!r}: {type(error).__name__}: {error}") from error

    def address_of(self, source: RemoteFile) -> str | None:
        """An address that the other system makes, good for a while; None where it is not to. Raises StoreFault."""
        if self._redirect is None:
            return None
        try:
            made: str = self._files.sign(source.path, expiration=self._redirect)
        except Exception as error:  # each kind of file system has errors of its own
            raise StoreFault(f"store {self.name!r}: {type(error).__name__}: {error}") from error
        return made


def _mark(info: Mapping[str, Any]) -> str:
    """What differs once the content does, as far as the other system tells: tag, version, time, length."""
    told = sorted((key, repr(value)) for key, value in info.items() if key != "name")
    return hashlib.blake2b(repr(told).encode(), digest_size=16).hexdigest()


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
                return datetime.fromisoformat(value).timestamp()
            except ValueError:
                continue
    return None

"""A directory that files can be put into. A file is replaced at once or not at all, and nothing leaves the root.

Folders are entered beneath the root by their open descriptors, so that nothing put in their place leads elsewhere;
what is put and removed is named relative to such a descriptor.

What is on its way lies in a folder of its own at the top of the root, which is never listed, found or bundled: a
process that dies at any step leaves nothing that anybody sees, and what it left is removed at the next start.
"""

from __future__ import annotations

import errno
import os
import stat
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

from invio.core.addresses import Address
from invio.core.files import FileFacts
from invio.core.versions import PathConflict, Putting
from invio.stores.arriving import Arriving
from invio.stores.beneath import FOLDER, open_beneath
from invio.stores.directory import ARRIVING, DirectoryStore, identity_tag
from invio.stores.sources import DiskFile
from invio.stores.store import Found, Missing

_STRAY = 3600.0  # seconds after which what is on its way was left there by a process that died


class WritableDirectoryStore(DirectoryStore):
    """A `DirectoryStore` that takes files."""

    describes = False

    def __init__(self, name: str, root: str | Path, **options: Any) -> None:
        """As of `DirectoryStore`."""
        super().__init__(name, root, **options)
        # What is looked at and then replaced, is so by one request of this process at a time.
        self._turn = threading.Lock()

    def begin(self) -> Arriving:
        """A content that is to become the file. Raises OSError."""
        with self.opened_root() as (root, root_path):
            with suppress(FileExistsError):
                os.mkdir(ARRIVING, 0o700, dir_fd=root)
            # A link in its place would lead elsewhere.
            os.close(os.open(ARRIVING, FOLDER | os.O_NOFOLLOW, dir_fd=root))
            return Arriving(root_path + ARRIVING, 0o644)

    def put(self, address: Address, arriving: Arriving, putting: Putting) -> tuple[Found, bool]:
        """Makes what has arrived the file, in the place of one that is there; see `invio.stores.store.WritableStore`.

        A directory keeps neither who put it nor its media type, which the name alone tells.
        """
        folder, name = os.path.split(address.path.encode())
        with self._turn:
            before = self._there(address)
            putting.check(address, None if before is None else before.facts)
            try:
                with self._made(address, folder) as descriptor:
                    arriving.land(descriptor, name, replaces=before is not None)
                    where = os.readlink(b"/proc/self/fd/%d" % descriptor) + b"/" + name
            except FileExistsError:
                if before is None and (now := self._there(address)) is not None:
                    putting.check(address, now.facts)  # another process was quicker
                raise PathConflict(str(address)) from None
            except (NotADirectoryError, IsADirectoryError):
                raise PathConflict(str(address)) from None
        # What has landed is what is told of, though somebody may have removed it in this moment.
        status = arriving.status
        facts = FileFacts(address, status.st_size, status.st_mtime, identity_tag(status))
        return Found(facts, DiskFile.of(where, status), self._precompressed), before is None

    def remove(self, address: Address, number: int | None, putting: Putting) -> int:
        """Removes a file, or a symbolic link and not what it leads to; a folder stays, even when it is empty now."""
        if number is not None:
            raise Missing(str(address))
        folder, name = os.path.split(address.path.encode())
        with self._turn:
            before = self.locate(address)
            putting.check(address, before.facts)
            source = before.source
            assert isinstance(source, DiskFile)
            try:
                with self._parent(folder) as descriptor:
                    status = os.stat(name, dir_fd=descriptor, follow_symlinks=False)
                    if not stat.S_ISLNK(status.st_mode) and not source.fits(status):
                        raise Missing(str(address))  # it is not the file that was checked
                    os.unlink(name, dir_fd=descriptor)
            except OSError:
                raise Missing(str(address)) from None
        return 1

    def sweep(self, *, alone: bool) -> None:
        """Removes uploads of processes that died; see `invio.stores.store.SweepableStore`."""
        with self.opened_root() as (root, _):
            try:
                descriptor = os.open(ARRIVING, FOLDER | os.O_NOFOLLOW, dir_fd=root)
            except OSError:
                return
            try:
                for name in os.listdir(descriptor):
                    status = os.stat(name, dir_fd=descriptor, follow_symlinks=False)
                    if Arriving.made(name) and (alone or status.st_mtime < time.time() - _STRAY):
                        os.unlink(name, dir_fd=descriptor)
            finally:
                os.close(descriptor)

    def _there(self, address: Address) -> Found | None:
        try:
            return self.locate(address)
        except Missing:
            return None

    @contextmanager
    def _parent(self, folder: bytes) -> Iterator[int]:
        """The descriptor of a folder that is there. Raises OSError."""
        with self.opened_root() as (root, root_path):
            descriptor = open_beneath(root, root_path, folder, FOLDER)
        try:
            yield descriptor
        finally:
            os.close(descriptor)

    @contextmanager
    def _made(self, address: Address, folder: bytes) -> Iterator[int]:
        """The descriptor of a folder, which is made, with those above it, where it is not there. Raises OSError."""
        path = address.path.encode()
        if path.startswith(ARRIVING + b"/") or path == ARRIVING or self.excludes(address):
            raise PathConflict(str(address))
        segments = folder.split(b"/") if folder else []
        descriptor = -1
        with self.opened_root() as (root, root_path):
            for count in range(len(segments), -1, -1):
                try:
                    descriptor = open_beneath(root, root_path, b"/".join(segments[:count]), FOLDER)
                    break
                except FileNotFoundError:
                    continue
                except OSError as error:
                    if error.errno == errno.EXDEV:  # a link leads out of the root
                        raise NotADirectoryError(str(address)) from None
                    raise
        try:
            for segment in segments[count:]:
                try:
                    os.mkdir(segment, 0o755, dir_fd=descriptor)
                    os.fsync(descriptor)
                except FileExistsError:
                    pass
                inside = os.open(segment, FOLDER | os.O_NOFOLLOW, dir_fd=descriptor)
                os.close(descriptor)
                descriptor = inside
            yield descriptor
        finally:
            os.close(descriptor)

"""A directory that files can be put into. A file is replaced at once or not at all, and nothing leaves the root.

Folders are entered by their open descriptors from one that is known to lie inside, so that nothing put in
their place leads elsewhere.
"""

from __future__ import annotations

import os
import stat
import threading
from collections.abc import Iterator
from contextlib import contextmanager

from invio.core.addresses import Address
from invio.core.versions import InTheWay, Putting
from invio.stores.arriving import Arriving
from invio.stores.directory import FOLDER, DirectoryStore
from invio.stores.sources import DiskFile
from invio.stores.store import Found, Missing


class WritableDirectoryStore(DirectoryStore):
    """A `DirectoryStore` that takes files."""

    _turn = threading.Lock()  # what is looked at and then replaced, is so by one request of this process at a time

    def begin(self) -> Arriving:
        """A content that is to become the file. Raises OSError."""
        return Arriving(self.root)

    def put(self, address: Address, arriving: Arriving, putting: Putting) -> tuple[Found, bool]:
        """Makes what has arrived the file, in the place of one that is there; see `invio.stores.store.Takes`.

        A directory keeps neither who put it nor its media type, which the name alone tells.
        """
        with self._turn:
            before = self._there(address)
            putting.check(address, None if before is None else before.facts)
            folder, name = os.path.split(address.path.encode())
            try:
                with self._made(Address(address.store, folder.decode() + "/" if folder else "")) as descriptor:
                    arriving.land(descriptor, name, before is not None)
            except FileExistsError:
                if before is None and (now := self._there(address)) is not None:
                    putting.check(address, now.facts)  # another process was quicker
                raise InTheWay(str(address)) from None
            except (NotADirectoryError, IsADirectoryError):
                raise InTheWay(str(address)) from None
        return self.locate(address), before is None

    def remove(self, address: Address, number: int | None, putting: Putting) -> int:
        """Removes a file; a folder stays, even when it is empty now."""
        if number is not None:
            raise Missing(str(address))
        with self._turn:
            before = self.locate(address)
            putting.check(address, before.facts)
            assert isinstance(before.source, DiskFile)
            try:
                os.unlink(before.source.path)
            except OSError:
                raise Missing(str(address)) from None
        return 1

    def _there(self, address: Address) -> Found | None:
        try:
            return self.locate(address)
        except Missing:
            return None

    @contextmanager
    def _made(self, folder: Address) -> Iterator[int]:
        """The descriptor of a folder, which is made, with those above it, where it is not there."""
        segments = [segment for segment in folder.path.split("/") if segment]
        for count in range(len(segments), -1, -1):
            there = Address(folder.store, "".join(segment + "/" for segment in segments[:count]))
            try:
                path, status = self.reach(there)
            except Missing:
                continue
            if not stat.S_ISDIR(status.st_mode):
                raise NotADirectoryError(str(there))
            break
        descriptor = os.open(path, FOLDER)
        try:
            for segment in segments[count:]:
                try:
                    os.mkdir(segment.encode(), 0o755, dir_fd=descriptor)
                    os.fsync(descriptor)
                except FileExistsError:
                    pass
                inside = os.open(segment.encode(), FOLDER, dir_fd=descriptor)
                os.close(descriptor)
                descriptor = inside
            yield descriptor
        finally:
            os.close(descriptor)

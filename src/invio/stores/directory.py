"""A directory on the disk as a store. Nothing outside its root is ever found.

Addresses cannot say `..`, but a symbolic link can leave the root, and a path that is checked and
then opened can be exchanged in between. So the file is opened first, as a bare reference
(`O_PATH`: no content, no side effect of a device or a pipe), and the kernel is asked where that
reference is; what was found is identified by device, inode, size and time, and the sender
refuses to read anything else.
"""

from __future__ import annotations

import hashlib
import os
import stat
from collections.abc import Iterator
from pathlib import Path

from invio.core.addresses import Address, BadAddress, parse_address
from invio.core.files import FileFacts
from invio.stores.sources import DiskFile
from invio.stores.store import Found, Missing, StoreFault

# Without O_PATH (it is Linux's) the path is resolved by name; the check of identity at the time
# of reading still holds.
_REFERENCE = getattr(os, "O_PATH", None)


FOLDER = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
_SEEN = 8192


class DirectoryStore:
    """Files below `root`; links inside it are followed, links that leave it are as if absent."""

    kind = "directory"
    waits = False

    def __init__(self, name: str, root: str | Path, precompressed: bool = False) -> None:
        """`precompressed`: a file may have the same content beside it as `name.gz` or `name.zst`.

        Raises:
            StoreFault: the root is no directory that can be read.
        """
        self.name = name
        self._precompressed = precompressed
        if not os.path.isdir(root):
            raise StoreFault(f"store {name!r}: its root {root} is not a directory; make it, or correct 'root'")
        if not os.access(root, os.R_OK | os.X_OK):
            raise StoreFault(f"store {name!r}: its root {root} cannot be read by this user")
        # Files that were found inside the root, by path; good for as long as the path leads to
        # the same file, unaltered.
        self._seen: dict[str, Found] = {}
        self.root = os.fsencode(os.path.realpath(root)).rstrip(b"/") + b"/"

    def locate(self, address: Address) -> Found:
        if address.folder:
            raise Missing(str(address))
        seen = self._seen.get(address.path)
        if seen is not None and unchanged(seen.source):
            return seen
        path, status = self.reach(address)
        if not stat.S_ISREG(status.st_mode):
            raise Missing(str(address))
        facts = FileFacts(address, status.st_size, status.st_mtime, identity_tag(status))
        found = Found(facts, DiskFile.of(path, status), self._precompressed)
        # Not for a path with a link on it: that may come to lead elsewhere, and its end not change.
        if path == self.root + address.path.encode():
            if len(self._seen) >= _SEEN:
                self._seen.clear()
            self._seen[address.path] = found
        return found

    def walk(self, folder: Address) -> Iterator[Found]:
        """Every file below a folder, each folder's own folders first. Raises Missing.

        Folders are entered by their open descriptors, so that nothing put in their place leads elsewhere.
        """
        path, status = self.reach(folder)
        if not stat.S_ISDIR(status.st_mode):
            raise Missing(str(folder))
        yield from self._below(os.open(path, FOLDER), path + b"/", folder, (status.st_dev, status.st_ino))

    def _below(self, descriptor: int, path: bytes, folder: Address, *above: tuple[int, int]) -> Iterator[Found]:
        """What is below an open folder; `above` are those that it lies in, for links that lead back to them."""
        try:
            with os.scandir(descriptor) as entries:
                listed = sorted((name, entry) for entry in entries if (name := _segment(entry.name)) is not None)
            for name, entry in listed:
                if entry.is_dir():
                    inside = Address(folder.store, f"{folder.path}{name}/")
                    yield from self._inside(descriptor, path, inside, entry, above)
            for name, entry in listed:
                found = None if entry.is_dir() else self._found(path, Address(folder.store, folder.path + name), entry)
                if found is not None:
                    yield found
        finally:
            os.close(descriptor)

    def _inside(
        self, above: int, path: bytes, folder: Address, entry: os.DirEntry[str], ancestors: tuple[tuple[int, int], ...]
    ) -> Iterator[Found]:
        """What is below one folder of an open one."""
        try:
            if entry.is_symlink():
                where, _ = self.reach(folder)
                descriptor = os.open(where, FOLDER)
            else:
                where = path + os.fsencode(entry.name)
                descriptor = os.open(entry.name, FOLDER, dir_fd=above)
        except (Missing, OSError):
            return
        status = os.fstat(descriptor)
        itself = (status.st_dev, status.st_ino)
        if itself in ancestors:
            os.close(descriptor)
            return
        yield from self._below(descriptor, where + b"/", folder, *ancestors, itself)

    def _found(self, path: bytes, address: Address, entry: os.DirEntry[str]) -> Found | None:
        try:
            if entry.is_symlink():
                return self.locate(address)
            status = entry.stat(follow_symlinks=False)
        except (Missing, OSError):
            return None
        if not stat.S_ISREG(status.st_mode):
            return None
        facts = FileFacts(address, status.st_size, status.st_mtime, identity_tag(status))
        return Found(facts, DiskFile.of(path + os.fsencode(entry.name), status), self._precompressed)

    def list(self, folder: Address) -> list[Address]:
        path, status = self.reach(folder)
        if not stat.S_ISDIR(status.st_mode):
            raise Missing(str(folder))
        with os.scandir(path) as entries:
            listed = [found for entry in entries if (found := self._listed(folder, entry)) is not None]
        return sorted(listed, key=lambda address: (not address.folder, address.path))

    def _listed(self, folder: Address, entry: os.DirEntry[bytes]) -> Address | None:
        """The entry's address; None for what no address may name, and for what is no file or folder."""
        try:
            address = parse_address(f"{folder}{entry.name.decode()}")
            if entry.is_symlink():
                _, status = self.reach(address)
                is_folder, is_file = stat.S_ISDIR(status.st_mode), stat.S_ISREG(status.st_mode)
            else:
                is_folder, is_file = entry.is_dir(), entry.is_file()
        except (UnicodeDecodeError, BadAddress, Missing, OSError):
            return None
        if is_folder:
            return Address(address.store, address.path + "/")
        return address if is_file else None

    def reach(self, address: Address) -> tuple[bytes, os.stat_result]:
        """Where the address is on the disk, links resolved, and what is there."""
        path = self.root + address.path.rstrip("/").encode()
        try:
            where, status = self._resolved(path)
        except OSError:
            # Absent, a file where a folder should be, a loop of links, a name too long, no
            # permission: for whoever asks, there is no such file.
            raise Missing(str(address)) from None
        if not (where + b"/").startswith(self.root):
            raise Missing(str(address))
        return where, status

    @staticmethod
    def _resolved(path: bytes) -> tuple[bytes, os.stat_result]:
        if _REFERENCE is None:
            where = os.path.realpath(path, strict=True)
            return where, os.stat(where, follow_symlinks=False)
        reference = os.open(path, _REFERENCE | os.O_CLOEXEC)
        try:
            return os.readlink(b"/proc/self/fd/%d" % reference), os.fstat(reference)
        finally:
            os.close(reference)


def _segment(name: str) -> str | None:
    """The name, if it can stand in an address."""
    if name.isascii() and name.isprintable() and "\\" not in name:
        return name
    try:
        return name if parse_address(f"store/{name}").path == name else None
    except BadAddress:
        return None


def unchanged(source: object) -> bool:
    """Whether a path still leads to the file that was found there."""
    if not isinstance(source, DiskFile):
        return False
    try:
        return source.fits(os.stat(source.path))
    except OSError:
        return False


def identity_tag(status: os.stat_result) -> str:
    """An opaque tag that changes with the file's identity, length or time (nanoseconds)."""
    identity = b"%d.%d.%d.%d" % (status.st_dev, status.st_ino, status.st_size, status.st_mtime_ns)
    return hashlib.blake2b(identity, digest_size=12).hexdigest()

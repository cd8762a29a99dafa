"""A directory on the disk as a store. Nothing outside its root is ever found.

Addresses cannot say `..`, but a symbolic link can leave the root, and a path that is checked and
then opened can be exchanged in between. So everything is opened beneath the root by descriptors
(`beneath`): files as a bare reference (`O_PATH`: no content, no side effect of a device or a pipe),
folders to be read. What was found is identified by device, inode, size and time, and the sender
refuses to read anything else.
"""

from __future__ import annotations

import hashlib
import os
import stat
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

from invio.core.addresses import Address, BadAddress, parse_address
from invio.core.exclusions import Exclusions
from invio.core.files import FileFacts
from invio.core.memory import Memory
from invio.stores.beneath import FOLDER, REFERENCE, open_beneath
from invio.stores.sources import DiskFile, is_settled
from invio.stores.store import Found, Missing, StoreFault

_SEEN = 8192
# What is on its way into the store, and what a process left there that died in between: never found nor listed.
ARRIVING = b".invio-arriving"
_ARRIVING_NAME = os.fsdecode(ARRIVING)
_LISTINGS = 16  # folders whose listing is kept
_LONG = 1000  # files and folders; shorter ones are read anew
_DEPTH = 100  # folders within each other, as in an address
_TAG = hashlib.blake2b(digest_size=12)  # a copy takes two thirds of a new one


_Mark = tuple[int, int, int, int]
Names = list[str]


def _mark(status: os.stat_result) -> _Mark:
    """Changes as soon as something was added to a folder, removed from it or renamed in it."""
    return status.st_dev, status.st_ino, status.st_mtime_ns, status.st_ctime_ns


class DirectoryStore:
    """Files below `root`; links inside it are followed, links that leave it are ignored."""

    kind = "directory"
    waits = False

    def __init__(
        self,
        name: str,
        root: str | Path,
        *,
        precompressed: bool = False,
        exclusions: Exclusions | None = None,
        follows_links: bool = True,
    ) -> None:
        """`precompressed`: a file may have the same content beside it as `name.gz` or `name.zst`.

        `exclusions` are as if they were not there. Without `follows_links`, so is every symbolic link.

        Raises:
            StoreFault: the root is no directory that can be read.
        """
        self.name = name
        self._precompressed = precompressed
        self._exclusions, self._follows_links = exclusions, follows_links
        # Long folders that were listed, by what they were then.
        self._listings: Memory[str, tuple[_Mark, Sequence[Address]]] = Memory(_LISTINGS)
        if not os.path.isdir(root):
            raise StoreFault(f"store {name!r}: its root {root} is not a directory; create it, or correct 'root'")
        if not os.access(root, os.R_OK | os.X_OK):
            raise StoreFault(f"store {name!r}: its root {root} cannot be read by this user")
        # Files that were found inside the root, by path; good for as long as the path leads to
        # the same file, unaltered.
        self._seen: Memory[str, Found] = Memory(_SEEN)
        self._given = os.fspath(root)

    @property
    def root(self) -> bytes:
        """Where the root is now, links resolved; it ends in `/`."""
        return os.fsencode(os.path.realpath(self._given)).rstrip(b"/") + b"/"

    def fault(self) -> str | None:
        """What is wrong with the root at present, if anything."""
        try:
            os.close(os.open(self._given, FOLDER))
        except OSError as error:
            return f"the root of store {self.name!r} cannot be opened: {error.strerror}"
        return None

    @contextmanager
    def opened_root(self) -> Iterator[tuple[int, bytes]]:
        """The root's descriptor and path, for as long as the `with` lasts. Raises StoreFault."""
        try:
            descriptor = os.open(self._given, REFERENCE | os.O_DIRECTORY)
        except OSError as error:
            raise StoreFault(f"store {self.name!r}: its root cannot be opened: {error.strerror}") from None
        try:
            yield descriptor, os.readlink(b"/proc/self/fd/%d" % descriptor).rstrip(b"/") + b"/"
        finally:
            os.close(descriptor)

    def locate(self, address: Address) -> Found:
        """A file by its address. Raises Missing."""
        seen = self._seen.get(address.path)  # which holds files alone
        # Uses the configured path: a link on the way to the root may lead elsewhere by now.
        if seen is not None and is_at(f"{self._given}/{address.path}", seen.source):
            return seen
        if address.folder:
            raise Missing(str(address))
        where, status, root_path = self._reached(address)
        if not stat.S_ISREG(status.st_mode):
            raise Missing(str(address))
        facts = FileFacts(address, status.st_size, status.st_mtime, identity_tag(status))
        found = Found(facts, DiskFile.of(where, status), self._precompressed)
        # Paths with a link are not cached: the link may change without a change of its target.
        if where == root_path + address.path.encode():
            self._seen.keep(address.path, found)
        return found

    def walk(self, folder: Address) -> Iterator[Found]:
        """Every file below a folder, each folder's own folders first. Raises Missing.

        Folders are entered by their open descriptors, so that nothing put in their place leads elsewhere. At most
        one is open for each folder on the way down.
        """
        return (found for level in self._levels(folder) for found in self._files(level))

    def unnamed(self) -> Iterator[str]:
        """What no address names, so that nobody can have it: paths from the root, in ASCII. Raises Missing.

        Names that are no UTF-8 or not in Unicode's form NFC (as some systems write them), or that hold a backslash or
        a control character.
        """
        for level in self._levels(Address(self.name, "")):
            for name in level.unnamed:
                if self._exclusions is None or not self._exclusions.excludes(level.folder.path + name):
                    yield ascii(level.folder.path + name)[1:-1]

    def _levels(self, folder: Address) -> Iterator[_Level]:
        """Every folder below one and itself, each after those in it, and open until the next is asked for."""
        descriptor, path = self._entered(folder)
        status = os.fstat(descriptor)
        level = _Level(descriptor, path, folder, {(status.st_dev, status.st_ino)})
        way = [level]
        try:
            level.read()
            while way:
                level = way[-1]
                following = level.next_folder()
                if following is not None:
                    name, is_link = following
                    inside = self._inside(level, name, is_link=is_link) if len(way) < _DEPTH else None
                    if inside is not None:
                        way.append(inside)
                    continue
                yield level
                way.pop().close()
        finally:
            for level in way:
                level.close()

    def _files(self, level: _Level) -> Iterator[Found]:
        for name, entry in level.files:
            found = self._found(level, name, entry)
            if found is not None:
                yield found

    def _inside(self, level: _Level, name: str, *, is_link: bool) -> _Level | None:
        """Enters a folder of an open one; None when it is gone, or a loop of links."""
        folder = Address(level.folder.store, f"{level.folder.path}{name}/")
        if self.excludes(folder):
            return None
        try:
            if is_link:
                descriptor, path = self._entered(folder)
            else:
                descriptor = os.open(name, FOLDER | os.O_NOFOLLOW, dir_fd=level.descriptor)
                path = level.path + os.fsencode(name) + b"/"
        except (Missing, OSError):
            return None
        status = os.fstat(descriptor)
        itself = (status.st_dev, status.st_ino)
        inside = _Level(descriptor, path, folder, level.above | {itself})
        if itself in level.above:
            inside.close()
            return None
        try:
            inside.read()
        except OSError:
            inside.close()
            return None
        return inside

    def _found(self, level: _Level, name: str, entry: os.DirEntry[str]) -> Found | None:
        store, folder = level.folder
        address = Address(store, folder + name)
        if self._exclusions is not None and self.excludes(address):
            return None
        try:
            if entry.is_symlink():
                return self.locate(address)
            status = entry.stat(follow_symlinks=False)
        except (Missing, OSError):
            return None
        if not stat.S_ISREG(status.st_mode):
            return None
        facts = FileFacts(address, status.st_size, status.st_mtime, identity_tag(status))
        where = level.path + name.encode()
        file = DiskFile(where, status.st_dev, status.st_ino, status.st_size, status.st_mtime_ns)
        return Found(facts, file, self._precompressed)

    def list(self, folder: Address) -> Sequence[Address]:
        """What is in a folder, sorted. Raises Missing."""
        descriptor, _ = self._entered(folder)
        try:
            mark = _mark(os.fstat(descriptor))
            known = self._listings.get(folder.path)
            if known is not None and known[0] == mark:
                return known[1]
            with os.scandir(descriptor) as entries:
                folders, files, links = self._sorted(folder, entries)
        except OSError as error:
            raise Missing(str(folder)) from error
        finally:
            os.close(descriptor)
        listed = [Address(folder.store, folder.path + name) for name in (*folders, *files)]
        # A link may change without a change of its folder, and a folder changed just now may change again within its
        # time stamp.
        if len(listed) >= _LONG and not links and is_settled(mark[2] / 1e9):
            self._listings.keep(folder.path, (mark, listed))
        return listed

    def _sorted(self, folder: Address, entries: Iterable[os.DirEntry[str]]) -> tuple[Names, Names, bool]:
        """The names of a folder's folders (with a `/`) and files, in order, and whether there are links in it."""
        folders: Names = []
        files: Names = []
        links = False
        exclusions, top = self._exclusions, not folder.path
        for entry in entries:
            name = entry.name
            if not _is_segment(name) or (top and name == _ARRIVING_NAME):
                continue
            if exclusions is not None and exclusions.excludes(folder.path + name):
                continue
            try:
                if entry.is_symlink():
                    links = True
                    _, status = self.reach(parse_address(f"{folder}{name}"))
                    is_folder, is_file = stat.S_ISDIR(status.st_mode), stat.S_ISREG(status.st_mode)
                else:
                    is_folder = entry.is_dir(follow_symlinks=False)
                    is_file = not is_folder and entry.is_file(follow_symlinks=False)
            except (BadAddress, Missing, OSError):
                continue
            if is_folder:
                folders.append(name + "/")
            elif is_file:
                files.append(name)
        folders.sort()
        files.sort()
        return folders, files, links

    def excludes(self, address: Address) -> bool:
        """Whether the settings exclude the address."""
        return self._exclusions is not None and bool(address.path) and self._exclusions.excludes(address.path)

    def reach(self, address: Address) -> tuple[bytes, os.stat_result]:
        """Where the address is on the disk, links resolved, and what is there. Raises Missing."""
        where, status, _ = self._reached(address)
        return where, status

    def _reached(self, address: Address) -> tuple[bytes, os.stat_result, bytes]:
        path = address.path.rstrip("/").encode()
        if path == ARRIVING or path.startswith(ARRIVING + b"/") or self.excludes(address):
            raise Missing(str(address))
        with self.opened_root() as (root, root_path):
            try:
                reference = open_beneath(root, root_path, path)
            except (OSError, ValueError):
                # Absent, outside, a file where a folder should be, a loop of links, a name too long, no
                # permission: for whoever asks, there is no such file.
                raise Missing(str(address)) from None
            try:
                where = os.readlink(b"/proc/self/fd/%d" % reference)
                if not self._follows_links and where != root_path + path:
                    raise Missing(str(address))
                return where, os.fstat(reference), root_path
            finally:
                os.close(reference)

    def _entered(self, folder: Address) -> tuple[int, bytes]:
        """A folder's descriptor, to be closed by the caller, and its path ending in `/`. Raises Missing."""
        path = folder.path.rstrip("/").encode()
        if path == ARRIVING or path.startswith(ARRIVING + b"/") or self.excludes(folder):
            raise Missing(str(folder))
        with self.opened_root() as (root, root_path):
            try:
                descriptor = open_beneath(root, root_path, path, FOLDER)
            except (OSError, ValueError):
                raise Missing(str(folder)) from None
        where = os.readlink(b"/proc/self/fd/%d" % descriptor).rstrip(b"/") + b"/"
        if not self._follows_links and where != root_path + path + b"/" * bool(path):
            os.close(descriptor)
            raise Missing(str(folder))
        return descriptor, where


class _Level:
    """One folder that is walked: what is in it, and which of its folders is next. `above` are those it lies in."""

    __slots__ = ("_folders", "above", "descriptor", "files", "folder", "path", "unnamed")

    def __init__(self, descriptor: int, path: bytes, folder: Address, above: set[tuple[int, int]]) -> None:
        self.descriptor, self.path, self.folder, self.above = descriptor, path, folder, above
        self.files: list[tuple[str, os.DirEntry[str]]] = []
        self.unnamed: list[str] = []  # what cannot stand in an address
        self._folders: list[tuple[str, bool]] = []  # names and whether they are links, the next one last

    def read(self) -> None:
        """Reads what is in the folder. Raises OSError."""
        with os.scandir(self.descriptor) as entries:
            listed = {entry.name: entry for entry in entries}
        if not self.folder.path:
            listed.pop(_ARRIVING_NAME, None)
        names = _segments(sorted(listed))
        if len(names) < len(listed):
            self.unnamed = sorted(listed.keys() - set(names))
        for name in names:
            entry = listed[name]
            try:
                is_folder = entry.is_dir()
            except OSError:  # a loop of links, or one into what may not be looked at
                continue
            if is_folder:
                self._folders.append((name, entry.is_symlink()))
            else:
                self.files.append((name, entry))
        self._folders.reverse()

    def next_folder(self) -> tuple[str, bool] | None:
        """The folder that is entered next, and whether it is a link to one; None when there is none left."""
        return self._folders.pop() if self._folders else None

    def close(self) -> None:
        if self.descriptor >= 0:
            os.close(self.descriptor)
            self.descriptor = -1


def _segments(names: Names) -> Names:
    """Those of the names that can stand in an address."""
    return names if _is_plain("".join(names)) else [name for name in names if _is_segment(name)]


def _is_segment(name: str) -> bool:
    try:
        return _is_plain(name) or parse_address(f"store/{name}").path == name
    except BadAddress:
        return False


def _is_plain(text: str) -> bool:
    return text.isascii() and text.isprintable() and "\\" not in text


def unchanged(source: object) -> bool:
    """Whether a path still leads to the file that was found there."""
    return isinstance(source, DiskFile) and is_at(source.path, source)


def is_at(path: str | bytes, source: object) -> bool:
    """Whether a path leads to a file that was found, unaltered."""
    if not isinstance(source, DiskFile):
        return False
    try:
        return source.fits(os.stat(path))
    except OSError:
        return False


def identity_tag(status: os.stat_result) -> str:
    """An opaque tag that changes with the file's identity, length or time (nanoseconds)."""
    identity = b"%d.%d.%d.%d" % (status.st_dev, status.st_ino, status.st_size, status.st_mtime_ns)
    tag = _TAG.copy()
    tag.update(identity)
    return tag.hexdigest()

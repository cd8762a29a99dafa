"""The file that a download gathers in: `<name>.part`, with a note beside it of what it belongs to.

It is one download's alone: it is locked, never a link or a device, and gets its name only when it is whole.
"""

from __future__ import annotations

import errno
import fcntl
import hashlib
import json
import os
import stat
from contextlib import suppress
from pathlib import Path
from typing import BinaryIO, Literal

Existing = Literal["refuse", "overwrite", "skip"]


class AlreadyThere(Exception):
    """The target exists, and is to be kept."""

    def __init__(self, target: Path) -> None:
        super().__init__(str(target))
        self.target = target


class PartialFile:
    """A download's file until it is whole; `existing` says what becomes of a target that is there already."""

    def __init__(self, target: Path, existing: Existing = "refuse") -> None:
        """Raises FileExistsError or AlreadyThere, when there is a target that is not to be replaced."""
        self.target = target
        self.path = target.with_name(target.name + ".part")
        self._note = self.path.with_name(self.path.name + ".json")
        self._existing = existing
        self._file: BinaryIO | None = None
        self._finished = False
        _require_room(target, existing)

    @property
    def size(self) -> int:
        """Bytes that are there of it."""
        return os.fstat(self._opened.fileno()).st_size

    @property
    def _opened(self) -> BinaryIO:
        if self._file is None:
            raise ValueError(f"{self.path} is not open")
        return self._file

    def lock(self) -> None:
        """Opens it for this download alone; again has no effect. Raises FileExistsError."""
        if self._file is not None:
            return
        try:
            # A symbolic link in its place would redirect the write.
            descriptor = os.open(self.path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW, 0o666)
        except OSError as error:
            if error.errno != errno.ELOOP:
                raise
            raise FileExistsError(f"{self.path} is a symbolic link, which is not written to; remove it") from None
        if not stat.S_ISREG(os.fstat(descriptor).st_mode):
            os.close(descriptor)
            raise FileExistsError(f"{self.path} is no regular file; remove it, or name another target with -o")
        file = os.fdopen(descriptor, "r+b")
        try:
            fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            file.close()
            raise FileExistsError(f"{self.path}: another download of it is under way; wait for it to end") from None
        self._file = file

    def unlock(self) -> None:
        """Unlocks it; an empty one is removed."""
        file, self._file = self._file, None
        if file is None:
            return
        with suppress(OSError):  # whoever wrote it was told
            file.flush()  # before it is looked at: what is still in memory has arrived, too
        if not os.fstat(file.fileno()).st_size and not self._finished:
            self.path.unlink(missing_ok=True)
            self._note.unlink(missing_ok=True)
        file.close()

    def begun(self, url: str) -> str | None:
        """The entity tag of what is there, when it was begun from this URL."""
        return tag_noted(self._note, url)

    def begin(self, url: str, etag: str | None) -> None:
        """Notes what the bytes that follow belong to."""
        self._note.unlink(missing_ok=True)
        with open(self._note, "x", encoding="utf-8") as file:
            json.dump({"url": url.partition("?")[0], "etag": etag}, file)

    def cut(self, size: int) -> None:
        """Truncates it to `size` bytes."""
        self._opened.seek(size)
        self._opened.truncate()

    def write(self, piece: bytes) -> None:
        """Appends a piece. Raises OSError, which names the file and says that what has arrived is kept."""
        try:
            self._opened.write(piece)
        except OSError as error:
            raise self._failed(error) from None

    def flush(self) -> None:
        """Flushes it to the disk. Raises OSError."""
        try:
            self._opened.flush()
            os.fsync(self._opened.fileno())
        except OSError as error:
            raise self._failed(error) from None

    def _failed(self, error: OSError) -> OSError:
        kept = f"what has arrived, {self.size} bytes, is kept in {self.path}"
        advice = "; make room and repeat the command" if error.errno in (errno.ENOSPC, errno.EDQUOT) else ""
        return OSError(error.errno, f"{error.strerror}; {kept}{advice}", str(self.target))

    def restart(self) -> None:
        """Drops what is there, which belongs to something else."""
        self._opened.truncate(0)
        self._note.unlink(missing_ok=True)

    def sha256(self) -> bytes:
        """The digest of what is there."""
        with self.path.open("rb") as file:
            return hashlib.file_digest(file, "sha256").digest()

    def discard(self) -> None:
        """Removes it: its bytes are not the content's, and must not be resumed."""
        self.path.unlink()
        self._note.unlink(missing_ok=True)

    def finish(self) -> Path:
        """Gives the complete file its name. Raises FileExistsError if that name exists by now."""
        self._finished = True
        if self._existing == "overwrite":
            _require_room(self.target, "overwrite")
            self.path.replace(self.target)
        else:
            _link(self.path, self.target)
        self._note.unlink(missing_ok=True)
        return self.target


def left_behind(folder: Path, url: str) -> Path | None:
    """The target under which an earlier download of the same URL was begun in a folder."""
    for note in sorted(folder.glob("*.part.json")):
        target = note.with_name(note.name.removesuffix(".part.json"))
        if tag_noted(note, url) is not None and not target.exists():
            return target
    return None


def tag_noted(note: Path, url: str) -> str | None:
    """The entity tag of what was begun, when it was begun from this URL; or from another archive of this name.

    A selection that is bundled again has another address and, unaltered, the same bytes: the tag tells.
    """
    try:
        said = json.loads(note.read_text("utf-8"))
        asked = url.partition("?")[0]
        fits = said["url"] == asked or _archive_of(said["url"]) == _archive_of(asked) != ""
        return str(said["etag"]) if fits and said["etag"] else None
    except (OSError, ValueError, KeyError, TypeError):
        return None  # no download was begun, or not one that can be resumed


def _archive_of(url: str) -> str:
    """An archive's URL without what tells one from another of the same name; nothing for other URLs."""
    service, found, rest = url.partition("/get/bundles/")
    return f"{service}/{rest.partition('/')[2]}" if found else ""


def _require_room(target: Path, existing: Existing) -> None:
    """Raises FileExistsError or AlreadyThere, when the target is there and is not to be replaced."""
    if not os.path.lexists(target):
        return
    if existing == "skip":
        raise AlreadyThere(target)
    if existing == "overwrite" and target.is_file() and not target.is_symlink():
        return
    if target.is_dir():
        raise FileExistsError(f"{target} is a folder; name a file in it")
    if existing == "overwrite":
        raise FileExistsError(f"{target} is no regular file, and is not replaced; name another target")
    raise FileExistsError(f"{target} is there already; overwrite it, skip it, or name another target")


def _link(part: Path, target: Path) -> None:
    """Gives a file its name, unless there is something of that name by now. Raises FileExistsError."""
    try:
        os.link(part, target, follow_symlinks=False)
    except FileExistsError:
        raise FileExistsError(f"{target} has come to be there meanwhile; what has arrived is in {part}") from None
    except OSError:  # a file system without links
        _require_room(target, "refuse")
        part.replace(target)
    else:
        part.unlink()

"""Names of an archive's entries: safe to unpack anywhere, all different, and the same each time.

Each segment is made safe by itself, so that no entry leaves the folder it is unpacked in. Names that
clash (also when only case differs, as some systems see no difference, and when one has as a file
what another has as a folder) get ` (2)`, ` (3)` … before the extension; the first keeps its own.
"""

from __future__ import annotations

from collections.abc import Callable

from invio.core.http.names import safe_name

# What an archive itself adds: the digests of its files, and what was left out of it.
SUMS = "SHA256SUMS"
LEFT_OUT = "LEFT-OUT.txt"


class EntryNames:
    """Gives names to paths, one after the other."""

    def __init__(self, *, flat: bool = False) -> None:
        """`flat`: without their folders."""
        self._flat = flat
        self._files: set[str] = set()
        self._folders: set[str] = set()
        self._called: dict[str, str] = {}  # requested folder → its name in the archive
        self._numbered: dict[str, int] = {}  # the last number given to a name
        self._last = ("", "")  # the last requested folder, and its name in the archive

    def name(self, path: str, extension: str = "") -> str:
        """The entry name for a path; `extension` (with its dot) is appended to a name that has none."""
        above, _, last = path.rpartition("/")
        last = safe_name(last, "_")
        if extension and "." not in last:
            last += extension
        folder = ""
        if above and not self._flat:
            folder = self._last[1] if above == self._last[0] else self._folder(above)
        name = folder + last
        folded = name.casefold()
        if folded in self._files or folded in self._folders:
            name = self._numbered_anew(name, self._is_taken)
            folded = name.casefold()
        self._files.add(folded)
        return name

    def _is_taken(self, folded: str) -> bool:
        return folded in self._files or folded in self._folders

    def _folder(self, path: str) -> str:
        """The folder's name in the archive, with a trailing slash."""
        called = ""
        for segment in path.split("/"):
            called = self._below(called + safe_name(segment, "_")) + "/"
        self._last = (path, called)
        return called

    def _below(self, path: str) -> str:
        called = self._called.get(path.casefold())
        if called is None:
            called = self._free(path, lambda folded: folded in self._files)
            self._called[path.casefold()] = called
            self._folders.add(called.casefold())
        return called

    def _free(self, name: str, is_taken: Callable[[str], bool]) -> str:
        return self._numbered_anew(name, is_taken) if is_taken(name.casefold()) else name

    def _numbered_anew(self, name: str, is_taken: Callable[[str], bool]) -> str:
        """A name that is taken, with the next free number."""
        number = self._numbered.get(name.casefold(), 1) + 1
        while is_taken(_numbered(name, number).casefold()):
            number += 1
        self._numbered[name.casefold()] = number
        return _numbered(name, number)


def _numbered(name: str, number: int) -> str:
    folder, slash, last = name.rpartition("/")
    stem, dot, extension = last.rpartition(".")
    if not stem:
        stem, dot, extension = last, "", ""
    return f"{folder}{slash}{stem} ({number}){dot}{extension}"

"""A file by its path alone, as an application's own code names it: no store, no root, no rule."""

from __future__ import annotations

import os
import stat
from pathlib import Path

from invio.core.addresses import Address
from invio.core.files import FileFacts
from invio.core.memory import Memory
from invio.stores.directory import identity_tag, unchanged
from invio.stores.sources import DiskFile
from invio.stores.store import Found, Missing

# What stands where an address has its store; it is shown to nobody.
STORE = "file"
_SEEN = 4096
_seen: Memory[bytes, Found] = Memory(_SEEN)


def found_at(path: str | Path) -> Found:
    """The regular file at `path`. Raises Missing.

    One that was found before and is unaltered is the same finding, so that what was learnt of it holds.
    """
    where = os.fsencode(path)
    seen = _seen.get(where)
    if seen is not None and unchanged(seen.source):
        return seen
    try:
        status = os.stat(where)
    except (OSError, ValueError):  # ValueError: a path with a NUL in it
        raise Missing(str(path)) from None
    if not stat.S_ISREG(status.st_mode):
        raise Missing(str(path))
    name = os.fsdecode(os.path.basename(where)).encode("utf-8", "replace").decode("utf-8")
    facts = FileFacts(Address(STORE, name), status.st_size, status.st_mtime, identity_tag(status))
    return _seen.keep(where, Found(facts, DiskFile.of(where, status)))

"""Folders for what is not finished yet: each is gone with its work, and what a killed process left by the next one's.

Invariants:
- A folder is locked for as long as it is used, and removed by nobody else meanwhile.
- Nothing is removed that has another name, that belongs to somebody else, or that a link leads to.
"""

from __future__ import annotations

import fcntl
import os
import shutil
import tempfile
import time
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager, suppress
from pathlib import Path

_PREFIX = ".invio-unfinished-"
_YOUNG = 60.0  # seconds in which a folder that nobody has locked may belong to somebody who is about to


@contextmanager
def unfinished(beside: Path) -> Iterator[Path]:
    """A folder in `beside` that is its owner's alone, for as long as the `with` lasts. Raises OSError."""
    for left in beside.glob(f"{_PREFIX}*"):
        with suppress(OSError):  # it is in use, or somebody else's
            _remove(left)
    with tempfile.TemporaryDirectory(dir=beside, prefix=_PREFIX) as name, ExitStack() as stack:
        with suppress(OSError):  # where nothing can be locked, nothing that was left can be removed, either
            stack.enter_context(_locked(Path(name)))
        yield Path(name)


@contextmanager
def _locked(folder: Path) -> Iterator[os.stat_result]:
    """Raises OSError: somebody else has locked it, or it is no folder."""
    descriptor = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC)
    try:
        fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
        yield os.fstat(descriptor)
    finally:
        os.close(descriptor)


def _remove(left: Path) -> None:
    with _locked(left) as status:
        if status.st_uid == os.geteuid() and status.st_mtime < time.time() - _YOUNG:
            shutil.rmtree(left)

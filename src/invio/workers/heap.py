"""The heap: when its garbage is looked for, and giving memory back that is no longer used."""

from __future__ import annotations

import gc
from collections.abc import Iterator
from contextlib import contextmanager
from functools import cache
from typing import Any

# As `malloc.h` numbers them.
_TRIM_THRESHOLD, _MMAP_THRESHOLD = -1, -3
# Bytes of a block that lies by itself: somewhat more than the pieces of a MiB in which contents are read. Getting such
# a piece anew from the system each time made planning an archive of files of a MiB take half as long again.
_LARGE = 1152 * 1024
# Bytes at the end of a heap that are kept for what comes next, as many as the library keeps at most by itself. With
# 4 MiB an archive whose contents are deflated took a tenth longer.
_UNUSED = 64 * 1024 * 1024


@cache
def _function(name: str) -> Any:
    """A function of the C library; None where it has none of this name."""
    import ctypes  # a process of somebody else's may never need it

    return getattr(ctypes.CDLL(None), name, None)


def give_back_large_blocks() -> None:
    """Makes the C library return large blocks to the system as soon as they are freed; for a process of our own.

    By default it treats as small whatever is shorter than the longest block freed so far, up to 32 MB, and keeps such
    a block while anything lies behind it: 650 MB after 400 slow readers of another system's files.
    """
    tune = _function("mallopt")
    if tune is not None:
        tune(_MMAP_THRESHOLD, _LARGE)
        tune(_TRIM_THRESHOLD, _UNUSED)


def give_back_memory() -> None:
    """Gives what the C library holds and nobody uses back to the system; takes some milliseconds.

    By itself it keeps most of what was once used for large blocks: after a plan of 100,000 files, 11 to 36 MB.
    """
    trim = _function("malloc_trim")
    if trim is not None:
        trim(0)


@contextmanager
def nothing_collected() -> Iterator[None]:
    """Looks for no garbage meanwhile, for work that makes many objects which stay, as loading modules does.

    Looking for it 230 times took a twelfth of the time in which the service's modules are loaded.
    """
    collects = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if collects:
            gc.enable()


def keep_what_is_loaded() -> None:
    """Excludes all objects that there are from garbage collection, in a process that did so at its start."""
    if gc.get_freeze_count():
        gc.freeze()

"""Opening what lies beneath a folder, and nothing else: by descriptors, from the folder on.

A path that is checked and then opened by its name can be exchanged in between. Here the kernel resolves it with the
promise that no step leaves the folder (openat2 with RESOLVE_BENEATH, Linux 5.6), or, where that is not to be had and
for symbolic links that name the folder by its absolute path, it is walked step by step: each segment is opened
relative to the one before it and without following links, which are read and walked themselves.

Symbolic links that stay inside are followed; what leads outside is as if it were not there.
"""

from __future__ import annotations

import ctypes
import errno
import os
import stat
from contextlib import suppress

_OPENAT2 = 437  # the same on all architectures
_BENEATH, _NO_MAGIC_LINKS = 0x08, 0x02  # linux/openat2.h
_TRIES = 8  # while what is on the way is being renamed
_LINKS = 40  # symbolic links on one way, as the kernel has it
REFERENCE = os.O_PATH | os.O_CLOEXEC
FOLDER = os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC


class _How(ctypes.Structure):
    _fields_ = (("flags", ctypes.c_uint64), ("mode", ctypes.c_uint64), ("resolve", ctypes.c_uint64))


_SYSCALL = ctypes.CDLL(None, use_errno=True).syscall
_HOWS = {flags: _How(flags, 0, _BENEATH | _NO_MAGIC_LINKS) for flags in (REFERENCE, FOLDER)}
_SIZE = ctypes.c_size_t(ctypes.sizeof(_How))


def open_beneath(root: int, root_path: bytes, path: bytes, flags: int = REFERENCE) -> int:
    """A descriptor of what is at `path` (relative; empty: the root itself), as a reference or a FOLDER to be read.

    `root` is a descriptor of the folder and `root_path` its absolute path without links, ending in `/`.

    Raises:
        OSError: there is no such thing beneath the folder (EXDEV: the way leads out of it).
    """
    path = path or b"."
    for _ in range(_TRIES):
        found: int = _SYSCALL(_OPENAT2, root, path, ctypes.byref(_HOWS[flags]), _SIZE)
        if found >= 0:
            return found
        number = ctypes.get_errno()
        if number == errno.EAGAIN:
            continue
        if number not in (errno.EXDEV, errno.ENOSYS, errno.EPERM):
            raise OSError(number, os.strerror(number))
        break
    return _walked(root, root_path, path, flags)


def _walked(root: int, root_path: bytes, path: bytes, flags: int) -> int:
    """Like `open_beneath`, one segment after the other."""
    way = [os.dup(root)]  # descriptors of the folders from the root on
    segments = [segment for segment in reversed(path.split(b"/")) if segment not in (b"", b".")]
    links = 0
    try:
        while segments:
            segment = segments.pop()
            if segment == b"..":
                if len(way) == 1:
                    raise OSError(errno.EXDEV, "the way leads out of the folder")
                os.close(way.pop())
                continue
            found = os.open(segment, REFERENCE | os.O_NOFOLLOW, dir_fd=way[-1])
            if not stat.S_ISLNK(os.fstat(found).st_mode):
                way.append(found)
                continue
            try:
                target = os.readlink(b"", dir_fd=found)
            finally:
                os.close(found)
            links += 1
            if links > _LINKS:
                raise OSError(errno.ELOOP, os.strerror(errno.ELOOP))
            if target.startswith(b"/"):
                if not (target + b"/").startswith(root_path):
                    raise OSError(errno.EXDEV, "the way leads out of the folder")
                target = target[len(root_path) :]
                while len(way) > 1:
                    os.close(way.pop())
            segments += [part for part in reversed(target.split(b"/")) if part not in (b"", b".")]
        if flags == REFERENCE:
            return os.dup(way[-1])
        return os.open(b".", FOLDER, dir_fd=way[-1])
    finally:
        for descriptor in way:
            with suppress(OSError):
                os.close(descriptor)

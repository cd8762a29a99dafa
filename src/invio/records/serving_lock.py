"""The processes that serve from the same records: each holds a numbered lock for as long as it lives.

The kernel lets go of the lock of a process that dies, however it does. Orders of events that were considered:
- Two processes start at once: one waits for the other to have put in order what the dead left, and to have brought
  the records to the newest schema.
- A process dies while others live: they look every few seconds at the locks of the others; whoever gets one puts
  in order what its process left, and removes it.
- A number is given again: what the process before it left is put in order first.
- A lock's file is removed while somebody opens it: whoever then locks a file without a name takes another.
"""

from __future__ import annotations

import fcntl
import os
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from invio.core.errors import ConfigurationError

_MOST = 4096  # processes
_STARTS_WITHIN = 120.0  # seconds for which a process waits for another one that starts
_OF_0_1 = 0  # the number of any process of version 0.1, which share one lock
_FLAGS = os.O_RDWR | os.O_CREAT | os.O_CLOEXEC


@dataclass(frozen=True, slots=True)
class Left:
    """A process that died: its number, and when it began, Unix seconds."""

    number: int
    since: float


class ServingLock:
    """A process among those that serve from one folder of records.

    `number` is its own; `folder` is where the locks are, and only its owner may look into it.
    """

    def __init__(self, folder: Path) -> None:
        """Takes a number; until `joined` no other process can start.

        Raises:
            ConfigurationError: another process has been starting for minutes.
        """
        self.folder = folder / "serving"
        self.folder.mkdir(mode=0o700, exist_ok=True)
        self._starting = os.open(folder / "starting.lock", _FLAGS, 0o600)
        end = time.monotonic() + _STARTS_WITHIN
        while not _locked(self._starting):
            if time.monotonic() > end:
                os.close(self._starting)
                raise ConfigurationError(
                    f"{folder}: another process has been starting for {_STARTS_WITHIN:g} s; stop it first"
                )
            time.sleep(0.05)
        self.first = not serving(folder)
        self.number, self._descriptor = self._numbered()

    def _numbered(self) -> tuple[int, int]:
        for number in range(1, _MOST):
            descriptor = os.open(self._path(number), _FLAGS, 0o600)
            if _locked(descriptor) and _is_named(descriptor, self._path(number)):
                return number, descriptor
            os.close(descriptor)
        raise ConfigurationError(f"{self.folder}: more than {_MOST} processes serve from these records")

    def _path(self, number: int) -> Path:
        return self.folder / f"{number}.lock"

    @property
    def before(self) -> Left | None:
        """The dead process that had this number before and is not cleaned up yet."""
        since = _since(self._descriptor)
        return None if since is None else Left(self.number, since)

    def joined(self) -> None:
        """Ends the start: dead processes are cleaned up, and others may start."""
        os.ftruncate(self._descriptor, 0)
        os.pwrite(self._descriptor, repr(time.time()).encode(), 0)
        fcntl.flock(self._starting, fcntl.LOCK_UN)

    @contextmanager
    def left(self, number: int) -> Iterator[Left | None]:
        """A process that died, for as long as the `with` lasts, and then none any more; None for one that lives."""
        try:
            descriptor = os.open(self._path(number), os.O_RDWR | os.O_CLOEXEC)
        except FileNotFoundError:
            yield None
            return
        try:
            if not _locked(descriptor) or not _is_named(descriptor, self._path(number)):
                yield None
                return
            since = _since(descriptor)
            yield None if since is None else Left(number, since)
            self._path(number).unlink(missing_ok=True)
        finally:
            os.close(descriptor)

    def others(self) -> list[int]:
        """The numbers of the other processes, those among them that died since."""
        return [number for number in _numbers(self.folder) if number != self.number]

    def close(self) -> None:
        """Gives the number back; everything this process began has ended."""
        self._path(self.number).unlink(missing_ok=True)
        os.close(self._descriptor)
        os.close(self._starting)


def serving(folder: Path) -> list[int]:
    """The numbers of the processes that live and serve from the records in a folder."""
    locks = {number: folder / "serving" / f"{number}.lock" for number in _numbers(folder / "serving")}
    locks[_OF_0_1] = folder / "serving.lock"
    return [number for number, path in locks.items() if _is_held(path)]


def _is_held(path: Path) -> bool:
    try:
        descriptor = os.open(path, os.O_RDWR | os.O_CLOEXEC)
    except FileNotFoundError:  # nobody had it, or whoever had it has just ended
        return False
    try:
        return not _locked(descriptor)
    finally:
        os.close(descriptor)


def _numbers(folder: Path) -> Iterator[int]:
    for path in folder.glob("*.lock"):
        if path.stem.isdecimal():
            yield int(path.stem)


def _locked(descriptor: int) -> bool:
    try:
        fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return False
    return True


def _is_named(descriptor: int, path: Path) -> bool:
    """Whether an open file is what still has the name."""
    try:
        return os.stat(path).st_ino == os.fstat(descriptor).st_ino
    except FileNotFoundError:
        return False


def _since(descriptor: int) -> float | None:
    try:
        return float(os.pread(descriptor, 64, 0))
    except ValueError:
        return None  # it had begun nothing yet

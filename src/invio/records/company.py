"""Whether other processes serve from the same records: told by a lock that each holds for as long as it lives."""

from __future__ import annotations

import fcntl
import os
from pathlib import Path


class Company:
    """This process among those that serve from one folder of records.

    The kernel lets go of the lock of a process that dies, however it does.
    """

    def __init__(self, folder: Path) -> None:
        """Takes part. `first` tells whether nobody else was there, so that what is running belongs to the dead."""
        self._descriptor = os.open(folder / "serving.lock", os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
        try:
            fcntl.flock(self._descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
            self.first = True
        except BlockingIOError:
            self.first = False
            fcntl.flock(self._descriptor, fcntl.LOCK_SH)

    def joined(self) -> None:
        """What the dead left is put in order: others may come."""
        fcntl.flock(self._descriptor, fcntl.LOCK_SH)

    def close(self) -> None:
        os.close(self._descriptor)

"""Ends a test process that hangs, and says in which lines its threads were.

pytest-timeout fails a slow test by a signal. What clears up after it (a browser that was interrupted, a process
that nobody ends) can then wait for ever, and a whole run with it. Here the process itself is ended: under
pytest-xdist another takes its place, and the test it was at counts as failed.
"""

from __future__ import annotations

import faulthandler
import os
import threading
from time import monotonic


class Watchdog(threading.Thread):
    """A thread that ends the process once `deadline` (seconds of the monotonic clock) has passed."""

    def __init__(self, stderr: int) -> None:
        super().__init__(daemon=True)
        self._stderr = stderr
        self._moved = threading.Condition()
        self._deadline: float | None = None
        self._at = ""

    def allow(self, seconds: float | None, at: str = "") -> None:
        """Gives what begins now the given number of seconds; with None, nothing is watched."""
        with self._moved:
            self._deadline, self._at = None if seconds is None else monotonic() + seconds, at
            self._moved.notify()

    def run(self) -> None:
        with self._moved:
            while self._deadline is None or (left := self._deadline - monotonic()) > 0:
                self._moved.wait(None if self._deadline is None else left)
        os.write(self._stderr, f"\n{self._at} hangs; the process is ended. Its threads:\n".encode())
        faulthandler.dump_traceback(file=self._stderr, all_threads=True)
        os._exit(1)

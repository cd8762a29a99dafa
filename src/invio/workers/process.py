"""Processes that work for the service.

Each runs a module of Invio, and is asked over a socket that only the two have.
"""

from __future__ import annotations

import socket
import subprocess
import sys
from contextlib import suppress
from dataclasses import dataclass

_ENDS_WITHIN = 5.0  # seconds


@dataclass(slots=True)
class WorkerProcess:
    """A process, and our end of the socket that it is asked over. It ends when the socket is closed."""

    process: subprocess.Popen[bytes]
    socket: socket.socket

    @classmethod
    def start(cls, module: str) -> WorkerProcess:
        """Runs a module, which finds the number of its own end of the socket as its argument. Raises OSError."""
        ours, theirs = socket.socketpair()
        with theirs:
            try:
                process = subprocess.Popen(
                    [sys.executable, "-P", "-m", module, str(theirs.fileno())],
                    pass_fds=[theirs.fileno()],
                    stdin=subprocess.DEVNULL,
                    stdout=subprocess.DEVNULL,
                    stderr=subprocess.DEVNULL,
                )
            except OSError:
                ours.close()
                raise
        return cls(process, ours)

    def end(self) -> None:
        """Kills the process, and waits for its end, five seconds at most."""
        with suppress(OSError):
            self.socket.close()
        self.process.kill()
        with suppress(subprocess.TimeoutExpired):
            self.process.wait(_ENDS_WITHIN)

"""CRCs ahead: a process reads small files for a plan while the plan goes on.

To open and read a small file takes as long as to plan it, and Python does one of both at a time in a process. So where
a plan needs very many, a process of its own reads those of the next files meanwhile.

What comes back is a CRC for each file that was still what had been found; the others are left to whoever plans, who
reads them and says what is wrong. So are all of them when the process cannot be started or has died.

Invariants:
- At most one list of files is asked for and not answered, and an answer is shorter than a socket holds: neither side
  waits for the other to take what it writes while the other does the same.
- One process at a time of each service's: what a second plan needs is read by its own planner.
- It ends with the plan, and by itself when its service dies, for then its end of the socket is closed.
"""

from __future__ import annotations

import logging
import marshal
import os
import sys
import threading
from array import array
from collections.abc import Callable, Sequence
from multiprocessing.connection import Connection

from invio.core.reasons import Refusal
from invio.delivery.archives.checksums import crc_of
from invio.stores.sources import DiskFile
from invio.workers.process import WorkerProcess

log = logging.getLogger("invio.delivery")

_MODULE = "invio.delivery.archives.crc_ahead"
LARGEST = 64 * 1024  # bytes of a file that is read ahead: longer ones take longer to read than to ask for
WORTH = 1500  # files that a plan has read by itself before a process is started for more
_LOOKED_EVERY = 0.5  # seconds in which an answer is waited for before it is asked whether the plan is still wanted
_UNKNOWN = -1
_ONE_AT_A_TIME = threading.Lock()


class CrcAhead:
    """Has the CRCs of some files be computed, of some more meanwhile. For one plan, in one thread; close it."""

    def __init__(self, check: Callable[[], object]) -> None:
        """`check` is called every so often while an answer is waited for, and may raise."""
        self._check = check
        self._worker: WorkerProcess | None = None
        self._connection: Connection | None = None
        self._asked: Sequence[tuple[str, DiskFile]] = ()
        self._seen = 0  # files that could have been read ahead
        self._is_mine = False

    def ask(self, files: Sequence[tuple[str, DiskFile]]) -> None:
        """Begins to read some files, each with the tag of its content; the ones before must have been answered."""
        self._seen += len(files)
        connection = self._started() if files and self._seen >= WORTH else None
        if connection is None:
            return
        try:
            connection.send_bytes(marshal.dumps([tuple(file) for _, file in files]))
        except OSError:
            self._failed()
        else:
            self._asked = files

    def answer(self) -> list[tuple[str, DiskFile, int]]:
        """What was asked for last, with the CRCs, as far as there are any. Raises what `check` raises."""
        files, self._asked = self._asked, ()
        if not files or self._connection is None:
            return []
        try:
            while not self._connection.poll(_LOOKED_EVERY):
                self._check()
            crcs = array("q", self._connection.recv_bytes())
        except (OSError, EOFError):
            self._failed()
            return []
        return [(tag, file, crc) for (tag, file), crc in zip(files, crcs, strict=True) if crc != _UNKNOWN]

    def close(self) -> None:
        """Ends the process."""
        if self._connection is not None:
            self._connection.close()
        if self._worker is not None:
            self._worker.end()
        self._connection = self._worker = None
        if self._is_mine:
            _ONE_AT_A_TIME.release()
            self._is_mine = False

    def _started(self) -> Connection | None:
        """The way to the process, which is started now if it has to be; None where it cannot be."""
        if self._connection is not None or self._is_mine:  # one that failed is not tried again for this plan
            return self._connection
        if len(os.sched_getaffinity(0)) < 2 or not _ONE_AT_A_TIME.acquire(blocking=False):
            return None
        self._is_mine = True
        try:
            self._worker = WorkerProcess.start(_MODULE)
        except OSError as error:
            log.warning("bundle.no-process", extra={"fields": {"error": str(error)}})
            return None
        self._connection = Connection(self._worker.socket.detach())
        return self._connection

    def _failed(self) -> None:
        log.warning("bundle.process-ended", extra={"fields": {"module": __name__}})
        if self._connection is not None:
            self._connection.close()
            self._connection = None


def answer(request: bytes) -> bytes:
    """The CRC of each file of a request, in its order; -1 of one that is not, or no longer, what was found."""
    return array("q", [_crc(DiskFile(*row)) for row in marshal.loads(request)]).tobytes()


def _crc(file: DiskFile) -> int:
    try:
        return crc_of(file, "")
    except (Refusal, OSError):
        return _UNKNOWN


def main(descriptor: int) -> None:
    """Answers requests on a socket until it is closed."""
    with Connection(descriptor) as connection:
        while True:
            try:
                connection.send_bytes(answer(connection.recv_bytes()))
            except (EOFError, OSError):
                return


if __name__ == "__main__":
    main(int(sys.argv[1]))

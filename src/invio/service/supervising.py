"""Worker processes: one listening socket, several processes that serve from it, and a supervisor that starts them.

The supervisor serves nothing and holds nothing open but the socket: it forks, waits, and passes signals on. The first
worker brings the records to the newest schema and finds faults of the settings, before the others start. A worker that
dies is replaced; what it was delivering is settled by the others (see `invio.records.serving_lock`).

Orders of events that were considered:
- A worker dies as soon as it starts, again and again: the next one is started later each time, and the others serve.
- A stop while a worker starts: it is told as soon as it listens to signals, or ended with the others.
- Ctrl-C in a terminal reaches all processes of its group: workers have groups of their own, and are told once.
- The supervisor is killed: the workers notice by a pipe that ends with it, and stop by themselves.
- A worker does not end: it is killed after what a stop may take.
"""

from __future__ import annotations

import contextlib
import gc
import logging
import os
import select
import signal
import socket
import sys
import time
from collections.abc import Callable
from dataclasses import dataclass

from invio.core.errors import ConfigurationError
from invio.service.run import SETTLES_WITHIN, CannotListen, run, set_up_logging, url_of
from invio.service.settings import Settings
from invio.workers.shared import SharedTable

log = logging.getLogger("invio.service")

_WATCHED = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP, signal.SIGCHLD)
_STARTS_WITHIN = 180.0  # seconds
_STEADY = 10.0  # seconds after which a worker has started well
_LONGEST_WAIT = 30.0  # seconds before the next try
_READY, _FAULT = b"+", b"!"


@dataclass(slots=True)
class _Worker:
    """A process that serves; `place` is its column in what the workers share."""

    place: int
    pid: int
    since: float
    failures: int  # starts in its place that went wrong, one after the other


class Supervisor:
    """Starts workers, replaces those that die, and stops them."""

    def __init__(self, settings: Settings, listener: socket.socket, ready: Callable[[str], None], workers: int) -> None:
        self._settings = settings
        self._listener = listener
        self._ready = ready
        self._count = workers
        self._table = SharedTable(workers)
        self._workers: dict[int, _Worker] = {}
        self._due: dict[int, tuple[float, int]] = {}  # places to fill: when, and after how many failures
        self._stopping = False
        self._kill_at = float("inf")
        self._life = os.pipe()

    def run(self) -> None:
        """Serves until SIGINT or SIGTERM.

        Raises:
            ConfigurationError: the first worker could not start; the message says why.
        """
        set_up_logging()
        gc.collect()
        gc.freeze()  # what all share stays shared
        before = signal.pthread_sigmask(signal.SIG_BLOCK, _WATCHED)
        try:
            for place in range(self._count):
                self._start(place, before, wait=True)
                if self._stopping:
                    break
            if not self._stopping:
                log.info("service.workers", extra={"fields": {"workers": self._count}})
                self._ready(url_of(self._listener))
            while self._workers or (self._due and not self._stopping):
                self._wait(before)
        finally:
            self._end_all()
            signal.pthread_sigmask(signal.SIG_SETMASK, before)
            for descriptor in self._life:
                os.close(descriptor)

    def _start(self, place: int, mask: set[int | signal.Signals], *, wait: bool = False, failures: int = 0) -> None:
        told, tells = os.pipe()
        sys.stdout.flush()
        sys.stderr.flush()
        pid = os.fork()
        if not pid:
            os.close(told)
            self._serve(place, tells, mask)
        os.close(tells)
        self._workers[pid] = _Worker(place, pid, time.monotonic(), failures)
        try:
            if wait:
                self._await(told, pid)
        finally:
            os.close(told)

    def _serve(self, place: int, tells: int, mask: set[int | signal.Signals]) -> None:
        """What a worker does; it never returns."""
        code = 1
        try:
            os.setpgid(0, 0)
            os.close(self._life[1])
            signal.pthread_sigmask(signal.SIG_SETMASK, mask)
            run(self._settings, self._listener, lambda _: _tell(tells, _READY), self._table.of(place), self._life[0])
            code = 0
        except ConfigurationError as fault:
            _tell(tells, _FAULT + str(fault).encode())
        except BaseException:
            log.exception("worker.failed")
        finally:
            logging.shutdown()
            os._exit(code)

    def _await(self, told: int, pid: int) -> None:
        """Returns when a worker serves, or a stop was asked for. Raises ConfigurationError: it cannot."""
        end = time.monotonic() + _STARTS_WITHIN
        said = b""
        while time.monotonic() < end and not self._stopping:
            if select.select([told], [], [], 0.05)[0]:
                piece = os.read(told, 65536)
                said += piece
                if said.startswith(_READY):
                    return
                if not piece:
                    break
            if signal.sigtimedwait((signal.SIGINT, signal.SIGTERM), 0) is not None:
                self._stop(signal.SIGTERM)
        if self._stopping:
            return
        with contextlib.suppress(ProcessLookupError):
            os.kill(pid, signal.SIGKILL)
        if said.startswith(_FAULT):
            raise ConfigurationError(said[1:].decode())
        raise CannotListen("a worker could not be started; the log says why")

    def _wait(self, mask: set[int | signal.Signals]) -> None:
        """Waits for a signal, or until something is due, and does what it asks for."""
        now = time.monotonic()
        due = min([self._kill_at, *(when for when, _ in self._due.values())])
        received = signal.sigtimedwait(_WATCHED, min(60.0, max(0.0, due - now)))
        number = None if received is None else received.si_signo
        if number in (signal.SIGINT, signal.SIGTERM):
            self._stop(number)
        elif number == signal.SIGHUP:
            self._pass_on(signal.SIGHUP)
        self._bury()
        now = time.monotonic()
        if now >= self._kill_at:
            log.error("worker.ended-by-force", extra={"fields": {"workers": len(self._workers)}})
            self._pass_on(signal.SIGKILL)
            self._kill_at = now + 1.0
        for place, (when, failures) in list(self._due.items()):
            if now >= when and not self._stopping:
                del self._due[place]
                self._start(place, mask, failures=failures)

    def _bury(self) -> None:
        """Takes note of workers that have ended."""
        for worker in list(self._workers.values()):
            pid, status = os.waitpid(worker.pid, os.WNOHANG)
            if not pid:
                continue
            del self._workers[worker.pid]
            self._table.clear(worker.place)
            if self._stopping:
                continue
            now = time.monotonic()
            failures = 0 if now - worker.since > _STEADY else worker.failures + 1
            wait = 0.0 if failures == 0 else min(_LONGEST_WAIT, 0.5 * 2 ** (failures - 1))
            said = {"pid": worker.pid, "exit": os.waitstatus_to_exitcode(status), "again_in": wait}
            log.error("worker.died", extra={"fields": said})
            self._due[worker.place] = (now + wait, failures)

    def _stop(self, number: int) -> None:
        """The first time the workers drain; the second time they end at once, settled all the same."""
        if not self._stopping:
            log.info("service.stopping", extra={"fields": {"signal": signal.Signals(number).name}})
            service = self._settings.service
            self._kill_at = time.monotonic() + service.drain + service.shutdown + SETTLES_WITHIN + 5.0
        self._stopping = True
        self._due.clear()
        self._pass_on(signal.SIGTERM)

    def _pass_on(self, number: int) -> None:
        for pid in self._workers:
            with contextlib.suppress(ProcessLookupError):
                os.kill(pid, number)

    def _end_all(self) -> None:
        """Ends what is left, when the supervisor itself cannot go on."""
        self._pass_on(signal.SIGTERM)
        for pid in list(self._workers):
            with contextlib.suppress(ChildProcessError):
                os.waitpid(pid, 0)


def _tell(descriptor: int, said: bytes) -> None:
    with contextlib.suppress(OSError):
        os.write(descriptor, said)


def serve(settings: Settings, listener: socket.socket, ready: Callable[[str], None], workers: int) -> None:
    """Serves by so many processes; by this one alone, where it is to be one.

    Raises:
        ConfigurationError: with what is wrong and where.
    """
    if workers == 1:
        run(settings, listener, ready)
    else:
        Supervisor(settings, listener, ready, workers).run()

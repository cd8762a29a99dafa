"""Processes of `invio` for tests that begin where the imports are done.

`invio serve` takes a second of processor time before it listens, nearly all of it imports, and some hundred tests start
one each. So a process imports once what the service needs, and forks itself for each start. What it forks runs the
same command with the same arguments, in the folder and with the environment of the test, and shares nothing that is
written later. That a process of its own starts as well is shown where that is the point (`test_package`, `test_demo`).

Orders of events that were considered:
- Two threads start something at once: they ask one after the other.
- The test process is killed: the socket ends, the process that forks ends, and what it forked is nobody's, as what the
  test process would have started itself.
- A process ends before anybody asks for it: the one that forked it keeps its status until it is asked.
"""

from __future__ import annotations

import gc
import importlib
import json
import os
import signal
import socket
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Mapping
from functools import cache
from pathlib import Path
from select import select
from typing import Any, NoReturn, TextIO

_LONGEST = 1 << 20  # of a message, in bytes: the environment and the arguments


class Forked:
    """A process that was forked, with as much of `subprocess.Popen` as tests need."""

    def __init__(self, parent: _Parent, pid: int, stdout: TextIO) -> None:
        self._parent = parent
        self._ended = os.pidfd_open(pid)
        self.pid = pid
        self.stdout = stdout
        self.returncode: int | None = None

    def poll(self) -> int | None:
        return self._status(0)

    def wait(self, timeout: float | None = None) -> int:
        """The exit status, or minus the signal that ended it. Raises subprocess.TimeoutExpired (seconds)."""
        status = self._status(timeout)
        if status is None:
            raise subprocess.TimeoutExpired("invio", timeout or 0)
        return status

    def send_signal(self, number: int) -> None:
        if self.poll() is None:
            signal.pidfd_send_signal(self._ended, number)

    def kill(self) -> None:
        self.send_signal(signal.SIGKILL)

    def _status(self, within: float | None) -> int | None:
        if self.returncode is None and select([self._ended], [], [], within)[0]:
            self.returncode = self._parent.status(self.pid)
            os.close(self._ended)
            self.stdout.close()
        return self.returncode


class _Parent:
    """The process that has imported everything, from this side of the socket."""

    def __init__(self) -> None:
        self._asks, other = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        for size in (socket.SO_SNDBUF, socket.SO_RCVBUF):
            self._asks.setsockopt(socket.SOL_SOCKET, size, _LONGEST)
        self._lock = threading.Lock()
        with other:
            self._process = subprocess.Popen(
                [sys.executable, "-m", "tests.forking", str(other.fileno())],
                pass_fds=[other.fileno()],
                cwd=Path(__file__).parents[1],
            )

    def start(self, arguments: tuple[str, ...], environment: Mapping[str, str], stdout: int, stderr: int) -> int:
        wish = {"arguments": arguments, "folder": os.getcwd(), "environment": dict(environment)}
        return self._ask(wish, [stdout, stderr])

    def status(self, pid: int) -> int:
        return self._ask({"ended": pid}, [])

    def _ask(self, wish: dict[str, Any], descriptors: list[int]) -> int:
        with self._lock:
            socket.send_fds(self._asks, [json.dumps(wish).encode()], descriptors)
            return int(self._asks.recv(100))


@cache
def _parent() -> _Parent:
    return _Parent()


def start_invio(*arguments: str, environment: Mapping[str, str], stderr: Path) -> Forked:
    """Runs `invio` with these arguments in a process of its own; what it says is read from `stdout`."""
    reads, writes = os.pipe()
    with open(writes, "w") as stdout, stderr.open("w") as errors:
        parent = _parent()
        pid = parent.start(arguments, environment, stdout.fileno(), errors.fileno())
    return Forked(parent, pid, open(reads))


def run_invio(*arguments: object, **environment: str) -> subprocess.CompletedProcess[str]:
    """What `invio` with these arguments says, and its exit status, once it has ended."""
    given = [os.fspath(one) if isinstance(one, Path) else str(one) for one in arguments]
    with tempfile.NamedTemporaryFile() as errors:
        process = start_invio(*given, environment={**os.environ, **environment}, stderr=Path(errors.name))
        said = process.stdout.read()
        return subprocess.CompletedProcess(given, process.wait(60), said, Path(errors.name).read_text())


def _serve(asked: socket.socket) -> None:
    """Forks, and tells how those ended whom it forked, until nobody is there any more to ask."""
    while True:
        message, descriptors, _, _ = socket.recv_fds(asked, _LONGEST, 2)
        if not message:
            return
        wish = json.loads(message)
        if "ended" in wish:
            answer = os.waitstatus_to_exitcode(os.waitpid(wish["ended"], 0)[1])
        else:
            answer = os.fork()
            if not answer:
                asked.close()
                _become(wish, *descriptors)
            for descriptor in descriptors:
                os.close(descriptor)
        asked.send(str(answer).encode())


def _become(wish: dict[str, Any], stdout: int, stderr: int) -> NoReturn:
    """Runs the command in a process that was forked; what it does is as in one of its own from here on."""
    from invio.cli.main import main

    signal.signal(signal.SIGINT, signal.default_int_handler)
    for descriptor, place in ((stdout, 1), (stderr, 2)):
        os.dup2(descriptor, place)
        os.close(descriptor)
    os.chdir(wish["folder"])
    os.environ.clear()
    os.environ.update(wish["environment"])
    sys.path[:0] = filter(None, os.environ.get("PYTHONPATH", "").split(os.pathsep))
    time.tzset()
    sys.argv = ["invio", *wish["arguments"]]
    main(prog_name="invio")
    sys.exit(0)


def _import() -> None:
    """What `invio serve` imports, at its start and when the API is first asked, which is most of what they take."""
    for module in ("cli.main", "service.run", "service.settings", "service.supervising"):
        importlib.import_module(f"invio.{module}")
    importlib.import_module("invio.service.api").make_api(None)
    gc.collect()
    gc.freeze()  # what all share stays shared


if __name__ == "__main__":
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl-C is for the tests, which then end by themselves
    _import()
    _serve(socket.socket(fileno=int(sys.argv[1])))

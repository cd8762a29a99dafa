"""Running the service: the socket, the server, and a quiet end on SIGINT or SIGTERM."""

from __future__ import annotations

import asyncio
import contextlib
import errno
import gc
import importlib
import json
import linecache
import logging
import os
import re
import resource
import signal
import socket
import sys
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import uvicorn
import uvloop

from invio.core.errors import ConfigurationError
from invio.core.moments import timestamp
from invio.core.version import VERSION
from invio.delivery.sending.uvicorn.expected import ZeroCopyProtocol
from invio.service.app import Service
from invio.service.assembly import Parts, assemble
from invio.service.permissions import bind_unix, exposed
from invio.service.settings import Settings
from invio.workers.heap import give_back_large_blocks
from invio.workers.shared import OwnCounts, Sharing

log = logging.getLogger("invio.service")

# For how long a thread that computes may keep the event loop from going on, each time the loop has let it run.
_THREADS_TURN = 0.001  # seconds
SETTLES_WITHIN = 15.0  # seconds for the rest of a shutdown, after the time for running transfers


class CannotListen(ConfigurationError):
    """The address cannot be listened on; the message says what to do."""


class _Server(uvicorn.Server):
    """uvicorn's server, which tells when it answers, and exits as asked instead of by the signal.

    A stop is announced before it is done: for `drain` seconds `/readyz` says no while everything is answered, so that
    whatever spreads requests over several services learns of it. SIGHUP reads the rules and keys again.
    """

    def __init__(
        self,
        config: uvicorn.Config,
        parts: Parts,
        ready: Callable[[], None],
        drain: float,
        supervisor: int | None = None,
    ) -> None:
        super().__init__(config)
        self._supervisor = supervisor
        self._parts = parts
        self._ready = ready
        self._drain = drain
        self.asked_to_stop = False

    async def startup(self, sockets: list[socket.socket] | None = None) -> None:
        await super().startup(sockets)
        if self.started:
            self._ready()

    @contextlib.contextmanager
    def capture_signals(self) -> Iterator[None]:
        loop = asyncio.get_running_loop()
        for number in (signal.SIGINT, signal.SIGTERM):
            loop.add_signal_handler(number, self._stop, loop, number)
        loop.add_signal_handler(signal.SIGHUP, self._read_again)
        if self._supervisor is not None:
            loop.add_reader(self._supervisor, self._left_alone, loop, self._supervisor)
        try:
            yield
        finally:
            if self._supervisor is not None:
                loop.remove_reader(self._supervisor)
            for number in (signal.SIGINT, signal.SIGTERM):
                loop.remove_signal_handler(number)
            # Closing the terminal meanwhile must not interrupt the settling.
            signal.signal(signal.SIGHUP, signal.SIG_IGN)

    def _stop(self, loop: asyncio.AbstractEventLoop, number: int) -> None:
        if self.asked_to_stop:
            self.should_exit = True  # the second signal: transfers are cut off, and settled all the same
            for connection in list(self.server_state.connections):
                connection.transport.abort()
            return
        self.asked_to_stop = True
        log.info("service.stopping", extra={"fields": {"signal": signal.Signals(number).name}})
        _end_by_force_after(self._drain + (self.config.timeout_graceful_shutdown or 0) + SETTLES_WITHIN)
        loop.call_later(self._drain, self._exit)

    def _exit(self) -> None:
        self.should_exit = True

    def _left_alone(self, loop: asyncio.AbstractEventLoop, descriptor: int) -> None:
        """The supervisor has ended, so this worker stops by itself."""
        loop.remove_reader(descriptor)
        log.error("supervisor.died")
        if not self.asked_to_stop:
            self._stop(loop, signal.SIGTERM)

    def _read_again(self) -> None:
        log.info("service.reads-again")
        for file in (self._parts.rules_file, self._parts.keys_file):
            if file is not None:
                file.expire()


def _end_by_force_after(seconds: float) -> None:
    """Kills the process after this time: something hangs."""

    def end() -> None:
        time.sleep(seconds)
        log.error("service.ended-by-force", extra={"fields": {"seconds": seconds}})
        logging.shutdown()
        os._exit(1)

    try:
        threading.Thread(target=end, name="end-by-force", daemon=True).start()
    except RuntimeError:  # the system gives no thread, but it has a clock of its own
        signal.signal(signal.SIGALRM, signal.SIG_DFL)
        signal.setitimer(signal.ITIMER_REAL, seconds)


def raise_descriptor_limit() -> int:
    """Raises the limit of open files and connections to the system's maximum; returns it."""
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    if soft < hard:
        with contextlib.suppress(ValueError, OSError):
            resource.setrlimit(resource.RLIMIT_NOFILE, (hard, hard))
    return resource.getrlimit(resource.RLIMIT_NOFILE)[0]


def listening_socket(host: str, port: int) -> socket.socket:
    """A socket that listens; port 0 takes any that is free.

    Raises:
        CannotListen: the port is in use, or the address is not this machine's.
    """
    try:
        family, kind, protocol, _, address = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)[0]
        listener = socket.socket(family, kind, protocol)
    except UnicodeError:
        raise CannotListen(f"{host!r} is no name of a host; give an address to listen on") from None
    except OSError as error:
        raise CannotListen(f"{host}: not an address to listen on: {error.strerror}") from None
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        listener.bind(address)
        listener.listen(2048)
    except OSError as error:
        listener.close()
        if error.errno == errno.EADDRINUSE:
            raise CannotListen(
                f"port {port} of {host} is in use; stop the program that uses it, or choose another port"
            ) from None
        raise CannotListen(f"cannot listen on {host} port {port}: {error.strerror}") from None
    return listener


def unix_socket(path: Path) -> socket.socket:
    """A Unix socket that listens at `path`, for its owner and group; one that nobody listens at any more is replaced.

    Raises:
        CannotListen: something else is there, somebody listens already, or it cannot be made.
    """
    listener = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
    try:
        if path.is_socket():
            with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as probe:
                if probe.connect_ex(os.fspath(path)) == 0:
                    raise CannotListen(f"{path} is in use; stop the program that uses it, or choose another path")
            path.unlink()
        bind_unix(listener, os.fspath(path), 0o660)
        listener.listen(2048)
    except (OSError, CannotListen) as error:
        listener.close()
        if isinstance(error, CannotListen):
            raise
        raise CannotListen(f"cannot listen at {path}: {error.strerror or error}") from None
    return listener


def url_of(listener: socket.socket) -> str:
    """The URL of what a socket listens on; IPv6 addresses in brackets, and a Unix socket as `unix:` and its path."""
    if listener.family == socket.AF_UNIX:
        return f"unix:{listener.getsockname()}"
    host, port = listener.getsockname()[:2]
    return f"http://[{host}]:{port}" if ":" in host else f"http://{host}:{port}"


def run(
    settings: Settings,
    listener: socket.socket,
    ready: Callable[[str], None],
    sharing: Sharing | None = None,
    supervisor: int | None = None,
) -> None:
    """Serves until SIGINT or SIGTERM; `ready` gets the service's URL once it answers.

    `sharing` is what worker processes count together, `supervisor` a descriptor that ends when whoever started
    them has.

    Raises:
        BadSettings, BadRules, BadKeyFile: with what is wrong and where.
    """
    set_up_logging()
    descriptors = raise_descriptor_limit()
    for said in exposed(settings):
        log.warning("permissions.open", extra={"fields": {"file": said}})
    parts = assemble(settings, sharing=sharing)
    limits = settings.limits
    bounds = {
        "head_seconds": limits.head,
        "network_connections": limits.network_connections,
        "connection_counts": sharing or OwnCounts(),
        "__slots__": (),
    }
    config = uvicorn.Config(
        Service(parts),
        interface="asgi3",
        http=type("BoundedProtocol", (ZeroCopyProtocol,), bounds),
        ws="none",
        loop="none",
        lifespan="on",
        access_log=False,  # it would write seals down; the history is what tells who got what
        log_config=None,
        server_header=False,
        proxy_headers=False,
        timeout_graceful_shutdown=settings.service.shutdown,
    )
    _spare_the_collector()
    give_back_large_blocks()
    sys.setswitchinterval(_THREADS_TURN)
    url = url_of(listener)
    server = _Server(config, parts, lambda: ready(url), settings.service.drain, supervisor)
    parts.stopping = lambda: server.asked_to_stop or server.should_exit
    log.info("service.started", extra={"fields": {"version": VERSION, "url": url, "descriptors": descriptors}})
    # Not `asyncio.Runner`, which waits at its end for threads that may hang.
    loop = uvloop.new_event_loop()
    asyncio.set_event_loop(loop)
    try:
        loop.run_until_complete(server.serve(sockets=[listener]))
    finally:
        log.info("service.stopped")
        asyncio.set_event_loop(None)
    if not server.started:
        raise CannotListen("the service could not be started; the log says why")
    _leave()


def _leave() -> None:
    """Exits now if threads still run, because the interpreter would wait for them."""
    left = [one for one in threading.enumerate() if one is not threading.main_thread() and not one.daemon]
    if left:
        logging.shutdown()
        sys.stdout.flush()
        sys.stderr.flush()
        os._exit(0)


def _spare_the_collector() -> None:
    """Excludes the objects made at the start from garbage collection, and collects less often.

    A request leaves next to no cycles, and there are some hundred thousand objects that stay.
    """
    # Caches that only the start needed: compiled patterns, import paths, lines of code.
    re.purge()
    importlib.invalidate_caches()
    linecache.clearcache()
    gc.collect()
    gc.freeze()
    gc.set_threshold(10_000, 20, 20)


class _OneLine(logging.Formatter):
    """An event as one line of JSON: `event`, `level`, `logger`, `at` (UTC), and the event's own fields."""

    def format(self, record: logging.LogRecord) -> str:
        line = {
            "event": record.getMessage(),
            "level": record.levelname.lower(),
            "logger": record.name,
            "at": timestamp(record.created),
            **getattr(record, "fields", {}),
        }
        if record.exc_info:
            line["exception"] = self.formatException(record.exc_info)
        return json.dumps(line, ensure_ascii=False)


def set_up_logging() -> None:
    """Logs to standard error: warnings and worse of all libraries, and Invio's own events."""
    handler = logging.StreamHandler(sys.stderr)
    handler.setFormatter(_OneLine())
    logging.basicConfig(level=logging.WARNING, handlers=[handler])
    logging.getLogger("invio").setLevel(logging.INFO)

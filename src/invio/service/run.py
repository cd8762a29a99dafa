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
import re
import signal
import socket
import sys
from collections.abc import Callable, Iterator

import uvicorn

from invio.core.errors import Unusable
from invio.delivery.board import timestamp
from invio.delivery.zerocopy import ZeroCopyProtocol
from invio.service.app import Service
from invio.service.assembly import assemble
from invio.service.settings import Settings


class CannotListen(Unusable):
    """The address cannot be listened on; the message says what to do."""


class _Server(uvicorn.Server):
    """uvicorn's server, which tells when it answers, and exits as asked instead of by the signal."""

    def __init__(self, config: uvicorn.Config, ready: Callable[[], None]) -> None:
        super().__init__(config)
        self._ready = ready

    async def startup(self, sockets: list[socket.socket] | None = None) -> None:
        await super().startup(sockets)
        if self.started:
            self._ready()

    @contextlib.contextmanager
    def capture_signals(self) -> Iterator[None]:
        loop = asyncio.get_running_loop()
        for number in (signal.SIGINT, signal.SIGTERM):
            loop.add_signal_handler(number, self.handle_exit, number, None)
        try:
            yield
        finally:
            for number in (signal.SIGINT, signal.SIGTERM):
                loop.remove_signal_handler(number)


def listening_socket(host: str, port: int) -> socket.socket:
    """A socket that listens; port 0 takes any that is free.

    Raises:
        CannotListen: the port is in use, or the address is not this machine's.
    """
    try:
        family, kind, protocol, _, address = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)[0]
        listener = socket.socket(family, kind, protocol)
    except OSError as error:
        raise CannotListen(f"{host}: not an address to listen on: {error.strerror}") from None
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        listener.bind(address)
        listener.listen(2048)
    except OSError as error:
        listener.close()
        if error.errno == errno.EADDRINUSE:
            raise CannotListen(f"port {port} of {host} is in use; end what uses it, or choose another port") from None
        raise CannotListen(f"cannot listen on {host} port {port}: {error.strerror}") from None
    return listener


def url_of(listener: socket.socket) -> str:
    host, port = listener.getsockname()[:2]
    return f"http://[{host}]:{port}" if ":" in host else f"http://{host}:{port}"


def run(settings: Settings, listener: socket.socket, ready: Callable[[str], None]) -> None:
    """Serves until SIGINT or SIGTERM; `ready` gets the service's URL once it answers.

    Raises:
        BadSettings, BadRules, BadKeyFile: with what is wrong and where.
    """
    _set_up_logging()
    parts = assemble(settings)
    config = uvicorn.Config(
        Service(parts),
        interface="asgi3",
        http=ZeroCopyProtocol,
        ws="none",
        loop="uvloop",
        lifespan="on",
        access_log=False,  # it would write seals down; the history is what tells who got what
        log_config=None,
        server_header=False,
        proxy_headers=False,
        timeout_graceful_shutdown=settings.service.shutdown,
    )
    _spare_the_collector()
    server = _Server(config, lambda: ready(url_of(listener)))
    parts.stopping = lambda: server.should_exit
    # A Runner of its own, for asyncio.run takes no loop before Python 3.12.
    with asyncio.Runner(loop_factory=config.get_loop_factory()) as runner:
        runner.run(server.serve(sockets=[listener]))


def _spare_the_collector() -> None:
    """Leaves what was made at the start out of every later search for garbage, and searches less often.

    A request leaves next to no cycles, and there are some hundred thousand objects that stay.
    """
    # Patterns, paths and lines of code that were needed to begin, and are kept for a second time that does not come.
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


def _set_up_logging() -> None:
    """To standard error, warnings and worse of anybody's, and what Invio itself has to tell."""
    handler = logging.StreamHandler(sys.stderr)
    handler.setFormatter(_OneLine())
    logging.basicConfig(level=logging.WARNING, handlers=[handler])
    logging.getLogger("invio").setLevel(logging.INFO)

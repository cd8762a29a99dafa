"""Applications of somebody's own, served for a test."""

from __future__ import annotations

import asyncio
import socket
import threading
import time
from collections.abc import Callable, Iterator

import httpx
import pytest
import uvicorn
from fastapi import FastAPI

import invio
from tests.running import NO_TLS

Run = Callable[[FastAPI], httpx.Client]


@pytest.fixture
def run() -> Iterator[Run]:
    """Serves applications in threads of the test, so that it may look into them."""
    stops: list[Callable[[], None]] = []

    def begin(app: FastAPI) -> httpx.Client:
        config = uvicorn.Config(app, http=invio.ZeroCopyProtocol, loop="uvloop", log_config=None, access_log=False)
        server = uvicorn.Server(config)
        listener = socket.create_server(("127.0.0.1", 0))

        def serve() -> None:
            with asyncio.Runner(loop_factory=config.get_loop_factory()) as runner:
                runner.run(server.serve(sockets=[listener]))

        thread = threading.Thread(target=serve)
        thread.start()
        while not server.started:
            time.sleep(0.01)
        client = httpx.Client(
            base_url=f"http://127.0.0.1:{listener.getsockname()[1]}", trust_env=False, timeout=20, verify=NO_TLS
        )

        def stop() -> None:
            client.close()
            server.should_exit = True
            thread.join(10)

        stops.append(stop)
        return client

    yield begin
    for stop in stops:
        stop()

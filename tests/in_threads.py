"""Applications served by threads of the tests, which may look into them."""

from __future__ import annotations

import asyncio
import socket
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import uvicorn

from invio.delivery.sending.uvicorn.protocol import ZeroCopyProtocol


@contextmanager
def serving(app: Any, *, http: Any = ZeroCopyProtocol, loop: Any = "uvloop", **given: Any) -> Iterator[int]:
    """Serves it as long as the `with` lasts, and gives the port; `given` is for `uvicorn.Config`."""
    config = uvicorn.Config(app, http=http, loop=loop, log_config=None, access_log=False, **given)
    server = uvicorn.Server(config)
    with socket.create_server(("127.0.0.1", 0)) as listener:

        def run() -> None:
            with asyncio.Runner(loop_factory=config.get_loop_factory()) as runner:
                runner.run(server.serve(sockets=[listener]))

        thread = threading.Thread(target=run)
        thread.start()
        while not server.started:
            time.sleep(0.01)
        yield listener.getsockname()[1]
        server.should_exit = True
        thread.join(10)

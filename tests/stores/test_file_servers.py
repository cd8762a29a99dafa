"""Remote stores on real file servers: FTP and SFTP, with several readers at once and through a restart."""

from __future__ import annotations

import asyncio
import os
import socket
import threading
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import asyncssh
import pytest
from pyftpdlib.authorizers import DummyAuthorizer
from pyftpdlib.handlers import FTPHandler
from pyftpdlib.servers import ThreadedFTPServer

from invio.core.addresses import parse_address
from invio.stores.remote import RemoteStore
from invio.stores.sources import BlockingFile
from invio.stores.store import Missing, StoreFault

CONTENT = bytes(range(256)) * 4000
Stop = Callable[[], None]


def free_port() -> int:
    with socket.create_server(("127.0.0.1", 0)) as taken:
        return int(taken.getsockname()[1])


def ftp_server(root: Path, port: int) -> Stop:
    users = DummyAuthorizer()
    users.add_user("u", "p", str(root), perm="elr")
    handler = type("Handler", (FTPHandler,), {"authorizer": users})
    server = ThreadedFTPServer(("127.0.0.1", port), handler)
    thread = threading.Thread(target=server.serve_forever, kwargs={"timeout": 0.05, "handle_exit": False}, daemon=True)
    thread.start()

    def stop() -> None:
        server.close_all()
        thread.join(10)

    return stop


def sftp_server(root: Path, port: int) -> Stop:
    connections: list[asyncssh.SSHServerConnection] = []

    class Server(asyncssh.SSHServer):
        def connection_made(self, conn: asyncssh.SSHServerConnection) -> None:
            connections.append(conn)

        def begin_auth(self, username: str) -> bool:  # noqa: ARG002
            return False

    loop, ready, stopped = asyncio.new_event_loop(), threading.Event(), asyncio.Event()

    async def run() -> None:
        key = asyncssh.generate_private_key("ssh-ed25519")

        def files(channel: Any) -> asyncssh.SFTPServer:
            return asyncssh.SFTPServer(channel, chroot=os.fsencode(root))

        listener = await asyncssh.create_server(
            Server, "127.0.0.1", port, server_host_keys=[key], sftp_factory=files, reuse_address=True
        )
        ready.set()
        await stopped.wait()
        listener.close()
        for connection in connections:
            connection.abort()
        await asyncio.gather(*[connection.wait_closed() for connection in connections])

    thread = threading.Thread(target=lambda: loop.run_until_complete(run()), daemon=True)
    thread.start()
    assert ready.wait(10)

    def stop() -> None:
        loop.call_soon_threadsafe(stopped.set)
        thread.join(10)

    return stop


@pytest.mark.parametrize(("scheme", "serve"), [("ftp", ftp_server), ("sftp", sftp_server)])
def test_a_file_server_serves_many_and_comes_back(
    tmp_path: Path, scheme: str, serve: Callable[[Path, int], Stop]
) -> None:
    (tmp_path / "deep").mkdir()
    (tmp_path / "deep" / "a.bin").write_bytes(CONTENT)
    os.utime(tmp_path / "deep" / "a.bin", (1_700_000_000, 1_700_000_000))
    port = free_port()
    options: dict[str, Any] = {} if scheme == "ftp" else {"look_for_keys": False, "allow_agent": False}
    store = RemoteStore("far", f"{scheme}://u:p@127.0.0.1:{port}/", options)
    with pytest.raises(StoreFault, match=r"u:\*\*\*@127") as down:  # and it was made all the same
        store.list(parse_address("far/"))
    assert ":p@" not in str(down.value)
    time.sleep(2.1)  # for which a system that is down is not asked again
    stop = serve(tmp_path, port)

    def right(number: int) -> bool:
        source = store.locate(parse_address("far/deep/a.bin")).source
        assert isinstance(source, BlockingFile)
        return source.read(1000 * number, 5000) == CONTENT[1000 * number : 1000 * number + 5000]

    try:
        assert [str(one) for one in store.list(parse_address("far/deep/"))] == ["far/deep/a.bin"]
        facts = store.locate(parse_address("far/deep/a.bin")).facts
        assert (facts.size, facts.modified) == (len(CONTENT), 1_700_000_000)
        with ThreadPoolExecutor(8) as readers:
            assert all(readers.map(right, range(40)))
        with pytest.raises(Missing):
            store.locate(parse_address("far/deep/none.bin"))
    finally:
        stop()
    stop = serve(tmp_path, port)
    try:
        assert right(3)
    finally:
        stop()

"""The servers that are measured, each a process of its own on loopback."""

from __future__ import annotations

import csv
import hashlib
import io
import os
import re
import select
import signal
import socket
import sqlite3
import subprocess
import sys
import time
import zipfile
from collections.abc import Iterator, Mapping
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path


@dataclass(frozen=True)
class Running:
    """A server under measurement."""

    port: int
    pid: int

    def resident(self) -> int:
        """Resident memory now, in bytes."""
        found = re.search(r"VmRSS:\s+(\d+) kB", Path(f"/proc/{self.pid}/status").read_text())
        assert found
        return int(found[1]) * 1024


@contextmanager
def server(kind: str, folder: Path, cwd: Path | None = None, env: Mapping[str, str] | None = None) -> Iterator[Running]:
    """Starts one of SERVERS on a free port; it serves the files of `folder`, and is ended afterwards.

    `cwd` and `env` have it run with the code of another version.
    """
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    command = [sys.executable, "-m", "bench.servers", kind, str(folder), str(port)]
    process = subprocess.Popen(command, stdout=subprocess.DEVNULL, cwd=cwd, env=env)
    try:
        _wait_for(port, process)
        yield Running(port, process.pid)
    finally:
        process.send_signal(signal.SIGTERM)
        process.wait(20)


def _wait_for(port: int, process: subprocess.Popen[bytes]) -> None:
    for _ in range(200):
        if process.poll() is not None:
            raise RuntimeError(f"the server ended with status {process.returncode}")
        with socket.socket() as probe:
            if probe.connect_ex(("127.0.0.1", port)) == 0:
                return
        time.sleep(0.05)
    raise RuntimeError("the server did not answer")


def bare(folder: Path, port: int) -> None:
    """A loop of os.sendfile: one connection at a time, any request gets `/<name>` whole; what is put is taken."""
    listener = socket.create_server(("127.0.0.1", port))
    while True:
        connection, _ = listener.accept()
        with connection:
            head = connection.recv(65536)
            if not head:
                continue
            if head.startswith(b"PUT "):
                _take(connection, head, folder)
                continue
            name = head.split(b" ")[1].decode().rpartition("/")[2]
            descriptor = os.open(folder / name, os.O_RDONLY)
            size = os.fstat(descriptor).st_size
            connection.sendall(b"HTTP/1.1 200 OK\r\ncontent-length: %d\r\n\r\n" % size)
            connection.setblocking(False)
            offset = 0
            while offset < size:
                try:
                    offset += os.sendfile(connection.fileno(), descriptor, offset, size - offset)
                except BlockingIOError:
                    select.select([], [connection], [])
                except OSError:
                    break
            os.close(descriptor)


def _take(connection: socket.socket, head: bytes, folder: Path) -> None:
    """A content: received, written, hashed by a second thread meanwhile, and brought to the disk. Nothing else."""
    head, _, piece = head.partition(b"\r\n\r\n")
    announced = re.search(rb"content-length: *(\d+)", head.lower())
    assert announced
    left = int(announced[1])
    digest = hashlib.sha256()
    descriptor = os.open(folder, os.O_TMPFILE | os.O_WRONLY)
    with ThreadPoolExecutor(1) as hashing:
        hashed = hashing.submit(digest.update, piece)
        while True:
            left -= os.write(descriptor, piece)
            if not left:
                break
            piece = connection.recv(1 << 20)
            hashed.result()
            hashed = hashing.submit(digest.update, piece)
    os.fsync(descriptor)
    os.close(descriptor)
    connection.sendall(b"HTTP/1.1 201 Created\r\ncontent-length: 0\r\nconnection: close\r\n\r\n")


def stock(folder: Path, port: int) -> None:
    """The platform's stock file response and its empty route, on a stock server."""
    import uvicorn
    from fastapi import FastAPI
    from fastapi.responses import FileResponse, StreamingResponse

    app = FastAPI()

    @app.get("/empty")
    async def empty() -> dict[str, str]:
        return {}

    @app.get("/library/{name}")
    def library(name: str, deflated: bool) -> StreamingResponse:
        return StreamingResponse(_written(folder / "archives" / "files" / name, deflated))

    @app.get("/rows/{count}")
    def rows(count: int) -> StreamingResponse:
        return StreamingResponse(_rows(folder / "readings.sqlite", count), media_type="text/csv")

    @app.get("/stock/{name}")
    async def file(name: str) -> FileResponse:
        return FileResponse(folder / "files" / name)

    uvicorn.run(
        app, host="127.0.0.1", port=port, loop="uvloop", http="httptools", log_level="warning", access_log=False
    )


def _written(folder: Path, deflated: bool) -> Iterator[bytes]:
    """An archive of a folder by the standard library's writer, as it is written."""
    method = zipfile.ZIP_DEFLATED if deflated else zipfile.ZIP_STORED
    sink = _Sink()
    with zipfile.ZipFile(sink, "w", method, compresslevel=6) as archive:
        for path in sorted(folder.rglob("*")):
            if path.is_file():
                archive.write(path, path.relative_to(folder.parent))
                if sink.size >= 1 << 18:
                    yield sink.taken()
    yield sink.taken()


def _rows(database: Path, count: int) -> Iterator[str]:
    """Rows of a query as the standard library's writer writes them, one by one."""
    connection = sqlite3.connect(database)
    text = io.StringIO()
    writer = csv.writer(text)
    for row in connection.execute("SELECT at, station, level, water FROM readings LIMIT ?", (count,)):
        writer.writerow(row)
        yield text.getvalue()
        text.seek(0)
        text.truncate()


class _Sink(io.RawIOBase):
    """Takes what is written, until that is taken from it."""

    def __init__(self) -> None:
        self._pieces: list[bytes] = []
        self.size = 0

    def writable(self) -> bool:
        return True

    def write(self, data: bytes) -> int:  # type: ignore[override]
        piece = bytes(data)
        self._pieces.append(piece)
        self.size += len(piece)
        return len(piece)

    def taken(self) -> bytes:
        data = b"".join(self._pieces)
        self._pieces.clear()
        self.size = 0
        return data


def invio(folder: Path, port: int) -> None:
    """The service, as `invio serve` runs it, on the folder that `bench.scene` made."""
    from invio.service.run import listening_socket, run
    from invio.service.settings import read_settings

    with listening_socket("127.0.0.1", port) as listener:
        run(read_settings(folder / "invio.toml"), listener, print)


def unrecorded(folder: Path, port: int) -> None:
    """The same service, but that nothing of a transfer is written down: what the records cost is the difference."""
    from invio.records.journal import Journal, OnWritten

    async def begin(*_: object) -> None:
        return None

    def begin_and_tell(_: Journal, on_written: OnWritten, *__: object) -> None:
        on_written(None)

    Journal.begin = begin  # type: ignore[method-assign, assignment]
    Journal.begin_and_tell = begin_and_tell  # type: ignore[method-assign, assignment]
    Journal.write = Journal.write_whole = lambda *_: None  # type: ignore[method-assign]
    invio(folder, port)


SERVERS = {"bare": bare, "stock": stock, "invio": invio, "unrecorded": unrecorded}

if __name__ == "__main__":
    SERVERS[sys.argv[1]](Path(sys.argv[2]), int(sys.argv[3]))

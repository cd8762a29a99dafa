"""A far web server, as a stand-in: each call takes 40 ms before it is answered, and all of them share one line."""

from __future__ import annotations

import asyncio
import re
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager

CALL = 0.040  # seconds
LINE = 60_000_000  # bytes a second
SIZE = 300_000_000
_PIECE = 64 * 1024
_RANGE = re.compile(rb"range: bytes=(\d+)-(\d*)", re.IGNORECASE)


class _Line:
    """One line for all: a piece leaves when those before it have."""

    def __init__(self) -> None:
        self._free = 0.0  # when, by the loop's clock

    async def turn(self, count: int) -> None:
        """Returns when so many bytes may leave."""
        now = asyncio.get_running_loop().time()
        begin = max(now, self._free)
        self._free = begin + count / LINE
        if self._free > now:
            await asyncio.sleep(self._free - now)


async def _serve() -> None:
    line, block = _Line(), bytes(_PIECE)

    async def answer(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        try:
            while True:
                head = await reader.readuntil(b"\r\n\r\n")
                await asyncio.sleep(CALL)
                span = _RANGE.search(head)
                first = int(span[1]) if span else 0
                last = min(int(span[2]) if span and span[2] else SIZE - 1, SIZE - 1)
                status = b"206 Partial Content" if span else b"200 OK"
                writer.write(
                    b'HTTP/1.1 %b\r\netag: "a"\r\naccept-ranges: bytes\r\ncontent-type: application/octet-stream\r\n'
                    b"content-length: %d\r\ncontent-range: bytes %d-%d/%d\r\n\r\n"
                    % (status, last - first + 1, first, last, SIZE)
                )
                left = 0 if head.startswith(b"HEAD") else last - first + 1
                while left:
                    count = min(left, _PIECE)
                    await line.turn(count)
                    writer.write(block[:count])
                    await writer.drain()
                    left -= count
        except (asyncio.IncompleteReadError, ConnectionError):
            pass
        finally:
            writer.close()

    server = await asyncio.start_server(answer, "127.0.0.1", 0)
    print("at", server.sockets[0].getsockname()[1], flush=True)
    await server.serve_forever()


@contextmanager
def far_server() -> Iterator[str]:
    """Its address, while it runs in a process of its own."""
    process = subprocess.Popen([sys.executable, "-m", "bench.line"], stdout=subprocess.PIPE, text=True)
    try:
        assert process.stdout is not None
        yield f"http://127.0.0.1:{process.stdout.readline().split()[1]}/"
    finally:
        process.kill()
        process.wait()


if __name__ == "__main__":
    asyncio.run(_serve())

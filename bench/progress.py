"""What progress and worker processes cost: `python -m bench.progress`.

Ratios from one run. Processor time is what the kernel charges to the service's processes, all of them.
"""

from __future__ import annotations

import os
import re
import selectors
import socket
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

from bench.clients import download, hammer, latencies
from bench.scene import MIB, Scene

CONNECTIONS = 32
SECONDS = 6.0
TICKS = os.sysconf("SC_CLK_TCK")
INVIO = str(Path(sys.executable).with_name("invio"))


class Service:
    """A service of so many workers, as `invio serve` runs it."""

    def __init__(self, folder: Path, workers: int) -> None:
        command = [INVIO, "serve", "--settings", str(folder / "invio.toml"), "--port", "0", "--workers", str(workers)]
        self.process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True)
        assert self.process.stdout is not None
        self.port = int(self.process.stdout.readline().rpartition(":")[2])

    def processes(self) -> list[int]:
        """The process that was started, and its workers."""
        pid = self.process.pid
        children = Path(f"/proc/{pid}/task/{pid}/children").read_text().split()
        return [pid, *map(int, children)]

    def seconds(self) -> float:
        """Processor time so far, of all processes."""
        return sum(_seconds_of(pid) for pid in self.processes())

    def memory(self) -> int:
        """Bytes that the processes have for themselves, and what they share once."""
        return sum(_proportional(pid) for pid in self.processes())


def _seconds_of(pid: int) -> float:
    fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    return (int(fields[11]) + int(fields[12])) / TICKS


def _proportional(pid: int) -> int:
    found = re.search(r"^Pss:\s+(\d+) kB", Path(f"/proc/{pid}/smaps_rollup").read_text(), re.MULTILINE)
    assert found
    return int(found[1]) * 1024


@contextmanager
def service(folder: Path, workers: int) -> Iterator[Service]:
    """Runs a service, and ends it."""
    running = Service(folder, workers)
    try:
        yield running
    finally:
        running.process.terminate()
        running.process.wait(30)


def small_files(scene: Scene, workers: int) -> tuple[float, float, float]:
    """Microseconds of processor time an answer, answers a second, and the 99th percentile of latency under load."""
    links = scene.sealed()
    with service(scene.folder, workers) as running:
        hammer(running.port, links, CONNECTIONS, 1.5)
        before = running.seconds()
        took: list[float] = []
        probe = threading.Thread(target=lambda: took.extend(latencies(running.port, links, 400)))
        probe.start()
        rate = hammer(running.port, links, CONNECTIONS, SECONDS)
        probe.join()
        spent = running.seconds() - before
        return spent / (rate * SECONDS + len(took)) * 1e6, rate, statistics.quantiles(took, n=100)[98]


class Watchers:
    """Many who follow, each over a connection of its own; what they are told is counted and dropped."""

    def __init__(self, port: int, links: Sequence[str]) -> None:
        self._selector = selectors.DefaultSelector()
        self.events = 0
        self._stop = False
        for link in links:
            connection = socket.create_connection(("127.0.0.1", port))
            target = link.replace("/get/", "/follow/", 1)
            connection.sendall(f"GET {target} HTTP/1.1\r\nhost: 127.0.0.1\r\nuser-agent: bench\r\n\r\n".encode())
            self._selector.register(connection, selectors.EVENT_READ)
        self._thread = threading.Thread(target=self._read)
        self._thread.start()

    def _read(self) -> None:
        while not self._stop:
            for key, _ in self._selector.select(0.5):
                try:
                    data = key.fileobj.recv(65536)  # type: ignore[union-attr]
                except OSError:
                    data = b""
                self.events += data.count(b"event: transfer")
                if not data:
                    self._selector.unregister(key.fileobj)
            time.sleep(0.05)

    def close(self) -> None:
        self._stop = True
        self._thread.join()
        for key in list(self._selector.get_map().values()):
            key.fileobj.close()  # type: ignore[union-attr]


def watched_throughput(scene: Scene) -> list[tuple[float, float]]:
    """Bytes a second of one large file without and with a hundred who follow it, in turn."""
    pairs = []
    with service(scene.folder, 1) as running:
        for number in range(6):
            link = scene.tagged(f"w{number}")
            alone = download(running.port, scene.tagged(f"a{number}"), drops=True)
            watchers = Watchers(running.port, [link] * 100)
            time.sleep(1.0)
            pairs.append((alone, download(running.port, link, drops=True)))
            watchers.close()
    return pairs


def many_watchers(scene: Scene, workers: int) -> tuple[float, int, float]:
    """Cores and bytes that a thousand who follow two hundred transfers cost, and events a second of each."""
    links = [scene.slow_tagged(f"m{workers}-{number}") for number in range(200)]
    with service(scene.folder, workers) as running:
        readers = [socket.create_connection(("127.0.0.1", running.port)) for _ in links]
        for reader, link in zip(readers, links, strict=True):
            reader.sendall(f"GET {link} HTTP/1.1\r\nhost: 127.0.0.1\r\nuser-agent: bench\r\n\r\n".encode())
        stop = threading.Event()
        drain = threading.Thread(target=_drain, args=(readers, stop))
        drain.start()
        time.sleep(3.0)
        before, memory = running.seconds(), running.memory()
        time.sleep(SECONDS)
        alone = (running.seconds() - before) / SECONDS
        watchers = Watchers(running.port, links * 5)
        time.sleep(4.0)
        before, events = running.seconds(), watchers.events
        time.sleep(SECONDS)
        cores = (running.seconds() - before) / SECONDS - alone
        told = (watchers.events - events) / SECONDS / 1000
        more = running.memory() - memory
        watchers.close()
        stop.set()
        drain.join()
        for reader in readers:
            reader.close()
        return cores, more, told


def _drain(readers: Sequence[socket.socket], stop: threading.Event) -> None:
    selector = selectors.DefaultSelector()
    for reader in readers:
        selector.register(reader, selectors.EVENT_READ)
    while not stop.is_set():
        for key, _ in selector.select(0.5):
            key.fileobj.recv(1 << 20, socket.MSG_TRUNC)  # type: ignore[union-attr]
        time.sleep(0.05)


def main() -> None:
    """Measures, and prints."""
    with tempfile.TemporaryDirectory() as folder:
        scene = Scene(Path(folder))
        settings = Path(folder) / "invio.toml"
        settings.write_text(settings.read_text() + "\n[limits]\nnetwork_streams = 5000\nrecipient_streams = 5000\n")
        runs = {workers: [] for workers in (1, 2)}  # type: ignore[var-annotated]
        for _ in range(3):
            for workers, found in runs.items():
                found.append(small_files(scene, workers))
        costs = {workers: statistics.median(one[0] for one in found) for workers, found in runs.items()}
        rates = {workers: statistics.median(one[1] for one in found) for workers, found in runs.items()}
        lates = {workers: statistics.median(one[2] for one in found) for workers, found in runs.items()}
        print(f"4 KiB sealed, processor time: {costs[1]:.0f} µs by one worker, {costs[2]:.0f} µs by two: "
              f"{costs[2] / costs[1]:.2f} (aim 1.15)")  # fmt: skip
        print(f"  answers a second {rates[1]:.0f} and {rates[2]:.0f}: {rates[2] / rates[1]:.2f}; "
              f"p99 {lates[1] * 1000:.1f} and {lates[2] * 1000:.1f} ms: {lates[2] / lates[1]:.2f} (aim 1)")  # fmt: skip
        pairs = watched_throughput(scene)
        ratio = statistics.median(watched / alone for alone, watched in pairs)
        print(f"1 GiB with 100 who follow it: {ratio:.3f} of alone (aim 0.97); "
              f"alone {statistics.median(alone for alone, _ in pairs) / MIB:.0f} MiB/s")  # fmt: skip
        for workers in (1, 2):
            cores, more, told = many_watchers(scene, workers)
            print(f"1,000 who follow 200 transfers, {workers} worker(s): {cores:.2f} cores (aim 1), "
                  f"{more / MIB:.0f} MiB more (aim 143), {told:.1f} events a second each")  # fmt: skip


if __name__ == "__main__":
    main()

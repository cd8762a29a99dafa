"""What progress and worker processes cost: `python -m bench.progress`.

Ratios from one run. Processor time is what the kernel charges to the service's processes, all of them.
"""

from __future__ import annotations

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
from dataclasses import dataclass, field
from pathlib import Path

from bench.clients import download, hammer, latencies
from bench.scene import MIB, Scene

CONNECTIONS = 32
SECONDS = 6.0
BURST, PROBES, ROUNDS = 1.0, 80, 30  # seconds of one, latencies taken meanwhile, and how many of each
INVIO = str(Path(sys.executable).with_name("invio"))


class Service:
    """A service of so many workers, as `invio serve` runs it."""

    def __init__(self, settings: Path, workers: int) -> None:
        command = [INVIO, "serve", "--settings", str(settings), "--port", "0", "--workers", str(workers)]
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
    """By the process's own clock, to the nanosecond (clock_getcpuclockid(3))."""
    return time.clock_gettime(~pid << 3 | 2)


def _proportional(pid: int) -> int:
    found = re.search(r"^Pss:\s+(\d+) kB", Path(f"/proc/{pid}/smaps_rollup").read_text(), re.MULTILINE)
    assert found
    return int(found[1]) * 1024


@contextmanager
def service(folder: Path, workers: int, settings: str = "invio.toml") -> Iterator[Service]:
    """Runs a service, and ends it."""
    running = Service(folder / settings, workers)
    try:
        yield running
    finally:
        running.process.terminate()
        running.process.wait(30)


@dataclass
class Bursts:
    """What each of many short bursts of small files cost one service."""

    costs: list[float] = field(default_factory=list)  # microseconds of processor time an answer
    rates: list[float] = field(default_factory=list)  # answers a second
    latencies: list[float] = field(default_factory=list)  # seconds, of others meanwhile

    def add(self, running: Sequence[Service], links: Sequence[str]) -> None:
        """One burst more, over all of some services."""
        took: list[float] = []
        probe = threading.Thread(target=lambda: took.extend(latencies(running[0].port, links, PROBES)))
        before = sum(one.seconds() for one in running)
        probe.start()
        rate = hammer([one.port for one in running], links, CONNECTIONS, BURST)
        probe.join()
        spent = sum(one.seconds() for one in running) - before
        self.costs.append(spent / (rate * BURST + len(took)) * 1e6)
        self.rates.append(rate)
        self.latencies += took


def small_files(scene: Scene) -> tuple[Bursts, Bursts, Bursts]:
    """One worker; two that share records; and two services that share nothing, which is what the machine takes.

    They take turns: a machine that grows slower meanwhile is unkind to all of them.
    """
    links = scene.sealed()
    own = (scene.folder / "invio.toml").read_text()
    for name in ("two", "other"):
        (scene.folder / f"{name}.toml").write_text(f"[service]\ndata = 'data-of-{name}'\n{own}")
    found = Bursts(), Bursts(), Bursts()
    with (
        service(scene.folder, 1) as one,
        service(scene.folder, 2, "two.toml") as two,
        service(scene.folder, 1, "other.toml") as other,
    ):
        ways = list(zip(found, ([one], [two], [one, other]), strict=True))
        for _, running in ways:
            hammer([each.port for each in running], links, CONNECTIONS, 1.5)
        for number in range(ROUNDS):
            for bursts, running in ways if number % 2 else ways[::-1]:
                bursts.add(running, links)
    return found


def ratio(theirs: Sequence[float], ours: Sequence[float]) -> float:
    """The median of the ratios of each pair."""
    return statistics.median(b / a for a, b in zip(theirs, ours, strict=True))


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
    """Bytes a second of one large file without and with a hundred who follow it, either first as often."""
    pairs = []
    with service(scene.folder, 1) as running:

        def watched(link: str) -> float:
            watchers = Watchers(running.port, [link] * 100)
            time.sleep(1.0)
            speed = download(running.port, link, drops=True)
            watchers.close()
            return speed

        for number in range(24):  # each takes a fifth of a second, in which a machine may be busy with others
            link, other = scene.tagged(f"w{number}"), scene.tagged(f"a{number}")
            if number % 2:
                with_them = watched(link)
                pairs.append((download(running.port, other, drops=True), with_them))
            else:
                alone = download(running.port, other, drops=True)
                pairs.append((alone, watched(link)))
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
        one, two, apart = small_files(scene)
        late, later = (statistics.quantiles(each.latencies, n=100)[98] * 1000 for each in (one, two))
        print(f"4 KiB sealed, processor time: {statistics.median(one.costs):.0f} µs by one worker, "
              f"{statistics.median(two.costs):.0f} µs by two: {ratio(one.costs, two.costs):.2f} (aim 1.15); "
              f"two services that share nothing: {ratio(one.costs, apart.costs):.2f}, "
              f"and two workers to these {ratio(apart.costs, two.costs):.2f}")  # fmt: skip
        print(f"  answers a second {statistics.median(one.rates):.0f} and {statistics.median(two.rates):.0f}: "
              f"{ratio(one.rates, two.rates):.2f}; "
              f"p99 {late:.1f} and {later:.1f} ms: {later / late:.2f} (aim 1)")  # fmt: skip
        pairs = watched_throughput(scene)
        kept = statistics.median(watched / alone for alone, watched in pairs)
        print(f"1 GiB with 100 who follow it: {kept:.3f} of alone (aim 0.97); "
              f"alone {statistics.median(alone for alone, _ in pairs) / MIB:.0f} MiB/s")  # fmt: skip
        for workers in (1, 2):
            cores, more, told = many_watchers(scene, workers)
            print(f"1,000 who follow 200 transfers, {workers} worker(s): {cores:.2f} cores (aim 1), "
                  f"{more / MIB:.0f} MiB more (aim 143), {told:.1f} events a second each")  # fmt: skip


if __name__ == "__main__":
    main()

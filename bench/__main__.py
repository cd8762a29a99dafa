"""`make bench`: measurements against the limits, as ratios of one run on this machine."""

from __future__ import annotations

import json
import os
import platform
import random
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Sequence
from dataclasses import asdict
from pathlib import Path
from threading import Thread

from bench import archives, decisions, sources
from bench.clients import SlowReaders, download, hammer
from bench.figures import Figure, alternating
from bench.scene import MIB, Scene
from bench.servers import Running, server

ROUNDS = 9
MANY = 18  # of short measurements, whose pairs differ most
MOST = 36  # of those that are nearest to their aims
CONNECTIONS = 16
RANGE_CONNECTIONS = (16, 64, 200)
SECONDS = 1.0
READERS = 1000
LATENCIES = 600
TIMES = 3


def one_large(scene: Scene, invio: Running, bare: Running, stock: Running) -> list[Figure]:
    def ours() -> float:
        return download(invio.port, "/get/files/large.bin", drops=True)

    size = f"{scene.large // MIB} MiB, one connection"
    speed, other, ratio = alternating(ours, lambda: download(bare.port, "/large.bin", drops=True), 2 * ROUNDS)
    figures = [Figure(f"{size}, to a bare sendfile loop", gigabytes(speed), gigabytes(other), ratio, 0.9)]
    speed, other, ratio = alternating(ours, lambda: download(stock.port, "/stock/large.bin", drops=True), 5)
    return [*figures, Figure(f"{size}, to the stock file response", gigabytes(speed), gigabytes(other), ratio, 10)]


def many_small(scene: Scene, invio: Running, stock: Running) -> list[Figure]:
    sealed, plain = scene.sealed(), scene.stock()

    def ours() -> float:
        return hammer(invio.port, sealed, CONNECTIONS, SECONDS)

    what = f"4 KiB, sealed link, rules, recorded, {CONNECTIONS} connections"
    speed, other, ratio = alternating(ours, lambda: hammer(stock.port, ["/empty"], CONNECTIONS, SECONDS), MOST)
    figures = [Figure(f"{what}, to the framework's empty route", a_second(speed), a_second(other), ratio, 1.0)]
    speed, other, ratio = alternating(ours, lambda: hammer(stock.port, plain, CONNECTIONS, SECONDS), MANY)
    return [*figures, Figure(f"{what}, to the stock file response", a_second(speed), a_second(other), ratio, 6)]


def random_ranges(scene: Scene, invio: Running, stock: Running) -> list[Figure]:
    """1 MiB from anywhere in the large file, as a player or a viewer of large images asks."""
    return [_random_ranges(scene, invio, stock, connections) for connections in RANGE_CONNECTIONS]


def _random_ranges(scene: Scene, invio: Running, stock: Running, connections: int) -> Figure:
    chance = random.Random(1)
    starts = [chance.randrange(scene.large - MIB) for _ in range(500)]
    spans = [(start, start + MIB - 1) for start in starts]
    speed, other, ratio = alternating(
        lambda: hammer(invio.port, ["/get/files/large.bin"], connections, SECONDS, spans),
        lambda: hammer(stock.port, ["/stock/large.bin"], connections, SECONDS, spans),
        MOST if connections == CONNECTIONS else MANY,
    )
    what = f"ranges of 1 MiB, {connections} connections, to the stock file response"
    return Figure(what, a_second(speed), a_second(other), ratio, 10)


def slow_readers(scene: Scene) -> list[Figure]:
    """Memory while many take a large file slowly, and how long a small one takes meanwhile."""
    sealed = scene.sealed()[:50]
    with server("invio", scene.folder) as fresh:
        idle = slowest(fresh.port, sealed)
        readers = SlowReaders(fresh.port, scene.slow_links()[:READERS])
        reading = Thread(target=readers.read_for, args=(8 + 6 * TIMES,))
        reading.start()
        time.sleep(4)
        loaded = slowest(fresh.port, sealed)
        reading.join()
        alive = readers.read_for(1)
        resident = fresh.resident()
        readers.close()
    if alive < READERS * 0.9:
        raise RuntimeError(f"only {alive} of {READERS} readers were being served")
    memory = f"resident memory with {READERS} slow readers"
    latency = f"4 KiB meanwhile, 99th percentile, to the same without them, over {LATENCIES}"
    return [
        Figure(memory, f"{resident / 1e6:.0f} MB", "80 MB", resident / 80e6, 1.0, True),
        Figure(latency, f"{loaded * 1e3:.1f} ms", f"{idle * 1e3:.1f} ms", loaded / idle, 10, True),
    ]


def slowest(port: int, targets: Sequence[str]) -> float:
    """The 99th percentile of what small files take, one after the other: the median of it, several times over.

    They are asked for by a process of its own, for it is the service's time that is measured, not this one's.
    """
    found = []
    for _ in range(TIMES):
        command = [sys.executable, "-m", "bench.asking", str(port), str(LATENCIES), *targets]
        asking = subprocess.run(command, check=True, capture_output=True, text=True)
        found.append(percentile([float(line) for line in asking.stdout.split()], 99))
    return statistics.median(found)


def rates(scene: Scene, invio: Running) -> list[Figure]:
    """How far the speed of a link is from what it says, either way."""
    figures = []
    for rate in (256 * 1024, 4 * MIB):
        speed = download(invio.port, scene.limited(rate), 4 * rate)
        off = abs(speed / rate - 1)
        what = f"a link's limit of {rate // 1024} KiB/s, over 4 seconds, off by"
        figures.append(Figure(what, f"{speed / 1024:,.0f} KiB/s", f"{rate // 1024:,} KiB/s", off, 0.05, True))
    return figures


def recorded(scene: Scene, invio: Running) -> Figure:
    """What writing each transfer down, durably, takes of the small files' throughput."""
    sealed = scene.sealed()
    with server("unrecorded", scene.folder) as unrecorded:
        speed, other, ratio = alternating(
            lambda: hammer(invio.port, sealed, CONNECTIONS, SECONDS),
            lambda: hammer(unrecorded.port, sealed, CONNECTIONS, SECONDS),
            MANY,
        )
    return Figure("4 KiB with records, to the same without", a_second(speed), a_second(other), ratio, 0.85)


def without_a_server() -> list[Figure]:
    few, many, elsewhere = decisions.decision(10), decisions.decision(1000), decisions.decision(10, 1000)
    making, checking = decisions.links()
    took = decisions.comparison()
    return [
        Figure("a decision with 1,000 rules, median", f"{many * 1e6:.1f} µs", "20 µs", many / 20e-6, 1.0, True),
        Figure(
            "a decision with 1,000 rules for other stores, to without", f"{elsewhere * 1e6:.1f} µs",
            f"{few * 1e6:.1f} µs", elsewhere / few, 1.5, True,
        ),
        Figure("links made on one core", a_second(making), "50,000/s", making / 50_000, 1.0),
        Figure("links read and checked on one core", a_second(checking), "50,000/s", checking / 50_000, 1.0),
        Figure("rules compared, 100,000 files, 20 groups", f"{took:.1f} s", "30 s", took / 30, 1.0, True),
    ]  # fmt: skip


def bundled(scene: Scene, stock: Running) -> list[Figure]:
    """Archives: stored, of very many files, and deflated."""
    folder = archives.Archives(scene.folder)
    with server("bare", folder.files) as bare, server("invio", folder.folder) as invio:
        figures = _stored(invio, bare)
        figures += _deflated(invio, stock)
    with server("invio", folder.folder) as fresh:
        return figures + _many_files(fresh, stock)


def _stored(invio: Running, bare: Running) -> list[Figure]:
    large = archives.made(invio, "large")
    speed, other, ratio = alternating(
        lambda: download(invio.port, large.target), lambda: download(bare.port, "/one.bin"), ROUNDS
    )
    what = "an archive of 1,000 files of 1 MiB, stored, to a bare sendfile loop of one such file"
    return [Figure(what, gigabytes(speed), gigabytes(other), ratio, 0.85)]


def _deflated(invio: Running, stock: Running) -> list[Figure]:
    began = time.perf_counter()
    text = archives.made(invio, "text")
    archives.fetched(invio, text)
    cold = time.perf_counter() - began
    took, size = archives.library(stock.port, "text", deflated=True)
    plain = archives.made(invio, "like-text")
    warm, stored, ratio = alternating(
        lambda: download(invio.port, text.target), lambda: download(invio.port, plain.target), ROUNDS
    )
    what = "32 logs of 6 MB, deflated"
    library = "to the standard library's writer"
    return [
        Figure(f"{what}, cold, planned and sent, {library}", f"{cold:.2f} s", f"{took:.2f} s", took / cold, 5),
        Figure(f"{what}, bytes of the archive, {library}", f"{text.size / 1e6:.1f} MB", f"{size / 1e6:.1f} MB",
               text.size / size, 1.08, True),
        Figure(f"{what}, warm, bytes a second, to as much stored", gigabytes(warm), gigabytes(stored), ratio, 0.8),
    ]  # fmt: skip


def _many_files(fresh: Running, stock: Running) -> list[Figure]:
    few, *_, many = archives.COUNTS
    plans = {count: archives.made(fresh, f"small-{count}") for count in archives.COUNTS}
    costs = {count: (plan.took + min(archives.fetched(fresh, plan) for _ in range(3))) / count
             for count, plan in plans.items()}  # fmt: skip
    resident = fresh.resident()
    whole = plans[many]
    time.sleep(2.5)  # until what was looked at is looked at anew
    first = archives.first_byte(fresh.port, whole.target)
    end = min(archives.first_byte(fresh.port, whole.target, whole.size - 100_000) for _ in range(3))
    speeds = [many / archives.fetched(fresh, whole) for _ in range(3)]
    took, _ = archives.library(stock.port, f"small-{many}", deflated=False)
    speed, other = statistics.median(speeds), many / took
    what = f"an archive of {many:,} files of 4 KiB"
    return [
        Figure(f"{what}, sent, to the standard library's writer", a_second(speed), a_second(other), speed / other, 5),
        Figure(f"{what}, its first byte, once planned", f"{first * 1e3:.0f} ms", "1,000 ms", first, 1, True),
        Figure(f"{what}, a range near its end", f"{end * 1e3:.1f} ms", "50 ms", end / 0.05, 1, True),
        Figure(f"{what}, resident memory with it and two smaller", f"{resident / 1e6:.0f} MB", "150 MB",
               resident / 150e6, 1, True),
        Figure(f"planning and sending, a file, with {many:,} to {few:,}", f"{costs[many] * 1e6:.0f} µs",
               f"{costs[few] * 1e6:.0f} µs", costs[many] / costs[few], 1.25, True),
    ]  # fmt: skip


def percentile(values: list[float], share: int) -> float:
    return statistics.quantiles(values, n=100)[share - 1]


def gigabytes(speed: float) -> str:
    return f"{speed / 1e9:.2f} GB/s"


def a_second(count: float) -> str:
    return f"{count:,.0f}/s"


def machine() -> str:
    model = "unknown processor"
    for line in Path("/proc/cpuinfo").read_text().splitlines():
        if line.startswith("model name"):
            model = line.partition(":")[2].strip()
            break
    return f"{model}, {os.cpu_count()} cores, Linux {platform.release()}, Python {platform.python_version()}"


def measure(large: int) -> list[Figure]:
    figures: list[Figure] = []

    def add(*made: Figure) -> None:
        figures.extend(made)
        for figure in made:
            print(f"{figure.what}: {figure.ratio:.2f}", file=sys.stderr, flush=True)

    add(*without_a_server())
    with tempfile.TemporaryDirectory(prefix="invio-bench-") as name:
        scene = Scene(Path(name), large)
        with server("bare", scene.files) as bare, server("stock", scene.folder) as stock:
            with server("invio", scene.folder) as invio:
                add(*one_large(scene, invio, bare, stock))
                add(*random_ranges(scene, invio, stock))
                add(*many_small(scene, invio, stock))
                add(*rates(scene, invio), recorded(scene, invio))
            add(*slow_readers(scene))
            add(*bundled(scene, stock))
    for figure in sources.figures():
        add(figure)
    return figures


def main() -> None:
    large = int(sys.argv[1]) * MIB if len(sys.argv) > 1 else 1024 * MIB
    figures = measure(large)
    print(f"\n{machine()}\n")
    width = max(len(figure.what) for figure in figures)
    print(f"{'':{width}}  {'measured':>10}  {'against':>10}  {'ratio':>6}  aim")
    for figure in figures:
        aim = f"{'≤' if figure.at_most else '≥'} {figure.aim:g}"
        mark = "" if figure.reached else "   not reached"
        print(f"{figure.what:{width}}  {figure.measured:>10}  {figure.against:>10}  {figure.ratio:>6.2f}  {aim}{mark}")
    report = {"machine": machine(), "figures": [{**asdict(figure), "reached": figure.reached} for figure in figures]}
    Path("build").mkdir(exist_ok=True)
    Path("build/bench.json").write_text(json.dumps(report, indent=2) + "\n")
    print("\nAlso written to build/bench.json.")


if __name__ == "__main__":
    main()

"""`python -m bench.versions COMMIT [PART …]`: this version against an earlier one, measured in turn on this machine.

Parts are `links`, `served`, `readers`, `cold` and `archives`; without any, all of them.

Each version serves a folder that its own `bench` made, for settings and links have changed in between; the clients are
this version's. A ratio is this version's speed to the earlier one's, the median of the pairs: 1 is as fast.
"""

from __future__ import annotations

import io
import json
import os
import shutil
import statistics
import subprocess
import sys
import tarfile
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from urllib.request import urlopen

from bench.archives import fetched, made
from bench.clients import SlowReaders, download, hammer
from bench.figures import alternating
from bench.scene import MIB
from bench.servers import Running, server

HERE = Path(__file__).resolve().parent.parent
LARGE = 1024 * MIB
READERS = 1000
ROUNDS, PAIRS = 8, 4  # of what is served
SECONDS = 0.7
# What each version makes for itself, and which of it the clients ask for.
_MAKE = """
import json, sys
from pathlib import Path
from bench.archives import Archives
from bench.scene import Scene
scene = Scene(Path(sys.argv[1]), int(sys.argv[2]))
Archives(scene.folder)
print(json.dumps([scene.sealed(), scene.slow_links()]))
"""
_WITHOUT_A_SERVER = """
import json
from bench import decisions
print(json.dumps([*decisions.links(rounds=5), 1 / decisions.decision(1000), 1 / decisions.comparison(20_000)]))
"""
_MADE_WITHOUT = (
    "links made", "links read and checked", "decisions with 1,000 rules", "rules compared, 20,000 files",
)  # fmt: skip


@dataclass(frozen=True)
class Version:
    """A version's code, and a folder that is made by it and served by it."""

    code: Path
    folder: Path

    def run(self, script: str, *given: str) -> list[list[str]] | list[float]:
        """What a script prints that runs with this version's code, as JSON."""
        command = [sys.executable, "-c", script, *given]
        ran = subprocess.run(command, cwd=self.code, env=self._environment, check=True, capture_output=True)
        return json.loads(ran.stdout)  # type: ignore[no-any-return]

    @contextmanager
    def serving(self, folder: Path | None = None) -> Iterator[Running]:
        with server("invio", folder or self.folder, cwd=self.code, env=self._environment) as running:
            yield running

    @property
    def _environment(self) -> dict[str, str]:
        return {**os.environ, "PYTHONPATH": f"{self.code / 'src'}{os.pathsep}{self.code}"}


@dataclass(frozen=True)
class Targets:
    """What the clients ask for, of this version and of the other: a link for each small file, and for each reader."""

    sealed: tuple[list[str], list[str]]
    slow: tuple[list[str], list[str]]


def earlier(commit: str, folder: Path) -> Path:
    """The code of a commit, put into a folder."""
    packed = subprocess.run(
        ["git", "archive", commit, "src", "bench"], cwd=HERE, check=True, capture_output=True
    ).stdout
    with tarfile.open(fileobj=io.BytesIO(packed)) as archive:
        archive.extractall(folder, filter="data")
    return folder


def say(what: str, new: float, old: float, ratio: float) -> None:
    print(f"{what}: {ratio:.2f}  ({new:.4g} to {old:.4g})", flush=True)


def small_and_large(new: Version, old: Version, targets: Targets) -> None:
    """In rounds, of which each has its servers started anew.

    Where the memory of a process happens to lie makes up to a tenth of a difference, for as long as it runs.
    """
    found: dict[str, list[tuple[float, float, float]]] = {}
    for _ in range(ROUNDS):
        with new.serving() as ours, old.serving() as theirs:
            for what, first, second in _served(targets, ours.port, theirs.port):
                found.setdefault(what, []).append(alternating(first, second, PAIRS))
    for what, rounds in found.items():
        rates, others, ratios = zip(*rounds, strict=True)
        say(what, statistics.median(rates), statistics.median(others), statistics.median(ratios))
        print(f"    in rounds: {' '.join(f'{ratio:.2f}' for ratio in sorted(ratios))}", flush=True)


def _served(targets: Targets, ours: int, theirs: int) -> Iterator[tuple[str, Callable[[], float], Callable[[], float]]]:
    """What is asked of both services, which listen on these ports, and how fast either is."""
    whole = "/get/files/large.bin"
    ranges = [(start * 2 * MIB, start * 2 * MIB + MIB - 1) for start in range(500)]
    first, second = (partial(download, port, whole, drops=True) for port in (ours, theirs))
    yield "1 GiB, one connection, bytes a second", first, second
    for many in (16, 64, 200):
        first, second = (partial(hammer, port, [whole], many, SECONDS, ranges) for port in (ours, theirs))
        yield f"ranges of 1 MiB, {many} connections, a second", first, second
    first, second = (
        partial(hammer, port, links, 16, SECONDS) for port, links in zip((ours, theirs), targets.sealed, strict=True)
    )
    yield "4 KiB, sealed link, rules, recorded, 16 connections, a second", first, second


def slow_readers(new: Version, old: Version, targets: Targets) -> None:
    found = []
    for version, links in zip((new, old), targets.slow, strict=True):
        with version.serving() as running:
            readers = SlowReaders(running.port, links[:READERS])
            if readers.read_for(12) < READERS * 0.9:
                raise RuntimeError("readers were not served")
            found.append(running.resident() / 1e6)
            readers.close()
    say("memory of 1,000 slow readers, MB (less is better)", found[0], found[1], found[0] / found[1])


def cold_archives(new: Version, old: Version, targets: Targets) -> None:  # noqa: ARG001 - as the others
    say("32 logs of 6 MB, deflated, cold, planned and sent", *alternating(
        lambda: _cold(new), lambda: _cold(old), 12
    ))  # fmt: skip


def _cold(version: Version) -> float:
    """Archives a second of what nothing is known of yet: by a service that has records of its own."""
    archives = version.folder / "archives"
    with tempfile.TemporaryDirectory(dir=version.folder) as name:
        folder = Path(name) / "fresh"
        shutil.copytree(archives, folder, ignore=shutil.ignore_patterns("files"))
        (folder / "files").symlink_to(archives / "files")
        with version.serving(folder) as running:
            urlopen(f"http://127.0.0.1:{running.port}/api/files", timeout=60).close()  # which may load the API
            archive = made(running, "text")
            return 1 / (archive.took + fetched(running, archive))


def archives(new: Version, old: Version, targets: Targets) -> None:  # noqa: ARG001 - as the others
    with new.serving(new.folder / "archives") as ours, old.serving(old.folder / "archives") as theirs:

        def compare(what: str, folder: str, rounds: int) -> None:
            of_ours, of_theirs = made(ours, folder), made(theirs, folder)
            say(what, *alternating(
                lambda: 1 / fetched(ours, of_ours), lambda: 1 / fetched(theirs, of_theirs), rounds
            ))  # fmt: skip

        compare("32 logs of 6 MB, deflated, warm, sent", "text", 18)
        compare("1,000 files of 1 MiB, stored, sent", "large", 9)
        compare("100,000 files of 4 KiB, sent", "small-100000", 5)
        say("100,000 known files of 4 KiB, planned", *alternating(
            lambda: 1 / made(ours, "small-100000").took, lambda: 1 / made(theirs, "small-100000").took, 3
        ))  # fmt: skip


def without_a_server(new: Version, old: Version) -> None:
    pairs = [(new.run(_WITHOUT_A_SERVER), old.run(_WITHOUT_A_SERVER)) for _ in range(12)]
    for place, what in enumerate(_MADE_WITHOUT):
        ours = [float(pair[0][place]) for pair in pairs]  # type: ignore[arg-type]
        theirs = [float(pair[1][place]) for pair in pairs]  # type: ignore[arg-type]
        ratio = statistics.median(a / b for a, b in zip(ours, theirs, strict=True))
        say(f"{what}, a second", statistics.median(ours), statistics.median(theirs), ratio)


def _share_large(new: Path, old: Path) -> None:
    """Has both serve one large file: where the kernel happens to keep two of them makes a tenth of a difference."""
    for other in (*old.glob("large.bin"), *old.glob("files/large.bin")):
        other.unlink()
        os.link(new / "files" / "large.bin", other)


def main() -> None:
    parts = {"served": small_and_large, "readers": slow_readers, "cold": cold_archives, "archives": archives}
    wanted = sys.argv[2:] or ["links", *parts]
    if len(sys.argv) < 2 or not {"links", *parts}.issuperset(wanted):
        raise SystemExit(f"give a commit, and any of {', '.join(['links', *parts])}")
    with tempfile.TemporaryDirectory(prefix="invio-versions-") as name:
        place = Path(name)
        for folder in ("code", "new", "old"):
            (place / folder).mkdir()
        new, old = Version(HERE, place / "new"), Version(earlier(sys.argv[1], place / "code"), place / "old")
        if "links" in wanted:
            without_a_server(new, old)
        if wanted != ["links"]:
            made_by = [version.run(_MAKE, str(version.folder), str(LARGE)) for version in (new, old)]
            _share_large(new.folder, old.folder)
            targets = Targets((made_by[0][0], made_by[1][0]), (made_by[0][1], made_by[1][1]))  # type: ignore[arg-type]
            for part, measure in parts.items():
                if part in wanted:
                    measure(new, old, targets)


if __name__ == "__main__":
    main()

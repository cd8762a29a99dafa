"""What is worked out ahead: digests by a scan, and plans of archives, known and unknown."""

from __future__ import annotations

import hashlib
import os
import statistics
import time
import zlib
from collections.abc import Iterator
from pathlib import Path

from bench.archives import Archives, made
from bench.figures import Figure
from bench.servers import Running
from invio.service.scanning import scan
from invio.service.settings import read_settings

MIB = 1024 * 1024
FILES = 100_000
_OLD = 1_700_000_000  # Unix seconds: nothing takes these files for ones that change just now


def scanning(folder: Path) -> Iterator[Figure]:
    """A scan of 512 MiB in files of 4 MiB, to the hash's own speed on the same files."""
    root = folder / "scanned"
    (root / "files").mkdir(parents=True)
    (root / "data").mkdir()
    (root / "invio.toml").write_text("[stores.files]\nkind = 'directory'\nroot = 'files'\n")
    block = os.urandom(4 * MIB)
    paths = [root / "files" / f"{number:03}.bin" for number in range(128)]
    for number, path in enumerate(paths):
        path.write_bytes(number.to_bytes(4, "big") + block[4:])
        os.utime(path, (_OLD, _OLD))
    began = time.perf_counter()
    for path in paths:
        with path.open("rb") as file:
            hashlib.file_digest(file, "sha256")
    hashed = time.perf_counter() - began
    began = time.perf_counter()
    done = scan(read_settings(root / "invio.toml"), [], lambda *_: None)
    took = time.perf_counter() - began
    assert done.read == len(paths)
    size = len(paths) * len(block)
    speed, other = size / took / 1e9, size / hashed / 1e9
    yield Figure("a scan, to hashing the same files", f"{speed:.2f} GB/s", f"{other:.2f} GB/s", speed / other, 0.7)


def planning(invio: Running, scene: Archives) -> Iterator[Figure]:
    """Plans of files of a directory: contents unknown at first, then known.

    They are of a type that is compressed already: of others it would be tried, too, whether deflating is a gain.
    """
    small = scene.files / f"small-{FILES}"
    for path in sorted(small.rglob("*.bin")):
        os.utime(path, (_OLD, _OLD))
        path.rename(path.with_suffix(".jpg"))
    large = scene.files / "large"
    for path in large.rglob("*.jpg"):
        os.utime(path, (_OLD, _OLD))
    yield _unknown(invio, large, "1,000 unknown files of 1 MiB")
    yield _unknown(invio, small, f"{FILES:,} unknown files of 4 KiB")
    again = statistics.median(made(invio, small.name).took for _ in range(3)) / FILES
    what = f"planning {FILES:,} known files, a file"
    yield Figure(what, f"{again * 1e6:.1f} µs", "25 µs", again / 25e-6, 1, True)


def _unknown(invio: Running, folder: Path, said: str) -> Figure:
    began, size = time.perf_counter(), 0
    for path in sorted(folder.rglob("*.jpg")):
        content = path.read_bytes()
        zlib.crc32(content)
        size += len(content)
    own = time.perf_counter() - began
    first = made(invio, folder.name).took
    what = f"planning {said}, to reading them and their CRCs alone"
    return Figure(what, f"{size / first / 1e6:.0f} MB/s", f"{size / own / 1e6:.0f} MB/s", own / first, 0.7)

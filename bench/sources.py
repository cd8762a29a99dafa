"""Where files come from: tables made on demand, contents in a database, puts, listings, renditions, another system."""

from __future__ import annotations

import hashlib
import io
import json
import os
import sqlite3
import ssl
import statistics
import sys
import tempfile
import threading
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from itertools import count
from pathlib import Path
from typing import BinaryIO

import httpx
from PIL import Image

from bench import ahead
from bench.archives import Archives, first_byte
from bench.clients import download, hammer
from bench.figures import Figure, alternating
from bench.line import LINE, far_server
from bench.servers import Running, server
from invio.core.links.keys import new_keys
from invio.records.database import open_database, write
from invio.records.recipients import add_token, save_recipient
from invio.service.configuration import write_keys

MIB = 1024 * 1024
ROWS, ROWS_OF_THE_OTHER = 2_000_000, 200_000
CONTENT = 950 * MIB  # SQLite's own limit is a thousand million bytes
FILES = 100_000
PUT = 512 * MIB
OBJECT = 300_000_000
CALLERS = 100

_SETTINGS = """
[stores.files]
kind = "directory"
root = "files"

[stores.models]
kind = "managed"
root = "models"

[stores.dumps]
kind = "table"
database = "sqlite:///dumps.sqlite"
table = "dumps"
columns = { key = "path", content = "dump", modified = "taken" }

[stores.tables]
kind = "tables"
[[stores.tables.file]]
path = "readings.csv"
database = "sqlite:///readings.sqlite"
query = "SELECT at, station, level, water FROM readings"
[[stores.tables.file]]
path = "slow.csv"
function = "bench.sources:slow"

[renditions.thumb]
width = 320
height = 240
fit = "cover"
format = "jpeg"
"""
_REMOTE = """
[stores.far]
kind = "remote"
url = "s3://surveys"
timeout = 60.0
options = { key = "survey", secret = "survey", endpoint_url = "URL" }
"""
_FAR = """
[stores.line]
kind = "remote"
url = "URL"
timeout = 60.0
"""
_RULES = """
[[rule]]
effect = "allow"
who = ["anyone"]
what = ["*/**"]
actions = ["list", "read", "bundle", "put"]
"""


_RUNS = "INVIO_BENCH_RUNS"  # where the slow producer says that it was run


def slow() -> Iterator[tuple[object, ...]]:
    """A producer that takes its time, and says in a file that it was run."""
    with open(os.environ[_RUNS], "a") as file:
        file.write("run\n")
    for number in range(20):
        yield number, "x" * 5000
        time.sleep(0.1)


def _scene(folder: Path, remote: str, far: str) -> str:
    (folder / "data").mkdir()
    (folder / "files" / "many").mkdir(parents=True)
    (folder / "invio.toml").write_text(_SETTINGS + _REMOTE.replace("URL", remote) + _FAR.replace("URL", far))
    (folder / "rules.toml").write_text(_RULES)
    write_keys(new_keys(), folder / "keys.json")
    engine = open_database(folder / "data" / "records.sqlite")
    with write(engine).begin() as connection:
        save_recipient(connection, "bench", "bench", [])
        token = add_token(connection, "bench", "bench")
    engine.dispose()
    with sqlite3.connect(folder / "readings.sqlite") as database:
        database.execute("CREATE TABLE readings (at TEXT, station TEXT, level REAL, water REAL)")
        rows = ((f"2026-01-01T{n % 24:02}:00Z", "tern-rock", n / 1000, 4.2) for n in range(ROWS))
        database.executemany("INSERT INTO readings VALUES (?, ?, ?, ?)", rows)
    database = sqlite3.connect(folder / "dumps.sqlite")
    database.execute("PRAGMA page_size = 32768")  # as docs/sources.md says for long contents
    database.execute("CREATE TABLE dumps (path TEXT PRIMARY KEY, dump BLOB, taken REAL)")
    database.execute("INSERT INTO dumps VALUES ('long.dump', zeroblob(?), 1)", (CONTENT,))
    database.commit()
    block = os.urandom(MIB)
    with database.blobopen("dumps", "dump", 1) as blob:
        for _ in range(CONTENT // MIB):
            blob.write(block)
    database.commit()
    database.close()
    for number in range(FILES):
        (folder / "files" / "many" / f"sheet-{number:06}.bin").touch()
    Image.effect_noise((2000, 1500), 60).convert("RGB").save(folder / "files" / "north.png")
    (folder / "files" / "put.bin").write_bytes(block * (PUT // MIB))
    return token


@contextmanager
def _object_store() -> Iterator[str]:
    """An object store's protocol, by a server of its own process."""
    import subprocess

    code = (
        "import sys, time, logging\n"
        "from moto.server import ThreadedMotoServer\n"
        "logging.getLogger('werkzeug').setLevel(logging.ERROR)\n"
        "server = ThreadedMotoServer(ip_address='127.0.0.1', port=0)\n"
        "server.start()\n"
        "print('at', '%s:%d' % server.get_host_and_port(), flush=True)\n"
        "time.sleep(3600)\n"
    )
    process = subprocess.Popen([sys.executable, "-c", code], stdout=subprocess.PIPE, text=True)
    try:
        assert process.stdout is not None
        where = next(line.split()[1] for line in process.stdout if line.startswith("at "))
        yield f"http://{where}"
    finally:
        process.kill()
        process.wait()


def _tables(invio: Running, other: Running, folder: Path) -> list[Figure]:
    first_byte(invio.port, "/get/tables/slow.csv")  # so that what is loaded with the first one is loaded
    time.sleep(4)
    before = invio.resident()
    client = httpx.Client(trust_env=False)
    began = time.perf_counter()
    most, count, first = 0, 0, 0.0
    with client.stream("GET", f"http://127.0.0.1:{invio.port}/get/tables/readings.csv", timeout=300,
                      headers={"accept-encoding": "identity"}) as reply:  # fmt: skip
        for piece in reply.iter_raw():
            first = first or time.perf_counter() - began
            count += piece.count(b"\n")
            most = max(most, invio.resident()) if count % 7 == 0 else most
    ours = count / (time.perf_counter() - began)
    most = max(most, invio.resident())
    began = time.perf_counter()
    with httpx.stream("GET", f"http://127.0.0.1:{other.port}/rows/{ROWS_OF_THE_OTHER}", timeout=300) as reply:
        theirs = sum(piece.count(b"\n") for piece in reply.iter_raw()) / (time.perf_counter() - began)
    runs = folder / "slow-runs.txt"
    runs.unlink(missing_ok=True)
    contents: list[bytes] = []

    plain = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)  # which reads no certificates: nothing here is encrypted

    def ask() -> None:
        with httpx.Client(verify=plain, trust_env=False, timeout=60) as client:
            contents.append(client.get(f"http://127.0.0.1:{invio.port}/get/tables/slow.csv").content)

    threads = [threading.Thread(target=ask) for _ in range(CALLERS)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert len(set(contents)) == 1
    times = len(runs.read_text().split())
    what = f"a CSV of {ROWS:,} rows from a query"
    return [
        Figure(f"{what}, to the writer fed row by row", f"{ours:,.0f}/s", f"{theirs:,.0f}/s", ours / theirs, 2),
        Figure(f"{what}, its first byte", f"{first * 1e3:.0f} ms", "100 ms", first / 0.1, 1, True),
        Figure(f"{what}, more memory meanwhile", f"{(most - before) / 1e6:.0f} MB", "32 MB",
               (most - before) / 32e6, 1, True),
        Figure(f"{CALLERS} callers of one slow producer, runs of it", str(times), "1", times, 1, True),
    ]  # fmt: skip


def _contents(invio: Running) -> list[Figure]:
    target = "/get/dumps/long.dump"
    first_byte(invio.port, target, 0)
    before = invio.resident()
    times = [first_byte(invio.port, target, CONTENT // 2 + number * 50 * MIB) for number in range(-3, 4)]
    grown = invio.resident() - before
    took = statistics.median(times)
    what = f"a range in the middle of a BLOB of {CONTENT // MIB} MiB"
    return [
        Figure(f"{what}, its first byte", f"{took * 1e3:.1f} ms", "50 ms", took / 0.05, 1, True),
        Figure(f"{what}, more memory", f"{grown / 1e6:.0f} MB", "32 MB", max(grown, 0) / 32e6, 1, True),
    ]


def _pieces(file: BinaryIO) -> Iterator[bytes]:
    while piece := file.read(MIB):
        yield piece


def _puts(invio: Running, bare: Running, folder: Path, token: str) -> list[Figure]:
    path, numbers = folder / "files" / "put.bin", count()

    def put(port: int, target: str) -> float:
        began = time.perf_counter()
        with path.open("rb") as file:
            reply = httpx.put(
                f"http://127.0.0.1:{port}{target}",
                content=_pieces(file),
                headers={"authorization": f"Bearer {token}", "content-length": str(PUT)},
                timeout=120,
            )  # fmt: skip
        assert reply.status_code == 201, reply.text
        return PUT / (time.perf_counter() - began)

    def ours() -> float:
        return put(invio.port, f"/api/files/models/put-{next(numbers)}.bin")

    def hashing() -> float:
        began = time.perf_counter()
        with path.open("rb") as file:
            hashlib.file_digest(file, "sha256")
        return PUT / (time.perf_counter() - began)

    # Not `alternating`: the more is written in a short time, the slower shared disks let it be.
    speed, hashes, bares = zip(*((ours(), hashing(), put(bare.port, "/")) for _ in range(3)), strict=True)
    what = f"a put of {PUT // MIB} MiB"
    return [
        _compared(f"{what}, to hashing the same bytes", speed, hashes, 0.7),
        _compared(f"{what}, to a bare loop that receives, hashes and writes", speed, bares, 0.8),
    ]


def _compared(what: str, ours: Sequence[float], theirs: Sequence[float], aim: float) -> Figure:
    """A figure of bytes a second, measured in pairs."""
    ratio = statistics.median(a / b for a, b in zip(ours, theirs, strict=True))
    speed, other = statistics.median(ours), statistics.median(theirs)
    return Figure(what, f"{speed / 1e9:.2f} GB/s", f"{other / 1e9:.2f} GB/s", ratio, aim)


def _listings(invio: Running) -> list[Figure]:
    client = httpx.Client(base_url=f"http://127.0.0.1:{invio.port}", timeout=60, trust_env=False)

    def asked(target: str) -> float:
        began = time.perf_counter()
        reply = client.get(target)
        assert reply.status_code == 200
        return time.perf_counter() - began

    def took(query: str) -> float:
        return asked(f"/api/files?in=files/many/&{query}")

    loading = asked("/api/sessions/current")  # the first of this process
    cold = took("limit=100")
    page = statistics.median(took("limit=100") for _ in range(9))
    search = statistics.median(took(f"limit=100&search=sheet-0{number}77") for number in range(9))
    what = f"a folder of {FILES:,} files"
    return [
        Figure("the first request to the API, by which it is loaded", f"{loading * 1e3:.0f} ms", "1,000 ms", loading, 1,
               True),
        Figure(f"{what}, its first page for the first time", f"{cold * 1e3:.0f} ms", "1,000 ms", cold, 1, True),
        Figure(f"{what}, its first page again", f"{page * 1e3:.1f} ms", "50 ms", page / 0.05, 1, True),
        Figure(f"{what}, a search in it", f"{search * 1e3:.0f} ms", "200 ms", search / 0.2, 1, True),
    ]  # fmt: skip


def _renditions(invio: Running, folder: Path) -> list[Figure]:
    target = "/get/files/north.png?rendition=thumb"
    content = httpx.get(f"http://127.0.0.1:{invio.port}{target}", timeout=60).content
    assert Image.open(io.BytesIO(content)).size == (320, 240)
    (folder / "files" / "same.jpg").write_bytes(content)
    ours, theirs, ratio = alternating(
        lambda: hammer(invio.port, [target], 8, 1.0), lambda: hammer(invio.port, ["/get/files/same.jpg"], 8, 1.0), 9
    )
    return [
        Figure(
            "a rendition that is kept, to a stored file of its size", f"{ours:,.0f}/s", f"{theirs:,.0f}/s", ratio, 0.9
        )
    ]


def _elsewhere(invio: Running, remote: str) -> list[Figure]:
    import s3fs

    files = s3fs.S3FileSystem(key="survey", secret="survey", endpoint_url=remote, skip_instance_cache=True)
    files.mkdir("surveys")
    files.pipe_file("surveys/large.bin", os.urandom(1000) * (OBJECT // 1000))
    pairs = []
    for _ in range(3):
        ours = download(invio.port, "/get/far/large.bin")
        began = time.perf_counter()
        assert len(files.cat_file("surveys/large.bin")) == OBJECT
        pairs.append((ours, OBJECT / (time.perf_counter() - began)))
    ratio = statistics.median(a / b for a, b in pairs)
    ours, theirs = (statistics.median(values) for values in zip(*pairs, strict=True))
    what = "an object of 300 MB of another system, to its client reading it whole"
    return [Figure(what, f"{ours / 1e6:.0f} MB/s", f"{theirs / 1e6:.0f} MB/s", ratio, 0.8)]


def _far_away(invio: Running) -> list[Figure]:
    """What arrives of an object over a line of so much a second, where each call takes 40 ms."""
    speed = download(invio.port, "/get/line/large.bin")
    what = "an object of 300 MB, each call taking 40 ms, to the line"
    return [Figure(what, f"{speed / 1e6:.0f} MB/s", f"{LINE / 1e6:.0f} MB/s", speed / LINE, 0.8)]


def figures() -> Iterator[Figure]:
    """All of them, as they are measured."""
    with tempfile.TemporaryDirectory(prefix="invio-bench-") as name, _object_store() as remote, far_server() as far:
        folder = Path(name)
        token = _scene(folder, remote, far)
        yield from ahead.scanning(folder)
        scene = Archives(folder)
        with server("invio", scene.folder) as invio:
            yield from ahead.planning(invio, scene)
        os.environ[_RUNS] = str(folder / "slow-runs.txt")
        with server("invio", folder) as invio, server("stock", folder) as stock:
            yield from _tables(invio, stock, folder)
            yield from _contents(invio)
            yield from _listings(invio)
            yield from _renditions(invio, folder)
            with server("bare", folder) as bare:
                yield from _puts(invio, bare, folder, token)
            yield from _elsewhere(invio, remote)
            yield from _far_away(invio)


if __name__ == "__main__":
    for figure in figures():
        aim = f"{'≤' if figure.at_most else '≥'} {figure.aim:g}"
        mark = "" if figure.reached else "   not reached"
        print(f"{figure.what}: {figure.measured} to {figure.against}: {figure.ratio:.2f} ({aim}){mark}", flush=True)
    print(json.dumps({"done": True}))

"""Archives: against a bare loop of sendfile, and against the standard library's writer on the same files."""

from __future__ import annotations

import json
import os
import random
import socket
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from urllib.request import Request, urlopen

from bench.clients import download
from bench.servers import Running
from invio.core.links.keys import new_keys
from invio.records.database import open_database
from invio.service.configuration import write_keys

MIB = 1024 * 1024
COUNTS = (1_000, 10_000, 100_000)
_SETTINGS = """
[bundles]
wait_for = 1000000000
[stores.files]
kind = "directory"
root = "files"
"""
_RULES = """
[[rule]]
effect = "allow"
who = ["anyone"]
what = ["files/**"]
actions = ["list", "read", "bundle"]
"""


@dataclass(frozen=True)
class Made:
    """An archive of the service: where it is, how long it is, and how many seconds its plan took."""

    target: str
    size: int
    took: float


class Archives:
    """A folder for what archives are made of, below `folder`."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder / "archives"
        self.files = self.folder / "files"
        self.files.mkdir(parents=True)
        (self.folder / "invio.toml").write_text(_SETTINGS)
        (self.folder / "rules.toml").write_text(_RULES)
        (self.folder / "data").mkdir()
        write_keys(new_keys(), self.folder / "keys.json")
        open_database(self.folder / "data" / "records.sqlite").dispose()
        block = os.urandom(2 * MIB)
        # Of a type that is compressed already: what is stored is stored for good, and nothing goes on behind it.
        self._many("large", 1000, lambda number: block[number * 512 : number * 512 + MIB], ".jpg")
        with (self.files / "one.bin").open("wb") as one:
            for _ in range(1000):
                one.write(block[:MIB])
        for count in COUNTS:
            self._many(f"small-{count}", count, lambda number: block[number % MIB : number % MIB + 4096])
        self._many("text", 32, _log, ".csv")
        self._many("like-text", 13, lambda number: block[number * 512 : number * 512 + MIB], ".jpg")

    def _many(self, name: str, count: int, content: Callable[[int], bytes], ending: str = ".bin") -> None:
        for number in range(count):
            folder = self.files / name / f"{number // 1000:03}"
            if number % 1000 == 0:
                folder.mkdir(parents=True)
            (folder / f"file-{number:06}{ending}").write_bytes(content(number))


def _log(number: int) -> bytes:
    """6 MB of a logger's lines."""
    chance = random.Random(number)
    lines, level = [], 2.0
    for minute in range(120_000):
        level += chance.gauss(0, 0.004)
        day, hour = minute // 1440, minute // 60 % 24
        clock = f"2026-{day // 30 + 1:02}-{day % 30 + 1:02}T{hour:02}:{minute % 60:02}:00Z"
        lines.append(f"{clock},brackwater-pier-{number:02},{level:.2f},ok\n")
    return "".join(lines).encode()


def made(running: Running, folder: str) -> Made:
    """Has the service plan an archive of a folder."""
    body = json.dumps({"files": [f"files/{folder}/"]}).encode()
    asked = Request(
        f"http://127.0.0.1:{running.port}/api/bundles", data=body, headers={"content-type": "application/json"}
    )
    began = time.perf_counter()
    with urlopen(asked, timeout=300) as answer:
        told = json.load(answer)
    return Made(told["url"], told["size"], time.perf_counter() - began)


def first_byte(port: int, target: str, begin: int | None = None) -> float:
    """Seconds until the first byte of a body, or of the end of it from `begin` on."""
    span = "" if begin is None else f"range: bytes={begin}-\r\n"
    with socket.create_connection(("127.0.0.1", port), timeout=60) as connection:
        began = time.perf_counter()
        connection.sendall(f"GET {target} HTTP/1.1\r\nhost: x\r\n{span}\r\n".encode())
        data = b""
        while not data.partition(b"\r\n\r\n")[2]:
            data += connection.recv(65536)
        return time.perf_counter() - began


def library(port: int, folder: str, deflated: bool) -> tuple[float, int]:
    """(seconds, bytes) of an archive that the standard library writes into a stream."""
    began, size = time.perf_counter(), 0
    with urlopen(f"http://127.0.0.1:{port}/library/{folder}?deflated={int(deflated)}", timeout=300) as answer:
        while piece := answer.read(MIB):
            size += len(piece)
    return time.perf_counter() - began, size


def fetched(running: Running, archive: Made) -> float:
    """Seconds for all of an archive."""
    return archive.size / download(running.port, archive.target)

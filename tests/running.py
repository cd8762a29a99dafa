"""Services for tests: a folder with settings and files, a process, and a raw connection to it."""

from __future__ import annotations

import json
import os
import signal
import socket
import ssl
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from functools import cache
from pathlib import Path
from typing import Any

import httpx

from invio.core.addresses import parse_address
from invio.core.links.keys import new_keys
from invio.core.links.seals import link_target, make_link
from invio.records.database import open_database, write
from invio.records.recipients import add_token, save_recipient
from invio.service.configuration import read_keys, write_keys
from tests.forking import Forked, start_invio
from tests.rules import rule

# Nothing is spoken over TLS here, and reading the certificates of the world takes a tenth of a second.
NO_TLS = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
INVIO = str(Path(sys.executable).with_name("invio"))

SETTINGS = """
[stores.files]
kind = "directory"
root = "files"
"""

RULES = rule("anyone", "files/**", "list read bundle", "everyone reads") + rule(
    "group:admins", "**", "list read bundle link put manage", "admins have everything"
)


def make_folder(
    folder: Path, files: dict[str, bytes] | None = None, rules: str = RULES, settings: str = SETTINGS
) -> dict[str, str]:
    """Makes a service's folder, with the recipients `ann` (group admins) and `bob` (group crew)."""
    (folder / "files").mkdir(parents=True)
    (folder / "data").mkdir()
    for name, content in (files or {}).items():
        path = folder / "files" / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(content)
    (folder / "invio.toml").write_text(settings)
    (folder / "rules.toml").write_text(rules)
    write_keys(new_keys(), folder / "keys.json")
    records, tokens = _records()
    (folder / "data" / "records.sqlite").write_bytes(records)
    (folder / "tokens.json").write_text(json.dumps(tokens))
    return tokens


@cache
def _records() -> tuple[bytes, dict[str, str]]:
    """The records that every folder begins with, and the tokens of those in it; made once, for it takes long."""
    tokens = {}
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "records.sqlite"
        engine = open_database(file)
        with write(engine).begin() as connection:
            for name, group in {"ann": "admins", "bob": "crew"}.items():
                save_recipient(connection, name, name, [group])
                tokens[name] = add_token(connection, name, "test")
        with engine.connect() as connection:
            connection.exec_driver_sql("PRAGMA wal_checkpoint(TRUNCATE)")
        engine.dispose()
        return file.read_bytes(), tokens


def open_below(folder: Path) -> list[str]:
    """What this process has open below a folder; other tests of the process may be closing what is theirs."""
    found = []
    for descriptor in os.listdir("/proc/self/fd"):
        try:
            target = os.readlink(f"/proc/self/fd/{descriptor}")
        except FileNotFoundError:  # the one that lists them
            continue
        if f"{target}/".startswith(f"{folder.resolve()}/"):
            found.append(target)
    return found


@dataclass
class Service:
    """A running `invio serve`."""

    folder: Path
    url: str
    process: Forked
    tokens: dict[str, str]
    errors: Path

    @classmethod
    def start(cls, folder: Path, **environment: str) -> Service:
        errors = folder / "errors.txt"
        arguments = ["serve", "--settings", str(folder / "invio.toml"), "--port", "0"]
        process = start_invio(*arguments, stderr=errors, environment={**os.environ, **environment})
        line = process.stdout.readline()
        assert line.startswith("ready: "), errors.read_text()
        return cls(folder, line.split()[1], process, json.loads((folder / "tokens.json").read_text()), errors)

    @property
    def port(self) -> int:
        return int(self.url.rpartition(":")[2])

    def stop(self, number: int = signal.SIGTERM) -> int:
        """Ends the process, unless it has; gives its exit status."""
        if self.process.poll() is None:
            self.process.send_signal(number)
        return self.process.wait(20)

    def client(self, who: str | None = None) -> httpx.Client:
        headers = {} if who is None else {"authorization": f"Bearer {self.tokens[who]}"}
        return httpx.Client(base_url=self.url, headers=headers, trust_env=False, timeout=20, verify=NO_TLS)

    def get(self, path: str, who: str | None = None, **headers: str) -> httpx.Response:
        with self.client(who) as client:
            return client.get(path, headers={name.replace("_", "-"): value for name, value in headers.items()})

    def descriptors(self) -> int:
        return len(os.listdir(f"/proc/{self.process.pid}/fd"))

    def link(self, address: str, root: dict[str, str] | None = None, **conditions: object) -> str:
        """Path and query of a sealed link, made with the service's key."""
        ring = read_keys(self.folder / "keys.json")
        pairs = [(name, str(value)) for name, value in conditions.items()]
        key = ring.keys[ring.current]
        return link_target(make_link(parse_address(address), ring.current, key, (root or {}).items(), pairs))

    def transfers(self, who: str = "ann") -> list[dict[str, Any]]:
        listed: list[dict[str, Any]] = self.get("/api/transfers", who).json()["transfers"]
        return listed

    def logged(self) -> str:
        return self.errors.read_text()


def until(holds: Callable[[], bool]) -> None:
    """Returns when something has come to be; fails when it has not within ten seconds."""
    for _ in range(200):
        if holds():
            return
        time.sleep(0.05)
    raise AssertionError("it did not come to be")


def at_once(count: int, ask: Callable[[int], list[int]]) -> Counter[int]:
    """Has so many clients ask at the same time, each with its number; counts the statuses that they got."""
    with ThreadPoolExecutor(count) as clients:
        return Counter(status for statuses in clients.map(ask, range(count)) for status in statuses)


@dataclass
class Demo:
    """The running demo."""

    folder: Path
    card: dict[str, Any]
    pid: int
    url: str = field(init=False)

    def __post_init__(self) -> None:
        self.url = self.card["url"]

    def token(self, who: str) -> str:
        token: str = self.card["people"][who]["token"]
        return token

    @property
    def tokens(self) -> dict[str, str]:
        return {who: self.token(who) for who in self.card["people"]}

    def client(self, who: str | None = None) -> httpx.Client:
        headers = {} if who is None else {"authorization": f"Bearer {self.token(who)}"}
        return httpx.Client(base_url=self.url, headers=headers, trust_env=False, timeout=30, verify=NO_TLS)

    def file(self, store: str, path: str) -> Path:
        return self.folder / "files" / store / path


@dataclass
class Answer:
    """What came back over a raw connection."""

    status: int
    headers: dict[str, str]
    body: bytes


def raw(port: int, request: bytes, read_body: bool = True) -> Answer:
    """Sends bytes as they are, and reads one answer."""
    with socket.create_connection(("127.0.0.1", port), timeout=10) as connection:
        connection.sendall(request)
        data = b""
        while b"\r\n\r\n" not in data:
            piece = connection.recv(65536)
            if not piece:
                break
            data += piece
        front, _, body = data.partition(b"\r\n\r\n")
        lines = front.decode("latin-1").split("\r\n")
        fields = [(name.lower(), value.strip()) for name, _, value in (line.partition(":") for line in lines[1:])]
        headers = dict(fields)
        assert len(headers) == len(fields), f"a field stands twice: {fields}"
        length = int(headers.get("content-length", 0)) if read_body else 0
        while len(body) < length:
            piece = connection.recv(65536)
            if not piece:
                break
            body += piece
        return Answer(int(lines[0].split()[1]), headers, body)


def get_raw(port: int, target: str, *fields: str, method: str = "GET") -> Answer:
    """Like `raw`, for a request target that no library would send."""
    lines = [f"{method} {target} HTTP/1.1", "host: 127.0.0.1", *fields, "", ""]
    return raw(port, "\r\n".join(lines).encode("utf-8", "surrogateescape"), read_body=method != "HEAD")

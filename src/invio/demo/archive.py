"""The demo's other system: a small server that keeps older surveys, and how fsspec reaches it.

It stands in for an object store or a file server elsewhere: it lists, tells facts, gives ranges to
whoever has its key, and makes addresses that hold for a while for those who have not.
"""

from __future__ import annotations

import hashlib
import hmac
import json
import re
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from http import HTTPStatus
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, quote, unquote, urlsplit

import httpx
from fsspec.spec import AbstractFileSystem

_KEY_FIELD = "x-archive-key"
_BLOCK = 256 * 1024  # bytes


class Archive(ThreadingHTTPServer):
    """Serves the files below `root` on loopback."""

    daemon_threads = True

    def __init__(self, root: Path, port: int, key: str) -> None:
        """Port 0 takes any that is free. Raises OSError when the port is in use."""
        self.root = root.resolve()
        self.key = key
        super().__init__(("127.0.0.1", port), _Handler)

    @property
    def url(self) -> str:
        """Where it is reached."""
        return f"survey-archive://127.0.0.1:{self.server_port}/"


@contextmanager
def serving(archive: Archive) -> Iterator[Archive]:
    """Has an archive answer, in a thread of its own, until the end of the block."""
    with archive:
        thread = threading.Thread(target=archive.serve_forever, name="archive", daemon=True)
        thread.start()
        try:
            yield archive
        finally:
            archive.shutdown()
            thread.join()


def _mark(key: str, path: str, until: int) -> str:
    return hmac.new(key.encode(), f"{path}\n{until}".encode(), hashlib.sha256).hexdigest()


class _Handler(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    server: Archive

    def do_GET(self) -> None:
        """`/facts/…`, `/list/…` and `/content/…`, each followed by a path."""
        parts = urlsplit(self.path)
        what, _, path = unquote(parts.path).lstrip("/").partition("/")
        target = (self.server.root / path).resolve()
        if not self._may(what, path, parse_qs(parts.query)):
            self._say(HTTPStatus.FORBIDDEN, {"error": "no key, or an address that has ended"})
        elif not target.is_relative_to(self.server.root) or not target.exists():
            self._say(HTTPStatus.NOT_FOUND, {"error": "there is no such file"})
        elif what == "facts":
            self._say(HTTPStatus.OK, self._facts(target))
        elif what == "list" and target.is_dir():
            self._say(HTTPStatus.OK, [self._facts(below) for below in sorted(target.iterdir())])
        elif what == "content" and target.is_file():
            self._content(target)
        else:
            self._say(HTTPStatus.NOT_FOUND, {"error": "there is no such file"})

    def _may(self, what: str, path: str, query: dict[str, list[str]]) -> bool:
        if hmac.compare_digest(self.headers.get(_KEY_FIELD, ""), self.server.key):
            return True
        until, mark = query.get("until", ["0"])[0], query.get("mark", [""])[0]
        if what != "content" or not until.isdecimal() or int(until) < time.time():
            return False
        return hmac.compare_digest(mark, _mark(self.server.key, path, int(until)))

    def _facts(self, target: Path) -> dict[str, Any]:
        status = target.stat()
        name = "" if target == self.server.root else str(target.relative_to(self.server.root))
        if target.is_dir():
            return {"name": name, "type": "directory", "size": 0}
        version = f"{status.st_ino:x}-{status.st_mtime_ns:x}"
        return {
            "name": name,
            "type": "file",
            "size": status.st_size,
            "version": version,
            "changed": status.st_mtime,
        }

    def _content(self, target: Path) -> None:
        size, tag = target.stat().st_size, f'"{self._facts(target)["version"]}"'
        asked = re.fullmatch(r"bytes=(\d+)-(\d*)", self.headers.get("range", ""))
        if self.headers.get("if-range", tag) != tag:
            asked = None
        start = int(asked[1]) if asked else 0
        stop = min(size, int(asked[2]) + 1) if asked and asked[2] else size
        if asked and start >= size:
            self._say(HTTPStatus.REQUESTED_RANGE_NOT_SATISFIABLE, {"error": "the range lies outside the file"})
            return
        self.send_response(HTTPStatus.PARTIAL_CONTENT if asked else HTTPStatus.OK)
        if asked:
            self.send_header("content-range", f"bytes {start}-{stop - 1}/{size}")
        self.send_header("content-type", "application/octet-stream")
        self.send_header("etag", tag)
        self.send_header("content-length", str(stop - start))
        self.end_headers()
        with target.open("rb") as file:
            file.seek(start)
            while start < stop and (block := file.read(min(_BLOCK, stop - start))):
                self.wfile.write(block)
                start += len(block)

    def _say(self, status: HTTPStatus, document: Any) -> None:
        body = json.dumps(document).encode()
        self.send_response(status)
        self.send_header("content-type", "application/json")
        self.send_header("content-length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, format: str, *args: Any) -> None:
        """Says nothing: addresses that it made are secrets."""


class ArchiveFiles(AbstractFileSystem):  # type: ignore[misc]
    """The archive as a file system of fsspec's: `survey-archive://HOST:PORT/`, with `key` among the options."""

    protocol = "survey-archive"

    def __init__(self, host: str = "127.0.0.1", port: int = 0, key: str = "", **options: Any) -> None:
        super().__init__(**options)
        self._key = key
        self._base = f"http://{host}:{port}"
        self._http = httpx.Client(base_url=self._base, headers={_KEY_FIELD: key}, timeout=10, trust_env=False)

    @classmethod
    def _strip_protocol(cls, path: str) -> str:
        return urlsplit(path).path.strip("/") if "://" in path else path.strip("/")

    @staticmethod
    def _get_kwargs_from_urls(path: str) -> dict[str, Any]:
        parts = urlsplit(path)
        return {"host": parts.hostname, "port": parts.port}

    def _asked(self, what: str, path: str, headers: dict[str, str] | None = None) -> httpx.Response:
        answer = self._http.get(f"/{what}/{quote(self._strip_protocol(path))}", headers=headers)
        if answer.status_code == HTTPStatus.NOT_FOUND:
            raise FileNotFoundError(path)
        answer.raise_for_status()
        return answer

    def info(self, path: str, **_: Any) -> dict[str, Any]:
        """Facts of one file, or of a folder, as fsspec has them."""
        return _shown(self._asked("facts", path).json())

    def ls(self, path: str, detail: bool = True, **_: Any) -> list[Any]:  # noqa: FBT001, FBT002 - as fsspec has it
        """What is in a folder, as fsspec has it."""
        listed = [_shown(facts) for facts in self._asked("list", path).json()]
        return listed if detail else [facts["name"] for facts in listed]

    def cat_file(self, path: str, start: int | None = None, end: int | None = None, **_: Any) -> bytes:
        """A file's bytes from `start` up to `end`."""
        wanted = (
            {} if start is None and end is None else {"range": f"bytes={start or 0}-{'' if end is None else end - 1}"}
        )
        return self._asked("content", path, wanted).content

    def sign(self, path: str, expiration: int = 100, **_: Any) -> str:
        """An address that gives the content to anybody for `expiration` seconds."""
        path, until = self._strip_protocol(path), int(time.time() + expiration)
        return f"{self._base}/content/{quote(path)}?until={until}&mark={_mark(self._key, path, until)}"


def _shown(facts: dict[str, Any]) -> dict[str, Any]:
    return {**facts, "modified": facts.get("changed")}

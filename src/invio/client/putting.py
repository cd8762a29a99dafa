"""Putting one file: streamed, and checked against what the service says has arrived."""

from __future__ import annotations

import hashlib
import time
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, BinaryIO

import httpx

from invio.client.errors import FileChanged
from invio.client.fetching import Progress, Report, raise_for_refusal
from invio.core.progress import Pace

_PIECE = 256 * 1024  # bytes
# The service answers when the file is on its disk.
_TIMEOUT = httpx.Timeout(30.0, read=300.0)  # seconds


@dataclass(slots=True)
class _Sending:
    """A file on its way; `size` in bytes, None for what has no end yet."""

    file: BinaryIO
    name: str
    size: int | None
    report: Report | None
    sha256: Any = field(default_factory=hashlib.sha256)

    def pieces(self) -> Iterator[bytes]:
        pace, done = Pace(), 0
        while piece := self.file.read(_PIECE):
            self.sha256.update(piece)
            yield piece
            done += len(piece)
            pace.sample(time.monotonic(), done)
            if self.report is not None:
                self.report(Progress(self.name, done, self.size, pace.rate))


def put(
    http: httpx.Client,
    url: str,
    source: Path | BinaryIO,
    headers: dict[str, str],
    report: Report | None = None,
) -> dict[str, Any]:
    """Sends a file; gives its facts as the service has them then.

    Raises:
        Refused: the service says no, and nothing was changed.
        FileChanged: what arrived is not what was sent.
        OSError: the file cannot be read.
    """
    if not isinstance(source, Path):
        return _put(http, url, _Sending(source, "standard input", None, report), headers)
    with source.open("rb") as file:
        size = source.stat().st_size
        return _put(http, url, _Sending(file, source.name, size, report), headers | {"content-length": str(size)})


def _put(http: httpx.Client, url: str, sending: _Sending, headers: dict[str, str]) -> dict[str, Any]:
    response = http.put(url, content=sending.pieces(), headers=headers, timeout=_TIMEOUT)
    raise_for_refusal(response)
    facts: dict[str, Any] = response.json()
    digest = facts["sha256"]
    if digest is not None and digest != sending.sha256.hexdigest():
        raise FileChanged("what arrived has not the SHA-256 of what was sent; put it again")
    return facts | {"new": response.status_code == 201}

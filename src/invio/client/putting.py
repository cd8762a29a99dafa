"""Putting one file: streamed, and checked against what the service says has arrived."""

from __future__ import annotations

import hashlib
import io
import os
import stat
import time
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, BinaryIO

import httpx

from invio.client.errors import FileChanged, Refused
from invio.client.fetching import Report, progress_of, raise_for_refusal
from invio.client.patience import USUAL_PATIENCE, Attempts, Patience
from invio.core.meter import ProgressMeter

_PIECE = 256 * 1024  # bytes
_ON_ITS_DISK = 300.0  # seconds within which the service answers, which it does when the file is on its disk


Source = str | os.PathLike[str] | BinaryIO | bytes


@dataclass(slots=True)
class _Sending:
    """A file on its way; `size` in bytes, None for what has no end yet."""

    file: BinaryIO
    name: str
    size: int | None
    report: Report | None
    sha256: Any = field(default_factory=hashlib.sha256)

    def pieces(self) -> Iterator[bytes]:
        """The content, up to the size that was announced: a log may have grown meanwhile."""
        meter, done = ProgressMeter(), 0
        while piece := self.file.read(_PIECE if self.size is None else min(_PIECE, self.size - done)):
            self.sha256.update(piece)
            yield piece
            done += len(piece)
            now = time.monotonic()
            meter.sample(now, done)
            if self.report is not None:
                self.report(progress_of(meter, now, self.name, self.size))
        if self.size is not None and done < self.size:
            raise FileChanged(f"{self.name} became shorter while it was sent; nothing was changed, so put it again")


def put(
    http: httpx.Client,
    url: str,
    source: Source,
    headers: dict[str, str],
    *,
    report: Report | None = None,
    patience: Patience = USUAL_PATIENCE,
) -> dict[str, Any]:
    """Sends a file; gives its facts as the service has them then.

    Of a file on a disk, what it holds when it is opened is sent, and sent again after a lost connection; a pipe is
    sent to its end, once.

    Raises:
        Refused: the service says no, and nothing was changed.
        ServiceUnreachable: the connection was lost.
        FileChanged: what arrived is not what was sent.
        OSError: the file cannot be read.
    """
    if isinstance(source, bytes):
        return _put(http, url, _Sending(io.BytesIO(source), "content", len(source), report), headers, patience)
    if not isinstance(source, str | os.PathLike):
        return _put(http, url, _Sending(source, "standard input", None, report), headers, patience)
    path = Path(source)
    with path.open("rb") as file:
        status = os.fstat(file.fileno())
        size = status.st_size if stat.S_ISREG(status.st_mode) else None
        if size == 0 and file.read(1):  # what the kernel makes while it is read, as in /proc, says that it is empty
            file.seek(0)
            size = None
        return _put(http, url, _Sending(file, path.name, size, report), headers, patience)


def _put(
    http: httpx.Client, url: str, sending: _Sending, headers: dict[str, str], patience: Patience
) -> dict[str, Any]:
    attempts = Attempts(patience, url)
    if sending.size is not None:
        headers = {**headers, "content-length": str(sending.size)}
    while True:
        again = sending.size is not None  # what can be read once can be sent once
        try:
            response = http.put(url, content=sending.pieces(), headers=headers, timeout=patience.timeouts(_ON_ITS_DISK))
            raise_for_refusal(response)
            break
        except httpx.TransportError as error:
            begun = not isinstance(error, httpx.ConnectError)
            if begun and not again:
                attempts = Attempts(Patience(retries=0), url)
            attempts.lost(error, begun=begun, kept="; nothing was changed")
        except Refused as refused:
            if not again:
                raise
            attempts.busy(refused)
        if again:
            sending.file.seek(0)
            sending.sha256 = hashlib.sha256()
    facts: dict[str, Any] = response.json()
    digest = facts["sha256"]
    if digest is not None and digest != sending.sha256.hexdigest():
        raise FileChanged("what arrived does not have the SHA-256 of what was sent; put it again")
    return facts | {"new": response.status_code == 201}

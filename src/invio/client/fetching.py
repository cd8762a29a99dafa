"""Fetching one file: resumed where a download broke off, and under its final name only when whole.

The bytes gather in a partial file (`invio.client.partial`), or go straight to somebody's own stream. A resume asks
with `If-Range`, so that a file that has changed is begun anew, or refused where bytes have left already, and never
mixed.
"""

from __future__ import annotations

import base64
import hashlib
import json
import re
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any, BinaryIO
from urllib.parse import unquote

import httpx

from invio.client.errors import FileChanged, Refused, ServiceUnreachable
from invio.client.partial import AlreadyThere, Existing, PartialFile, left_behind
from invio.client.patience import USUAL_PATIENCE, Attempts, Patience
from invio.core.http.names import safe_name
from invio.core.meter import ProgressMeter, percent

_EXTENDED = re.compile(r"filename\*\s*=\s*UTF-8'[^']*'([^;\s]+)", re.IGNORECASE)
_PLAIN = re.compile(r'filename\s*=\s*"([^"]*)"', re.IGNORECASE)

_RANGE = re.compile(r"bytes (\d{1,18})-(\d{1,18})/(\d{1,18}|\*)")
_DIGEST = re.compile(r"(?:^|[, \t])sha-256=:([A-Za-z0-9+/=]+):")
_PIECE = 256 * 1024  # bytes
_PROBLEM = 64 * 1024  # bytes of a refusal that are read
# What tells a file from a page that somebody on the way gives in its place: it has one of these at least.
_OF_FILES = ("accept-ranges", "etag", "content-disposition", "x-accel-redirect")
_ASKS = {"accept-encoding": "identity", "want-repr-digest": "sha-256=1"}


@dataclass(frozen=True, slots=True)
class Progress:
    """How far a download is. Bytes, bytes a second, seconds; None for what cannot be told.

    `seconds_left` is by the rate of a longer while than `rate` is of, so that it does not jump.
    """

    name: str
    done: int
    size: int | None
    rate: float | None
    seconds_left: float | None = None

    @property
    def percent(self) -> int | None:
        """Whole per cent, rounded down: 100 only with the last byte; None when the size is not known."""
        return percent(self.done, self.size)


@dataclass(frozen=True, slots=True)
class Fetched:
    """A file that has arrived whole, or with `skipped` one that was there already and was left as it is.

    `resumed` is how many bytes were there before; `verified` says that the service told the
    content's SHA-256, and that the file has it.
    """

    path: Path
    size: int
    resumed: int = 0
    seconds: float = 0.0
    verified: bool = False
    skipped: bool = False


@dataclass(frozen=True, slots=True)
class _Begun:
    """What is already there of a download, and the tag that it belongs to."""

    size: int = 0
    etag: str | None = None

    @property
    def headers(self) -> dict[str, str]:
        """What a request asks for: the rest, if the content is still the same."""
        rest = {"range": f"bytes={self.size}-", "if-range": self.etag} if self.size and self.etag else {}
        return {**_ASKS, **rest}


Report = Callable[[Progress], None]


class _Meter:
    """Tells how far a download is."""

    def __init__(self, report: Report | None) -> None:
        self._report = report
        self._meter = ProgressMeter()

    def tell(self, name: str, done: int, size: int | None) -> None:
        now = time.monotonic()
        self._meter.sample(now, done)
        if self._report is not None:
            self._report(progress_of(self._meter, now, name, size))


def progress_of(meter: ProgressMeter, now: float, name: str, size: int | None) -> Progress:
    """How far the file of this name is, by what has been measured of it."""
    measured = meter.progress(now, size)
    return Progress(name, measured.bytes, size, measured.rate, measured.seconds_left)


def fetch(
    http: httpx.Client,
    url: str,
    target: Path | None = None,
    folder: Path = Path(),
    *,
    report: Report | None = None,
    existing: Existing = "refuse",
    patience: Patience = USUAL_PATIENCE,
) -> Fetched:
    """Downloads `url` to `target`, or into `folder` under the name that the service gives.

    Lost connections and busy services are met with `patience`. Nobody else can write to the same partial file
    meanwhile. What is there already is refused, replaced once the new content is whole, or skipped: `existing`.

    Raises:
        Refused: the service says no.
        ServiceUnreachable: the connection was lost and could not be made again; the partial file stays.
        FileExistsError: there is a file of that name already, or another download of it is under way.
        OSError: the file cannot be written; what has arrived is kept.
    """
    try:
        return _Download(http, url, target, folder, _Meter(report), existing, patience).run()
    except AlreadyThere as there:
        return Fetched(there.target, there.target.stat().st_size, skipped=True)


class _Download:
    def __init__(  # noqa: PLR0917
        self,
        http: httpx.Client,
        url: str,
        target: Path | None,
        folder: Path,
        meter: _Meter,
        existing: Existing,
        patience: Patience,
    ) -> None:
        self._http = http
        self._url = url
        self._folder = folder
        self._existing = existing
        self._meter = meter
        self._attempts = Attempts(patience, url)
        self._done = 0
        self._answered = False  # whether the last attempt was answered at all
        self._resumed: int | None = None
        self._sha256: bytes | None = None  # what the service says the content's digest is
        self._etag: str | None = None
        target = target or left_behind(folder, url)
        self._part = None if target is None else PartialFile(target, existing)

    def run(self) -> Fetched:
        began = time.monotonic()
        while True:
            before, self._answered = self._done, False
            try:
                path = self._attempt()
                seconds = time.monotonic() - began
                return Fetched(path, self._done, self._resumed or 0, seconds, self._sha256 is not None)
            except httpx.TransportError as error:
                kept = f"; what has arrived is kept in {self._part.path}" if self._part and self._done else ""
                begun = self._answered or self._done > 0
                self._attempts.lost(error, begun=begun, progress=self._done > before, kept=kept)
            except httpx.TooManyRedirects:
                raise _no_end(self._url) from None
            except Refused as refused:
                self._attempts.busy(refused)
            finally:
                if self._part is not None:
                    self._part.unlock()

    def _attempt(self) -> Path:
        begun = _Begun()
        if self._part is not None:
            self._part.lock()
            etag = self._part.begun(self._url)
            begun = _Begun() if etag is None else _Begun(self._part.size, etag)
        # A service may send to where the file lies; httpx gives no other host our token.
        with self._http.stream("GET", self._url, headers=begun.headers, follow_redirects=True) as response:
            if response.status_code == 416 and begun.size and self._part is not None:
                return self._after_416(response, self._part, begun)
            raise_for_refusal(response)
            self._answered = True
            span = _Span.of(response, begun)
            if self._part is None:
                self._part = PartialFile(self._folder / name_of(response), self._existing)
            self._part.lock()
            if span is not None:
                return self._receive(response, self._part, span)
        # Another part of it, or of another content, than what is missing here: from its beginning, then.
        self._part.restart()
        return self._attempt()

    def _after_416(self, response: httpx.Response, part: PartialFile, begun: _Begun) -> Path:
        """The file may already be complete: the connection was lost after its last byte."""
        size = response.headers.get("content-range", "").rpartition("/")[2]
        head = self._http.head(self._url, headers={"if-match": begun.etag or "*"})
        if size == str(begun.size) and head.headers.get("etag") == begun.etag:
            self._done = begun.size
            self._resumed = begun.size
            return self._finish(part, _Span(begun.size, begun.size))
        part.restart()
        return self._attempt()

    def _receive(self, response: httpx.Response, part: PartialFile, span: _Span) -> Path:
        if self._resumed is None:
            self._resumed = span.offset
        self._sha256 = _told_digest(response)
        self._etag = response.headers.get("etag")
        if not span.offset:
            part.begin(self._url, self._etag)
        self._done = span.offset
        part.cut(span.offset)
        self._meter.tell(part.target.name, self._done, span.size)
        for piece in response.iter_raw(_PIECE):
            part.write(piece)
            self._done += len(piece)
            self._meter.tell(part.target.name, self._done, span.size)
        part.flush()
        return self._finish(part, span)

    def _finish(self, part: PartialFile, span: _Span) -> Path:
        span.require_whole(self._done)
        if self._sha256 is None:
            self._sha256 = _asked_digest(self._http, self._url, self._etag)
        span.require_end(told=self._sha256 is not None)
        if self._sha256 is not None and part.sha256() != self._sha256:
            part.discard()
            raise FileChanged("what arrived does not have the SHA-256 that the service tells; fetch it again")
        return part.finish()


def stream(
    http: httpx.Client,
    url: str,
    file: BinaryIO,
    *,
    report: Report | None = None,
    patience: Patience = USUAL_PATIENCE,
) -> Fetched:
    """Writes a download to a stream of the caller's, as to standard output; `path` of what is given is `-`.

    A lost connection is taken up again where it ended. What has left cannot be taken back: a digest that is wrong, or
    a file that changes on the way, is an error at the end.

    Raises:
        Refused, ServiceUnreachable.
        FileChanged: what was written is not the file as it is now.
    """
    meter, attempts, began = _Meter(report), Attempts(patience, url), time.monotonic()
    sha256, begun = hashlib.sha256(), _Begun()
    while True:
        before = done = begun.size
        answered = False
        try:
            with http.stream("GET", url, headers=begun.headers, follow_redirects=True) as response:
                raise_for_refusal(response)
                answered, span = True, _Span.of(response, begun)
                if span is None or span.offset != done:
                    raise FileChanged(f"the file changed after {done} bytes of it had been written; fetch it again")
                told, etag = _told_digest(response), response.headers.get("etag")
                begun = _Begun(done, etag)
                for piece in response.iter_raw(_PIECE):
                    file.write(piece)
                    sha256.update(piece)
                    done += len(piece)
                    begun = _Begun(done, etag)
                    meter.tell(name_of(response), done, span.size)
            break
        except httpx.TransportError as error:
            if begun.size and not begun.etag:
                raise FileChanged(f"the connection was lost after {begun.size} bytes, and cannot be resumed") from None
            attempts.lost(error, begun=answered or begun.size > 0, progress=begun.size > before)
        except httpx.TooManyRedirects:
            raise _no_end(url) from None
        except Refused as refused:
            attempts.busy(refused)
    file.flush()
    span.require_whole(done)
    told = told or _asked_digest(http, url, etag)
    span.require_end(told=told is not None)
    if told is not None and sha256.digest() != told:
        raise FileChanged("what was written does not have the SHA-256 that the service tells; fetch it again")
    return Fetched(Path("-"), begun.size, seconds=time.monotonic() - began, verified=told is not None)


@dataclass(frozen=True, slots=True)
class _Span:
    """What an answer holds of a file: all from `offset` on. `size` is of the whole file; None: it was not told.

    `ends`: the answer says where it ends, so that a connection that is lost is not taken for its end.
    """

    offset: int
    size: int | None
    ends: bool = True

    @classmethod
    def of(cls, response: httpx.Response, begun: _Begun) -> _Span | None:
        """What a successful answer holds; None: another part of the file, or of another one, than was asked for.

        Raises:
            Refused: it is no file of this service, or somebody on the way has packed it.
            FileChanged: an order for a front server came.
        """
        fields = response.headers
        coding = fields.get("content-encoding", "identity")
        if coding != "identity":
            said = (
                f"the file came packed ({coding[:40]}), which was not asked for; ask without what packs it on the way"
            )
            raise Refused(response.status_code, "unknown", said, [])
        length = int(fields["content-length"]) if "content-length" in fields else None
        if response.status_code == 200:
            if not any(name in fields for name in _OF_FILES):
                said = f"{_not_this_service(response)}, or whether the network wants you to sign in first"
                raise Refused(200, "unknown", said, [])
            if not length and "x-accel-redirect" in fields:
                raise FileChanged(
                    "an order for a front server came instead of the file; ask by the front server's address"
                )
            return cls(0, length, ends=length is not None or "transfer-encoding" in fields)
        part = _RANGE.fullmatch(fields.get("content-range", ""))
        if response.status_code != 206 or not begun.size:
            raise Refused(response.status_code, "unknown", _not_this_service(response), [])
        if part is None or int(part[1]) != begun.size or fields.get("etag", begun.etag) != begun.etag:
            return None
        return cls(begun.size, int(part[2]) + 1 if part[3] == "*" else int(part[3]))

    def require_whole(self, done: int) -> None:
        """Raises FileChanged, unless as many bytes as there are have come."""
        if self.size is not None and done != self.size:
            raise FileChanged(f"{done} bytes arrived where {self.size} were announced; fetch it again")

    def require_end(self, *, told: bool) -> None:
        """Raises FileChanged, when nothing tells that what has come is all: neither a length nor (`told`) a digest."""
        if not self.ends and not told:
            raise FileChanged("nothing tells whether all of it arrived: neither a length nor a digest; fetch it again")


def _no_end(url: str) -> ServiceUnreachable:
    return ServiceUnreachable(f"{url.partition('?')[0]}: each address sends on to another; check the address")


def _asked_digest(http: httpx.Client, url: str, etag: str | None) -> bytes | None:
    """What the service says of the content's digest now: it may have been worked out meanwhile."""
    if etag is None or etag.startswith("W/"):
        return None
    try:
        # Named by a condition, a content keeps the tag that it had when it was asked for.
        head = http.head(url, headers={**_ASKS, "if-match": etag}, follow_redirects=True)
    except httpx.TransportError:
        return None
    return _told_digest(head) if head.is_success and head.headers.get("etag") == etag else None


def _told_digest(response: httpx.Response) -> bytes | None:
    """The SHA-256 of the whole content, from Repr-Digest (RFC 9530 §3)."""
    found = _DIGEST.search(response.headers.get("repr-digest", ""))
    try:
        return base64.b64decode(found[1], validate=True) if found else None
    except ValueError:
        return None  # not a byte sequence, so nothing was told


def name_of(response: httpx.Response) -> str:
    """The file name that an answer offers, made safe; else the last segment of its URL."""
    field = response.headers.get("content-disposition", "")
    extended, plain = _EXTENDED.search(field), _PLAIN.search(field)
    # RFC 6266 §4.3: where both are given, the extended one is meant.
    if extended:
        return safe_name(unquote(extended[1]))
    asked = response.history[0].url if response.history else response.url
    return safe_name(plain[1] if plain else asked.path.rpartition("/")[2])


def raise_for_refusal(response: httpx.Response) -> None:
    """Raises Refused for an answer that is not what was asked for."""
    if response.is_success:
        return
    seconds = response.headers.get("retry-after", "")
    wait = float(seconds) if seconds.isdecimal() else None
    raise Refused.of(response.status_code, _problem(response), wait)


def _problem(response: httpx.Response) -> dict[str, Any]:
    """The problem document of an answer, or what stands for it when what answers is no such service."""
    read = b""
    for piece in response.iter_bytes():
        read += piece
        if len(read) > _PROBLEM:
            response.close()
            break
    try:
        problem = json.loads(read[:_PROBLEM])
    except (ValueError, RecursionError):
        problem = None
    if isinstance(problem, dict) and isinstance(problem.get("reason"), str):
        return problem
    return {"detail": _not_this_service(response)}


def _not_this_service(response: httpx.Response) -> str:
    host = f"{response.url.scheme}://{response.url.netloc.decode()}"
    return f"{host} answered {response.status_code}, and not as this service does; check the address"

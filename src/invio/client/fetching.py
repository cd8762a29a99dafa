"""Fetching one file: resumed where a download broke off, and under its final name only when whole.

The bytes gather in `<name>.part`, beside it `<name>.part.json` with the address and the entity tag
that they belong to. A resume asks with `If-Range`, so that a file that has changed is begun anew
and never mixed.
"""

from __future__ import annotations

import base64
import errno
import fcntl
import hashlib
import json
import os
import re
import stat
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO
from urllib.parse import unquote

import httpx

from invio.client.errors import FileChanged, Refused, ServiceUnreachable
from invio.core.http.names import safe_name
from invio.core.progress import Pace, percent, seconds_left

_EXTENDED = re.compile(r"filename\*\s*=\s*UTF-8'[^']*'([^;\s]+)", re.IGNORECASE)
_PLAIN = re.compile(r'filename\s*=\s*"([^"]*)"', re.IGNORECASE)

_DIGEST = re.compile(r"(?:^|[, \t])sha-256=:([A-Za-z0-9+/=]+):")
_PIECE = 256 * 1024  # bytes
TRIES = 5
_PAUSE = 0.5  # seconds before the second try; doubled each time
_LONGEST_WAIT = 60.0  # seconds for which a busy service is waited for


@dataclass(frozen=True, slots=True)
class Progress:
    """How far a download is. Bytes, bytes a second, seconds; None for what cannot be told."""

    name: str
    done: int
    size: int | None
    rate: float | None

    @property
    def percent(self) -> float | None:
        """0 to 100, and 100 only with the last byte; None when the size is not known."""
        return percent(self.done, self.size)

    @property
    def seconds_left(self) -> float | None:
        """Seconds for the rest at the rate of the last few seconds; None when that cannot be told."""
        return seconds_left(self.done, self.size, self.rate)


@dataclass(frozen=True, slots=True)
class Fetched:
    """A file that has arrived whole.

    `resumed` is how many bytes were there before; `verified` says that the service told the
    content's SHA-256, and that the file has it.
    """

    path: Path
    size: int
    resumed: int
    seconds: float
    verified: bool = False


@dataclass(frozen=True, slots=True)
class _Begun:
    """What is already there of a download, and the tag that it belongs to."""

    size: int = 0
    etag: str | None = None


Report = Callable[[Progress], None]


def fetch(
    http: httpx.Client, url: str, target: Path | None = None, folder: Path = Path(), report: Report | None = None
) -> Fetched:
    """Downloads `url` to `target`, or into `folder` under the name that the service gives.

    A lost connection is taken up again, up to five times without a byte of progress in between; so is an answer that
    the service is busy, after the time that it names. Nobody else can write to the same partial file meanwhile, and
    nothing that is there already is replaced.

    Raises:
        Refused: the service says no.
        ServiceUnreachable: the connection was lost and could not be had again; the partial file stays.
        FileExistsError: there is a file of that name already, or another download of it is under way.
    """
    if target is not None:
        _require_absent(target)
    download = _Download(http, url, target, folder, report)
    return download.run()


class _Download:
    def __init__(self, http: httpx.Client, url: str, target: Path | None, folder: Path, report: Report | None) -> None:
        self._http = http
        self._url = url
        self._target = target
        self._folder = folder
        self._report = report
        self._pace = Pace()
        self._done = 0
        self._resumed: int | None = None
        self._sha256: bytes | None = None  # what the service says the content's digest is
        self._etag: str | None = None
        self._file: BinaryIO | None = None  # the partial file, while it is ours
        self._finished = False

    def run(self) -> Fetched:
        began = time.monotonic()
        tries = 0
        while True:
            before = self._done
            try:
                path = self._attempt()
                return Fetched(path, self._done, self._resumed or 0, time.monotonic() - began, self._sha256 is not None)
            except httpx.ConnectError as error:
                if not self._done:
                    raise ServiceUnreachable(f"no service answers at {self._url.partition('?')[0]}: {error}") from None
                tries = self._again(error, tries + 1)
            except httpx.TransportError as error:
                tries = self._again(error, 1 if self._done > before else tries + 1)
            except Refused as refused:
                wait = refused.retry_after if refused.status == 503 else None
                if wait is None or wait > _LONGEST_WAIT or tries >= TRIES:
                    raise
                tries += 1
                time.sleep(wait)
            finally:
                self._unlock()

    def _again(self, error: httpx.TransportError, tries: int) -> int:
        """Waits before a further try. Raises ServiceUnreachable when there were enough."""
        if tries >= TRIES:
            kept = f"; what has arrived is kept in {self._part}" if self._target and self._done else ""
            raise ServiceUnreachable(f"the connection to the service was lost: {error}{kept}") from None
        time.sleep(_PAUSE * 2 ** (tries - 1))
        return tries

    @property
    def _part(self) -> Path:
        assert self._target is not None
        return self._target.with_name(self._target.name + ".part")

    @property
    def _note(self) -> Path:
        return self._part.with_name(self._part.name + ".json")

    def _attempt(self) -> Path:
        if self._target is None:
            self._target = self._left_behind()
        if self._target is not None:
            self._lock()
        begun = self._begun() if self._target is not None else _Begun()
        headers = {"accept-encoding": "identity", "want-repr-digest": "sha-256=1"}
        if begun.size and begun.etag:
            headers |= {"range": f"bytes={begun.size}-", "if-range": begun.etag}
        # A service may send to where the file lies; httpx gives no other host our token.
        with self._http.stream("GET", self._url, headers=headers, follow_redirects=True) as response:
            if response.status_code == 416 and begun.size:
                return self._after_416(response, begun)
            raise_for_refusal(response)
            if self._target is None:
                self._target = self._folder / name_of(response)
                _require_absent(self._target)
            self._lock()
            return self._receive(response, begun.size if response.status_code == 206 else 0)

    def _lock(self) -> None:
        """Opens the partial file, for this download alone. Raises FileExistsError."""
        if self._file is not None:
            return
        try:
            # A link in its place would have another file be written.
            descriptor = os.open(self._part, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW, 0o666)
        except OSError as error:
            if error.errno != errno.ELOOP:
                raise
            raise FileExistsError(f"{self._part} is a symbolic link, which is not written to; remove it") from None
        if not stat.S_ISREG(os.fstat(descriptor).st_mode):
            os.close(descriptor)
            raise FileExistsError(f"{self._part} is no regular file; remove it, or name another target with -o")
        file = os.fdopen(descriptor, "r+b")
        try:
            fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            file.close()
            raise FileExistsError(f"{self._part}: another download of it is under way; wait for it to end") from None
        self._file = file

    def _unlock(self) -> None:
        """Lets others have the partial file; one in which nothing has arrived is taken away."""
        file, self._file = self._file, None
        if file is None:
            return
        if not os.fstat(file.fileno()).st_size and not self._finished:
            self._part.unlink(missing_ok=True)
            self._note.unlink(missing_ok=True)
        file.close()

    def _left_behind(self) -> Path | None:
        """The name under which an earlier download of the same URL was begun in the folder."""
        for note in sorted(self._folder.glob("*.part.json")):
            target = note.with_name(note.name.removesuffix(".part.json"))
            if self._noted(note) is not None and not target.exists():
                return target
        return None

    def _noted(self, note: Path) -> str | None:
        """The entity tag of what was begun, when it was begun from this URL; or from another archive of this name.

        A selection that is bundled again has another address and, unaltered, the same bytes: the tag tells.
        """
        try:
            said = json.loads(note.read_text("utf-8"))
            url = self._url.partition("?")[0]
            fits = said["url"] == url or _archive_of(said["url"]) == _archive_of(url) != ""
            return str(said["etag"]) if fits and said["etag"] else None
        except (OSError, ValueError, KeyError, TypeError):
            return None  # no download was begun, or not one that can be gone on with

    def _begun(self) -> _Begun:
        etag = self._noted(self._note)
        if etag is None or self._file is None:
            return _Begun()
        return _Begun(os.fstat(self._file.fileno()).st_size, etag)

    def _after_416(self, response: httpx.Response, begun: _Begun) -> Path:
        """All of the file may be there already: the connection was lost after its last byte."""
        size = response.headers.get("content-range", "").rpartition("/")[2]
        head = self._http.head(self._url, headers={"if-match": begun.etag or "*"})
        if size == str(begun.size) and head.headers.get("etag") == begun.etag:
            self._done = begun.size
            self._resumed = begun.size
            return self._finish(begun.size)
        assert self._file is not None
        self._file.truncate(0)
        self._note.unlink(missing_ok=True)
        return self._attempt()

    def _receive(self, response: httpx.Response, offset: int) -> Path:
        if self._resumed is None:
            self._resumed = offset
        self._sha256 = _told_digest(response)
        self._etag = response.headers.get("etag")
        length = response.headers.get("content-length")
        size = None if length is None else offset + int(length)
        if not size and not offset and "x-accel-redirect" in response.headers:
            raise FileChanged("an order for a front server came instead of the file; ask by the front server's address")
        if not offset:
            note = {"url": self._url.partition("?")[0], "etag": response.headers.get("etag")}
            self._note.unlink(missing_ok=True)
            with open(self._note, "x", encoding="utf-8") as file:
                json.dump(note, file)
        self._done = offset
        part = self._file
        assert part is not None
        part.seek(offset)
        part.truncate()
        self._tell(size)
        for piece in response.iter_raw(_PIECE):
            part.write(piece)
            self._done += len(piece)
            self._tell(size)
        part.flush()
        os.fsync(part.fileno())
        return self._finish(size)

    def _tell(self, size: int | None) -> None:
        self._pace.sample(time.monotonic(), self._done)
        if self._report is not None and self._target is not None:
            self._report(Progress(self._target.name, self._done, size, self._pace.rate))

    def _finish(self, size: int | None) -> Path:
        assert self._target is not None
        if size is not None and self._done != size:
            raise FileChanged(f"{self._done} bytes arrived where {size} were announced; fetch it again")
        if self._sha256 is None:
            self._sha256 = self._asked_digest()
        if self._sha256 is not None and _digest_of(self._part) != self._sha256:
            # What is there is not the content, whatever it is; it must not be gone on with.
            self._part.unlink()
            self._note.unlink(missing_ok=True)
            raise FileChanged("what arrived has not the SHA-256 that the service tells; fetch it again")
        self._finished = True
        _named(self._part, self._target)
        self._note.unlink(missing_ok=True)
        return self._target

    def _asked_digest(self) -> bytes | None:
        """What the service says of the content's digest now: it may have been worked out meanwhile."""
        etag = self._etag
        if etag is None or etag.startswith("W/"):
            return None
        try:
            # Named by a condition, a content keeps the tag that it had when it was asked for.
            headers = {"want-repr-digest": "sha-256=1", "accept-encoding": "identity", "if-match": etag}
            head = self._http.head(self._url, headers=headers, follow_redirects=True)
        except httpx.TransportError:
            return None
        return _told_digest(head) if head.is_success and head.headers.get("etag") == etag else None


def _require_absent(target: Path) -> None:
    """Raises FileExistsError, or NotADirectoryError where there is no folder to save to."""
    if os.path.lexists(target):
        what = "a folder; name a file in it" if target.is_dir() else "there already; move it away, or name another"
        raise FileExistsError(f"{target} is {what}")


def _named(part: Path, target: Path) -> None:
    """Gives what is whole its name, unless there is something of that name by now. Raises FileExistsError."""
    try:
        os.link(part, target, follow_symlinks=False)
    except FileExistsError:
        raise FileExistsError(f"{target} has come to be there meanwhile; what has arrived is in {part}") from None
    except OSError:  # a file system without links
        _require_absent(target)
        part.replace(target)
    else:
        part.unlink()


def _told_digest(response: httpx.Response) -> bytes | None:
    """The SHA-256 of the whole content, from Repr-Digest (RFC 9530 §3)."""
    found = _DIGEST.search(response.headers.get("repr-digest", ""))
    try:
        return base64.b64decode(found[1], validate=True) if found else None
    except ValueError:
        return None  # not a byte sequence, so nothing was told


def _digest_of(path: Path) -> bytes:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").digest()


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
    response.read()
    try:
        problem = response.json()
    except ValueError:
        problem = {}
    seconds = response.headers.get("retry-after", "")
    wait = float(seconds) if seconds.isdecimal() else None
    raise Refused.of(response.status_code, problem if isinstance(problem, dict) else {}, wait)


def _archive_of(url: str) -> str:
    """An archive's URL without what tells one from another of the same name; nothing for other URLs."""
    service, found, rest = url.partition("/get/bundles/")
    return f"{service}/{rest.partition('/')[2]}" if found else ""

"""A plain web server as a store: files below a URL, read by path, in parts, as they were found.

Such a server lists nothing, so files of it are found and not listed. What it redirects to is followed only within its
own origin: where a store reads from is the operator's to say, and nobody else's.
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterable, Mapping
from email.utils import parsedate_to_datetime
from typing import Any
from urllib.parse import quote

import httpx

from invio.core.addresses import Address
from invio.core.files import FileFacts
from invio.core.http.media_types import essence
from invio.core.readable import ContentChanged
from invio.stores.blocking import FRESH, BlockingStore
from invio.stores.store import Missing, StoreFault

_REDIRECTS = 5
_SAFE = "/-._~!$()*,:@"
_GONE = (404, 410)
_SAYS_NOTHING = ("application/octet-stream", "binary/octet-stream")
_SPAN = re.compile(r"bytes ([0-9]+)-([0-9]+)/([0-9]+|\*)\Z")


class OriginStore(BlockingStore):
    """Files below an `http` or `https` address."""

    kind = "remote"

    def __init__(
        self, name: str, url: str, options: Mapping[str, Any], *, timeout: float = 20.0, fresh: float = FRESH
    ) -> None:
        """`options`: `headers` that are sent with each request, as those that let the service in.

        Raises:
            StoreFault: the address or an option cannot be used.
        """
        super().__init__(name, timeout=timeout, fresh=fresh)
        odd = set(options) - {"headers"}
        if odd:
            raise StoreFault(f"store {name!r}: there is no option {min(odd)!r} for a web server; expected headers")
        self._root = url if url.endswith("/") else url + "/"
        headers = {"accept-encoding": "identity", **options.get("headers", {})}
        try:
            self._http = httpx.Client(headers=headers, timeout=timeout, trust_env=False, follow_redirects=False)
            parsed = httpx.URL(self._root)
        except (httpx.InvalidURL, TypeError, ValueError) as error:
            raise StoreFault(f"store {name!r}: {url!r} cannot be used: {error}") from None
        self._origin = (parsed.scheme, parsed.host, parsed.port)

    def look_up(self, address: Address) -> FileFacts:
        """See `BlockingStore.look_up`."""
        with self._answer("HEAD", address, {}) as answer:
            if answer.status_code not in (405, 501):
                return self._facts(address, answer)
        with self._answer("GET", address, {"range": "bytes=0-0"}) as answer:  # some know no HEAD
            return self._facts(address, answer)

    def look_into(self, folder: Address) -> Iterable[FileFacts | Address]:
        """Nothing: such a server lists no files."""
        if folder.path:
            raise Missing(str(folder))
        return []

    def read_at(self, address: Address, tag: str, offset: int, count: int) -> bytes:
        """See `BlockingStore.read_at`."""
        with self._answer("GET", address, {"range": f"bytes={offset}-{offset + count - 1}"}) as answer:
            if answer.status_code == 416:
                raise ContentChanged("the file ended before its announced length")
            self._require_found(address, answer)
            if self._tag(address, answer, _size(answer)) != tag:
                raise ContentChanged("the file was altered while it was sent")
            skip = offset if answer.status_code == 200 else 0
            found = _SPAN.match(answer.headers.get("content-range", ""))
            if answer.status_code == 206 and (found is None or int(found[1]) != offset):
                raise StoreFault(f"store {self.name!r}: it answered with another part than was asked for")
            return _taken(answer, skip, count)

    def _answer(self, method: str, address: Address, headers: dict[str, str]) -> _Opened:
        url = self.url_of(address)
        for _ in range(_REDIRECTS):
            answer = self.send(method, url, headers)
            if not answer.has_redirect_location:
                return _Opened(answer)
            answer.close()
            url = url.join(answer.headers["location"])
            if not self.may_ask(url):
                raise StoreFault(f"store {self.name!r}: it redirects to {url.host!r}, where nothing is to be had from")
        raise StoreFault(f"store {self.name!r}: it redirects more than {_REDIRECTS} times")

    def url_of(self, address: Address) -> httpx.URL:
        """Where a file is."""
        return httpx.URL(self._root + quote(address.path, safe=_SAFE))

    def may_ask(self, url: httpx.URL) -> bool:
        """Whether a redirect may be followed: only within the store's own origin."""
        return (url.scheme, url.host, url.port) == self._origin

    def send(self, method: str, url: httpx.URL, headers: dict[str, str]) -> httpx.Response:
        """Sends one request; the answer's body is still to be read."""
        return self._http.send(self._http.build_request(method, url, headers=headers), stream=True)

    def _require_found(self, address: Address, answer: httpx.Response) -> None:
        if answer.status_code in _GONE:
            raise Missing(str(address))
        if answer.status_code not in (200, 206):
            raise StoreFault(f"store {self.name!r}: it answered {answer.status_code} for {address.path!r}")
        coding = answer.headers.get("content-encoding", "identity").strip().lower()
        if coding not in ("", "identity"):  # passed on as the file itself, nobody could read it
            raise StoreFault(f"store {self.name!r}: it gives {address.path!r} in the coding {coding[:40]!r} alone")

    def _facts(self, address: Address, answer: httpx.Response) -> FileFacts:
        self._require_found(address, answer)
        size = _size(answer)
        if size is None:
            raise StoreFault(f"store {self.name!r}: it does not tell how long {address.path!r} is")
        media_type = essence(answer.headers.get("content-type", ""))
        return FileFacts(
            address,
            size,
            _modified(answer),
            self._tag(address, answer, size),
            media_type=None if media_type in _SAYS_NOTHING else media_type,
        )

    def _tag(self, address: Address, answer: httpx.Response, size: int | None) -> str:
        """What differs once the content does: the server's strong tag, else its time; and the length."""
        etag = answer.headers.get("etag", "")
        told = etag if etag.startswith('"') else answer.headers.get("last-modified")
        marks = repr((self.name, address.path, told, size))
        return hashlib.blake2b(marks.encode(), digest_size=12).hexdigest()


class _Opened:
    """An answer, closed with the `with`."""

    def __init__(self, answer: httpx.Response) -> None:
        self._answer = answer

    def __enter__(self) -> httpx.Response:
        return self._answer

    def __exit__(self, *_: object) -> None:
        self._answer.close()


def _size(answer: httpx.Response) -> int | None:
    """The length of the whole content, in bytes."""
    if answer.status_code == 206:
        found = _SPAN.match(answer.headers.get("content-range", ""))
        return None if found is None or found[3] == "*" else int(found[3])
    length = answer.headers.get("content-length", "")
    return int(length) if length.isascii() and length.isdigit() else None


def _modified(answer: httpx.Response) -> float | None:
    try:
        return parsedate_to_datetime(answer.headers["last-modified"]).timestamp()
    except (KeyError, ValueError, OverflowError):
        return None


def _taken(answer: httpx.Response, skip: int, count: int) -> bytes:
    """`count` bytes of a body, after `skip` of them: of a server that gives all where a part was asked for."""
    taken = bytearray()
    for piece in answer.iter_raw():
        if skip >= len(piece):
            skip -= len(piece)
            continue
        taken += piece[skip:]
        skip = 0
        if len(taken) >= count:
            break
    return bytes(taken[:count])

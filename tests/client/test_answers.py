"""What a download makes of answers: the file with the right bytes, or an error that says what came instead."""

from __future__ import annotations

import gzip
import io
import itertools
from collections.abc import Callable, Iterator
from pathlib import Path

import httpx
import pytest

from invio.client import FileChanged, Refused, ServiceUnreachable, fetching, patience

FILE = bytes(range(256)) * 4096
HALF = len(FILE) // 2
URL = "http://files.example.org/get/files/a.bin"
Answer = httpx.Response


class Broken(httpx.SyncByteStream):
    """A body whose connection is lost after some of it."""

    def __init__(self, *pieces: bytes) -> None:
        self.pieces = pieces

    def __iter__(self) -> Iterator[bytes]:
        yield from self.pieces
        raise httpx.ReadError("the connection was lost")


def lost() -> Answer:
    return Answer(200, headers={"etag": '"a"', "content-length": str(len(FILE))}, stream=Broken(FILE[:HALF]))


def came(status: int, content: bytes, **fields: str) -> Answer:
    fields = {"content_length": str(len(content)), "etag": '"a"', **fields}
    headers = {name.replace("_", "-"): value for name, value in fields.items()}
    return Answer(status, headers=headers, stream=httpx.ByteStream(content))


def part(content: bytes, span: str, etag: str = '"a"') -> Answer:
    return came(206, content, content_range=f"bytes {span}", etag=etag)


def whole() -> Answer:
    return came(200, FILE)


def service(answers: list[Callable[[], Answer]]) -> tuple[httpx.Client, list[str | None]]:
    """Something that gives one answer after another, the last one again and again; and what ranges it was asked for."""
    asked: list[str | None] = []
    following = itertools.chain(answers, itertools.repeat(answers[-1]))

    def give(request: httpx.Request) -> Answer:
        if request.method == "HEAD":
            return Answer(405)
        asked.append(request.headers.get("range"))
        return next(following)()

    return httpx.Client(transport=httpx.MockTransport(give)), asked


@pytest.fixture(autouse=True)
def hasty(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(patience, "PAUSES", (0.0,) * 3)


OTHER_PARTS = {
    "from the beginning": lambda: part(FILE, f"0-{len(FILE) - 1}/{len(FILE)}"),
    "from a byte earlier": lambda: part(FILE[HALF - 1 :], f"{HALF - 1}-{len(FILE) - 1}/{len(FILE)}"),
    "of another content": lambda: part(FILE[HALF:], f"{HALF}-{len(FILE) - 1}/{len(FILE)}", '"b"'),
    "that is not told": lambda: came(206, FILE[HALF:]),
    "of several": lambda: came(206, FILE, content_type="multipart/byteranges; boundary=x"),
}


@pytest.mark.parametrize("other", OTHER_PARTS.values(), ids=OTHER_PARTS)
def test_another_part_than_what_is_missing_is_never_put_behind_what_is_there(
    tmp_path: Path, other: Callable[[], Answer]
) -> None:
    http, asked = service([lost, other, whole])
    assert fetching.fetch(http, URL, folder=tmp_path).path.read_bytes() == FILE
    assert asked == [None, f"bytes={HALF}-", None]
    http, asked = service([lost, other, whole])
    with pytest.raises(FileChanged, match=f"changed after {HALF} bytes of it had been written"):
        fetching.stream(http, URL, io.BytesIO())


@pytest.mark.parametrize("total", [str(len(FILE)), "*"])
def test_what_is_missing_is_put_behind_what_is_there(tmp_path: Path, total: str) -> None:
    rest = lambda: part(FILE[HALF:], f"{HALF}-{len(FILE) - 1}/{total}")  # noqa: E731
    fetched = fetching.fetch(service([lost, rest])[0], URL, folder=tmp_path)
    assert (fetched.path.read_bytes(), fetched.size, fetched.skipped) == (FILE, len(FILE), False)
    written = io.BytesIO()
    fetching.stream(service([lost, rest])[0], URL, written)
    assert written.getvalue() == FILE


def test_less_of_a_file_than_there_is_of_it_is_no_file(tmp_path: Path) -> None:
    some = [lost, lambda: part(FILE[HALF:-9], f"{HALF}-{len(FILE) - 10}/{len(FILE)}")]
    with pytest.raises(FileChanged, match=f"{len(FILE) - 9} bytes arrived where {len(FILE)} were announced"):
        fetching.fetch(service(some)[0], URL, folder=tmp_path)
    with pytest.raises(FileChanged, match=f"{len(FILE) - 9} bytes arrived where {len(FILE)} were announced"):
        fetching.stream(service(some)[0], URL, io.BytesIO())
    assert not (tmp_path / "a.bin").exists()


class Endless(httpx.SyncByteStream):
    """A body that never ends, of which more than a little is not to be read."""

    def __iter__(self) -> Iterator[bytes]:
        for _ in range(100):
            yield b" " * 10_000
        raise AssertionError("a megabyte of it was read")


ODD: dict[str, tuple[Callable[[], Answer], type[Exception], str]] = {
    "a part that nobody asked for": (lambda: part(FILE[:99], "0-98/1000"), Refused, "answered 206, and not as this"),
    "no content": (lambda: Answer(204), Refused, "answered 204, and not as this service does; check the address"),
    "packed": (
        lambda: came(200, gzip.compress(FILE), content_encoding="gzip"),
        Refused,
        r"came packed \(gzip\), which was not asked for",
    ),
    "an end that nothing tells": (
        lambda: Answer(200, headers={"etag": '"a"'}, stream=httpx.ByteStream(FILE)),
        FileChanged,
        "neither a length nor a digest",
    ),
    "a page where to sign in": (
        lambda: Answer(200, html="<h1>Welcome to the harbour's network</h1>"),
        Refused,
        "answered 200, and not as this service does; check the address, or whether the network wants you to sign in",
    ),
    "sent on and on": (lambda: Answer(302, headers={"location": URL}), ServiceUnreachable, "each address sends on"),
    "a refusal without an end": (lambda: Answer(500, stream=Endless()), Refused, "answered 500, and not as this"),
    "a refusal too deep to read": (lambda: Answer(400, content=b"[" * 60_000), Refused, "answered 400, and not as"),
    "a refusal that says no reason": (lambda: Answer(400, json={"reason": ["a"]}), Refused, "answered 400, and not"),
    "a refusal of odd kinds": (
        lambda: Answer(404, json={"reason": "missing", "detail": {"x": 1}, "names": ["a", 5], "text": 7}),
        Refused,
        "the service answered 404",
    ),
}  # fmt: skip


@pytest.mark.parametrize(("answer", "error", "says"), ODD.values(), ids=ODD)
def test_what_is_no_file_is_told_as_what_it_is(
    tmp_path: Path, answer: Callable[[], Answer], error: type[Exception], says: str
) -> None:
    with pytest.raises(error, match=says) as caught:
        fetching.fetch(service([answer])[0], URL, folder=tmp_path)
    with pytest.raises(error, match=says):
        fetching.stream(service([answer])[0], URL, io.BytesIO())
    assert not (tmp_path / "a.bin").exists()
    if isinstance(caught.value, Refused):
        assert all(isinstance(name, str) for name in caught.value.names)
        assert caught.value.text == ""


def test_a_service_that_answers_and_is_lost_at_once_is_asked_again(tmp_path: Path) -> None:
    fields = {"content-length": str(len(FILE)), "accept-ranges": "bytes"}
    at_once = lambda: Answer(200, headers=fields, stream=Broken())  # noqa: E731
    assert fetching.fetch(service([at_once, at_once, whole])[0], URL, folder=tmp_path).path.read_bytes() == FILE
    written = io.BytesIO()
    fetching.stream(service([at_once, at_once, whole])[0], URL, written)
    assert written.getvalue() == FILE


def test_a_file_that_was_there_is_said_to_be_left_and_not_verified(tmp_path: Path) -> None:
    (tmp_path / "a.bin").write_bytes(b"mine")
    http, asked = service([whole])
    fetched = fetching.fetch(http, URL, target=tmp_path / "a.bin", existing="skip")
    assert (fetched.skipped, fetched.verified, fetched.size, asked) == (True, False, 4, [])
    assert (tmp_path / "a.bin").read_bytes() == b"mine"

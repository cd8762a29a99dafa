"""What replies take: everything that practitioners give them is right, or an error where it is written."""

from __future__ import annotations

import asyncio
import errno
import hashlib
import io
import os
import random
import resource
import sqlite3
import tarfile
import tempfile
import time
import zipfile
import zlib
from collections.abc import AsyncIterator, Callable, Iterator
from contextlib import contextmanager
from functools import partial
from itertools import repeat
from pathlib import Path
from typing import Any, cast

import httpx
import pytest
import sqlalchemy as sa
from fastapi import FastAPI, HTTPException, Request
from fastapi.testclient import TestClient
from starlette.background import BackgroundTask
from starlette.responses import JSONResponse

import invio
from invio.core.readable import ContentChanged
from invio.delivery.archives.spools import SMALL, SharedFile
from invio.delivery.replies import bundle, contents, making
from invio.delivery.replies.making import Content, all_pieces
from invio.delivery.replies.stream import StreamReply
from invio.delivery.sending import production
from invio.producers.csv_rows import RowsAsCsv
from invio.producers.room import Room
from invio.stores.sources import DiskFile, SpooledFile

Row = dict[str, object]
ROWS: list[Row] = [{"station": "S1", "metres": 4.2}, {"metres": 5, "station": "S, 2"}]
AS_CSV = 'station,metres\r\nS1,4.2\r\n"S, 2",5\r\n'


def rows() -> Iterator[Row]:
    yield from ROWS


async def async_rows() -> AsyncIterator[Row]:
    for row in ROWS:
        yield row


async def coroutine() -> list[Row]:
    return ROWS


def answer(reply: Callable[[], Any], method: str = "GET", **headers: str) -> httpx.Response:
    """What a route that gives this reply answers."""
    app = FastAPI()
    app.api_route("/", methods=["GET", "HEAD", "POST"])(reply)
    return asked(app, "/", method, **headers)


def asked(app: FastAPI, path: str, method: str = "GET", **headers: str) -> httpx.Response:
    """What an application answers, without a server."""

    async def ask() -> httpx.Response:
        transport = httpx.ASGITransport(app, raise_app_exceptions=False)
        async with httpx.AsyncClient(transport=transport, base_url="http://app") as client:
            fields = {name.replace("_", "-"): value for name, value in headers.items()}
            return await client.request(method, path, headers=fields)

    return asyncio.run(ask())


@pytest.mark.parametrize(
    "make",
    [rows, rows(), ROWS, lambda: ROWS, async_rows, async_rows(), coroutine, lambda: coroutine(), lambda: iter(ROWS)],
    ids=["generator function", "generator", "list", "function", "async generator function", "async generator",
         "coroutine function", "coroutine", "iterator"],
)  # fmt: skip
def test_rows_are_sent_as_csv_however_they_are_given(make: Any) -> None:
    assert answer(lambda: invio.StreamReply(make, name="depths.csv")).text == AS_CSV


def test_the_header_of_rows_is_a_choice() -> None:
    def text(make: Any, header: Any) -> str:
        return answer(lambda: invio.StreamReply(make, name="a.csv", header=header)).text

    assert text(ROWS, False) == 'S1,4.2\r\n"S, 2",5\r\n'
    assert text(ROWS, ["metres", "station", "time"]) == 'metres,station,time\r\n4.2,S1,\r\n5,"S, 2",\r\n'
    assert text([("S1", 4.2)], ["station", "metres"]) == "station,metres\r\nS1,4.2\r\n"
    assert text([("S1", 4.2)], True) == "S1,4.2\r\n"
    assert text([], ["station"]) == "station\r\n"


@pytest.mark.parametrize("make", ["über", "über".encode(), lambda: "über", lambda: ["ü", "ber"], [b"\xc3\xbc", "ber"]])
def test_texts_and_bytes_are_sent_as_they_are(make: Any) -> None:
    assert answer(lambda: invio.StreamReply(make, name="a.txt")).content == "über".encode()


def test_an_sqlalchemy_result_is_taken_as_it_is() -> None:
    import sqlalchemy as sa

    engine = sa.create_engine("sqlite://", poolclass=sa.StaticPool, connect_args={"check_same_thread": False})
    with engine.connect() as connection:
        query = sa.text("SELECT 1 AS number, 'a' AS letter UNION SELECT 2, 'b'")
        told = answer(lambda: invio.StreamReply(lambda: connection.execute(query).mappings(), name="a.csv"))
    assert told.text == "number,letter\r\n1,a\r\n2,b\r\n"


ANY: Any = invio  # what is given is wrong on purpose


@pytest.mark.parametrize(
    ("wrong", "says"),
    [
        (lambda: ANY.StreamReply(7), "make is int; expected a function"),
        (lambda: ANY.StreamReply({"a": 1}), "make is a mapping"),
        (lambda: ANY.StreamReply(lambda station: [station]), "make takes the argument 'station'"),
        (lambda: ANY.StreamReply(ROWS, name=7), "name is int; expected a text"),
        (lambda: ANY.FileReply(b"a.txt"), "path is bytes; expected a path"),
        (lambda: ANY.FileReply(7), "path is int"),
        (lambda: ANY.FileReply("a", within=7), "within is int"),
        (lambda: ANY.BundleReply("a.txt"), "files is one path, 'a.txt'; expected a list"),
        (lambda: ANY.BundleReply(Path("a.txt")), "files is one path"),
        (lambda: ANY.BundleReply([b"a"]), "files holds bytes; expected paths"),
        (lambda: ANY.BundleReply({"a.csv": async_rows}), "'a.csv' is made asynchronously"),
        (lambda: ANY.BundleReply({"": "a"}), "files has the name ''"),
        (lambda: ANY.BundleReply({"a": "a"}, name=7), "name is int; expected a text"),
        (lambda: ANY.BundleReply({"a": 7}), "make is int"),
        (lambda: ANY.BundleReply(7), "files is int"),
    ],
)
def test_what_is_not_of_its_kind_is_an_error_where_it_is_written(wrong: Callable[[], object], says: str) -> None:
    with pytest.raises(TypeError) as raised:
        wrong()
    assert says in str(raised.value)


def test_wrong_choices_are_errors_where_they_are_written() -> None:
    for wrong in ({"format": "rar"}, {"on_problem": "ignore"}, {"speed": 1.5}):
        with pytest.raises(ValueError, match="expected"):
            ANY.BundleReply([], **wrong)


def test_any_method_of_the_route_gets_the_whole(tmp_path: Path) -> None:
    (tmp_path / "a.txt").write_bytes(b"0123456789")

    def file() -> invio.FileReply:
        return invio.FileReply(tmp_path / "a.txt")

    assert answer(file, range="bytes=0-3").status_code == 206
    for reply in (file, lambda: invio.StreamReply(ROWS, tag="t"), lambda: invio.BundleReply([tmp_path])):
        posted = answer(reply, "POST", range="bytes=0-3", if_none_match="*", if_match='"x"')
        assert (posted.status_code, bool(posted.content)) == (200, True)
        assert "content-range" not in posted.headers


def test_the_status_is_the_route_s(tmp_path: Path) -> None:
    (tmp_path / "a.txt").write_bytes(b"content")
    made = answer(lambda: invio.FileReply(tmp_path / "a.txt", status_code=201), range="bytes=0-3")
    assert (made.status_code, made.content) == (201, b"content")

    def later() -> invio.StreamReply:
        reply = invio.StreamReply("x")
        reply.status_code = 202
        return reply

    assert answer(later).status_code == 202
    assert answer(lambda: invio.FileReply(tmp_path / "none", status_code=201)).status_code == 404


def test_they_are_response_classes_and_described_in_openapi(tmp_path: Path) -> None:
    (tmp_path / "a.txt").write_bytes(b"content")
    app = FastAPI()
    app.get("/file", response_class=invio.FileReply)(lambda: str(tmp_path / "a.txt"))
    app.get("/rows", response_class=invio.StreamReply, status_code=203)(lambda: [["a", 1]])
    app.get("/all", response_class=invio.BundleReply)(lambda: [str(tmp_path / "a.txt")])
    described = asked(app, "/openapi.json").json()["paths"]
    assert asked(app, "/file").content == b"content"
    made = asked(app, "/rows")
    assert (made.status_code, made.text) == (203, "a,1\r\n")
    assert zipfile.ZipFile(io.BytesIO(asked(app, "/all").content)).namelist() == ["a.txt"]
    assert list(described["/all"]["get"]["responses"]["200"]["content"]) == ["application/zip"]
    assert list(described["/file"]["get"]["responses"]["200"]["content"]) == ["application/octet-stream"]


def test_what_fails_before_the_first_byte_is_the_application_s_to_answer() -> None:
    class NoSuchStation(Exception):
        pass

    def fails(error: Exception) -> Iterator[Row]:
        raise error
        yield {}

    async def fails_async() -> AsyncIterator[Row]:
        raise NoSuchStation
        yield {}

    app = FastAPI()
    app.add_exception_handler(NoSuchStation, lambda _, __: JSONResponse({"said": "no such station"}, 422))

    @app.get("/{what}")
    def route(what: str, request: Request) -> invio.StreamReply:
        if what == "async":
            return invio.StreamReply(fails_async)
        error = NoSuchStation() if what == "own" else HTTPException(409, "try later") if what == "http" else OSError()
        return invio.StreamReply(lambda: fails(error) if what != "none" else None)

    assert (asked(app, "/own").status_code, asked(app, "/async").json()) == (422, {"said": "no such station"})
    assert asked(app, "/http").json() == {"detail": "try later"}
    assert [asked(app, f"/{what}").status_code for what in ("other", "none")] == [500, 500]
    assert asked(app, "/own", "HEAD").status_code == 405


def test_an_archive_has_all_that_archives_have(tmp_path: Path) -> None:
    (tmp_path / "log.txt").write_bytes(b"depth 4.2 metres\n" * 5000)
    (tmp_path / "photo.jpg").write_bytes(os.urandom(5000))
    given: dict[str, Any] = {
        "logs/log.txt": tmp_path / "log.txt",
        "photo.jpg": str(tmp_path / "photo.jpg"),
        "table.csv": rows,
        "note.txt": b"made by hand",
        "gone.txt": tmp_path / "gone.txt",
    }
    refused = answer(lambda: invio.BundleReply(given))
    assert (refused.status_code, refused.json()["detail"]) == (404, "there is no file 'gone.txt'")
    made = answer(lambda: invio.BundleReply(given, sums=True, on_problem="leave-out"))
    archive = zipfile.ZipFile(io.BytesIO(made.content))
    assert archive.testzip() is None
    assert archive.namelist() == [
        "logs/log.txt", "photo.jpg", "table.csv", "note.txt", "SHA256SUMS", "LEFT-OUT.txt"
    ]  # fmt: skip
    assert (archive.read("table.csv").decode(), archive.read("note.txt")) == (AS_CSV, b"made by hand")
    assert archive.read("LEFT-OUT.txt") == b"gone.txt\n"
    assert len(archive.read("SHA256SUMS").splitlines()) == 4
    by_name = {one.filename: one for one in archive.infolist()}
    assert by_name["logs/log.txt"].compress_size < 5000 < by_name["photo.jpg"].compress_size + 1
    assert answer(lambda: invio.BundleReply(given, on_problem="leave-out", compress=False)).status_code == 200
    tar = answer(lambda: invio.BundleReply([tmp_path / "log.txt"], format="tar", name="x"))
    with tarfile.open(fileobj=io.BytesIO(tar.content)) as opened:
        assert opened.getnames() == ["log.txt"]
    assert 'filename="x.tar"' in tar.headers["content-disposition"]
    for more in ({"most_files": 1}, {"most_bytes": 100}):
        many = answer(lambda more=more: invio.BundleReply([tmp_path], **more))  # type: ignore[misc]
        assert (many.status_code, many.json()["reason"]) == (413, "too-large")


def test_what_was_learnt_of_a_content_is_kept_until_it_changes(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / "log.txt").write_bytes(b"depth 4.2 metres\n" * 5000)
    read: list[str] = []

    def noting(what: str) -> None:
        work: Any = getattr(contents, what)

        def noted(*given: object) -> object:
            read.append(what)
            return work(*given)

        monkeypatch.setattr(contents, what, noted)

    noting("crc_of")
    noting("_deflate")

    def reply() -> invio.BundleReply:
        return invio.BundleReply([tmp_path / "log.txt"])

    first = answer(reply)
    rest = answer(reply, range="bytes=100-", if_range=first.headers["etag"])
    assert (rest.status_code, first.content[100:] == rest.content) == (206, True)
    assert sorted(read) == ["_deflate", "crc_of"]
    (tmp_path / "log.txt").write_bytes(b"another log\n" * 5000)
    assert answer(reply).headers["etag"] != first.headers["etag"]
    assert len(read) == 4


def test_a_link_to_a_folder_is_followed_anew(tmp_path: Path) -> None:
    for release in ("one", "two"):
        (tmp_path / release).mkdir()
        (tmp_path / release / "a.txt").write_text(release)
    current = tmp_path / "current"
    current.symlink_to("one")

    def within() -> invio.FileReply:
        return invio.FileReply("a.txt", within=current)

    assert answer(within).text == "one"
    (tmp_path / "next").symlink_to("two")
    (tmp_path / "next").rename(current)
    assert answer(within).text == "two"
    assert answer(lambda: invio.FileReply(current / "a.txt")).text == "two"
    assert (
        zipfile.ZipFile(io.BytesIO(answer(lambda: invio.BundleReply([current])).content)).read("current/a.txt")
        == b"two"
    )


def test_rows_that_are_not_alike_are_errors() -> None:
    for rows, says in (
        ([{"a": 1}, {"b": 2, "a": 1}], "a row has the key 'b', which is none of the columns a"),
        ([{"a": 1}, b"text"], "a row is bytes; expected a list, a tuple or a dict"),
        ([{"a": 1}, 7], "a row is int"),
        ([[1], {"a": 1}], "a row is a dict where the first was none"),
    ):
        written = RowsAsCsv(header=True)
        written.add(rows[0])  # type: ignore[arg-type]
        with pytest.raises((TypeError, ValueError)) as raised:
            written.add(rows[1])  # type: ignore[arg-type]
        assert says in str(raised.value)
    assert RowsAsCsv(header=True).add([1, 2]) == b"", "it is gathered to larger pieces"


def test_what_a_function_makes_is_looked_at_too() -> None:
    async def begun(make: Any) -> bytes:
        content = Content(make, True)
        with pytest.raises(RuntimeError, match="was not begun"):
            content.chunks()
        await content.begin()
        return b"".join(cast(Iterator[bytes], content.chunks()))

    assert asyncio.run(begun(lambda times=2, *_more, **_named: ["x"] * times)) == b"xx"
    for made, says in (
        (None, "make gave None; expected"),
        (7, "make gave int; expected pieces"),
        ([1.5], "a piece is float"),
        (["a text", [1, 2]], "a piece is list where the first was bytes or a text"),
    ):
        with pytest.raises(TypeError) as raised:
            asyncio.run(begun(lambda made=made: made))
        assert says in str(raised.value)


def test_what_waits_for_a_row_is_cancelled_and_closed() -> None:
    class Query:
        def __init__(self) -> None:
            self.told: list[str] = []

        def __iter__(self) -> Iterator[list[int]]:
            yield [1]

        def cancel(self) -> None:
            self.told.append("cancel")

        def close(self) -> None:
            self.told.append("close")

    query = Query()
    pieces: Any = all_pieces(query, True)
    pieces.cancel()
    pieces.close()
    assert query.told == ["cancel", "close"]

    class Result(Query):
        cursor = query

        def keys(self) -> list[str]:
            return ["a"]

    rows = making._NamedRows(Result())
    rows.cancel()
    assert (query.told, next(rows), next(rows)) == (["cancel", "close", "cancel"], ("a",), (1,))


def test_the_first_piece_is_waited_for(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(production, "_LOOKED_EVERY", 0.001)

    def late() -> list[str]:
        time.sleep(0.03)
        return ["late"]

    assert answer(lambda: invio.StreamReply(late)).text == "late"


def test_a_digest_that_is_known_is_not_worked_out_again(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / "a.txt").write_bytes(b"x")
    source = DiskFile.of(os.fsencode(tmp_path / "a.txt"), os.stat(tmp_path / "a.txt"))
    first = contents.known_sha256(source)
    assert first == hashlib.sha256(b"x").digest()
    monkeypatch.setattr(contents, "read_through", lambda _: pytest.fail("it was read before"))
    assert contents.known_sha256(source) == first


def test_the_limits_of_an_archive_are_what_it_may_just_hold(tmp_path: Path) -> None:
    for name in ("a.txt", "b.txt"):
        (tmp_path / name).write_bytes(b"x" * 600)
    just = answer(lambda: invio.BundleReply([tmp_path], most_files=2, most_bytes=1200))
    assert just.status_code == 200
    assert answer(lambda: invio.BundleReply([tmp_path], most_bytes=1199)).status_code == 413
    endless = answer(lambda: invio.BundleReply({"a.txt": lambda: repeat(b"x" * 600)}, most_bytes=1199))
    assert (endless.status_code, endless.json()["detail"]) == (413, "an archive holds at most 1199 bytes")
    empty = answer(lambda: invio.BundleReply([]))
    assert (empty.status_code, empty.json()["detail"]) == (400, "the selection is empty")
    (tmp_path / "c.jpg").write_bytes(b"x" * 600)
    (tmp_path / "d.txt").write_bytes(b"x" * 511)
    (tmp_path / "e.txt").write_bytes(b"x" * 512)
    whole = answer(lambda: invio.BundleReply([tmp_path]))
    stored = {one.filename: one.compress_type for one in zipfile.ZipFile(io.BytesIO(whole.content)).infolist()}
    folder = tmp_path.name
    assert [stored[f"{folder}/{name}"] for name in ("a.txt", "c.jpg", "d.txt", "e.txt")] == [8, 0, 0, 8]


def test_only_so_much_is_deflated_as_may_be_waited_for(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / "a.txt").write_bytes(b"x" * 600)
    for limit, method in ((600, zipfile.ZIP_DEFLATED), (599, zipfile.ZIP_STORED)):
        monkeypatch.setattr(bundle, "_WAIT_FOR", limit)
        made = answer(lambda: invio.BundleReply([tmp_path / "a.txt"]))
        assert zipfile.ZipFile(io.BytesIO(made.content)).infolist()[0].compress_type == method


@pytest.mark.parametrize(
    ("error", "word", "detail"),
    [
        (ContentChanged("it has grown"), "changed", "'a.txt': it has grown"),
        (OSError(errno.ENOSPC, "No space left"), "no-space", "'a.txt' could not be compressed: No space left"),
    ],
)
def test_what_cannot_be_read_refuses_an_archive_or_is_left_out(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, error: Exception, word: str, detail: str
) -> None:
    for name in ("a.txt", "b.txt"):
        (tmp_path / name).write_text(name)
    known = contents.known_crc

    def failing(source: Any, called: str) -> int:
        if called == "a.txt":
            raise error
        return known(source, called)

    monkeypatch.setattr(bundle, "known_crc", failing)
    files = [tmp_path / "a.txt", tmp_path / "b.txt"]
    refused = answer(lambda: invio.BundleReply(files)).json()
    assert (refused["reason"], refused["detail"]) == (word, detail)
    made = answer(lambda: invio.BundleReply(files, on_problem="leave-out"))
    assert zipfile.ZipFile(io.BytesIO(made.content)).namelist() == ["b.txt", "LEFT-OUT.txt"]
    nothing = answer(lambda: invio.BundleReply(files[:1], on_problem="leave-out")).json()
    assert (nothing["reason"], nothing["detail"]) == ("no-selection", "nothing of the selection can be read")


@pytest.mark.parametrize("size", [10, SMALL + 1], ids=["small", "large"])
def test_what_the_disk_does_not_take_refuses_an_archive_or_is_left_out(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, size: int
) -> None:
    (tmp_path / "b.txt").write_text("b")
    monkeypatch.setattr(tempfile, "TemporaryFile", lambda **_: open("/dev/full", "w+b", buffering=0))  # noqa: SIM115
    files: dict[str, Any] = {"a.csv": lambda: iter([b"x" * size]), "b.txt": tmp_path / "b.txt"}
    refused = answer(lambda: invio.BundleReply(files))
    said = "'a.csv': it could not be kept until it is sent: No space left on device"
    assert (refused.status_code, refused.json()["detail"]) == (507, said)
    made = answer(lambda: invio.BundleReply(files, on_problem="leave-out"))
    assert zipfile.ZipFile(io.BytesIO(made.content)).namelist() == ["b.txt", "LEFT-OUT.txt"]

    def fails() -> Iterator[bytes]:
        raise FileNotFoundError("readings.csv")

    own = answer(lambda: invio.BundleReply({"a.csv": fails}))
    assert own.status_code == 500, "what the application's function raises is the application's to answer"


def test_deflated_contents_are_kept_within_bounds(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(contents, "_deflated", contents._Forms())
    monkeypatch.setattr(contents, "_KEPT_FILES", 2)
    monkeypatch.setattr(contents, "SMALL", 0)
    deflated = partial(contents.deflated, shared=SharedFile(Room()))
    sources = []
    for number in range(3):
        (tmp_path / f"{number}.txt").write_bytes(b"%d" % number * 4000)
        sources.append(DiskFile.of(os.fsencode(tmp_path / f"{number}.txt"), os.stat(tmp_path / f"{number}.txt")))
    kept = [deflated(source) for source in sources[:2]]
    assert deflated(sources[0]) is kept[0]
    deflated(sources[2])
    assert list(contents._deflated) == [sources[0], sources[2]], "the one that was not used for longest goes first"
    monkeypatch.setattr(contents, "KEPT_BYTES", contents._deflated.size)
    assert contents._deflated.size == sum(one.size for one in [*kept[:1], deflated(sources[2])] if one)
    contents._deflated.drop(sources[2])
    deflated(sources[2])
    assert list(contents._deflated) == [sources[0], sources[2]], "just as much as may be kept"
    monkeypatch.setattr(contents, "KEPT_BYTES", 1)
    assert deflated(sources[1]) is not None
    assert list(contents._deflated) == []
    (tmp_path / "odd").write_bytes(os.urandom(4000))
    odd = DiskFile.of(os.fsencode(tmp_path / "odd"), os.stat(tmp_path / "odd"))
    assert deflated(odd) is None, "what hardly gets shorter stays as it is"
    big = tmp_path / "big.txt"
    big.write_bytes(b"0123456789abcdef" * 65536)  # just one piece
    whole = deflated(DiskFile.of(os.fsencode(big), os.stat(big)))
    assert whole is not None
    assert zlib.decompress(whole.read(0, whole.size), -15) == big.read_bytes()
    big.write_bytes(big.read_bytes() + b"and more")
    grown = DiskFile.of(os.fsencode(big), os.stat(big))
    more = deflated(grown)
    assert more is not None
    assert zlib.decompress(more.read(0, more.size), -15) == big.read_bytes()
    with big.open("ab") as file:
        file.write(b", as logs grow")
    later = contents._deflate(grown)
    assert isinstance(later, SpooledFile)
    assert later.read(0, later.size) == more.read(0, more.size), "what was found of it is its beginning"
    os.truncate(big, 5)
    with pytest.raises(ContentChanged):
        contents._deflate(grown)


def test_small_deflated_contents_are_kept_in_memory_within_bounds(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(contents, "_small", contents._Forms())
    texts = [random.Random(number).randbytes(100).hex().encode() for number in range(3)]
    sources = [disk_file(tmp_path / f"{number}.txt", text) for number, text in enumerate(texts)]
    sizes, shared = [], SharedFile(Room())
    for source in sources:
        made = contents.deflated(source, shared)
        assert made is not None
        sizes.append(made.size)
    assert (list(contents._small), contents._small.size) == (sources, sum(sizes))
    monkeypatch.setattr(contents, "_deflate", lambda _: pytest.fail("it is kept"))
    again = contents.deflated(sources[0], shared)
    assert again is not None
    assert zlib.decompress(again.read(0, again.size), -15) == texts[0]
    monkeypatch.undo()


def disk_file(path: Path, content: bytes) -> DiskFile:
    path.write_bytes(content)
    return DiskFile.of(os.fsencode(path), path.stat())


@contextmanager
def few_descriptors(more: int) -> Iterator[None]:
    """As many descriptors as there are, and some more."""
    before = resource.getrlimit(resource.RLIMIT_NOFILE)
    highest = max(map(int, os.listdir("/proc/self/fd")))
    resource.setrlimit(resource.RLIMIT_NOFILE, (highest + more, before[1]))
    try:
        yield
    finally:
        resource.setrlimit(resource.RLIMIT_NOFILE, before)


@pytest.mark.parametrize("made", [False, True])
def test_an_archive_of_many_files_needs_few_descriptors(tmp_path: Path, *, made: bool) -> None:
    count = 150
    texts = {f"{number:03}.csv": f"{number},metres\r\n".encode() * 100 for number in range(count)}
    for name, text in texts.items():
        (tmp_path / name).write_bytes(text)
    with few_descriptors(60):
        files: Any = {name: partial(list, [text]) for name, text in texts.items()} if made else [tmp_path]
        archive = zipfile.ZipFile(io.BytesIO(answer(lambda: invio.BundleReply(files, name="all.zip")).content))
    assert [info.compress_type for info in archive.infolist()] == [zipfile.ZIP_DEFLATED] * count
    assert {name.rpartition("/")[2]: archive.read(name) for name in archive.namelist()} == texts


def test_a_content_that_is_altered_while_it_is_deflated_is_refused(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = tmp_path / "log.txt"
    path.write_bytes(b"x" * 4000)
    source, read = DiskFile.of(os.fsencode(path), os.stat(path)), os.pread
    monkeypatch.setattr(os, "pread", lambda *_: b"")
    with pytest.raises(ContentChanged, match="ended before its announced length"):
        contents._deflate(source)

    def altering(descriptor: int, count: int, at: int) -> bytes:
        piece = read(descriptor, count, at)
        os.utime(path, (1, 1))
        return piece

    monkeypatch.setattr(os, "pread", altering)
    with pytest.raises(ContentChanged, match="altered while it was read"):
        contents._deflate(source)


@pytest.fixture
def readings(tmp_path: Path) -> str:
    path = tmp_path / "readings.sqlite"
    with sqlite3.connect(path) as database:
        database.execute("CREATE TABLE readings (station TEXT, level REAL)")
        database.executemany("INSERT INTO readings VALUES (?, ?)", [("pier", n / 2) for n in range(5000)])
    return f"sqlite:///{path}"


def test_a_statement_of_a_database_is_sent_row_by_row(readings: str) -> None:
    engine = sa.create_engine(readings)
    statement = sa.text("SELECT station, level AS metres FROM readings ORDER BY level")
    app = FastAPI()

    @app.get("/statement")
    def by_statement() -> StreamReply:
        connection = engine.connect()
        return StreamReply(statement, connection=connection, name="r.csv", background=BackgroundTask(connection.close))

    @app.get("/result")
    def by_result() -> StreamReply:
        connection = engine.connect()
        background = BackgroundTask(connection.close)
        return StreamReply(connection.execute(statement), name="r.csv", background=background)

    client = TestClient(app)
    for path in ("/statement", "/result"):
        lines = client.get(path).text.splitlines()
        assert lines[:3] == ["station,metres", "pier,0.0", "pier,0.5"]
        assert len(lines) == 5001
    assert engine.pool.checkedout() == 0  # type: ignore[attr-defined]


def test_a_statement_of_an_asynchronous_connection_is_awaited() -> None:
    closed = []

    class Result:
        """What an asynchronous connection gives for a query."""

        def keys(self) -> list[str]:
            return ["station", "level"]

        def partitions(self) -> None:
            raise NotImplementedError

        mappings = partitions

        async def close(self) -> None:
            closed.append(True)

        async def __aiter__(self) -> AsyncIterator[tuple[str, float]]:
            for number in range(3):
                yield "pier", number / 2

    class Connection:
        async def stream(self, statement: object) -> Result:
            assert str(statement) == "SELECT"
            return Result()

    app = FastAPI()

    @app.get("/")
    async def route() -> StreamReply:
        return StreamReply(sa.text("SELECT"), connection=Connection(), name="r.csv")

    assert TestClient(app).get("/").text.splitlines() == ["station,level", "pier,0.0", "pier,0.5", "pier,1.0"]
    assert closed == [True]


def test_a_function_that_needs_no_argument_may_take_any() -> None:
    def anything(*given: object, **named: object) -> list[Row]:
        assert (given, named) == ((), {})
        return ROWS

    def with_defaults(station: str = "S1", *, metres: float = 0.0) -> list[Row]:
        assert (station, metres) == ("S1", 0.0)
        return ROWS

    assert answer(lambda: invio.StreamReply(anything, name="a.csv")).text == AS_CSV
    assert answer(lambda: invio.StreamReply(with_defaults, name="a.csv")).text == AS_CSV


def test_what_is_in_an_archive_is_made_plainly() -> None:
    for make in (async_rows, async_rows(), coroutine):
        with pytest.raises(TypeError, match="made plainly, not asynchronously"):
            all_pieces(make, header=True)
    assert b"".join(all_pieces(["a", b"b"], ["station"])) == b"ab", "what is no row has no header"


def test_the_rows_of_a_result_are_closed_with_it(readings: str) -> None:
    engine = sa.create_engine(readings)
    with engine.connect() as connection:
        result = connection.execute(sa.text("SELECT 1 AS one UNION SELECT 2"))
        named = making._NamedRows(result)
        assert [next(named), next(named)] == [("one",), (1,)]
        named.close()
        assert result.closed
    engine.dispose()


def test_of_no_rows_there_is_the_header_that_was_given_and_nothing_else() -> None:
    def text(header: Any) -> str:
        return answer(lambda: invio.StreamReply(lambda: iter(()), name="a.csv", header=header)).text

    assert text(["station", "metres"]) == "station,metres\r\n"
    assert text(True) == ""
    assert text(False) == ""


def test_a_content_that_was_made_is_deflated_too_and_leaves_no_descriptor(tmp_path: Path) -> None:
    text = b"2026-01-15,12.5\n" * 4000
    (tmp_path / "made").write_bytes(text)
    (tmp_path / "noise").write_bytes(os.urandom(20_000))
    made = SpooledFile(os.open(tmp_path / "made", os.O_RDONLY), len(text))
    short = contents.deflated(made, SharedFile(Room()))
    assert short is not None
    assert zlib.decompress(short.read(0, short.size), wbits=-15) == text
    open_before = len(os.listdir("/proc/self/fd"))
    for _ in range(3):
        noise = os.stat(tmp_path / "noise")
        assert contents._deflate(DiskFile.of(os.fsencode(tmp_path / "noise"), noise)) is None
    assert len(os.listdir("/proc/self/fd")) == open_before


def test_what_there_is_of_slow_rows_is_had_before_the_rest() -> None:
    written = RowsAsCsv(["station", "metres"])
    assert written.add(["S1", 4.2]) == b""
    assert written.flush() == b"station,metres\r\nS1,4.2\r\n"
    assert written.flush() == b""
    assert written.add(["S2", 5]) + written.end() == b"S2,5\r\n"


MAKE: dict[str, Callable[..., Any]] = {
    "a file": lambda **given: invio.FileReply(__file__, **given),
    "a stream": lambda **given: invio.StreamReply("x", **given),
}
every_reply = pytest.mark.parametrize("made", MAKE.values(), ids=MAKE)


@every_reply
@pytest.mark.parametrize(
    "media_type",
    ["text/html\r\nSet-Cookie: a=b", "text/html\n", "nonsense", "text/pl\u00e4in", "", "text/csv; header=present"],
)
def test_what_is_no_media_type_is_refused(made: Callable[..., Any], media_type: str) -> None:
    with pytest.raises(ValueError, match="is no media type; expected as in text/csv"):
        made(media_type=media_type)


@every_reply
@pytest.mark.parametrize(
    ("media_type", "told"),
    [
        ("Text/CSV", "text/csv; charset=utf-8"),
        ('text/csv ; charset="ISO-8859-1"', "text/csv; charset=ISO-8859-1"),
        ("text/csv;charset=latin-1", "text/csv; charset=latin-1"),
        ("application/json; charset=utf-8", "application/json"),
    ],
)
def test_a_charset_is_told_once(made: Callable[..., Any], media_type: str, told: str) -> None:
    assert answer(lambda: made(media_type=media_type)).headers["content-type"] == told


@every_reply
@pytest.mark.parametrize("field", [{"x-of": "a\r\nset-cookie: b=c"}, {"x-of": "a\x00"}, {"x-of\r\nx": "a"}])
def test_no_header_begins_another(made: Callable[..., Any], field: dict[str, str]) -> None:
    with pytest.raises(ValueError, match="holds a line end or another control character"):
        made(headers=field)
    assert answer(lambda: made(headers={"x-of": "a\tb"})).headers["x-of"] == "a\tb"


@every_reply
def test_no_header_that_is_set_later_begins_another(made: Callable[..., Any]) -> None:
    def reply() -> Any:
        one = made()
        one.headers["x-of"] = "a\r\nset-cookie: b=c"
        return one

    got = answer(reply)
    assert got.status_code == 500
    assert "set-cookie" not in got.headers

"""The client library against the running service, and against one that misbehaves."""

from __future__ import annotations

import hashlib
import io
import json
import os
import socket
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import httpx
import pytest

from invio.client import Client, FileChanged, Patience, Progress, Refused, ServiceUnreachable, patience, putting
from invio.client.partial import PartialFile
from invio.core.addresses import BadAddress
from tests.running import Service

BIG = os.urandom(2_000_000)


@pytest.fixture(scope="module")
def service(start_shared: Callable[..., Service]) -> Service:
    return start_shared(files={"big.bin": BIG, "deep/Södra leden.txt": b"x", "empty": b""})


@pytest.fixture
def client(service: Service) -> Iterator[Client]:
    with Client(service.url, service.tokens["ann"]) as client:
        yield client


def test_a_file_is_fetched_with_its_progress(client: Client, tmp_path: Path) -> None:
    told: list[Progress] = []
    fetched = client.fetch("files/big.bin", folder=tmp_path, report=told.append)
    assert fetched.path == tmp_path / "big.bin"
    assert fetched.path.read_bytes() == BIG
    assert (fetched.size, fetched.resumed) == (len(BIG), 0)
    assert [step.done for step in told] == sorted(step.done for step in told)
    assert (told[0].percent, told[-1].percent) == (0.0, 100.0)
    assert [path.name for path in tmp_path.glob("big*")] == ["big.bin"]


def test_names_are_the_service_s(client: Client, tmp_path: Path) -> None:
    assert client.fetch("files/deep/Södra leden.txt", folder=tmp_path).path.name == "Södra leden.txt"
    assert client.fetch("files/empty", folder=tmp_path).path.read_bytes() == b""


@pytest.fixture
def hasty(monkeypatch: pytest.MonkeyPatch) -> None:
    """The pauses between two tries are short."""
    monkeypatch.setattr(patience, "PAUSES", (0.01,) * 4)


@pytest.mark.usefixtures("hasty")
def test_what_is_there_of_a_file_is_not_fetched_again(client: Client, service: Service, tmp_path: Path) -> None:
    with truncating(service.port, after=700_000) as port, Client(f"http://127.0.0.1:{port}") as broken:
        broken_off = pytest.raises(ServiceUnreachable, match="kept in")
        with broken_off:
            broken.fetch("files/big.bin", folder=tmp_path)
    assert not (tmp_path / "big.bin").exists(), "nothing broken stands under the final name"
    part = tmp_path / "big.bin.part"
    there = part.stat().st_size
    assert 0 < there < len(BIG)
    note = part.with_name("big.bin.part.json")
    note.write_text(note.read_text().replace(f":{port}/", f":{service.port}/"))
    fetched = client.fetch("files/big.bin", folder=tmp_path)
    assert fetched.resumed == there
    assert fetched.path.read_bytes() == BIG
    assert not part.exists()
    assert not note.exists()


def test_a_lost_connection_is_taken_up_again(service: Service, tmp_path: Path) -> None:
    with truncating(service.port, after=700_000, times=2) as port, Client(f"http://127.0.0.1:{port}") as client:
        assert client.fetch("files/big.bin", folder=tmp_path).path.read_bytes() == BIG


def test_a_file_that_changed_is_begun_anew_and_never_mixed(client: Client, service: Service, tmp_path: Path) -> None:
    (tmp_path / "big.bin.part").write_bytes(BIG[:500_000])
    (tmp_path / "big.bin.part.json").write_text(f'{{"url": "{service.url}/get/files/big.bin", "etag": "\\"old\\""}}')
    fetched = client.fetch("files/big.bin", folder=tmp_path)
    assert fetched.resumed == 0
    assert fetched.path.read_bytes() == BIG


def test_a_part_that_is_already_whole_needs_no_more(client: Client, service: Service, tmp_path: Path) -> None:
    etag = service.get("/get/files/big.bin").headers["etag"].replace('"', '\\"')
    for content, resumed in ((BIG, len(BIG)), (BIG + b"too much", 0)):
        (tmp_path / "x.part").write_bytes(content)
        (tmp_path / "x.part.json").write_text(f'{{"url": "{service.url}/get/files/big.bin", "etag": "{etag}"}}')
        fetched = client.fetch("files/big.bin", target=tmp_path / "x")
        assert (fetched.resumed, fetched.path.read_bytes() == BIG) == (resumed, True)
        fetched.path.unlink()


class Taking(httpx.BaseTransport):
    """Takes what is put, and notes it with the length that was announced."""

    def __init__(self) -> None:
        self.taken: list[tuple[bytes, str | None]] = []

    def handle_request(self, request: httpx.Request) -> httpx.Response:
        content = request.read()
        self.taken.append((content, request.headers.get("content-length")))
        return httpx.Response(201, json={"sha256": hashlib.sha256(content).hexdigest()})


def test_what_says_that_it_is_empty_is_read_to_its_end(tmp_path: Path) -> None:
    (tmp_path / "empty").touch()
    (tmp_path / "some").write_bytes(b"some")
    taking = Taking()
    with httpx.Client(transport=taking) as http:
        for path in (Path("/proc/self/status"), tmp_path / "empty", tmp_path / "some"):
            putting.put(http, "http://files.example.org/", path, {})
    (made, unknown), *known = taking.taken
    assert made.startswith(b"Name:")
    assert unknown is None
    assert known == [(b"", "0"), (b"some", "4")]


def test_of_an_empty_file_that_was_begun_there_is_nothing_to_resume(
    client: Client, service: Service, tmp_path: Path
) -> None:
    etag = service.get("/get/files/empty").headers["etag"].replace('"', '\\"')
    (tmp_path / "empty.part").touch()
    (tmp_path / "empty.part.json").write_text(f'{{"url": "{service.url}/get/files/empty", "etag": "{etag}"}}')
    fetched = client.fetch("files/empty", target=tmp_path / "empty")
    assert (fetched.size, fetched.resumed, fetched.path.read_bytes()) == (0, 0, b"")


def test_what_arrived_is_held_against_the_digest_that_the_service_tells(
    client: Client, service: Service, tmp_path: Path
) -> None:
    assert client.fetch("files/big.bin", folder=tmp_path).verified
    (tmp_path / "big.bin").unlink()
    etag = service.get("/get/files/big.bin").headers["etag"].replace('"', '\\"')
    (tmp_path / "big.bin.part").write_bytes(bytes(1000))  # of the right length so far, and not what it should be
    (tmp_path / "big.bin.part.json").write_text(f'{{"url": "{service.url}/get/files/big.bin", "etag": "{etag}"}}')
    with pytest.raises(FileChanged, match="SHA-256"):
        client.fetch("files/big.bin", folder=tmp_path)
    assert not list(tmp_path.glob("big*")), "what is wrong is not gone on with"
    fetched = client.fetch("files/big.bin", folder=tmp_path)
    assert (fetched.verified, fetched.path.read_bytes() == BIG) == (True, True)


def test_a_file_that_is_there_is_not_overwritten(client: Client, tmp_path: Path) -> None:
    (tmp_path / "big.bin").write_bytes(b"mine")
    with pytest.raises(FileExistsError):
        client.fetch("files/big.bin", folder=tmp_path)
    assert (tmp_path / "big.bin").read_bytes() == b"mine"


def test_a_refusal_is_an_exception_with_its_word(client: Client, tmp_path: Path) -> None:
    with pytest.raises(Refused) as refused:
        client.fetch("files/none", folder=tmp_path)
    assert (refused.value.status, refused.value.reason) == (404, "missing")
    with pytest.raises(Refused) as refused:
        client.bundle(["files/none", "files/empty"])
    assert refused.value.names == ["files/none"]
    assert list(tmp_path.glob("none*")) == []


def test_listing_facts_links_and_reasons(client: Client, tmp_path: Path) -> None:
    assert [entry["address"] for entry in client.files()] == ["files/"]
    assert [entry["name"] for entry in client.files("files/")] == ["deep", "big.bin", "empty"]
    assert client.facts("files/big.bin")["size"] == len(BIG)
    link = client.make_link("files/big.bin", seconds=60, to="bob")["url"]
    with Client(link.partition("/get/")[0]) as anyone:
        assert anyone.fetch(link, folder=tmp_path).size == len(BIG)
    assert client.why("files/big.bin", "bob")["allowed"]
    shown = client.transfers()[0]
    assert (shown["recipient"], shown["made_for"]) == (None, "bob")


def test_no_service_and_no_address_are_said_as_such(tmp_path: Path) -> None:
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        nowhere = f"http://127.0.0.1:{free.getsockname()[1]}"
    with Client(nowhere) as client:
        with pytest.raises(ServiceUnreachable, match="no service answers"):
            list(client.files())
        with pytest.raises(ServiceUnreachable, match="no service answers"):
            client.fetch("files/a", folder=tmp_path)
        with pytest.raises(BadAddress):
            client.fetch("files/../a", folder=tmp_path)


def test_a_token_goes_to_its_own_service_alone(service: Service, tmp_path: Path) -> None:
    heads: list[bytes] = []
    answer = b"HTTP/1.1 200 OK\r\naccept-ranges: bytes\r\ncontent-length: 2\r\nconnection: close\r\n\r\nhi"
    with answering(answer, heads) as port, Client(service.url, "secret") as client:
        client.fetch(f"http://127.0.0.1:{port}/get/files/a.txt", folder=tmp_path)
    assert b"secret" not in heads[0]


@pytest.mark.usefixtures("hasty")
def test_fewer_bytes_than_announced_are_never_a_file(tmp_path: Path) -> None:
    answer = b"HTTP/1.1 200 OK\r\naccept-ranges: bytes\r\ncontent-length: 10\r\nconnection: close\r\n\r\nshort"
    lost = pytest.raises((ServiceUnreachable, FileChanged))
    with answering(answer, []) as port, Client(f"http://127.0.0.1:{port}") as client, lost:
        client.fetch("files/a.txt", folder=tmp_path)
    assert not (tmp_path / "a.txt").exists()


def test_an_order_for_a_front_server_is_no_empty_file(tmp_path: Path) -> None:
    answer = b"HTTP/1.1 200 OK\r\nx-accel-redirect: /stored/a\r\ncontent-length: 0\r\nconnection: close\r\n\r\n"
    lost = pytest.raises(FileChanged, match="front server's address")
    with answering(answer, []) as port, Client(f"http://127.0.0.1:{port}") as client, lost:
        client.fetch("files/a.txt", folder=tmp_path)
    assert list(tmp_path.iterdir()) == []


@contextmanager
def answering(answer: bytes, heads: list[bytes]) -> Iterator[int]:
    """A server that gives every request the same answer."""

    def run(listener: socket.socket) -> None:
        while True:
            try:
                connection, _ = listener.accept()
            except OSError:
                return
            with connection:
                heads.append(connection.recv(65536))
                connection.sendall(answer)

    with socket.create_server(("127.0.0.1", 0)) as listener:
        threading.Thread(target=run, args=(listener,), daemon=True).start()
        yield listener.getsockname()[1]
        listener.shutdown(socket.SHUT_RDWR)


@contextmanager
def truncating(port: int, after: int, times: int = 1000) -> Iterator[int]:
    """Stands before a service and cuts each connection after so many bytes; after `times` only the first cut counts."""
    cuts = 0

    def pass_on(near: socket.socket) -> None:
        nonlocal cuts
        with near, socket.create_connection(("127.0.0.1", port)) as far:
            far.sendall(near.recv(65536))
            left = after if cuts < times else 1 << 40
            cuts += 1
            first = cuts == 1 or times < 1000
            while left > 0 and (piece := far.recv(min(65536, left))):
                if not first and times == 1000:
                    return  # every further try breaks off before a byte
                near.sendall(piece)
                left -= len(piece)

    def run(listener: socket.socket) -> None:
        while True:
            try:
                connection, _ = listener.accept()
            except OSError:
                return
            threading.Thread(target=pass_on, args=(connection,), daemon=True).start()

    with socket.create_server(("127.0.0.1", 0)) as listener:
        threading.Thread(target=run, args=(listener,), daemon=True).start()
        yield listener.getsockname()[1]
        listener.shutdown(socket.SHUT_RDWR)


@pytest.mark.parametrize("made", ["link to a file", "link to nothing", "folder", "pipe", "file"])
@pytest.mark.parametrize("of", ["target", "part"])
def test_the_client_writes_to_nothing_that_it_did_not_make(client: Client, tmp_path: Path, made: str, of: str) -> None:
    precious = tmp_path / "precious.txt"
    precious.write_bytes(b"precious")
    target = tmp_path / "got" / "big.bin"
    target.parent.mkdir()
    place = target if of == "target" else target.with_name("big.bin.part")
    if made == "link to a file":
        place.symlink_to(precious)
    elif made == "link to nothing":
        place.symlink_to(tmp_path / "elsewhere.bin")
    elif made == "folder":
        place.mkdir()
    elif made == "pipe":
        os.mkfifo(place)
    else:
        place.write_bytes(b"of somebody")
    if of == "part" and made == "file":
        # A part without its note belongs to no download that is known: it is begun anew.
        assert client.fetch("files/big.bin", target=target).path.read_bytes() == BIG
        return
    with pytest.raises(OSError, match=r"big\.bin"):
        client.fetch("files/big.bin", target=target)
    assert precious.read_bytes() == b"precious"
    assert not (tmp_path / "elsewhere.bin").exists()
    assert place.is_symlink() == made.startswith("link")
    if made == "file":
        assert place.read_bytes() == b"of somebody"


def test_two_downloads_do_not_share_a_partial_file(service: Service, client: Client, tmp_path: Path) -> None:
    slow = service.url + service.link("files/big.bin", rate=400_000)
    begun = threading.Event()
    target = tmp_path / "big.bin"
    failed: list[BaseException] = []

    def first() -> None:
        try:
            with Client(service.url) as other:
                other.fetch(slow, target=target, report=lambda _: begun.set())
        except BaseException as error:  # told below
            failed.append(error)

    thread = threading.Thread(target=first)
    thread.start()
    assert begun.wait(10)
    with pytest.raises(FileExistsError, match="another download of it is under way"):
        client.fetch("files/big.bin", target=target)
    thread.join(30)
    assert failed == []
    assert target.read_bytes() == BIG
    assert [path.name for path in tmp_path.glob("big*")] == ["big.bin"]


def test_what_came_to_be_there_meanwhile_is_not_replaced(service: Service, tmp_path: Path) -> None:
    target = tmp_path / "big.bin"

    def appear(_: Progress) -> None:
        if not target.exists():
            target.write_bytes(b"of somebody")

    with Client(service.url) as client, pytest.raises(FileExistsError, match="meanwhile"):
        client.fetch("files/big.bin", target=target, report=appear)
    assert target.read_bytes() == b"of somebody"
    assert (tmp_path / "big.bin.part").read_bytes() == BIG


def test_a_file_that_is_there_is_replaced_or_left_by_choice(client: Client, tmp_path: Path) -> None:
    target = tmp_path / "big.bin"
    target.write_bytes(b"of yesterday")
    left = client.fetch("files/big.bin", folder=str(tmp_path), existing="skip")
    assert (left.skipped, left.path, target.read_bytes()) == (True, target, b"of yesterday")
    replaced = client.fetch("files/big.bin", target=str(target), existing="overwrite")
    assert (replaced.skipped, target.read_bytes() == BIG) == (False, True)
    (tmp_path / "device").symlink_to("/dev/full")
    with pytest.raises(FileExistsError, match="is no regular file, and is not replaced"):
        client.fetch("files/big.bin", target=tmp_path / "device", existing="overwrite")
    assert [path.name for path in tmp_path.glob("*.part*")] == []


@pytest.mark.usefixtures("hasty")
def test_a_stream_is_written_through_lost_connections(service: Service) -> None:
    written = io.BytesIO()
    with truncating(service.port, after=700_000, times=2) as port, Client(f"http://127.0.0.1:{port}") as broken:
        streamed = broken.stream("files/big.bin", written)
    assert (written.getvalue() == BIG, streamed.size, streamed.verified) == (True, len(BIG), True)


def test_an_answer_from_elsewhere_is_followed_and_the_time_is_told(service: Service, tmp_path: Path) -> None:
    there = b"HTTP/1.1 307 x\r\nlocation: %s/get/files/big.bin\r\ncontent-length: 0\r\nconnection: close\r\n\r\n"
    with answering(there % service.url.encode(), []) as port, Client(f"http://127.0.0.1:{port}") as sent_on:
        fetched = sent_on.fetch("files/big.bin", folder=tmp_path)
        assert (fetched.path.read_bytes() == BIG, fetched.verified) == (True, True)
        assert 0 < fetched.seconds < 60
        written = io.BytesIO()
        assert sent_on.stream("files/big.bin", written).size == len(BIG)


def test_a_busy_service_is_asked_again_when_it_says(tmp_path: Path) -> None:
    heads: list[bytes] = []
    waits: list[float] = []
    told = b'{"reason": "busy", "detail": "the service is busy"}'
    answer = b"HTTP/1.1 %s x\r\nretry-after: %s\r\ncontent-length: %d\r\nconnection: close\r\n\r\n%s"
    for status, wait in ((b"503", b"0"), (b"429", b"0")):
        patience = Patience(retries=2, waiting=lambda seconds, _: waits.append(seconds))
        busy = answering(answer % (status, wait, len(told), told), heads)
        with busy as port, Client(f"http://127.0.0.1:{port}", patience=patience) as asking:
            with pytest.raises(Refused, match="busy"):
                asking.fetch("files/a.txt", folder=tmp_path)
            with pytest.raises(Refused, match="busy"):
                asking.facts("files/a.txt")
    assert (len(heads), len(waits)) == (2 * 2 * 3, 2 * 2 * 2)
    with (
        answering(answer % (b"429", b"86400", len(told), told), heads) as port,
        Client(f"http://127.0.0.1:{port}") as c,
        pytest.raises(Refused),
    ):  # a day is not waited for
        c.fetch("files/a.txt", folder=tmp_path)


def test_what_goes_through_a_proxy_is_the_environment_s_but_for_this_machine(
    service: Service, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    heads: list[bytes] = []
    answer = b"HTTP/1.1 200 OK\r\naccept-ranges: bytes\r\ncontent-length: 2\r\nconnection: close\r\n\r\nhi"
    with answering(answer, heads) as port:
        monkeypatch.setenv("HTTP_PROXY", f"http://127.0.0.1:{port}")
        with Client("http://files.example") as far:
            assert far.fetch("files/a.txt", folder=tmp_path).path.read_bytes() == b"hi"
        with Client(service.url) as near:
            near.fetch("files/empty", folder=tmp_path)
    assert heads[0].startswith(b"GET http://files.example/get/files/a.txt HTTP/1.1")
    assert len(heads) == 1


def test_a_full_disk_is_told_with_what_is_kept(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    part = PartialFile(tmp_path / "a.bin")
    part.lock()
    part.write(b"half")
    full = io.BytesIO()
    monkeypatch.setattr(full, "write", lambda _: exec('raise OSError(28, "No space left on device")'))
    monkeypatch.setattr(full, "fileno", part._opened.fileno, raising=False)
    part._opened.flush()
    part._file = full
    with pytest.raises(OSError, match=r"No space left on device; what has arrived, 4 bytes, is kept in .*; make room"):
        part.write(b"more")


def test_a_service_that_is_none_is_named(tmp_path: Path) -> None:
    for status in (b"200 OK", b"404 Not Found"):
        page = b"HTTP/1.1 %s\r\ncontent-type: text/html\r\ncontent-length: 4\r\nconnection: close\r\n\r\n<p/>" % status
        with answering(page, []) as port, Client(f"http://127.0.0.1:{port}") as client:
            refused = pytest.raises(Refused, match=f"127.0.0.1:{port}.* this service")
            with refused:
                client.facts("files/a.txt")
    for url, token in (("files.example.org", None), ("http://127.0.0.1:1", "schlüssel")):
        with pytest.raises(ValueError, match=r"URL of a service|the token holds characters"):
            Client(url, token)
    with Client("http://127.0.0.1:1") as client, pytest.raises(BadAddress, match="only http:// and https://"):
        client.fetch("ftp://127.0.0.1/a.txt", folder=tmp_path)


def test_what_is_left_of_another_download_stays_as_it_is(client: Client, service: Service, tmp_path: Path) -> None:
    """Of another file, and of another archive; only of the same selection, bundled again, it is gone on with."""
    note = f'{{"url": "{service.url}/get/files/other.bin", "etag": "\\"t\\""}}'
    (tmp_path / "other.bin.part").write_bytes(b"half")
    (tmp_path / "other.bin.part.json").write_text(note)
    fetched = client.fetch("files/big.bin", folder=tmp_path)
    assert (fetched.path.name, fetched.resumed) == ("big.bin", 0)
    assert (tmp_path / "other.bin.part").read_bytes() == b"half"
    assert (tmp_path / "other.bin.part.json").read_text() == note


def test_an_archive_is_gone_on_with_when_its_selection_is_bundled_again(
    client: Client, service: Service, tmp_path: Path
) -> None:
    def bundled() -> str:
        return str(client.bundle(["files/big.bin"], name="all.zip")["url"])

    url = bundled()
    content = client.fetch(url, target=tmp_path / "whole.zip").path.read_bytes()
    note = {"url": url, "etag": service.get(url.removeprefix(service.url), "ann").headers["etag"]}
    (tmp_path / "all.zip.part").write_bytes(content[:1_000_000])
    (tmp_path / "all.zip.part.json").write_text(json.dumps(note))
    assert bundled() != url
    again = client.fetch(bundled(), folder=tmp_path)
    assert (again.resumed, again.path.read_bytes() == content) == (1_000_000, True)

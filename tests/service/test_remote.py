"""Files on another system: read from there while they are sent, or had there by an address that it makes."""

from __future__ import annotations

import io
import os
import socket
import time
import zipfile
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path

import httpx
import pytest

from invio.client import Client
from invio.demo.archive import Archive, serving
from tests.running import NO_TLS, RULES, Service

Start = Callable[..., Service]
BIG = os.urandom(5_000_000)
OLD = "Survey of 1987, by lead line. Djup i meter, översikt.\n".encode()
ABROAD = RULES.replace('"files/**"', '"files/**", "abroad/**"', 1)


@dataclass
class Elsewhere:
    """The other system, and a service that has it as the store `abroad`."""

    folder: Path
    archive: Archive
    begin: Start
    asked: list[str | None] = field(default_factory=list)  # the tokens that the other system was shown

    def service(self, more: str = "", rules: str = ABROAD, key: str = "k") -> Service:
        store = f'[stores.abroad]\nkind = "remote"\nurl = "{self.archive.url}"\noptions = {{ key = "{key}" }}\n{more}\n'
        settings = '[stores.files]\nkind = "directory"\nroot = "files"\n' + store
        return self.begin(files={"here.txt": b"here"}, settings=settings, rules=rules)


@pytest.fixture
def elsewhere(tmp_path: Path, start: Start) -> Iterator[Elsewhere]:
    folder = tmp_path / "elsewhere"
    (folder / "1987").mkdir(parents=True)
    (folder / "1987" / "lead line.txt").write_bytes(OLD)
    (folder / "1987" / "grid").write_bytes(BIG)
    (folder / "empty.txt").write_bytes(b"")
    with serving(Archive(folder, 0, "k")) as archive:
        known = Elsewhere(folder, archive, start)
        handler = archive.RequestHandlerClass

        class Noting(handler):  # type: ignore[misc,valid-type]
            def do_GET(self) -> None:
                known.asked.append(self.headers.get("authorization"))
                super().do_GET()

        archive.RequestHandlerClass = Noting
        yield known


def test_a_remote_file_is_delivered_as_any_other(elsewhere: Elsewhere) -> None:
    service = elsewhere.service()
    whole = service.get("/get/abroad/1987/grid")
    assert (whole.status_code, whole.content) == (200, BIG)
    assert whole.headers["content-length"] == str(len(BIG))
    assert whole.headers["content-disposition"] == 'attachment; filename="grid"'
    assert service.get("/get/abroad/1987/grid", if_none_match=whole.headers["etag"]).status_code == 304
    part = service.get("/get/abroad/1987/grid", range="bytes=1000000-3999999", if_range=whole.headers["etag"])
    assert (part.status_code, part.content) == (206, BIG[1_000_000:4_000_000])
    several = service.get("/get/abroad/1987/grid", range="bytes=0-9,-10")
    assert several.headers["content-type"].startswith("multipart/byteranges")
    assert BIG[:10] in several.content
    assert BIG[-10:] in several.content
    text = service.get("/get/abroad/1987/lead%20line.txt")
    assert (text.content, text.headers["content-type"]) == (OLD, "text/plain; charset=utf-8")
    assert service.get("/get/abroad/empty.txt").content == b""
    assert service.get(service.link("abroad/1987/lead line.txt")).content == OLD
    with service.client() as client:
        head = client.head("/get/abroad/1987/grid")
    assert {**head.headers, "date": ""} == {**whole.headers, "date": ""}
    states = {shown["address"]: shown["state"] for shown in service.transfers()}
    assert states["abroad/1987/lead line.txt"] == "complete"
    assert set(elsewhere.asked) == {None}, "nobody's token goes to the other system"


def test_it_is_listed_and_bundled(elsewhere: Elsewhere) -> None:
    service = elsewhere.service()
    with service.client("ann") as client:
        listed = client.get("/api/files", params={"in": "abroad/"}).json()["files"]
        assert [line["address"] for line in listed] == ["abroad/1987/", "abroad/empty.txt"]
        inside = client.get("/api/files", params={"in": "abroad/1987/"}).json()["files"]
        assert [(line["name"], line["size"]) for line in inside] == [("grid", len(BIG)), ("lead line.txt", len(OLD))]
        assert client.get("/api/files", params={"in": "abroad/none/"}).status_code == 404
        made = client.post("/api/bundles", json={"files": ["abroad/1987/", "files/here.txt"]}).json()
        body = client.get(made["url"]).content
    assert len(body) == made["size"]
    with zipfile.ZipFile(io.BytesIO(body)) as archive:
        assert archive.testzip() is None
        assert {name: archive.read(name) for name in archive.namelist()} == {
            "1987/grid": BIG,
            "1987/lead line.txt": OLD,
            "here.txt": b"here",
        }


def test_what_is_altered_meanwhile_is_never_completed(elsewhere: Elsewhere) -> None:
    (elsewhere.folder / "large.bin").write_bytes(b"a" * 40_000_000)
    service = elsewhere.service()
    with socket.socket() as connection:
        connection.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 8192)
        connection.settimeout(10)
        connection.connect(("127.0.0.1", service.port))
        connection.sendall(b"GET /get/abroad/large.bin HTTP/1.1\r\nhost: x\r\n\r\n")
        got = len(connection.recv(1000))
        with (elsewhere.folder / "large.bin").open("r+b") as file:
            file.write(b"b" * 100)
        try:
            while piece := connection.recv(1_000_000):
                got += len(piece)
        except ConnectionResetError:
            pass
    assert got < 40_000_000
    [shown] = _when_settled(service)
    assert (shown["state"], "altered" in str(shown["reason"])) == ("broken-off", True)


def test_a_download_is_handed_over_to_an_address_that_the_other_system_makes(
    elsewhere: Elsewhere, tmp_path: Path
) -> None:
    service = elsewhere.service("redirect = 2")
    sent = service.get("/get/abroad/1987/grid", "bob")
    assert (sent.status_code, sent.content) == (307, b"")
    assert sent.headers["cache-control"] == "no-store"
    assert sent.headers["referrer-policy"] == "no-referrer"
    place = sent.headers["location"]
    assert place.startswith(f"http://127.0.0.1:{elsewhere.archive.server_port}/content/")
    got = httpx.get(place, verify=NO_TLS, trust_env=False, headers={"range": "bytes=5-14"})
    assert (got.status_code, got.content) == (206, BIG[5:15])
    with Client(service.url, service.tokens["bob"]) as client:
        fetched = client.fetch("abroad/1987/grid", folder=tmp_path)
    assert (fetched.path.name, fetched.path.read_bytes()) == ("grid", BIG)
    assert set(elsewhere.asked) == {None}, "the token stays with the service"
    assert [shown["state"] for shown in service.transfers()] == ["handed-off", "handed-off"]
    # Facts are our own to tell, and who may not have it learns no address.
    with service.client("bob") as client:
        assert client.head("/get/abroad/1987/grid").status_code == 200
    assert service.get("/get/abroad/1987/grid", if_none_match=sent.headers.get("etag", "*")).status_code == 304
    time.sleep(3)
    assert httpx.get(place, verify=NO_TLS, trust_env=False).status_code == 403, "it ends as was said"


def test_what_only_we_can_keep_to_is_not_handed_over(elsewhere: Elsewhere) -> None:
    service = elsewhere.service("redirect = 60")
    slow = service.get(service.link("abroad/1987/lead line.txt", rate=1_000_000))
    assert (slow.status_code, slow.content) == (200, OLD)
    quick = service.get(service.link("abroad/1987/lead line.txt"))
    assert quick.status_code == 307
    assert "seal=" not in quick.headers["location"]


def test_nobody_is_sent_there_without_the_rules(elsewhere: Elsewhere) -> None:
    service = elsewhere.service("redirect = 60", rules=RULES)
    assert service.get("/get/abroad/1987/grid").status_code == 401
    assert service.get("/get/abroad/1987/grid", "bob").status_code == 404
    assert elsewhere.asked == [], "what is refused is not even asked for"
    assert service.get("/get/abroad/1987/grid", "ann").status_code == 307


def test_a_system_that_does_not_answer_fails_alone(elsewhere: Elsewhere) -> None:
    service = elsewhere.service(key="another")
    refused = service.get("/get/abroad/1987/grid")
    assert (refused.status_code, refused.json()["reason"]) == (502, "unreachable")
    assert int(refused.headers["retry-after"]) > 0
    assert "403" not in refused.text, "what the other system said is for the operator"
    assert "403" in service.logged()
    assert service.get("/api/files?in=abroad/", "ann").json()["reason"] == "unreachable"
    with service.client("ann") as client:
        answer = client.post("/api/bundles", json={"files": ["abroad/1987/grid"]})
        assert answer.json()["reason"] == "unreachable"
    assert service.get("/get/files/here.txt").content == b"here"


def _when_settled(service: Service) -> list[dict[str, object]]:
    for _ in range(200):
        shown = service.transfers()
        if shown and all(one["state"] != "running" for one in shown):
            return shown
        time.sleep(0.05)
    raise AssertionError("the transfer did not end")

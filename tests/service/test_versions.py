"""Files that are put: in versions or in a directory's place, whole or not at all, and delivered by their version."""

from __future__ import annotations

import base64
import hashlib
import io
import json
import os
import signal
import socket
import sqlite3
import threading
import time
import zipfile
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import httpx
import pytest
from click.testing import CliRunner, Result

from invio.cli.main import main
from invio.client import Client, FileChanged, Progress, Refused
from tests.rules import rule
from tests.running import RULES, SETTINGS, Service, at_once, make_folder, until

Start = Callable[..., Service]
STORES = (
    SETTINGS
    + """
[stores.models]
kind = "managed"
root = "models"

[stores.drop]
kind = "directory"
root = "files"
writable = true

[limits]
put_bytes = 40_000_000
"""
)
OPEN = RULES + (
    rule("group:crew", "models/**", "list read bundle link", "newest models for the crew", version="current")
    + rule("group:crew", "models/handed-in/**", "put list", "the crew hands in small ones", max_size=1000)
)
BIG = os.urandom(1 << 20) * 12
FLOOR = "/api/files/models/bay/floor.grid"


@pytest.fixture
def own(start: Start) -> Service:
    """A service that the test may end."""
    return start(files={"a.txt": b"content"}, rules=OPEN, settings=STORES)


@pytest.fixture(scope="module")
def shared(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    folder = tmp_path_factory.mktemp("versions") / "service"
    make_folder(folder, files={"a.txt": b"content"}, rules=OPEN, settings=STORES)
    service = Service.start(folder)
    yield service
    service.stop()


@pytest.fixture
def service(shared: Service) -> Iterator[Service]:
    """One that is shared; each test gets a managed store without files, and numbers that begin anew."""
    yield shared
    shared.get("/api/history", "ann")  # answered when all that happened so far was written down
    with sqlite3.connect(shared.folder / "data/records.sqlite", timeout=10) as records:
        records.execute("DELETE FROM versions")
        records.execute("DELETE FROM transfers")
    os.utime(shared.folder / "models/changed")
    for path in contents(shared):
        path.unlink()


def put(service: Service, path: str, content: bytes, who: str = "ann", **headers: str) -> httpx.Response:
    with service.client(who) as client:
        given = {name.replace("_", "-"): value for name, value in headers.items()}
        return client.put(path, content=content, headers=given)


def versions(service: Service, path: str = "models/bay/floor.grid", who: str = "ann") -> list[dict[str, object]]:
    listed: list[dict[str, object]] = service.get(f"/api/versions/{path}", who).json()["versions"]
    return listed


def contents(service: Service) -> list[Path]:
    """The files that hold contents, wherever the store keeps them."""
    return [path for path in (service.folder / "models").glob("[0-9a-f][0-9a-f]/*") if path.is_file()]


def invio(service: Service, *command: str, who: str = "ann", given: bytes = b"") -> Result:
    asked = [*command, "--url", service.url, "--token", service.tokens[who]]
    return CliRunner().invoke(main, asked, input=given)


def test_each_put_makes_a_version_and_each_version_stays_what_it_is(service: Service) -> None:
    first = put(service, FLOOR, b"one")
    assert (first.status_code, first.headers["location"]) == (201, "/get/models/bay/floor.grid?version=1")
    second = put(service, FLOOR, b"two two")
    assert (second.status_code, second.json()["version"], second.json()["size"]) == (200, 2, 7)
    newest = service.get("/get/models/bay/floor.grid", "ann")
    assert (newest.content, newest.headers["etag"]) == (b"two two", second.headers["etag"])
    assert "immutable" not in newest.headers["cache-control"]
    pinned = service.get(first.headers["location"], "ann")
    assert (pinned.content, pinned.headers["etag"]) == (b"one", first.headers["etag"])
    assert pinned.headers["cache-control"] == "private, max-age=31536000, immutable"
    missing = service.get("/get/models/bay/floor.grid?version=3", "ann")
    assert (missing.status_code, missing.json()["reason"]) == (404, "missing")
    assert service.get("/get/files/a.txt?version=1").status_code == 404
    told = versions(service)
    assert [(one["version"], one["current"], one["size"], one["by"]) for one in told] == [
        (2, True, 7, "ann"),
        (1, False, 3, "ann"),
    ]
    assert told[1]["sha256"] == hashlib.sha256(b"one").hexdigest()


def test_what_is_the_same_makes_no_further_version(service: Service) -> None:
    put(service, FLOOR, b"one")
    again = put(service, FLOOR, b"one")
    assert (again.status_code, again.json()["version"]) == (200, 1)
    assert len(contents(service)) == 1
    put(service, FLOOR, b"two")
    assert put(service, FLOOR, b"one").json()["version"] == 3, "an earlier content is a version of its own"


def test_a_number_is_not_given_again(service: Service) -> None:
    for content in (b"one", b"two", b"three"):
        put(service, FLOOR, content)
    with service.client("ann") as client:
        assert client.delete(FLOOR, params={"version": 3}).status_code == 204
        assert client.get("/get/models/bay/floor.grid").content == b"two"
        assert client.get("/get/models/bay/floor.grid?version=3").status_code == 404
        assert client.delete(FLOOR, params={"version": 3}).status_code == 404
        assert put(service, FLOOR, b"three").json()["version"] == 4
        assert client.delete(FLOOR).status_code == 204
        assert client.get("/get/models/bay/floor.grid").status_code == 404
        assert client.get("/api/files", params={"in": "models/"}).json()["files"] == []
    assert contents(service) == []
    again = put(service, FLOOR, b"four")
    assert (again.status_code, again.json()["version"]) == (201, 5)


def test_a_download_under_way_outlives_what_it_is_of(service: Service) -> None:
    put(service, FLOOR, BIG)
    with service.client("ann") as client, client.stream("GET", "/get/models/bay/floor.grid") as response:
        pieces = response.iter_raw(1 << 16)
        got = [next(pieces)]
        put(service, FLOOR, b"newer")
        with service.client("ann") as other:
            assert other.delete(FLOOR, params={"version": 1}).status_code == 204
        got += pieces
    assert b"".join(got) == BIG


def test_preconditions_hold_for_what_is_put(service: Service) -> None:
    tag = put(service, FLOOR, b"one", if_none_match="*").headers["etag"]
    for refused in (
        put(service, FLOOR, b"two", if_none_match="*"),
        put(service, FLOOR, b"two", if_match='"another"'),
        put(service, "/api/files/models/none.grid", b"two", if_match="*"),
    ):
        assert (refused.status_code, refused.json()["reason"]) == (412, "precondition")
    assert put(service, FLOOR, b"two", if_match=f'"another", {tag}').status_code == 200
    assert put(service, FLOOR, b"three", if_match=tag).status_code == 412, "it is not the newest any more"
    with service.client("ann") as client:
        assert client.delete(FLOOR, headers={"if-match": tag}).status_code == 412
    assert [one["version"] for one in versions(service)] == [2, 1]


def test_clients_of_two_processes_put_at_once_and_each_gets_its_own_version(start: Start, own: Service) -> None:
    beside = start(own.folder)
    both = (own, beside)

    def only_new(number: int) -> list[int]:
        content = b"first %d" % number
        return [put(both[number % 2], "/api/files/models/new.grid", content, if_none_match="*").status_code]

    assert at_once(12, only_new) == {201: 1, 412: 11}

    def further(number: int) -> tuple[int, bytes]:
        content = b"%d" % number * 1000
        return put(both[number % 2], FLOOR, content).json()["version"], content

    with ThreadPoolExecutor(12) as clients:
        made = dict(clients.map(further, range(24)))
    assert sorted(made) == list(range(1, 25))
    for number, content in made.items():
        assert beside.get(f"/get/models/bay/floor.grid?version={number}", "ann").content == content
    # What one process was told before, it does not take for so after the other has put something.
    for number in range(4):
        own.get("/get/models/bay/floor.grid", "ann")
        put(beside, FLOOR, b"newest %d" % number)
        assert own.get("/get/models/bay/floor.grid", "ann").content == b"newest %d" % number


def begun(service: Service, path: str, length: int, body: bytes) -> socket.socket:
    """A connection on which a file is being put, of which only so much has been sent."""
    connection = socket.create_connection(("127.0.0.1", service.port), timeout=10)
    lines = [f"PUT {path} HTTP/1.1", "host: x", f"authorization: Bearer {service.tokens['ann']}"]
    connection.sendall("\r\n".join([*lines, f"content-length: {length}", "", ""]).encode() + body)
    return connection


@pytest.mark.parametrize("path", [FLOOR, "/api/files/drop/floor.grid"])
def test_what_breaks_off_changes_nothing_and_leaves_nothing(start: Start, own: Service, path: str) -> None:
    put(own, path, b"one")
    held = own.descriptors()
    before = sorted(p.name for p in own.folder.rglob("*") if "data" not in p.parts)
    begun(own, path, len(BIG), BIG[: len(BIG) // 2]).close()
    until(lambda: own.descriptors() <= held)
    connection = begun(own, path, len(BIG), BIG[: len(BIG) // 2])
    time.sleep(0.3)
    assert own.stop(signal.SIGKILL) == -signal.SIGKILL
    connection.close()
    again = start(own.folder)
    assert sorted(p.name for p in own.folder.rglob("*") if "data" not in p.parts) == before
    assert again.get(path.replace("/api/files/", "/get/"), "ann").content == b"one"


def test_a_content_that_no_version_has_is_set_aside_and_not_dropped(start: Start, own: Service) -> None:
    put(own, FLOOR, b"one")
    put(own, FLOOR, b"two")
    assert own.client("ann").delete(FLOOR, params={"version": 1}).status_code == 204
    own.stop()
    [kept] = contents(own)
    old, young = kept.with_name("0" * 32), kept.with_name("1" * 32)
    for stray in (old, young):
        stray.write_bytes(b"left over")
    os.utime(old, (1, 1))
    os.utime(kept, (kept.stat().st_atime, 1))
    again = start(own.folder)
    assert contents(own) == [kept]
    aside = sorted((own.folder / "models" / "aside").iterdir())
    assert [file.name for file in aside] == [old.name, young.name]
    assert [file.read_bytes() for file in aside] == [b"left over"] * 2
    assert '"store.set-aside"' in again.logged()


def test_what_cannot_be_put_is_refused_with_what_to_do(service: Service) -> None:
    put(service, FLOOR, b"one")
    for path, content, headers, status, says in (
        ("/api/files/files/a.txt", b"x", {}, 405, "the store 'files' is read-only"),
        ("/api/files/nowhere/a.txt", b"x", {}, 404, "there is no file nowhere/a.txt that you have access to"),
        ("/api/files/models/bay/", b"x", {}, 400, "name the file"),
        ("/api/files/models/bay", b"x", {}, 409, "cannot be put there"),
        (FLOOR + "/below", b"x", {}, 409, "cannot be put there"),
        ("/api/files/drop/a.txt/below", b"x", {}, 409, "cannot be put there"),
        ("/api/files/drop/" + "n" * 300, b"x", {}, 400, "too long"),
        (FLOOR, b"x", {"content_range": "bytes 0-0/1"}, 400, "leave Content-Range out"),
        (FLOOR, b"x", {"content_encoding": "gzip"}, 400, "leave Content-Encoding out"),
        (FLOOR, b"x", {"content_type": "multipart/form-data; boundary=x"}, 400, "with curl, use -T"),
        (FLOOR, b"x", {"content_type": "no type"}, 400, "no media type"),
        (FLOOR, b"x", {"content_digest": "sha-256=:eA==:"}, 400, "32 bytes"),
        (FLOOR, b"x", {"repr_digest": f"sha-256=:{'A' * 43}=:"}, 400, "does not match its digest"),
        (FLOOR, b"x" * 40_000_001, {}, 413, "at most 40000000 bytes"),
    ):
        refused = put(service, path, content, **headers)
        assert (refused.status_code, says in refused.json()["detail"]) == (status, True), refused.text
    with service.client("ann") as client:
        endless = client.put(FLOOR, content=(BIG for _ in range(9)))
    assert (endless.status_code, endless.json()["reason"]) == (413, "file-too-large")
    assert [one["version"] for one in versions(service)] == [1]
    assert len(contents(service)) == 1


def test_rules_say_who_may_put_what(service: Service) -> None:
    assert put(service, "/api/files/models/handed-in/a.bin", b"x" * 1000, "bob").status_code == 201
    assert put(service, "/api/files/models/handed-in/b.bin", b"x" * 1001, "bob").status_code == 413
    with service.client("bob") as client:  # of which nobody says beforehand how long it is
        chunked = client.put("/api/files/models/handed-in/b.bin", content=(b"x" * 600 for _ in range(2)))
        assert (chunked.status_code, chunked.json()["reason"]) == (413, "file-too-large")
        assert "none of 1200 bytes" in chunked.json()["detail"]
        assert client.delete("/api/files/models/handed-in/a.bin").status_code == 403
    assert put(service, "/api/files/drop/x", b"x", "bob").status_code == 404
    with service.client() as client:
        assert client.put(FLOOR, content=b"x").status_code == 401
    assert [path.stat().st_size for path in contents(service)] == [1000]


def test_what_arrives_is_compared_with_its_digest(service: Service) -> None:
    digest = base64.b64encode(hashlib.sha256(b"one").digest()).decode()
    assert put(service, FLOOR, b"one", repr_digest=f"sha-512=:eA==:, sha-256=:{digest}:").status_code == 201
    known = service.get("/get/models/bay/floor.grid", "ann", want_repr_digest="sha-256=1")
    assert known.headers["repr-digest"] == f"sha-256=:{digest}:"


def test_the_media_type_that_was_told_is_kept_where_the_name_says_another(service: Service) -> None:
    put(service, FLOOR, b"# one", content_type="text/markdown; charset=utf-8")
    assert service.get("/get/models/bay/floor.grid", "ann").headers["content-type"].startswith("text/markdown")
    for said in ("application/octet-stream", "application/x-www-form-urlencoded"):
        put(service, "/api/files/models/a.pdf", said.encode(), content_type=said)
        assert service.get("/get/models/a.pdf", "ann").headers["content-type"] == "application/pdf"


def test_rules_tell_versions_apart(service: Service) -> None:
    put(service, FLOOR, b"one")
    put(service, FLOOR, b"two")
    assert service.get("/get/models/bay/floor.grid", "bob").content == b"two"
    assert service.get("/get/models/bay/floor.grid?version=2", "bob").content == b"two"
    assert service.get("/get/models/bay/floor.grid?version=1", "bob").status_code == 404
    assert [(one["version"], one["by"]) for one in versions(service, who="bob")] == [(2, None)]
    asked: dict[str, str | int] = {"address": "models/bay/floor.grid", "as": "bob", "version": 1}
    with service.client("ann") as client:
        decision = client.get("/api/decisions", params=asked).json()
        said = {reason["rule"]: reason["because"] for reason in decision["reasons"]}
        assert (decision["allowed"], "version 1, an earlier one" in said["newest models for the crew"]) == (False, True)
        assert client.get("/api/decisions", params=asked | {"version": 2}).json()["allowed"]
    with service.client("bob") as client:
        assert client.post("/api/links", json={"address": "models/bay/floor.grid", "version": 1}).status_code == 404
        target = client.post("/api/links", json={"address": "models/bay/floor.grid", "version": 2}).json()["target"]
    put(service, FLOOR, b"three")
    assert service.get(target).content == b"two", "a link stands above the rules, and says which version"
    assert service.get("/get/models/bay/floor.grid?version=2", "bob").status_code == 404


def test_the_history_tells_which_version_was_had(service: Service) -> None:
    put(service, FLOOR, b"one")
    put(service, FLOOR, b"two")
    for path in ("models/bay/floor.grid?version=1", "models/bay/floor.grid", "files/a.txt"):
        service.get(f"/get/{path}", "ann")
    lines = [json.loads(line) for line in service.get("/api/history", "ann").text.splitlines()]
    assert [(line["address"], line["version"]) for line in lines] == [
        ("files/a.txt", None),
        ("models/bay/floor.grid", 2),
        ("models/bay/floor.grid", 1),
    ]
    assert "(version 1)" in invio(service, "history").stdout


def test_a_bundle_has_the_versions_that_it_was_planned_with(start: Start, own: Service) -> None:
    put(own, FLOOR, b"one")
    put(own, "/api/files/models/bay/notes.txt", b"notes")
    with own.client("ann") as client:
        made = client.post("/api/bundles", json={"files": ["models/bay/"]}).json()
        before = client.get(made["url"])
        put(own, FLOOR, b"two")
        after = client.get(made["url"])
        assert (after.headers["etag"], after.content) == (before.headers["etag"], before.content)
        beside = start(own.folder)
        assert beside.get(made["url"], "ann").content == before.content
        anew = client.post("/api/bundles", json={"files": ["models/bay/floor.grid"]}).json()
        assert zipfile.ZipFile(io.BytesIO(client.get(anew["url"]).content)).read("floor.grid") == b"two"
        entries = client.get(f"/api/bundles/{made['id']}/entries").json()["entries"]
        assert {entry["address"]: entry["version"] for entry in entries}["models/bay/floor.grid"] == 1
        asked = {"files": ["models/bay/"], "versions": {"models/bay/floor.grid": 1}}
        chosen = client.get(client.post("/api/bundles", json=asked).json()["url"])
        assert zipfile.ZipFile(io.BytesIO(chosen.content)).read("bay/floor.grid") == b"one"
        unknown = client.post("/api/bundles", json={**asked, "versions": {"models/bay/floor.grid": 9}})
        assert (unknown.status_code, unknown.json()["reason"]) == (403, "bad-selection")
        client.delete(FLOOR, params={"version": 1})
        gone = client.get(made["url"])
        assert (gone.status_code, gone.json()["reason"]) == (403, "bad-selection")


def test_rights_to_a_version_are_looked_at_again_when_a_bundle_is_fetched(service: Service) -> None:
    put(service, FLOOR, b"one")
    with service.client("bob") as client:
        made = client.post("/api/bundles", json={"files": ["models/bay/floor.grid"]}).json()
        assert client.get(made["url"]).status_code == 200
        put(service, FLOOR, b"two")
        time.sleep(2.1)  # for which a decision on a whole bundle is taken to hold
        assert client.get(made["url"]).status_code == 403


def test_a_directory_takes_files_where_its_settings_say_so(service: Service) -> None:
    made = put(service, "/api/files/drop/new/deep/b.txt", b"first")
    assert (made.status_code, made.headers["location"]) == (201, "/get/drop/new/deep/b.txt")
    assert (service.folder / "files/new/deep/b.txt").read_bytes() == b"first"
    assert put(service, "/api/files/drop/new/deep/b.txt", b"second", if_match=made.headers["etag"]).status_code == 200
    assert service.get("/get/drop/new/deep/b.txt", "ann").content == b"second"
    assert put(service, "/api/files/drop/new/deep/b.txt", b"third", if_none_match="*").status_code == 412
    with service.client("ann") as client:
        assert client.delete("/api/files/drop/new/deep/b.txt", params={"version": 1}).status_code == 404
        assert client.delete("/api/files/drop/new/deep/b.txt").status_code == 204
        assert client.delete("/api/files/drop/new/deep/b.txt").status_code == 404
        assert client.get("/api/versions/drop/a.txt").status_code == 404
    assert list((service.folder / "files/new/deep").iterdir()) == []


def test_nothing_is_put_outside_a_directory(service: Service, tmp_path: Path) -> None:
    outside = tmp_path / "outside"
    outside.mkdir()
    (service.folder / "files/away").symlink_to(outside)
    (service.folder / "files/astray.txt").symlink_to(outside / "b.txt")
    (outside / "b.txt").write_bytes(b"theirs")
    assert put(service, "/api/files/drop/away/b.txt", b"ours").status_code == 409
    assert put(service, "/api/files/drop/away/c/d.txt", b"ours").status_code == 409
    put(service, "/api/files/drop/astray.txt", b"ours")
    assert [path.name for path in outside.iterdir()] == ["b.txt"]
    assert (outside / "b.txt").read_bytes() == b"theirs"


def test_who_reads_while_a_file_is_replaced_gets_one_content_or_the_other(service: Service) -> None:
    sizes = [len(BIG), len(BIG) // 2]
    put(service, "/api/files/drop/c.bin", BIG)
    seen = set()
    for number in range(1, 6):
        with ThreadPoolExecutor(2) as both:
            reading = both.submit(service.get, "/get/drop/c.bin", "ann")
            put(service, "/api/files/drop/c.bin", BIG[: sizes[number % 2]])
            try:
                got = reading.result().content
            except httpx.TransportError:
                continue  # broken off, which is told
        assert got in (BIG, BIG[: sizes[1]])
        seen.add(len(got))
    assert seen <= set(sizes)


def test_files_are_put_listed_and_removed_from_a_terminal(service: Service, tmp_path: Path) -> None:
    file = tmp_path / "floor.grid"
    for content, says in ((b"one", "version 1"), (b"three", "version 2"), (b"three", "version 2")):
        file.write_bytes(content)
        assert says in invio(service, "put", str(file), "models/bay/").stdout
    refused = invio(service, "put", str(file), "models/bay/", "--only-new")
    assert (refused.exit_code, "there already (precondition)" in refused.stderr) == (1, True)
    listed = json.loads(invio(service, "files", "--versions", "models/bay/floor.grid", "--json").stdout)["versions"]
    assert [(one["version"], one["size"]) for one in listed] == [(2, 5), (1, 3)]
    assert "2 (newest)" in invio(service, "files", "--versions", "models/bay/floor.grid").stdout
    target = tmp_path / "fetched"
    assert invio(service, "fetch", "models/bay/floor.grid", "--version", "1", "-o", str(target)).exit_code == 0
    assert target.read_bytes() == b"one"
    piped = invio(service, "put", "-", "models/piped.txt", "--json", given=b"from a pipe")
    assert (json.loads(piped.stdout)["new"], json.loads(piped.stdout)["size"]) == (True, 11)
    assert invio(service, "put", "-", "models/bay/").exit_code == 2
    assert "version 2" in invio(service, "remove", "models/bay/floor.grid", "--version", "2").stdout
    assert service.get("/get/models/bay/floor.grid", "ann").content == b"one"
    assert invio(service, "remove", "models/bay/floor.grid").exit_code == 0
    gone = invio(service, "files", "--versions", "models/bay/floor.grid")
    assert (gone.exit_code, "missing" in gone.stderr) == (1, True)
    assert invio(service, "files", "--versions").exit_code == 2


def test_a_file_that_grows_a_pipe_and_bytes_can_be_put(service: Service, tmp_path: Path) -> None:
    log, pipe = tmp_path / "growing.log", tmp_path / "pipe"
    log.write_bytes(b"line\n" * 100_000)
    os.mkfifo(pipe)
    with Client(service.url, service.tokens["ann"]) as client, log.open("ab") as more:

        def grow(_: Progress) -> None:
            more.write(b"line\n" * 1000)
            more.flush()

        assert client.put(str(log), "models/growing.log", report=grow)["size"] == 500_000
        assert log.stat().st_size > 500_000
        writer = threading.Thread(target=pipe.write_bytes, args=(b"from a command",))
        writer.start()
        assert client.put(pipe, "models/pipe.txt")["size"] == 14
        writer.join()
        assert client.put(b"by hand", "models/hand.txt")["size"] == 7
        with pytest.raises(FileChanged, match="became shorter"):
            client.put(log, "models/cut.log", report=lambda _: os.truncate(log, 0))
        assert service.get("/get/models/cut.log", "ann").status_code == 404
    removed = invio(service, "remove", "models/hand.txt", "models/none.txt", "models/pipe.txt")
    assert removed.exit_code == 1
    assert removed.stdout == "removed models/hand.txt\nremoved models/pipe.txt\n"
    assert "models/none.txt" in removed.stderr


def test_who_may_not_put_a_large_file_is_told_before_sending_it(service: Service, tmp_path: Path) -> None:
    file, sent = tmp_path / "large", [0]
    with file.open("wb") as large:
        large.truncate(39_000_000)
    put(service, FLOOR, b"one")
    for who, says in (("ann", "precondition"), ("bob", "not-allowed")):
        with Client(service.url, service.tokens[who]) as client:
            for _ in range(3):
                with pytest.raises(Refused) as refused:
                    client.put(
                        file, "models/bay/floor.grid", only_new=True, report=lambda step: sent.__setitem__(0, step.done)
                    )
                assert refused.value.reason == says
                assert sent[0] < 20_000_000
    assert len(contents(service)) == 1

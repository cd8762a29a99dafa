"""Nobody's small effort stops the others: each attack is made, and meanwhile others are answered as ever."""

from __future__ import annotations

import json
import os
import select
import signal
import socket
import subprocess
import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import ExitStack, contextmanager, suppress
from pathlib import Path
from typing import Any

import httpx
import pytest

from tests.rules import rule
from tests.running import RULES, Service, get_raw, make_folder, raw, until
from tests.torture.scale import Late, times, with_the_machine_to_itself

Start = Callable[..., Service]
SETTINGS = """
[limits]
head = 2
[stores.files]
kind = "directory"
root = "files"
[stores.drop]
kind = "directory"
root = "drop"
writable = true
"""
FILES = {"a.txt": b"aaa"} | {f"many/{number}.txt": b"m" for number in range(300)}


@pytest.fixture(scope="module")
def service(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    folder = tmp_path_factory.mktemp("effort") / "service"
    make_folder(folder, FILES, RULES, SETTINGS)
    (folder / "drop").mkdir()
    running = Service.start(folder)
    yield running
    assert "Traceback" not in running.logged()
    running.stop()


def resident(service: Service) -> int:
    """Bytes of memory that the process holds."""
    text = Path(f"/proc/{service.process.pid}/statm").read_text()
    return int(text.split()[1]) * os.sysconf("SC_PAGE_SIZE")


@contextmanager
def others_are_answered(service: Service, within: float = 1.0) -> Iterator[None]:
    """Asks for a file, with a token and without, and for health all the while; each within so many seconds."""
    ended, slowest, wrong = threading.Event(), [0.0], []

    def ask() -> None:
        while not ended.is_set():
            for path, who in (("/healthz", None), ("/get/files/a.txt", None), ("/get/files/a.txt", "bob"),
                              ("/api/sessions/current", "bob")):  # fmt: skip
                began = time.monotonic()
                try:
                    status = service.get(path, who).status_code
                except httpx.TransportError as error:
                    status = -1
                    wrong.append(f"{path}: {error!r}")
                if status != 200:
                    wrong.append(f"{path} as {who}: {status}")
                slowest[0] = max(slowest[0], time.monotonic() - began)
            time.sleep(0.05)

    asking = threading.Thread(target=ask)
    asking.start()
    try:
        yield
    finally:
        ended.set()
        asking.join()
    assert wrong == []
    if slowest[0] >= within:
        raise Late(f"somebody waited for {slowest[0]:.2f} s, and {within} are allowed")


@with_the_machine_to_itself
def test_a_cookie_jar_full_of_quotes_costs_nothing(service: Service) -> None:
    jar = 'a="' + '\\"' * 16_000 + '"'
    with others_are_answered(service):
        for path in ("/get/files/a.txt", "/api/sessions/current"):
            began = time.monotonic()
            answer = get_raw(service.port, path, f"cookie: {jar}")
            took = time.monotonic() - began
            assert answer.status == 200
            if took >= 0.5:
                raise Late(f"the answer to {path} took {took:.2f} s, and 0.5 are allowed")


@with_the_machine_to_itself
def test_silence_is_ended(service: Service) -> None:
    """Connections that say nothing, begin a head, begin a second request, or leave a body unfinished."""
    heads = (b"", b"GET /get/files/a.txt HTTP/1.1\r\nhost: ", b"GET /healthz HTTP/1.1\r\nhost: x\r\n\r\nGET /hea")
    with others_are_answered(service):
        connections = [socket.create_connection(("127.0.0.1", service.port), timeout=20) for _ in range(60)]
        for number, connection in enumerate(connections):
            connection.sendall(heads[number % len(heads)])
        began = time.monotonic()
        for connection in connections:
            with connection:
                while connection.recv(65536):
                    pass
        assert time.monotonic() - began < 12
    assert service.descriptors() < 80


def test_a_body_is_bounded_before_anybody_is_asked_who_they_are(service: Service) -> None:
    before = resident(service)
    for path, kind in (("/api/sessions", "application/json"), ("/api/bundles", "application/json"),
                       ("/bundles", "multipart/form-data; boundary=x"), ("/api/links", "text/plain")):  # fmt: skip
        said = get_raw(service.port, path, "content-length: 300000000", f"content-type: {kind}", method="POST")
        assert (said.status, json.loads(said.body)["reason"]) == (413, "too-large")
        chunk = b"10000\r\n" + b"x" * 65536 + b"\r\n"
        head = f"POST {path} HTTP/1.1\r\nhost: x\r\ncontent-type: {kind}\r\ntransfer-encoding: chunked\r\n\r\n".encode()
        with socket.create_connection(("127.0.0.1", service.port), timeout=20) as connection:
            sent = 0
            try:
                connection.sendall(head)
                for _ in range(1600):  # 100 MB, of which nearly all is never read
                    connection.sendall(chunk)
                    sent += 1
            except OSError:
                pass
            assert sent < 800
    assert resident(service) - before < 100_000_000


@with_the_machine_to_itself
def test_many_bodies_that_never_end_hold_no_more_than_four_of_one_network(service: Service) -> None:
    head = b"POST /api/bundles HTTP/1.1\r\nhost: x\r\ncontent-type: application/json\r\ncontent-length: 8388608\r\n\r\n"
    long = {"files": [f"files/{'n' * 300}-{number}" for number in range(300)]}
    before, waiting = resident(service), []

    def answered(connections: list[socket.socket]) -> list[socket.socket]:
        return select.select(connections, [], [], 0)[0]

    with others_are_answered(service), ExitStack() as opened:
        for _ in range(times(12, 60)):
            connection = socket.create_connection(("127.0.0.1", service.port), timeout=10)
            waiting.append(opened.enter_context(connection))
            with suppress(OSError):  # what is refused is read no further
                connection.sendall(head + b'{"files": ["' + b"a" * 8_380_000)
        until(lambda: len(answered(waiting)) == len(waiting) - 4)
        for connection in answered(waiting):
            with suppress(ConnectionResetError):
                assert connection.recv(1000).startswith(b"HTTP/1.1 503 ")
        assert resident(service) - before < 120_000_000
        with service.client() as client:
            assert client.post("/api/bundles", json={"files": ["files/a.txt"]}).status_code == 201, (
                "a short one has room"
            )
            said = client.post("/api/bundles", json=long)
            assert (said.status_code, said.json()["reason"], said.headers["retry-after"]) == (503, "busy", "5")
    with service.client() as client:  # and now a long one has, too
        until(lambda: client.post("/api/bundles", json=long).json()["reason"] == "bad-selection")


@pytest.mark.parametrize("what", ["fields", "files", "versions"])
@with_the_machine_to_itself
def test_a_body_with_very_much_that_is_wrong_keeps_nobody_waiting(service: Service, what: str) -> None:
    many = times(200_000, 500_000)
    wrong: dict[str, Any] = {
        "fields": dict.fromkeys(map(str, range(many)), 1),
        "files": {"files": list(range(90_000))},
        "versions": {"files": [], "versions": dict.fromkeys(map(str, range(many)), "x")},
    }
    body = json.dumps(wrong[what], separators=(",", ":")).encode()
    with others_are_answered(service, within=2.0), service.client() as client:
        said = client.post("/api/bundles", content=body, headers={"content-type": "application/json"})
    assert (said.status_code, said.json()["reason"]) == (400, "bad-request")
    assert len(said.content) < 1000


def test_a_refused_selection_takes_no_room(service: Service) -> None:
    size = sum(path.stat().st_size for path in (service.folder / "data").iterdir() if path.is_file())
    names = times(25_000, 50_000)
    selection = {"files": [f"files/secret/{number:06}-{'n' * 30}.txt" for number in range(names)]}
    with service.client() as client:
        for number in range(8):
            answer = client.post("/api/bundles", json={**selection, "wait": number > 1})
            if number <= 1:
                place = f"/api/bundles/{answer.json()['id']}"
                for _ in range(100):
                    answer = client.get(place)
                    if answer.status_code != 200:
                        break
                    time.sleep(0.05)
            assert (answer.status_code, answer.json()["reason"]) == (403, "bad-selection")
    after = sum(path.stat().st_size for path in (service.folder / "data").iterdir() if path.is_file())
    assert after - size < 240 * names, "of eight selections, each of fifty bytes a name"
    with service.client("ann") as client:
        assert client.get("/api/history").status_code == 200


@with_the_machine_to_itself
def test_a_folder_that_is_named_a_thousand_times_is_walked_once(service: Service) -> None:
    with others_are_answered(service), service.client() as client:
        began = time.monotonic()
        made = client.post("/api/bundles", json={"files": ["files/many/", "files/a.txt"] * 20_000})
        assert (made.status_code, made.json()["entries"]) == (201, 301)
        assert time.monotonic() - began < 5


def test_a_client_that_leaves_ends_its_plan(start: Start) -> None:
    own = start(files={f"deep/{n}/{m}.txt": os.urandom(400_000) for n in range(20) for m in range(10)})
    with socket.create_connection(("127.0.0.1", own.port)) as connection:
        body = b'{"files": ["files/deep/"], "sums": true}'
        head = f"POST /api/bundles HTTP/1.1\r\nhost: x\r\ncontent-type: application/json\r\ncontent-length: {len(body)}"
        connection.sendall(head.encode() + b"\r\n\r\n" + body)
        time.sleep(0.05)
        connection.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, b"\1\0\0\0\0\0\0\0")
    assert own.get("/get/files/deep/1/1.txt").status_code == 200
    began = time.monotonic()
    own.stop()
    assert time.monotonic() - began < 5


def test_the_history_of_nobody_is_empty_at_once(service: Service) -> None:
    for path in ("/api/history", "/api/history?format=csv", "/api/transfers"):
        began = time.monotonic()
        answer = service.get(path)
        assert answer.status_code == 200
        assert time.monotonic() - began < 0.3
    assert service.get("/api/history").text == ""


@with_the_machine_to_itself
def test_sixty_sign_ins_at_once_keep_nobody_waiting(service: Service) -> None:
    def sign_in(number: int) -> int:
        with service.client() as client:
            given = {"recipient": f"nobody-{number}", "password": "wrong"}
            return client.post("/api/sessions", json=given).status_code

    before = resident(service)
    with others_are_answered(service, 1.5), ThreadPoolExecutor(60) as clients:
        answers = set(clients.map(sign_in, range(60)))
    assert answers <= {401, 429, 503}
    assert resident(service) - before < 120_000_000


def test_long_addresses_tokens_and_agents_fill_no_memory(service: Service) -> None:
    before = resident(service)
    with socket.create_connection(("127.0.0.1", service.port), timeout=20) as connection:
        for number in range(600):
            long = b"%06d" % number + b"n" * 50_000
            for line in (b"GET /get/files/" + long + b" HTTP/1.1\r\nhost: x",
                         b"GET /get/files/none HTTP/1.1\r\nhost: x\r\nauthorization: Bearer " + long,
                         b"GET /get/files/none HTTP/1.1\r\nhost: x\r\nuser-agent: " + long):  # fmt: skip
                connection.sendall(line + b"\r\n\r\n")
                data = b""
                while b"\r\n\r\n" not in data or not data.endswith(b"}"):
                    data += connection.recv(65536)
    assert resident(service) - before < 60_000_000


@with_the_machine_to_itself
def test_pipelined_requests_wait_unread(service: Service) -> None:
    before = resident(service)
    request = b"GET /get/files/a.txt HTTP/1.1\r\nhost: x\r\n\r\n"
    with others_are_answered(service, 3.0):
        connections = []
        for _ in range(20):
            connection = socket.create_connection(("127.0.0.1", service.port))
            connection.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 4096)
            connection.setblocking(False)
            connections.append(connection)
            try:
                for _ in range(200):
                    connection.send(request * 400)
            except BlockingIOError:
                pass
        time.sleep(2)
        for connection in connections:
            connection.close()
    assert resident(service) - before < 120_000_000


def test_event_streams_are_counted(start: Start) -> None:
    limits = "[limits]\nrecipient_streams = 2\nstreams = 3\n[stores.files]\nkind = 'directory'\nroot = 'files'\n"
    own = start(files={"a.txt": b"a"}, settings=limits)

    @contextmanager
    def stream(who: str) -> Iterator[int]:
        with own.client(who) as client, client.stream("GET", "/api/transfers/stream") as answer:
            # All that has come is taken: what is closed then looks like a client that has said all it will.
            assert answer.status_code != 200 or next(answer.iter_lines())
            yield answer.status_code

    with (
        stream("ann") as one,
        stream("ann") as two,
        stream("ann") as three,
        stream("bob") as four,
        stream("bob") as five,
    ):
        assert (one, two, three, four, five) == (200, 200, 429, 200, 503)

    def again() -> bool:
        with stream("ann") as status:
            return status == 200

    until(again)


@with_the_machine_to_itself
def test_a_folder_as_deep_as_can_be_neither_comes_to_be_nor_stops_others(service: Service) -> None:
    deep = "/".join(["d"] * 20_000)
    with others_are_answered(service), service.client("ann") as client:
        for path in (
            f"/api/files/drop/{deep}/f",
            "/api/files/drop/" + "d/" * 150 + "f",
            "/api/files/drop/" + "n" * 5000,
        ):
            refused = client.put(path, content=b"x")
            assert (refused.status_code, refused.json()["reason"]) in ((400, "malformed"), (400, "bad-request"))
        assert client.put("/api/files/drop/" + "d/" * 90 + "f", content=b"x").status_code == 201
        assert client.post("/api/bundles", json={"files": ["drop/"]}).json()["entries"] == 1


def test_a_tree_deeper_than_addresses_and_loops_of_links_break_no_bundle(start: Start) -> None:
    own = start(files={"ok/a.txt": b"a", "locked/x.txt": b"x", "ok/closed.bin": b"c"})
    at = os.open(own.folder / "files", os.O_RDONLY)
    for _ in range(1500):
        os.mkdir("n", dir_fd=at)
        inside = os.open("n", os.O_RDONLY, dir_fd=at)
        os.close(at)
        at = inside
    os.close(at)
    (own.folder / "files" / "one").symlink_to("two")
    (own.folder / "files" / "two").symlink_to("one")
    (own.folder / "files" / "itself").symlink_to(".")
    with own.client("ann") as client:
        for given in ({}, {"on_problem": "leave-out"}):
            made = client.post("/api/bundles", json={"files": ["files/"], **given})
            assert (made.status_code, made.json()["entries"]) == (201, 3)
        assert client.get("/api/files?in=files/").status_code == 200
    # What tidies up after the tests walks by calling itself, and would not come out of this tree.
    subprocess.run(["rm", "-rf", own.folder / "files" / "n"], check=True)


def test_numbers_and_texts_that_nothing_can_hold_are_refused_where_they_come_in(service: Service) -> None:
    huge = 2**63
    with service.client("ann") as client:
        asked: list[tuple[str, str, Any]] = [
            ("POST", "/api/links", {"address": "files/a.txt", "until": 999_999_999_999_999}),
            ("POST", "/api/links", {"address": "files/a.txt", "seconds": 10**15}),
            ("POST", "/api/links", {"address": "files/a.txt", "version": huge}),
            ("POST", "/api/links", {"address": "files/a.txt", "uses": huge}),
            ("POST", "/api/links", {"address": "files/a.txt", "until": 1}),
            ("POST", "/api/links", {"address": "files/a.txt", "after": 2_000_000_000, "until": 1_999_999_999}),
            ("POST", "/api/recipients/bob/tokens", {"seconds": 999_999_999_999}),
            ("GET", f"/api/versions/files/a.txt?before={huge}", None),
            ("GET", f"/api/decisions?address=files/a.txt&version={huge}", None),
            ("DELETE", f"/api/files/drop/a.txt?version={huge}", None),
            ("POST", "/api/bundles", {"files": ["files/a.txt"], "versions": {"files/a.txt": huge}}),
        ]
        for method, path, body in asked:
            answer = client.request(method, path, json=body)
            assert answer.status_code == 400, (path, body, answer.text)
            assert answer.headers["content-type"] == "application/problem+json"
        odd = '{"files": ["\\ud800", "files/a.txt"], "on_problem": "leave-out"}'
        made = client.post("/api/bundles", content=odd, headers={"content-type": "application/json"})
        assert made.status_code == 201
        assert client.get("/api/links").status_code == 200


def test_what_is_odd_in_the_records_already_is_shown(start: Start) -> None:
    import sqlite3

    own = start(files={"a.txt": b"a"})
    own.stop()
    with sqlite3.connect(own.folder / "data" / "records.sqlite") as records:
        records.execute("INSERT INTO links (id, used, made, maker, until) VALUES ('odd', 0, 1e300, 'ann', ?)", (2**62,))
    again = start(own.folder)
    listed = again.get("/api/links", "ann").json()["links"]
    assert listed[0]["until"] == "9999-12-31T23:59:59.000Z"
    assert again.get("/get/x%E2%80%A8y%1b%5b2J%E2%80%AEz").status_code in (400, 401)
    lines = again.get("/api/history?state=refused", "ann").text.splitlines()
    assert all(json.loads(line)["state"] == "refused" for line in lines)


HANGING = """
import time

def rows():
    time.sleep(600)
    yield ("never",)

def answers_late(question):
    time.sleep(600)
"""


@pytest.fixture
def hole() -> Iterator[int]:
    """A system that accepts connections and never answers; its port."""
    with socket.create_server(("127.0.0.1", 0), backlog=1000) as server:
        yield server.getsockname()[1]


@with_the_machine_to_itself
def test_what_hangs_hangs_alone_and_the_service_stops_in_time(
    start: Start, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, hole: int
) -> None:
    (tmp_path / "hanging_here.py").write_text(HANGING)
    monkeypatch.setenv("PYTHONPATH", f"{tmp_path}{os.pathsep}{os.environ.get('PYTHONPATH', '')}")
    settings = f"""
[service]
shutdown = 1
[stores.files]
kind = "directory"
root = "files"
[stores.hole]
kind = "remote"
url = "ftp://127.0.0.1:{hole}/"
timeout = 3
[stores.slow]
kind = "tables"
[[stores.slow.file]]
path = "never.csv"
function = "hanging_here:rows"
"""
    rules = RULES.replace('what = ["files/**"]', 'what = ["files/**", "slow/**", "hole/**"]') + rule(
        "anyone", "files/asked/**", "read", "asks", ask={"function": "hanging_here:answers_late", "timeout": 1.0}
    )
    own = start(files=FILES, rules=rules, settings=settings)
    sockets = []
    with others_are_answered(own, 2.0):
        for number in range(150):
            path = ("/get/hole/a.bin", "/get/slow/never.csv", "/get/files/asked/x", "/api/files?in=hole/")[number % 4]
            connection = socket.create_connection(("127.0.0.1", own.port), timeout=30)
            connection.sendall(f"GET {path} HTTP/1.1\r\nhost: x\r\n\r\n".encode())
            sockets.append(connection)
        time.sleep(5)
        assert own.get("/readyz").status_code == 200
        assert own.get("/api/files?in=files/").status_code == 200
        with own.client("ann") as client:
            assert client.post("/api/bundles", json={"files": ["files/many/"]}).status_code == 201
            refused = client.get("/get/hole/b.bin")
            assert (refused.status_code, refused.json()["reason"]) in (
                (502, "unreachable"),
                (504, "no-answer"),
                (503, "busy"),
            )
    began = time.monotonic()
    own.process.send_signal(signal.SIGTERM)
    assert own.process.wait(25) == 0
    assert time.monotonic() - began < 12
    for connection in sockets:
        connection.close()


def test_pages_of_links_into_a_store_that_hangs_keep_no_other_link_from_being_used(start: Start, hole: int) -> None:
    settings = f"""
[stores.files]
kind = "directory"
root = "files"
[stores.hole]
kind = "remote"
url = "ftp://127.0.0.1:{hole}/"
timeout = 12
"""
    rules = RULES.replace('what = ["files/**"]', 'what = ["files/**", "hole/**"]')
    own = start(files=FILES, rules=rules, settings=settings)
    with ThreadPoolExecutor(40) as clients:
        page = own.link("hole/a.bin", {"to": "bob"}).replace("/get/", "/pickup/")
        asked = [clients.submit(own.get, page) for _ in range(12)]
        with own.client("ann") as client:
            short = [clients.submit(client.post, "/api/short-links", json={"address": "hole/a.bin"}) for _ in range(12)]
            made = [clients.submit(client.post, "/api/links", json={"address": "hole/a.bin"}) for _ in range(12)]
            began = time.monotonic()
            for number in range(3):
                again = own.link("files/a.txt", {"id": f"one-{number}"}, uses=1)
                assert own.get(again.replace("/get/", "/pickup/")).status_code == 200
                assert own.get(again).content == b"aaa"
                assert own.get(again).status_code == 410
                made_now = client.post("/api/links", json={"address": "files/a.txt"})
                assert made_now.status_code == 201, made_now.text
            assert time.monotonic() - began < 8, "not one of them waits for the store's twelve seconds"
            assert {one.result().status_code for one in [*asked, *short, *made]} <= {502, 503, 504}


STARVED = """
import os
import threading
from pathlib import Path

start = threading.Thread.start

def starved(self):
    if Path(os.environ["STARVED"]).exists():
        raise RuntimeError("can't start new thread")
    start(self)

threading.Thread.start = starved

def rows():
    yield ("some",)
"""


def test_a_system_that_gives_no_threads_is_told_as_busy_and_nothing_stays_broken(
    start: Start, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "starving_here.py").write_text(STARVED)
    monkeypatch.setenv("PYTHONPATH", f"{tmp_path}{os.pathsep}{os.environ.get('PYTHONPATH', '')}")
    monkeypatch.setenv("STARVED", str(tmp_path / "starved"))
    (tmp_path / "starved").touch()
    settings = """
[stores.files]
kind = "directory"
root = "files"
[stores.up]
kind = "managed"
root = "up"
[stores.made]
kind = "tables"
[[stores.made.file]]
path = "t.csv"
function = "starving_here:rows"
"""
    own = start(files=FILES, settings=settings)

    def ask() -> list[int]:
        with own.client("ann") as client:
            answers = [
                own.get("/healthz"),
                own.get("/get/files/a.txt"),
                client.get("/get/made/t.csv"),
                client.put("/api/files/up/a.txt", content=b"a"),
                client.get("/api/files?in=files/"),
                client.post("/api/bundles", json={"files": ["files/many/"]}),
            ]
        assert {answer.json()["reason"] for answer in answers if answer.status_code == 503} <= {"busy"}
        return [answer.status_code for answer in answers]

    for _ in range(3):
        assert ask() == [200, 200, 503, 503, 503, 503]
    (tmp_path / "starved").unlink()
    assert ask() == [200, 200, 200, 201, 200, 201]
    (tmp_path / "starved").touch()
    began = time.monotonic()
    own.process.send_signal(signal.SIGTERM)
    assert own.process.wait(25) == 0
    assert time.monotonic() - began < 12


@with_the_machine_to_itself
def test_readers_that_read_nothing_hold_no_database(start: Start, tmp_path: Path) -> None:
    import sqlite3

    with sqlite3.connect(tmp_path / "t.sqlite") as database:
        database.execute("DROP TABLE IF EXISTS t")
        database.execute("CREATE TABLE t (n INTEGER, x TEXT)")
        database.executemany("INSERT INTO t VALUES (?, ?)", ((n, "x" * 200) for n in range(50_000)))
    settings = f"""
[limits]
idle = 2
[stores.files]
kind = "directory"
root = "files"
[stores.slow]
kind = "tables"
connections = 3
[[stores.slow.file]]
path = "t.csv"
database = "sqlite:///{tmp_path}/t.sqlite"
query = "SELECT * FROM t"
[[stores.slow.file]]
path = "short.csv"
database = "sqlite:///{tmp_path}/t.sqlite"
query = "SELECT n FROM t LIMIT 3"
"""
    own = start(
        files=FILES, rules=RULES.replace('what = ["files/**"]', 'what = ["files/**", "slow/**"]'), settings=settings
    )
    stuck = []
    with others_are_answered(own):
        for _ in range(30):
            connection = socket.socket()
            connection.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 4096)
            connection.connect(("127.0.0.1", own.port))
            connection.sendall(b"GET /get/slow/t.csv HTTP/1.1\r\nhost: x\r\n\r\n")
            stuck.append(connection)
        # A short one of the same database: what is measured beside it is the service, not this test's own reading.
        until(lambda: own.get("/get/slow/short.csv").status_code == 200)
    for connection in stuck:
        connection.close()


def test_upgrades_lose_no_body(service: Service) -> None:
    with service.client("ann") as client:
        for headers in ({"connection": "Upgrade, HTTP2-Settings", "upgrade": "h2c", "http2-settings": "AAMAAABk"},
                        {"connection": "Upgrade", "upgrade": "websocket"}, {"connection": "upgrade", "upgrade": "TLS/1.0"}):  # fmt: skip
            put = client.put(
                "/api/files/drop/report.txt", content=b"kept" + headers["upgrade"].encode(), headers=headers
            )
            assert (put.status_code, put.json()["size"]) in (
                (200, 4 + len(headers["upgrade"])),
                (201, 4 + len(headers["upgrade"])),
            )
            assert client.get("/get/drop/report.txt").content == b"kept" + headers["upgrade"].encode()
            posted = client.post("/api/bundles", json={"files": ["files/a.txt"]}, headers=headers)
            assert posted.status_code == 201


def test_a_half_closed_client_gets_its_answer(start: Start) -> None:
    content = os.urandom(20_000_000)
    own = start(files={"large.bin": content, "a.txt": b"a"})
    for path, size in (("/get/files/large.bin", len(content)), ("/api/files?in=files/", None), ("/get/files/a.txt", 1)):
        with socket.create_connection(("127.0.0.1", own.port), timeout=20) as connection:
            connection.sendall(f"GET {path} HTTP/1.1\r\nhost: x\r\n\r\n".encode())
            connection.shutdown(socket.SHUT_WR)
            data = b""
            while piece := connection.recv(1 << 20):
                data += piece
        head, _, body = data.partition(b"\r\n\r\n")
        assert head.startswith(b"HTTP/1.1 200")
        assert size is None or len(body) == size
    until(lambda: {one["state"] for one in own.transfers()} == {"complete"})


def test_methods_and_heads_are_answered_as_http_says(service: Service) -> None:
    port = service.port
    assert get_raw(port, "*", method="OPTIONS").status == 204
    allowed = get_raw(port, "/api/files/files/a.txt", method="PATCH")
    assert (allowed.status, allowed.headers["allow"]) == (405, "DELETE, GET, HEAD, OPTIONS, PUT")
    assert get_raw(port, "/api/links", method="OPTIONS").headers["allow"] == "DELETE, GET, HEAD, OPTIONS, POST"
    for path in ("/healthz", "/api/files", "/api/history", "/readyz"):
        head = get_raw(port, path, method="HEAD")
        assert (head.status, head.body) == (200, b""), path
        assert (head.headers["cache-control"], head.headers["x-content-type-options"]) == ("no-store", "nosniff")
    assert raw(port, b"GET /get/files/a.txt HTTP/1.0\r\nExpect: 100-continue\r\n\r\n").status == 200
    behind = raw(port, b"GET /get/files/a.txt HTTP/1.1\r\nhost: x\r\nrange: bytes=9999999999999999999-\r\n\r\n")
    assert behind.status == 416

"""Rules that ask the developer's own application, by HTTP and by a function; closed when it does not answer."""

from __future__ import annotations

import json
import os
import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import httpx
import pytest

from tests.rules import rule
from tests.running import Service, make_folder

Start = Callable[..., Service]
RULES = """
[[rule]]
name = "those who have paid"
effect = "allow"
who = ["signed-in"]
what = ["files/paid/**"]
actions = ["list", "read", "bundle"]
ask = {{ {ask} }}

[[rule]]
name = "what is held back"
effect = "deny"
who = ["signed-in"]
what = ["files/paid/held/**"]
actions = ["read"]
ask = {{ {ask} }}

[[rule]]
effect = "allow"
who = ["recipient:ann"]
what = ["**"]
actions = ["manage"]
"""
FILES = {"paid/a.txt": b"aaa", "paid/b.txt": b"bbb", "paid/held/c.txt": b"ccc", "other.txt": b"o"}


class Application:
    """The stand-in: what it was asked, and what it answers."""

    def __init__(self) -> None:
        self.asked: list[dict[str, Any]] = []
        self.says: Callable[[dict[str, Any]], tuple[int, object]] = lambda _: (200, {"applies": True})
        self.waits = 0.0
        application = self

        class Handler(BaseHTTPRequestHandler):
            protocol_version = "HTTP/1.1"

            def do_POST(self) -> None:
                asked = json.loads(self.rfile.read(int(self.headers["content-length"])))
                application.asked.append(asked)
                time.sleep(application.waits)
                status, said = application.says(asked)
                body = said.encode() if isinstance(said, str) else json.dumps(said).encode()
                try:
                    self.send_response(status)
                    self.send_header("Content-Length", str(len(body)))
                    self.end_headers()
                    self.wfile.write(body)
                except OSError:
                    pass  # whoever asked has left

            def log_message(self, *_: object) -> None:
                """Not here."""

        self._server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        threading.Thread(target=self._server.serve_forever, daemon=True).start()
        self.url = f"http://127.0.0.1:{self._server.server_port}/may"

    def close(self) -> None:
        self._server.shutdown()
        self._server.server_close()


@pytest.fixture
def application() -> Iterator[Application]:
    application = Application()
    yield application
    application.close()


def why_not(reasons: list[dict[str, Any]], rule: str) -> str:
    [because] = [reason["because"] for reason in reasons if reason["rule"] == rule]
    return str(because)


def started(start: Start, application: Application) -> Service:
    return start(files=FILES, rules=RULES.format(ask=f'url = "{application.url}", timeout = 0.5'))


def test_the_application_is_asked_and_has_its_way(start: Start, application: Application) -> None:
    application.says = lambda asked: (
        200,
        {"applies": asked["address"].endswith(("a.txt", "paid/")), "because": "it is paid for"},
    )
    service = started(start, application)
    assert service.get("/get/files/paid/a.txt", "bob").content == b"aaa"
    assert application.asked[0] == {
        "rule": "those who have paid",
        "recipient": "bob",
        "groups": ["crew"],
        "action": "read",
        "address": "files/paid/a.txt",
        "network": "127.0.0.1",
    }
    assert service.get("/get/files/paid/b.txt", "bob").status_code == 404
    asked = len(application.asked)
    assert service.get("/get/files/other.txt", "bob").status_code == 404
    assert service.get("/get/files/paid/a.txt").status_code == 401
    assert len(application.asked) == asked, "nobody is asked where it cannot matter"
    listed = service.get("/api/files?in=files/paid/", "bob").json()["files"]
    assert [one["address"] for one in listed] == ["files/paid/a.txt"], "a folder's name is asked about as well"
    with service.client("bob") as client:
        made = client.post("/api/bundles", json={"files": ["files/paid/a.txt"]})
        assert (made.status_code, made.json()["entries"]) == (201, 1)
        assert client.post("/api/bundles", json={"files": ["files/paid/b.txt"]}).status_code == 403


def test_an_answer_is_good_for_as_long_as_it_says(start: Start, application: Application) -> None:
    service = started(start, application)

    def times(seconds: float) -> int:
        application.says = lambda _: (200, {"applies": True, "seconds": seconds})
        application.asked.clear()
        for _ in range(3):
            assert service.get("/get/files/paid/b.txt", "bob").status_code == 200
        return len(application.asked)

    assert times(0) == 3
    assert times(60) == 1
    application.says = lambda _: (200, {"applies": False})
    assert service.get("/get/files/paid/b.txt", "bob").status_code == 200
    assert service.get("/get/files/paid/a.txt", "bob").status_code == 404


@pytest.mark.parametrize("wrong", ["500", "no json", "no answer", "late", "gone", "a list", "seconds"])
def test_without_an_answer_it_is_closed(start: Start, application: Application, wrong: str) -> None:
    service = started(start, application)
    said: dict[str, tuple[int, object]] = {
        "500": (500, {"applies": True}),
        "no json": (200, "true"),
        "no answer": (200, {"applies": "yes"}),
        "a list": (200, [True]),
        "seconds": (200, {"applies": True, "seconds": "long"}),
    }
    application.says = lambda _: said.get(wrong, (200, {"applies": True}))
    if wrong == "late":
        application.waits = 1.0
    if wrong == "gone":
        application.close()
    began = time.monotonic()
    assert service.get("/get/files/paid/a.txt", "bob").status_code == 404
    assert time.monotonic() - began < 2
    assert "rule.no-answer" in service.logged()
    decided = service.get("/api/decisions?address=files/paid/a.txt&as=bob", "ann")
    assert decided.status_code == 200, decided.text
    assert why_not(decided.json()["reasons"], "those who have paid") == f"{application.url} gave no answer"


def test_a_rule_that_denies_does_so_unless_it_is_told_not_to(start: Start, application: Application) -> None:
    application.says = lambda asked: (200, {"applies": asked["rule"] == "those who have paid"})
    service = started(start, application)
    assert service.get("/get/files/paid/held/c.txt", "bob").content == b"ccc"
    application.says = lambda asked: (200, {"applies": True}) if asked["rule"] == "those who have paid" else (500, "")
    assert service.get("/get/files/paid/held/c.txt", "bob").status_code == 403, "it is listed, and not read"


FUNCTION = """
import invio

def may(question: invio.CheckRequest) -> object:
    if question.address.endswith("b.txt"):
        raise RuntimeError("no")
    return invio.CheckResult(question.recipient == "bob" and question.rule == "those who have paid", seconds=30)
"""


def test_a_function_is_asked_in_the_same_way(start: Start, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / "deciding_here.py").write_text(FUNCTION)
    monkeypatch.setenv("PYTHONPATH", f"{tmp_path}{os.pathsep}{os.environ.get('PYTHONPATH', '')}")
    folder = tmp_path / "service"
    make_folder(folder, FILES, RULES.format(ask='function = "deciding_here:may"'))
    service = start(folder)
    assert service.get("/get/files/paid/a.txt", "bob").content == b"aaa"
    assert service.get("/get/files/paid/a.txt", "ann").status_code == 404
    assert service.get("/get/files/paid/b.txt", "bob").status_code == 404
    assert "RuntimeError: no" in service.logged()
    why = service.get("/api/decisions?address=files/paid/a.txt&as=ann", "ann").json()["reasons"]
    assert why_not(why, "those who have paid") == "deciding_here:may says that it does not apply"


def test_an_application_that_hangs_keeps_no_other_folder_from_being_listed(
    start: Start, application: Application
) -> None:
    application.waits = 60
    service = start(
        files={**{f"paid/{number}.txt": b"p" for number in range(200)}, "open/a.txt": b"a"},
        rules=RULES.format(ask=f'url = "{application.url}", timeout = 0.5') + rule("anyone", "files/open/**", "list"),
    )
    with ThreadPoolExecutor(24) as clients:
        paths = ["/api/files?in=files/paid/", "/files/files/paid/", "/api/files/files/paid/1.txt"] * 8
        listings = [clients.submit(service.get, path, "bob") for path in paths]
        began = time.monotonic()
        for _ in range(3):
            assert service.get("/api/files?in=files/open/").status_code == 200
        # Each of the files would be asked about, for half a second.
        assert time.monotonic() - began < 5
        assert {listing.result().status_code for listing in listings} == {404}, "closed, as without an answer"
    assert time.monotonic() - began < 60


def test_a_folder_of_which_each_file_is_asked_about_is_listed_whole(start: Start, application: Application) -> None:
    application.waits = 0.01
    application.says = lambda asked: (200, {"applies": "7" not in asked["address"]})
    service = start(
        files={f"paid/{number:02}.txt": b"p" for number in range(40)},
        rules=RULES.format(ask=f'url = "{application.url}", timeout = 20'),
    )
    first = service.get("/api/files?in=files/paid/&limit=30", "bob").json()
    second = service.get(f"/api/files?in=files/paid/&limit=30&after={first['next']}", "bob").json()
    shown = [one["name"] for one in first["files"] + second["files"]]
    assert shown == [f"{number:02}.txt" for number in range(40) if "7" not in str(number)]


def test_an_administrator_whose_right_is_asked_about_has_it_everywhere(start: Start, application: Application) -> None:
    right = f"""
[[rule]]
name = "on duty"
effect = "allow"
who = ["recipient:ann"]
what = ["**"]
actions = ["manage", "administer", "link", "list", "read"]
ask = {{ url = "{application.url}", timeout = 5.0 }}
"""
    service = start(files=FILES, rules=right)
    with service.client("ann") as client:
        made = client.post("/api/links", json={"address": "files/other.txt", "id": "for-the-office"}).json()
    asked: list[tuple[str, str, Any]] = [
        ("GET", "/api/audience?address=files/other.txt", None),
        ("GET", "/api/decisions?address=files/other.txt&as=bob&at=1&network=192.0.2.7", None),
        ("GET", "/api/links?maker=bob", None),
        ("POST", "/api/links/explanation", {"link": made["target"]}),
        ("PUT", "/api/recipients/ann/password", {"password": "long enough to be one"}),
        ("GET", "/api/sessions/current", None),
        ("GET", "/api/access", None),
        ("DELETE", f"/api/links/{made['id']}", None),
    ]
    got = {}
    for number, (method, path, body) in enumerate(asked, 2):
        # From another network each, for an answer is good for some seconds, and of each this is the first question.
        transport = httpx.HTTPTransport(local_address=f"127.0.0.{number}")
        headers = {"authorization": f"Bearer {service.tokens['ann']}"}
        with httpx.Client(base_url=service.url, headers=headers, transport=transport, timeout=20) as client:
            got[path] = client.request(method, path, json=body)
        assert got[path].status_code in (200, 204), (path, got[path].text)
    assert got["/api/decisions?address=files/other.txt&as=bob&at=1&network=192.0.2.7"].json()["reasons"] != []
    assert got["/api/links/explanation"].json()["maker"] == "ann"
    assert got["/api/sessions/current"].json()["administers"] is True

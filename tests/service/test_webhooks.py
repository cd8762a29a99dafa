"""Webhooks of a running service: who is told what, once or more, and never what did not happen."""

from __future__ import annotations

import json
import signal
import threading
from collections.abc import Callable, Iterator, Sequence
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

import pytest

from invio.core.signing import BadSignature
from invio.core.webhook_signatures import check
from tests.rules import rule
from tests.running import SETTINGS, Service, until

RULES = rule("group:crew", "files/**", "list read", "crew reads charts") + rule(
    "group:admins", "**", "list read bundle link put manage administer", "admins"
)
FILES = {"a.txt": b"aaa" * 100, "big.bin": bytes(4_000_000)}
MODELS = SETTINGS + '\n[stores.models]\nkind = "managed"\nroot = "models"\n'


class Receiver(ThreadingHTTPServer):
    """Takes what is posted, and answers with `status`."""

    daemon_threads = True

    def __init__(self) -> None:
        super().__init__(("127.0.0.1", 0), _Handler)
        self.status = 204
        self.answers = threading.Event()
        self.answers.set()
        self.got: list[tuple[bytes, dict[str, str]]] = []
        self.origin = f"http://127.0.0.1:{self.server_address[1]}"

    def told(self) -> list[dict[str, Any]]:
        return [json.loads(body) for body, _ in self.got]

    def events(self) -> list[str]:
        return [one["event"] for one in self.told()]


class _Handler(BaseHTTPRequestHandler):
    server: Receiver

    def do_POST(self) -> None:
        body = self.rfile.read(int(self.headers["content-length"]))
        self.server.answers.wait(15)
        self.server.got.append((body, {name.lower(): value for name, value in self.headers.items()}))
        self.send_response(self.server.status)
        self.send_header("location", "/elsewhere")
        self.send_header("content-length", "0")
        self.end_headers()

    def log_message(self, *_: object) -> None:
        pass


def _receiving() -> Iterator[Receiver]:
    server = Receiver()
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield server
    server.answers.set()
    server.shutdown()
    server.server_close()


@pytest.fixture
def receiver() -> Iterator[Receiver]:
    yield from _receiving()


@pytest.fixture
def other() -> Iterator[Receiver]:
    yield from _receiving()


@pytest.fixture
def begin(start: Callable[..., Service], receiver: Receiver) -> Callable[..., Service]:
    def begin(more: str = "", origins: Sequence[str] = ()) -> Service:
        named = f"\n[webhooks]\norigins = {json.dumps(list(origins) or [receiver.origin])}\n"
        return start(files=FILES, rules=RULES, settings=MODELS + named + more)

    return begin


def _make(service: Service, receiver: Receiver, *events: str, path: str = "/hook") -> str:
    with service.client("ann") as ann:
        made = ann.post("/api/webhooks", json={"url": receiver.origin + path, "events": events, "label": "test"})
    assert made.status_code == 201, made.text
    return str(made.json()["id"])


def _deliveries(service: Service, hook: str) -> list[dict[str, Any]]:
    listed: list[dict[str, Any]] = service.get(f"/api/webhooks/{hook}/deliveries", "ann").json()["deliveries"]
    return listed


def test_what_was_asked_for_is_told_signed_and_nothing_else_is(
    begin: Callable[..., Service], receiver: Receiver
) -> None:
    service = begin()
    hook = _make(service, receiver, "transfer.complete", "link.made", "file.put")
    assert service.get("/get/files/a.txt", "bob").status_code == 200
    with service.client("ann") as ann:
        made = ann.post("/api/links", json={"address": "files/a.txt", "to": "cleo"}).json()
        assert ann.put("/api/files/models/floor.bin", content=b"floor").status_code == 201
        assert ann.delete("/api/files/models/floor.bin").status_code == 204, "nobody asked to be told of that"
    until(lambda: len(receiver.got) >= 3)
    by = {one["event"]: one for one in receiver.told()}
    assert set(by) == {"transfer.complete", "link.made", "file.put"}
    transfer = by["transfer.complete"]["transfer"]
    assert (transfer["address"], transfer["recipient"], transfer["percent"]) == ("files/a.txt", "bob", 100)
    assert by["link.made"]["about"]["link"] == made["id"]
    assert made["url"].rpartition("seal=")[2] not in str(receiver.got), "a seal is told to nobody"
    assert (by["file.put"]["by"], by["file.put"]["about"]["address"]) == ("ann", "models/floor.bin")
    keys = service.get("/api/public-keys").json()
    for body, fields in receiver.got:
        assert check(body, fields["invio-signature"], keys)["delivery"] > 0
        with pytest.raises(BadSignature):
            check(body.replace(b"files/a.txt", b"files/b.txt") + b" ", fields["invio-signature"], keys)
    until(lambda: [one["state"] for one in _deliveries(service, hook)] == ["told"] * 3)
    assert {one["said"] for one in _deliveries(service, hook)} == {"204 No Content"}


def test_what_is_cut_is_told_as_broken_off(begin: Callable[..., Service], receiver: Receiver) -> None:
    service = begin()
    _make(service, receiver, "transfer.complete", "transfer.broken-off")
    with service.client() as client, client.stream("GET", service.link("files/big.bin", rate=200_000)) as answer:
        next(answer.iter_raw(1000))
    until(lambda: receiver.events() == ["transfer.broken-off"])
    assert receiver.told()[0]["transfer"]["bytes"] < 4_000_000


def test_what_fails_is_told_again_with_the_same_number_and_by_hand_at_once(
    begin: Callable[..., Service], receiver: Receiver
) -> None:
    service = begin()
    receiver.status = 500
    hook = _make(service, receiver, "link.made")
    with service.client("ann") as ann:
        assert ann.post("/api/links", json={"address": "files/a.txt"}).status_code == 201
        until(lambda: bool(_deliveries(service, hook)) and _deliveries(service, hook)[0]["attempts"] == 1)
        failed = _deliveries(service, hook)[0]
        assert (failed["state"], failed["said"]) == ("waiting", "500 Internal Server Error")
        assert failed["next"] is not None
        assert ann.get("/api/webhooks").json()["webhooks"][0]["waiting"] == 1
        receiver.status = 204
        assert ann.post(f"/api/webhooks/{hook}/deliveries/{failed['id']}").status_code == 204
    until(lambda: _deliveries(service, hook)[0]["state"] == "told")
    assert {one["delivery"] for one in receiver.told()} == {failed["id"]}
    assert len({body for body, _ in receiver.got}) == 1


def test_a_redirect_is_no_way_to_another_place(begin: Callable[..., Service], receiver: Receiver) -> None:
    service = begin()
    receiver.status = 307
    hook = _make(service, receiver, "link.made")
    with service.client("ann") as ann:
        assert ann.post(f"/api/webhooks/{hook}/trial").status_code == 204
    until(lambda: bool(_deliveries(service, hook)) and _deliveries(service, hook)[0]["attempts"] == 1)
    assert _deliveries(service, hook)[0]["said"] == "307 Temporary Redirect"
    assert len(receiver.got) == 1
    assert receiver.events() == ["webhook.trial"]


@pytest.mark.parametrize(
    ("url", "says"),
    [
        ("http://app.example.org/hook", "has to begin with https://"),
        ("https://user@app.example.org/hook", "no user"),
        ("file:///etc/passwd", "url"),
        ("https://", "url"),
        ("https://xn--/", "A-label"),
    ],
)
def test_where_a_webhook_may_not_be_is_said_at_once(begin: Callable[..., Service], url: str, says: str) -> None:
    service = begin()
    with service.client("ann") as ann:
        refused = ann.post("/api/webhooks", json={"url": url, "events": ["link.made"]})
        assert refused.status_code == 400
        assert says in refused.json()["detail"]
        misspelt = ann.post("/api/webhooks", json={"url": "https://192.0.2.1/", "events": ["link.mad"]})
        assert "did you mean 'link.made'" in misspelt.json()["detail"]


def test_inside_is_not_told_unless_the_settings_name_it(start: Callable[..., Service], receiver: Receiver) -> None:
    service = start(files=FILES, rules=RULES, settings=MODELS)
    with service.client("ann") as ann:
        inside = f"https://localhost:{receiver.server_address[1]}/"
        hook = ann.post("/api/webhooks", json={"url": inside, "events": ["link.made"]}).json()["id"]
        ann.post(f"/api/webhooks/{hook}/trial")
    until(lambda: bool(_deliveries(service, hook)) and _deliveries(service, hook)[0]["attempts"] == 1)
    assert "is not a public one" in _deliveries(service, hook)[0]["said"]
    assert receiver.got == []


def test_one_that_hangs_keeps_no_other_from_being_told(
    begin: Callable[..., Service], receiver: Receiver, other: Receiver
) -> None:
    other.answers.clear()
    service = begin(origins=[receiver.origin, other.origin])
    _make(service, other, "link.made")
    _make(service, receiver, "link.made")
    with service.client("ann") as ann:
        for _ in range(3):
            assert ann.post("/api/links", json={"address": "files/a.txt"}).status_code == 201
    until(lambda: len(receiver.got) == 3)
    assert other.got == []


def test_three_processes_tell_each_event_once(begin: Callable[..., Service], receiver: Receiver) -> None:
    service = begin("\n[service]\nworkers = 3\n")
    hook = _make(service, receiver, "transfer.complete")
    for _ in range(20):
        assert service.get("/get/files/a.txt", "bob").status_code == 200
    until(lambda: [one["state"] for one in _deliveries(service, hook)] == ["told"] * 20)
    assert sorted(one["delivery"] for one in receiver.told()) == sorted(one["id"] for one in _deliveries(service, hook))


def test_what_a_killed_process_was_telling_is_told_by_the_next(
    begin: Callable[..., Service], start: Callable[..., Service], receiver: Receiver
) -> None:
    receiver.answers.clear()
    service = begin()
    hook = _make(service, receiver, "transfer.complete")
    assert service.get("/get/files/a.txt", "bob").status_code == 200
    until(lambda: bool(_deliveries(service, hook)))
    service.stop(signal.SIGKILL)
    again = start(service.folder)
    [waits] = _deliveries(again, hook)
    assert (waits["state"], waits["attempts"]) == ("waiting", 0)
    receiver.answers.set()
    with again.client("ann") as ann:  # by itself it would be told when the dead process's time for it has passed
        assert ann.post(f"/api/webhooks/{hook}/deliveries/{waits['id']}").status_code == 204
    until(lambda: _deliveries(again, hook)[0]["state"] == "told")
    assert {one["delivery"] for one in receiver.told()} == {waits["id"]}


def test_a_removed_webhook_is_told_nothing_and_costs_nothing(begin: Callable[..., Service], receiver: Receiver) -> None:
    service = begin()
    hook = _make(service, receiver, "transfer.complete", path="/hook?secret=harbour")
    with service.client("ann") as ann:
        assert ann.delete(f"/api/webhooks/{hook}").status_code == 204
        assert ann.delete(f"/api/webhooks/{hook}").status_code == 404
        assert ann.get(f"/api/webhooks/{hook}/deliveries").status_code == 404
        assert service.get("/get/files/a.txt", "bob").status_code == 200
        until(lambda: service.transfers()[0]["state"] == "complete")
        audit = ann.get("/api/audit")
    assert [line["event"] for line in audit.json()["lines"]][:2] == ["webhook.removed", "webhook.made"]
    assert "secret" not in audit.text + service.logged(), "what stands after the path is between the two"
    assert receiver.got == []

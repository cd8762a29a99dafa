"""Sealed links against the running service."""

from __future__ import annotations

import socket
import string
import time
from collections.abc import Callable

import pytest

from invio.core.addresses import parse_address
from invio.core.links.seals import link_target, narrow_link, parse_url
from tests.rules import rule
from tests.running import Service, get_raw

Start = Callable[..., Service]
CLOSED = (
    rule("group:admins", "files/**", "list read link manage")
    + rule("group:crew", "files/open/**", "list read link")
    + rule("group:crew", "files/open/secret/**", "link", effect="deny")
)


@pytest.fixture(scope="module")
def service(start_shared: Start) -> Service:
    return start_shared(
        files={"a.txt": b"tide", "big.bin": bytes(2_000_000), "open/b.txt": b"b", "open/secret/c.txt": b"c"},
        rules=CLOSED,
    )


@pytest.fixture
def own(start: Start) -> Service:
    """One that a test may alter or end, or in which nothing else is to have happened."""
    return start(
        files={"a.txt": b"tide", "big.bin": bytes(2_000_000), "open/b.txt": b"b", "open/secret/c.txt": b"c"},
        rules=CLOSED,
    )


def test_a_link_opens_what_the_rules_would_not_until_its_second(service: Service) -> None:
    assert service.get("/get/files/a.txt").status_code == 401
    end = int(time.time()) + 4
    link = service.link("files/a.txt", until=end)
    answer = service.get(link)
    assert (answer.status_code, answer.content) == (200, b"tide")
    assert answer.headers["referrer-policy"] == "no-referrer"
    time.sleep(max(0.0, end - time.time()) + 0.05)
    over = service.get(link)
    assert (over.status_code, over.json()["reason"]) == (410, "expired")


def test_no_changed_character_is_let_through(service: Service) -> None:
    link = service.link("files/a.txt", {"to": "ann"}, until=int(time.time()) + 600)
    alphabet = string.ascii_letters + string.digits + "-_"
    for place in range(len("/get/"), len(link)):
        mark = alphabet[(alphabet.find(link[place]) + 7) % len(alphabet)]
        changed = link[:place] + mark + link[place + 1 :]
        assert get_raw(service.port, changed).status in (400, 401, 403), changed
    assert get_raw(service.port, link).status == 200


def test_a_refused_link_says_nothing_of_the_file(service: Service) -> None:
    links = [
        service.link(f"files/{name}", until=5).replace("until=5", "until=9999999999") for name in ("a.txt", "none.txt")
    ]
    there, absent = (service.get(link).json() for link in links)
    assert there == absent
    assert there["reason"] == "bad-seal"
    assert service.get(service.link("files/none.txt")).status_code == 404


def test_what_a_link_says_of_presentation_holds(service: Service) -> None:
    answer = service.get(service.link("files/a.txt", {"as": "inline", "name": "Läs mig.txt"}))
    assert (
        answer.headers["content-disposition"] == "inline; filename=\"Las mig.txt\"; filename*=UTF-8''L%C3%A4s%20mig.txt"
    )


def test_uses_are_counted_and_a_resume_is_not_another(service: Service) -> None:
    link = service.link("files/big.bin", {"id": "twice"}, uses=2)
    first = service.get(link)
    assert service.get(link, Range="bytes=0-99").status_code == 206
    assert service.get(link, Range="bytes=100-199").status_code == 206, "the same transfer goes on"
    assert service.get(link, If_None_Match=first.headers["etag"]).status_code == 410
    over = service.get(link)
    assert (over.status_code, over.json()["reason"]) == (410, "used-up")
    assert len([shown for shown in service.transfers() if shown["link"] == "twice"]) == 2


def test_a_download_begun_in_time_may_be_resumed_after_the_end(service: Service) -> None:
    end = int(time.time()) + 4
    link = service.link("files/big.bin", until=end, rate=400_000)
    with socket.create_connection(("127.0.0.1", service.port)) as connection:
        connection.sendall(f"GET {link} HTTP/1.1\r\nhost: x\r\n\r\n".encode())
        assert connection.recv(1000)
    time.sleep(max(0.0, end - time.time()) + 0.1)
    assert service.get(link).status_code == 410, "a new download is too late"
    assert service.get(link, Range="bytes=100000-100099").status_code == 206
    other = service.link("files/big.bin", {"to": "somebody-else"}, until=end)
    assert service.get(other, Range="bytes=100000-").status_code == 410, "this one never began"


def test_a_link_for_somebody_needs_them_signed_in(service: Service) -> None:
    link = service.link("files/a.txt", who="bob")
    assert service.get(link).json()["reason"] == "wrong-recipient"
    # A browser in which nobody is signed in is sent to do so, and back.
    sent = service.get(link, accept="text/html")
    assert (sent.status_code, sent.headers["location"].startswith("/sign-in?then=%2Fget%2F")) == (303, True)
    assert service.get(link, "ann", accept="text/html").status_code == 403
    assert service.get(link, "ann").json()["reason"] == "wrong-recipient"
    assert service.get(link, "bob").content == b"tide"


def test_a_rate_in_a_link_holds(service: Service) -> None:
    began = time.perf_counter()
    assert len(service.get(service.link("files/big.bin", rate=2_000_000)).content) == 2_000_000
    assert 0.9 < time.perf_counter() - began < 5


def test_a_narrowed_link_is_honoured_and_recorded(own: Service) -> None:
    link = parse_url(own.link("files/a.txt", {"in": "files/", "to": "bob"}))
    narrowed = narrow_link(link, [("only", "files/open/"), ("via", "deck hand"), ("tag", "t1")])
    assert own.get(link_target(narrowed)).json()["reason"] == "out-of-scope"
    inside = narrow_link(narrowed, [], parse_address("files/open/b.txt"))
    assert own.get(link_target(inside)).content == b"b"
    [shown] = own.transfers()
    assert (shown["recipient"], shown["via"], shown["tag"]) == ("bob", "deck hand", "t1")


def test_the_service_makes_links_for_those_who_may(service: Service) -> None:
    with service.client("bob") as bob:
        made = bob.post("/api/links", json={"address": "files/open/b.txt", "seconds": 60, "as": "inline", "to": "x"})
        assert made.status_code == 201
        assert made.headers["location"] == made.json()["url"]
        assert abs(made.json()["until"] - time.time() - 60) < 5
        assert service.get(made.json()["target"]).content == b"b"
        for body, status, reason in (
            ({"address": "files/a.txt"}, 404, "missing"),
            ({"address": "files/open/secret/c.txt"}, 403, "not-allowed"),
            ({"address": "files/open/b.txt", "in": "files/open/"}, 403, "not-allowed"),
            ({"address": "files/open/b.txt", "net": ["10.0.0.1/8"]}, 400, "malformed"),
            ({"address": "files/open/b.txt", "uses": 0}, 400, "bad-request"),
            ({"address": "files/open/b.txt", "colour": "red"}, 400, "bad-request"),
            ({"address": "files/open/b.txt", "until": 5, "seconds": 5}, 400, "bad-request"),
        ):
            refused = bob.post("/api/links", json=body)
            assert (refused.status_code, refused.json()["reason"]) == (status, reason), body
    with service.client() as anyone:
        assert anyone.post("/api/links", json={"address": "files/open/b.txt"}).status_code == 401


def test_a_seal_is_written_down_nowhere(own: Service) -> None:
    link = own.link("files/a.txt", {"id": "a1"}, until=int(time.time()) + 60)
    seal = link.rpartition("seal=")[2]
    own.get(link)
    own.get(link + "x")
    own.stop()
    for path in own.folder.rglob("*"):
        if path.is_file():
            assert seal.encode() not in path.read_bytes(), path

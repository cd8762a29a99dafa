"""Quotas: never exceeded by one, whoever asks at once and wherever, and nothing counted twice."""

from __future__ import annotations

import signal
import socket
import sqlite3
import time
from collections.abc import Callable

import pytest

from invio.client import Client, Refused
from tests.rules import rule
from tests.running import RULES, SETTINGS, Service, at_once, get_raw, until

Start = Callable[..., Service]
BIG = bytes(range(256)) * 8000  # 2 MB
FILES = {f"f{number}.txt": b"content" for number in range(80)} | {"big.bin": BIG}


def rules(quota: str) -> str:
    return RULES.replace(
        'actions = ["list", "read", "bundle"]\n', f'actions = ["list", "read", "bundle"]\nquota = {quota}\n', 1
    )


def counted(service: Service) -> tuple[int, int, int]:
    """Files, bytes that were taken, and bytes that are reserved, of everybody."""
    with sqlite3.connect(service.folder / "data" / "records.sqlite") as records:
        row = records.execute("SELECT total(files), total(taken), total(reserved) FROM quota_uses").fetchone()
    return int(row[0]), int(row[1]), int(row[2])


def test_it_is_never_exceeded_by_one_by_many_clients_at_three_processes(start: Start) -> None:
    first = start(files=FILES, rules=rules('{ files = 40, per = "1d" }'))
    services = [first, start(first.folder), start(first.folder)]

    def obtain(number: int) -> list[int]:
        files = (f"/get/files/f{(number + turn * 16) % 80}.txt" for turn in range(2))
        return [services[number % 3].get(file, "bob").status_code for file in files]

    answers = at_once(64, obtain)
    assert answers == {200: 40, 429: 88}
    assert counted(first)[0] == 40
    assert first.get("/get/files/f1.txt").status_code == 200, "another recipient has a quota of their own"


def test_a_quota_of_nobody_in_particular_is_of_the_network_over_ipv6_too(start: Start) -> None:
    front = '[front]\nnetworks = ["127.0.0.1/32"]\n'
    service = start(files=FILES, rules=rules('{ files = 1, per = "1d" }'), settings=front + SETTINGS)

    def obtain(number: int, address: str) -> int:
        return service.get(f"/get/files/f{number}.txt", X_Forwarded_For=address).status_code

    assert obtain(1, "2001:db8:1:2::3") == 200
    assert obtain(2, "2001:db8:1:2:ffff::9") == 429, "another address of the same household"
    assert obtain(2, "2001:db8:1:3::3") == 200
    assert obtain(3, "192.0.2.7") == 200
    assert obtain(4, "192.0.2.7") == 429


def test_a_file_counts_once_in_however_many_requests(start: Start) -> None:
    service = start(files=FILES, rules=rules('{ files = 2, per = "1d" }'))
    for first in range(0, len(BIG), 500_000):
        part = service.get("/get/files/big.bin", "bob", range=f"bytes={first}-{first + 499_999}")
        assert part.status_code == 206
    with service.client("bob") as client:
        assert client.head("/get/files/f1.txt").status_code == 200
        assert client.get("/get/files/f1.txt", headers={"if-none-match": "*"}).status_code == 304
    assert service.get("/get/files/f1.txt", "bob").status_code == 200
    assert service.get("/get/files/f2.txt", "bob").status_code == 429
    assert counted(service)[0] == 2


def test_bytes_count_as_they_are_delivered(start: Start) -> None:
    service = start(files=FILES, rules=rules('{ bytes = 3_000_000, per = "1d" }'))
    with socket.socket() as connection:
        connection.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 8192)
        connection.connect(("127.0.0.1", service.port))
        head = f"GET /get/files/big.bin HTTP/1.1\r\nhost: x\r\nauthorization: Bearer {service.tokens['bob']}\r\n\r\n"
        connection.sendall(head.encode())
        connection.recv(1000)
        until(lambda: counted(service)[2] == len(BIG))
        assert service.get("/get/files/big.bin", "bob").status_code == 429, "what is on its way is reserved"
    until(lambda: counted(service)[2] == 0)
    taken = counted(service)[1]
    assert 0 < taken < len(BIG), "broken off, it counts what it took"
    whole = service.get("/get/files/big.bin", "bob", range=f"bytes={taken}-")
    assert whole.status_code == 206
    until(lambda: counted(service)[1:] == (len(BIG), 0))
    left = 3_000_000 - len(BIG)
    assert service.get("/get/files/big.bin", "bob", range=f"bytes=0-{left}").status_code == 429
    assert service.get("/get/files/big.bin", "bob", range=f"bytes=0-{left - 1}").status_code == 206
    until(lambda: counted(service)[1:] == (3_000_000, 0))


def test_a_bundle_counts_each_of_its_files(start: Start) -> None:
    service = start(files=FILES, rules=rules('{ files = 5, per = "1d" }'))
    with service.client("bob") as client:
        four = client.post("/api/bundles", json={"files": [f"files/f{number}.txt" for number in range(4)]}).json()
        two = client.post("/api/bundles", json={"files": ["files/f1.txt", "files/f2.txt"]}).json()
        assert client.get(four["url"]).status_code == 200
        assert client.get(two["url"]).status_code == 429
        assert client.get("/get/files/f9.txt").status_code == 200
        assert client.get("/get/files/f9.txt").status_code == 429


def test_whoever_has_reached_it_is_told_when_it_frees(start: Start) -> None:
    quota = '{ files = 1, per = "1m", text = "More for members.", link = "https://example.org/join" }'
    service = start(files=FILES, rules=rules(quota))
    assert service.get("/get/files/f1.txt", "bob").status_code == 200
    refused = service.get("/get/files/f1.txt", "bob")
    told = refused.json()
    assert (told["reason"], told["text"], told["link"]) == ("quota", "More for members.", "https://example.org/join")
    assert "1 file in 1 minute; more is available at 20" in told["detail"]
    assert 50 <= int(refused.headers["retry-after"]) <= 60
    page = service.get("/get/files/f1.txt", "bob", accept="text/html")
    assert page.status_code == 429
    assert '<a href="https://example.org/join">' in page.text
    assert "More for members." in page.text


# The crew hand on what they have, three files of it a day, and of its notes just one.
CREW = (
    rule("group:crew", "files/**", "list read bundle link", "crew", speed=5000000, quota={"files": 3, "per": "1d"})
    + rule("group:crew", "files/notes/**", "read", "notes", quota={"files": 1, "per": "1d"})
    + rule("group:admins", "**", "list read link manage")
)
NOTES = {f"notes/n{number}.txt": b"note" for number in range(3)}


def made_link(service: Service, who: str, **asked: object) -> dict[str, str]:
    with service.client(who) as client:
        answer = client.post("/api/links", json=asked)
        assert answer.status_code == 201, answer.text
        link: dict[str, str] = answer.json()
        return link


def test_what_is_had_by_a_link_counts_to_the_quotas_of_its_maker(start: Start) -> None:
    first = start(files=FILES, rules=CREW)
    beside = start(first.folder)
    link = made_link(first, "bob", address="files/f1.txt", to="cleo")["target"]
    answers = at_once(12, lambda number: [(first, beside)[number % 2].get(link).status_code])
    assert answers == {200: 3, 429: 9}
    said = first.get(link).json()["detail"]
    assert "count towards its maker's quota: 3 files in 1 day; more is available at" in said
    assert "bob" not in said
    own = first.get("/get/files/f2.txt", "bob")
    assert own.status_code == 429, "nobody hands on more than they have"
    assert own.json()["detail"].startswith("3 files in 1 day;")
    with first.client("bob") as client:
        assert client.get("/api/quotas").json()["quotas"][0]["used_files"] == 3
    theirs = made_link(first, "ann", address="files/f1.txt")["target"]
    assert first.get(theirs).status_code == 200, "a maker without quotas hands on without any"
    assert first.get(first.link("files/f1.txt", {"id": "by-key"})).status_code == 200, "and so does the key file"


def test_of_a_folders_link_each_file_counts_to_the_quotas_that_are_about_it(start: Start) -> None:
    service = start(files=FILES | NOTES, rules=CREW)
    given = made_link(service, "bob", address="files/f1.txt", **{"in": "files/"})["target"]
    query = given.partition("?")[2]
    said = [service.get(f"/get/files/{name}?{query}").status_code for name in ("notes/n0.txt", "notes/n1.txt")]
    assert said == [200, 429]
    said = [service.get(f"/get/files/{name}?{query}").status_code for name in ("f1.txt", "f2.txt", "f3.txt")]
    assert said == [200, 200, 429]


def test_administrators_see_grant_and_begin_anew_what_somebody_may_have(start: Start) -> None:
    service = start(files=FILES, rules=rules('{ files = 2, per = "1d" }'))

    def had(*names: str) -> list[int]:
        return [service.get(f"/get/files/{name}.txt", "bob").status_code for name in names]

    with Client(service.url, service.tokens["ann"]) as client:
        assert had("f1", "f2", "f3") == [200, 200, 429]
        [quota] = client.quotas("bob")
        assert (quota["used_files"], quota["files"]) == (2, 2)
        [granted] = client.grant_quota("bob", "everyone reads", files=2)
        assert granted["used_files"] == 0
        assert had("f4", "f5", "f6") == [200, 200, 429]
        client.reset_quota("bob", "everyone reads")
        assert had("f7", "f8", "f9") == [200, 200, 429]
        with pytest.raises(Refused, match="no rule 'none' with a quota is about bob; theirs are: 'everyone reads'"):
            client.grant_quota("bob", "none", files=1)
    with Client(service.url, service.tokens["bob"]) as client, pytest.raises(Refused, match="the right 'administer'"):
        client.grant_quota("bob", "everyone reads", files=1)


def test_a_link_to_a_bundle_counts_all_of_its_files_to_its_maker(start: Start) -> None:
    service = start(files=FILES, rules=CREW)
    with service.client("bob") as client:
        bundle = client.post("/api/bundles", json={"files": ["files/f1.txt", "files/f2.txt"]}).json()
    link = made_link(service, "bob", address=bundle["address"])["target"]
    assert [service.get(link).status_code for _ in range(2)] == [200, 429]


def test_a_link_is_no_faster_than_its_maker_may_have_the_file(start: Start) -> None:
    service = start(files=FILES | NOTES, rules=CREW)
    for asked, rate in (({}, 5_000_000), ({"rate": 9_000_000}, 5_000_000), ({"rate": 1000}, 1000)):
        assert f"rate={rate}&" in made_link(service, "bob", address="files/f1.txt", **asked)["target"]
    assert "rate=5000000&" in made_link(service, "bob", address="files/f1.txt", **{"in": "files/"})["target"]
    assert "rate=" not in made_link(service, "ann", address="files/f1.txt")["target"]
    with service.client("bob") as client:
        folder = client.post("/api/links", json={"address": "files/notes/"})
    assert folder.status_code == 400
    assert "'in'" in folder.json()["detail"]


def test_a_process_that_dies_leaves_nothing_reserved_and_nothing_forgotten(start: Start) -> None:
    first = start(files=FILES, rules=rules('{ bytes = 5_000_000, per = "1d" }'))
    beside = start(first.folder)
    connection = socket.socket()
    connection.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 8192)
    connection.connect(("127.0.0.1", first.port))
    connection.sendall(b"GET /get/files/big.bin HTTP/1.1\r\nhost: x\r\n\r\n")
    connection.recv(1000)
    until(lambda: counted(first)[2] == len(BIG))
    third = start(first.folder)
    assert counted(first)[2] == len(BIG), "who comes later leaves alone what others have under way"
    assert [shown["state"] for shown in third.transfers()] == ["running"]
    time.sleep(1.5)  # until its progress was noted
    for service in (first, beside, third):
        service.stop(signal.SIGKILL)
    connection.close()
    again = start(first.folder)
    files, taken, reserved = counted(again)
    assert (files, reserved) == (1, 0)
    assert taken == len(BIG), "nobody knows how much had arrived: what was reserved counts"
    assert [shown["state"] for shown in again.transfers()] == ["broken-off"]
    assert get_raw(again.port, "/get/files/f1.txt").status == 200

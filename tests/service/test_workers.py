"""Worker processes: one socket, several processes, and what holds across them."""

from __future__ import annotations

import os
import signal
import subprocess
import threading
import time
from collections.abc import Callable
from pathlib import Path
from threading import Thread

import httpx
import pytest

from tests.forking import run_invio
from tests.running import INVIO, RULES, SETTINGS, Service, at_once, make_folder, until
from tests.service.test_following import followed

WORKERS = "[service]\nworkers = 3\n"
CONTENT = os.urandom(2_000_000)


def workers(service: Service) -> list[int]:
    """The worker processes of a service."""
    children = Path(f"/proc/{service.process.pid}/task/{service.process.pid}/children").read_text()
    return [int(number) for number in children.split()]


def is_alive(number: int) -> bool:
    try:
        return "\nState:\tZ" not in Path(f"/proc/{number}/status").read_text()
    except OSError:
        return False


@pytest.fixture
def service(start: Callable[..., Service]) -> Service:
    return start(files={"big.bin": CONTENT, "a.txt": b"a"}, settings=WORKERS + SETTINGS)


def test_so_many_processes_serve_as_are_asked_for_and_a_stop_ends_them_all(service: Service) -> None:
    numbers = workers(service)
    assert len(numbers) == 3
    assert service.stop() == 0
    assert not any(map(is_alive, numbers))


def test_the_command_line_s_number_stands_above_the_settings(tmp_path: Path) -> None:
    make_folder(tmp_path / "s", settings=WORKERS + SETTINGS)
    command = [INVIO, "serve", "--settings", str(tmp_path / "s" / "invio.toml"), "--port", "0", "--workers", "2"]
    with subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True) as process:
        assert process.stdout is not None
        assert process.stdout.readline().startswith("ready: ")
        children = Path(f"/proc/{process.pid}/task/{process.pid}/children").read_text().split()
        assert len(children) == 2
        process.terminate()
        assert process.wait(20) == 0


def test_settings_that_cannot_be_used_are_told_once_and_nothing_is_left_running(tmp_path: Path) -> None:
    make_folder(tmp_path / "s", settings=WORKERS + SETTINGS)
    (tmp_path / "s" / "rules.toml").write_text("[[rule]]\nname = 5\n")
    done = run_invio("serve", "--settings", tmp_path / "s" / "invio.toml", "--port", "0")
    assert done.returncode == 1
    assert done.stdout == ""
    assert done.stderr.count("rules.toml:") == 1, done.stderr
    assert "Traceback" not in done.stderr


def test_a_worker_that_is_killed_is_replaced_and_nobody_waits_for_ever(start: Callable[..., Service]) -> None:
    slow = "[limits]\nrecipient_rate = 400000\n"
    service = start(files={"big.bin": CONTENT, "a.txt": b"a"}, settings=WORKERS + slow + SETTINGS)
    links = [service.link("files/big.bin", {"to": f"reader-{number}"}, tag=f"t{number}") for number in range(12)]
    watched = [followed(service, link) for link in links]
    statuses: list[int | None] = []

    def fetch(link: str) -> None:
        try:
            with service.client() as client:
                statuses.append(len(client.get(link).content))
        except httpx.TransportError:
            statuses.append(None)

    downloads = [Thread(target=fetch, args=(link,)) for link in links]
    for one in downloads:
        one.start()
    until(lambda: all(told.states[-1] == "running" for told in watched if not told.ended))
    before = workers(service)
    os.kill(before[1], signal.SIGKILL)
    until(lambda: len(workers(service)) == 3 and before[1] not in workers(service))
    for one in downloads:
        one.join()
    assert statuses.count(len(CONTENT)) + statuses.count(None) == 12
    assert statuses.count(len(CONTENT)) > 0, "the others go on"
    for told in watched:
        until(lambda told=told: told.ended or told.cut or told.states[-1] in ("complete", "broken-off"))  # type: ignore[misc]
    # Of those whose own stream was cut by the kill, and of all others: how it ended is told.
    until(lambda: all(shown["state"] != "running" for shown in service.transfers()))
    for link in links:
        until(lambda link=link: followed(service, link).states[0] in ("complete", "broken-off"))  # type: ignore[misc]
    assert service.get("/get/files/a.txt").status_code == 200
    assert service.logged().count('"worker.died"') == 1


def test_a_supervisor_that_is_killed_takes_its_workers_with_it(service: Service) -> None:
    numbers = workers(service)
    service.process.kill()
    service.process.wait()
    until(lambda: not any(map(is_alive, numbers)))


def test_rules_are_read_again_by_all_workers_on_sighup(service: Service) -> None:
    assert service.get("/get/files/a.txt").status_code == 200
    (service.folder / "rules.toml").write_text(RULES.replace('who = ["anyone"]', 'who = ["group:crew"]'))
    service.process.send_signal(signal.SIGHUP)
    until(lambda: at_once(12, lambda _: [service.get("/get/files/a.txt").status_code]) == {401: 12})


def test_uses_of_a_link_are_counted_over_all_workers(service: Service) -> None:
    link = service.link("files/a.txt", {"id": "five"}, uses=5)
    assert at_once(20, lambda _: [service.get(link).status_code]) == {200: 5, 410: 15}
    link = service.link("files/big.bin", {"id": "six"}, uses=6)
    assert at_once(20, lambda _: [service.get(link).status_code]) == {200: 6, 410: 14}


def test_a_quota_is_one_over_all_workers(start: Callable[..., Service]) -> None:
    rules = RULES.replace(
        'actions = ["list", "read", "bundle"]', 'actions = ["list", "read"]\nquota = { files = 7, per = "1d" }', 1
    )
    service = start(files={"a.txt": b"a"}, settings=WORKERS + SETTINGS, rules=rules)
    assert at_once(20, lambda _: [service.get("/get/files/a.txt", "bob").status_code]) == {200: 7, 429: 13}


def test_a_revoked_session_ends_in_all_workers(service: Service) -> None:
    with service.client() as client:
        made = client.post("/api/sessions", json={"token": service.tokens["ann"]})
        assert made.status_code == 201
        cookie = "; ".join(f"{name}={value}" for name, value in made.cookies.items())

    def asked(_: int) -> list[int]:
        with httpx.Client(base_url=service.url, trust_env=False, headers={"cookie": cookie}) as client:
            return [200 if client.get("/api/sessions/current").json()["recipient"] == "ann" else 401]

    assert at_once(12, asked) == {200: 12}
    with httpx.Client(base_url=service.url, trust_env=False, headers={"cookie": cookie}) as client:
        assert client.delete("/api/sessions/current", headers={"origin": service.url}).status_code == 204
    time.sleep(2)
    assert at_once(12, asked) == {401: 12}


def test_a_speed_limit_is_one_over_all_workers(start: Callable[..., Service]) -> None:
    service = start(files={"b": CONTENT[:600_000]}, settings=WORKERS + "[limits]\nrecipient_rate = 600000\n" + SETTINGS)
    begun = time.monotonic()
    assert at_once(4, lambda _: [service.get("/get/files/b", "bob").status_code]) == {200: 4}
    seconds = time.monotonic() - begun
    assert seconds > 3.0, "2.4 MB at 600 kB a second"


def test_a_limit_of_bodies_holds_over_all_workers(start: Callable[..., Service]) -> None:
    limits = "[limits]\nrequests = 4\nrecipient_rate = 400000\n"
    service = start(files={"b": bytes(8_000_000)}, settings=WORKERS + limits + SETTINGS)
    all_have = threading.Barrier(8)

    def begun(_: int) -> list[int]:
        with service.client() as client, client.stream("GET", "/get/files/b") as answer:
            all_have.wait(15)  # at its speed, a body takes longer than everybody may need to ask
            return [answer.status_code]

    assert at_once(8, begun) == {200: 4, 503: 4}


def test_a_limit_of_connections_holds_over_all_workers(start: Callable[..., Service]) -> None:
    service = start(settings=WORKERS + "[limits]\nnetwork_connections = 9\n" + SETTINGS)
    all_have = threading.Barrier(14)

    def connected(_: int) -> list[int]:
        with service.client() as client:
            try:
                answered = client.get("/healthz").status_code
            except httpx.TransportError:
                answered = 0
            all_have.wait(20)  # whoever is connected stays so until everybody has tried
            return [answered]

    assert at_once(14, connected) == {200: 9, 0: 5}


def test_transfers_of_workers_that_were_forked_alike_are_told_apart(service: Service) -> None:
    assert at_once(16, lambda _: [service.get("/get/files/a.txt").status_code for _ in range(20)]) == {200: 320}
    listed = service.get("/api/transfers?limit=500", "ann").json()["transfers"]
    assert len({one["id"] for one in listed}) == 320
    assert "records.write-failed" not in service.logged()

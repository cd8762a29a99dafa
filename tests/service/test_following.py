"""Following a download by its link: on a service of one process, and on one of three."""

from __future__ import annotations

import json
import os
import signal
import sqlite3
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from threading import Thread, Timer
from typing import Any

import httpx
import pytest

from tests.running import SETTINGS, Service, until

BIG = os.urandom(3_000_000)
SLOW = "\n[limits]\nrecipient_rate = 2000000\n"


@pytest.fixture(scope="module", params=[1, 3], ids=["one worker", "three workers"])
def service(request: pytest.FixtureRequest, start_shared: Callable[..., Service]) -> Service:
    settings = f"[service]\nworkers = {request.param}\n[cors]\norigins = ['https://shop.example']\n{SLOW}{SETTINGS}"
    return start_shared(files={"big.bin": BIG, "small.txt": b"small", "other.bin": BIG}, settings=settings)


@dataclass
class Told:
    """What one who follows was told."""

    service: Service
    link: str
    given: dict[str, str] = field(default_factory=dict)
    status: int = 0
    headers: dict[str, str] = field(default_factory=dict)
    events: list[tuple[str, str, dict[str, Any]]] = field(default_factory=list)
    at: list[float] = field(default_factory=list)
    ended: bool = False
    cut: bool = False  # by the death of the process that told them

    def read(self) -> None:
        path = self.link.replace("/get/", "/follow/", 1)
        with self.service.client() as client, client.stream("GET", path, headers=self.given) as reply:
            self.status, self.headers = reply.status_code, dict(reply.headers)
            name = number = ""
            try:
                for line in reply.iter_lines():
                    kind, _, value = line.partition(": ")
                    if kind == "event":
                        name = value
                    elif kind == "id":
                        number = value
                    elif kind == "data":
                        self.events.append((name, number, json.loads(value)))
                        self.at.append(time.monotonic())
            except httpx.TransportError:
                self.cut = True
                return
        self.ended = True

    @property
    def states(self) -> list[str]:
        return [shown["state"] for _, _, shown in self.events]


def followed(service: Service, link: str, **headers: str) -> Told:
    """Somebody who follows, once they have been told something."""
    told = Told(service, link, headers)
    Thread(target=told.read, daemon=True).start()
    until(lambda: bool(told.events) or told.status not in (0, 200))
    return told


def fetch(service: Service, link: str, **headers: str) -> httpx.Response:
    with service.client() as client:
        return client.get(link, headers=headers)


def test_who_holds_a_link_is_told_from_before_the_beginning_to_the_end(service: Service) -> None:
    link = service.link("files/big.bin", {"id": "one", "to": "pilot-7"}, tag="a1")
    told = followed(service, link)
    first = told.events[0][2]
    assert (first["state"], first["bytes"], first["tag"], first["link"], first["id"]) == (
        "waiting",
        0,
        "a1",
        "one",
        None,
    )
    assert fetch(service, link).content == BIG
    until(lambda: told.ended)
    name, number, last = told.events[-1]
    assert (name, last["state"], last["percent"], last["bytes"]) == ("end", "complete", 100, len(BIG))
    assert number.endswith(".over")
    assert last["recipient"] == "pilot-7"
    counts = [shown["bytes"] for _, _, shown in told.events]
    assert counts == sorted(counts)
    assert len(set(counts)) >= 4, "it is told of on the way"
    assert all(shown["percent"] == 100 * shown["bytes"] // len(BIG) for _, _, shown in told.events[1:])
    # By all of them together: a reader that stood still reads several at once.
    between = told.at[-2] - told.at[0]
    assert len(told.at) - 2 <= 4 * between + 2, "at most four a second"
    assert told.headers["content-type"].startswith("text/event-stream")
    assert told.headers["cache-control"] == "no-store"


def test_who_comes_back_after_the_end_is_told_to_ask_no_more(service: Service) -> None:
    link = service.link("files/small.txt", tag="b1")
    assert fetch(service, link).content == b"small"
    until(lambda: followed(service, link).states[-1] == "complete")
    told = followed(service, link)
    until(lambda: told.ended)
    assert [name for name, _, _ in told.events] == ["transfer", "end"]
    again = Told(service, link, {"last-event-id": told.events[-1][1]})
    again.read()
    assert (again.status, again.events) == (204, [])


def test_who_comes_back_in_between_sees_how_things_stand(service: Service) -> None:
    link = service.link("files/big.bin", tag="b2")
    download = Thread(target=fetch, args=(service, link))
    download.start()
    until(lambda: followed(service, link).events[0][2]["bytes"] > 0)
    told = followed(service, link, **{"last-event-id": "x.1000.running"})
    assert told.states[0] == "running"
    assert told.events[0][2]["bytes"] > 0
    download.join()
    until(lambda: told.ended)
    assert told.states[-1] == "complete"


def test_of_several_who_follow_each_is_told(service: Service) -> None:
    link = service.link("files/big.bin", tag="b3")
    several = [followed(service, link) for _ in range(6)]
    assert {told.states[0] for told in several} == {"waiting"}
    fetch(service, link)
    until(lambda: all(told.ended for told in several))
    assert {told.states[-1] for told in several} == {"complete"}


def test_ranges_over_several_connections_are_one_download(service: Service) -> None:
    link = service.link("files/big.bin", tag="b4")
    told = followed(service, link)
    third = len(BIG) // 3

    def part(start: int) -> None:
        assert fetch(service, link, range=f"bytes={start}-{start + third - 1}").status_code == 206

    parts = [Thread(target=part, args=(number * third,)) for number in range(3)]
    for one in parts:
        one.start()
    for one in parts:
        one.join()
    until(lambda: told.ended)
    assert (told.states[-1], told.events[-1][2]["bytes"]) == ("complete", len(BIG))
    assert len({shown["id"] for _, _, shown in told.events if shown["id"]}) == 1


def test_a_link_without_a_tag_or_with_a_broken_seal_shows_nothing(service: Service) -> None:
    plain = service.link("files/big.bin").replace("/get/", "/follow/")
    reply = service.get(plain)
    assert (reply.status_code, reply.json()["reason"]) == (400, "bad-request")
    assert "tag" in reply.json()["detail"]
    link = service.link("files/big.bin", tag="c1").replace("/get/", "/follow/")
    assert service.get(link[:-1] + ("A" if link[-1] != "A" else "E")).json()["reason"] in ("bad-seal", "malformed")
    assert service.get(link.replace("tag=c1", "tag=c2")).json()["reason"] == "bad-seal"
    assert service.get(link.split("?")[0]).status_code == 400
    assert (
        service.get(service.link("files/big.bin", tag="c1", who="bob").replace("/get/", "/follow/")).status_code == 403
    )


def test_another_link_of_the_same_file_and_tag_shows_another_download(service: Service) -> None:
    mine = service.link("files/small.txt", {"id": "mine"}, tag="same")
    yours = service.link("files/small.txt", {"id": "yours"}, tag="same")
    fetch(service, mine)
    until(lambda: followed(service, mine).states[0] == "complete")
    assert followed(service, yours).states == ["waiting"]


def test_a_link_that_ends_before_anything_begins_ends_the_stream_with_its_reason(service: Service) -> None:
    told = followed(service, service.link("files/big.bin", tag="d1", until=int(time.time()) + 4))
    until(lambda: told.ended)
    assert told.events[-1][0] == "end"
    assert told.events[-1][2]["reason"] == "expired"
    assert service.get(told.link.replace("/get/", "/follow/")).status_code == 410


def test_what_began_in_time_is_followed_past_the_link_s_end_and_past_its_last_use(service: Service) -> None:
    link = service.link("files/big.bin", {"id": "brief"}, tag="d2", until=int(time.time()) + 4, uses=1)
    told = followed(service, link)
    assert fetch(service, link).content == BIG
    until(lambda: told.ended)
    assert told.states[-1] == "complete"
    time.sleep(max(0.0, 4.0 - (told.at[-1] - told.at[0])))
    again = followed(service, link)  # perhaps by another process, which reads what this one has still to write
    until(lambda: again.ended)
    assert again.states[-1] == "complete", "and is seen afterwards"


def test_a_revoked_link_shows_nothing_within_two_seconds(service: Service) -> None:
    with service.client("ann") as client:
        made = client.post("/api/links", json={"address": "files/big.bin", "tag": "d4"}).json()
        told = followed(service, made["target"])
        assert told.states == ["waiting"]
        assert client.delete(f"/api/links/{made['id']}").status_code == 200
    begun = time.monotonic()
    until(lambda: told.ended)
    assert (told.events[-1][0], told.events[-1][2]["reason"]) == ("end", "revoked")
    assert time.monotonic() - begun < 2


def test_a_download_that_breaks_off_is_told_and_one_that_goes_on_too(service: Service) -> None:
    link = service.link("files/big.bin", tag="e1")
    told = followed(service, link)
    with service.client() as client, client.stream("GET", link) as reply:
        next(reply.iter_raw())
    until(lambda: told.states[-1] == "broken-off")
    assert told.events[-1][0] == "transfer", "it may be gone on with"
    begun = told.events[-1][2]["bytes"]
    assert fetch(service, link, range=f"bytes={begun}-").status_code == 206
    until(lambda: told.ended)
    assert (told.states[-1], told.events[-1][2]["bytes"]) == ("complete", len(BIG))


def test_pages_of_other_origins_follow_where_the_settings_say_so(service: Service) -> None:
    link = service.link("files/small.txt", tag="f1").replace("/get/", "/follow/")
    with service.client() as client:
        for origin, granted in (("https://shop.example", "https://shop.example"), ("https://evil.example", None)):
            with client.stream("GET", link, headers={"origin": origin}) as reply:
                assert reply.headers.get("access-control-allow-origin") == granted
        refused = client.get(link + "x", headers={"origin": "https://shop.example"})
        assert refused.headers.get("access-control-allow-origin") == "https://shop.example"


def stream(service: Service, query: str = "", who: str = "ann", **headers: str) -> Iterator[tuple[str, dict[str, Any]]]:
    with service.client(who) as client, client.stream("GET", f"/api/transfers/stream{query}", headers=headers) as reply:
        assert reply.status_code == 200, reply.read()
        number = ""
        for line in reply.iter_lines():
            kind, _, value = line.partition(": ")
            if kind == "id":
                number = value
            elif kind == "data":
                yield number, json.loads(value)


def test_a_signed_in_caller_follows_by_tag_link_address_or_id(service: Service) -> None:
    link = service.link("files/big.bin", {"id": "g"}, tag="g1")
    events = stream(service, "?tag=g1")
    seen: list[dict[str, Any]] = []

    def read() -> None:
        for _, shown in events:
            seen.append(shown)
            if shown["state"] == "complete":
                return

    reader = Thread(target=read, daemon=True)
    reader.start()
    time.sleep(0.3)
    fetch(service, service.link("files/small.txt", tag="g2"))
    fetch(service, link)
    reader.join(10)
    assert {shown["tag"] for shown in seen} == {"g1"}
    assert seen[-1]["state"] == "complete"
    _, shown = next(stream(service, f"?transfer={seen[-1]['id']}"))
    assert (shown["id"], shown["state"]) == (seen[-1]["id"], "complete")


def test_who_comes_back_to_the_stream_is_told_of_what_ended_meanwhile(service: Service) -> None:
    since = str(int(time.time() * 1000))
    fetch(service, service.link("files/small.txt", {"id": "h"}, tag="h1"))
    until(lambda: any(one["link"] == "h" and one["state"] == "complete" for one in service.transfers()))
    number, shown = next(stream(service, "?link=h", **{"last-event-id": since}))
    assert (shown["tag"], shown["state"]) == ("h1", "complete")
    assert int(number) >= int(since)
    assert number.isdecimal()


def test_what_another_process_wrote_down_a_moment_late_is_told_as_well(service: Service) -> None:
    fetch(service, service.link("files/small.txt", {"id": "early"}, tag="h2"))
    until(lambda: any(one["link"] == "early" and one["state"] == "complete" for one in service.transfers()))
    since = str(int(time.time() * 1000))

    def write_late() -> None:
        with sqlite3.connect(service.folder / "data" / "records.sqlite", timeout=10) as records:
            records.execute("CREATE TEMP TABLE one AS SELECT * FROM transfers WHERE link_id = 'early'")
            records.execute("UPDATE one SET id = ?, link_id = 'late', updated = ?", ("f" * 20, time.time()))
            records.execute("INSERT INTO transfers SELECT * FROM one")

    writing = Timer(0.5, write_late)
    writing.start()
    _, shown = next(stream(service, "?link=late", **{"last-event-id": since}))
    writing.join()
    assert (shown["link"], shown["state"]) == ("late", "complete")


def test_there_is_an_end_to_those_who_follow_by_one_link(start: Callable[..., Service]) -> None:
    service = start(files={"a": b"x"}, settings="[limits]\nrecipient_streams = 2\n" + SETTINGS)
    link = service.link("files/a", tag="t")
    both = [followed(service, link), followed(service, link)]
    assert [told.states for told in both] == [["waiting"], ["waiting"]]
    third = Told(service, link)
    third.read()
    assert third.status == 429
    service.process.send_signal(signal.SIGTERM)
    until(lambda: all(told.ended for told in both))


def test_after_a_restart_how_things_stand_is_told_again(start: Callable[..., Service]) -> None:
    service = start(
        files={"big.bin": BIG, "small.txt": b"small"}, settings="[limits]\nrecipient_rate = 300000\n" + SETTINGS
    )
    done, broken = service.link("files/small.txt", tag="done"), service.link("files/big.bin", tag="broken")
    assert fetch(service, done).content == b"small"
    told = followed(service, broken)
    with service.client() as client, client.stream("GET", broken) as reply:
        pieces = reply.iter_raw()
        next(pieces)
        until(lambda: told.states[-1] == "running" and told.events[-1][2]["bytes"] > 0)
        service.process.kill()
        service.process.wait()
    settings = service.folder / "invio.toml"
    settings.write_text(settings.read_text().replace("recipient_rate = 300000\n", ""))
    again = start(service.folder)
    assert followed(again, done).states[0] == "complete"
    after = followed(again, broken, **{"last-event-id": told.events[-1][1]})
    assert after.states[0] == "broken-off"
    assert after.events[0][2]["id"] == told.events[-1][2]["id"]
    assert fetch(again, broken, range=f"bytes={after.events[0][2]['bytes']}-").status_code == 206
    until(lambda: after.ended)
    assert after.states[-1] == "complete"

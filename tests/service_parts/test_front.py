"""Where requests come from, by what a trusted front server tells; and what it is told to send itself."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

import pytest
from starlette.requests import Request

from invio.core.addresses import Address
from invio.core.files import FileFacts
from invio.core.http.forwarded import read_networks
from invio.core.http.replies import Content, Reply, Representation
from invio.core.http.request_head import RequestHead
from invio.core.throttle import Throttle
from invio.delivery.offload import Front, redirect
from invio.service.behind import Behind
from invio.service.settings import Settings
from invio.stores.sources import DiskFile
from invio.stores.store import Found

PROXY, STRANGER = "10.0.0.1", "192.0.2.7"
STORES = {"files": {"kind": "directory", "root": "files"}}
FRONT = Front(
    read_networks(["10.0.0.0/8"]), header="X-Inner", rate_header="X-Rate", prefixes={"files": "/internal/files/"},
    secret_header="X-Secret", secret="s3cret",
)  # fmt: skip


def fields(**given: str) -> list[tuple[bytes, bytes]]:
    return [(name.replace("_", "-").encode(), value.encode()) for name, value in given.items()]


def scope(peer: str | None = PROXY, path: str = "/get/a", **given: str) -> dict[str, Any]:
    return {
        "type": "http", "method": "GET", "path": path, "raw_path": path.encode(), "query_string": b"",
        "headers": fields(host="inner:8480", **given), "client": (peer, 1) if peer else None,
        "server": ("127.0.0.1", 8480), "scheme": "http",
    }  # fmt: skip


def behind(public_url: str | None = None, front: Front = FRONT) -> Behind:
    return Behind(Settings.model_validate({"service": {"public_url": public_url}, "stores": STORES}), front)


@pytest.mark.parametrize("path", ["/get/a", "/below/get/a"])
def test_a_path_is_below_where_the_front_server_offers_the_service_cut_off_or_left(path: str) -> None:
    placed = behind().placed(scope(path=path, x_forwarded_prefix="/below"))
    assert (placed["root_path"], placed["path"], placed["raw_path"]) == ("/below", "/below/get/a", b"/below/get/a")


def test_a_path_stays_as_it_was_encoded() -> None:
    asked = scope(path="/get/ä b", x_forwarded_prefix="/below")
    assert behind().placed(asked | {"raw_path": b"/get/%c3%a4%20b"})["raw_path"] == b"/below/get/%c3%a4%20b"
    del asked["raw_path"]
    assert behind().placed(asked)["raw_path"] == "/below/get/ä b".encode()


def test_a_stranger_tells_nothing() -> None:
    asked = scope(STRANGER, x_forwarded_prefix="/below", x_forwarded_host="evil.example", x_forwarded_proto="https")
    assert behind().placed(asked) is asked
    assert behind().base_of(Request(asked)) == "http://inner:8480"


def test_a_front_server_tells_host_and_scheme() -> None:
    asked = scope(x_forwarded_prefix="/below", x_forwarded_host="office.example", x_forwarded_proto="HTTPS")
    assert behind().base_of(Request(behind().placed(asked))) == "https://office.example/below"
    odd = scope(x_forwarded_proto="javascript")
    assert behind().base_of(Request(odd)) == "http://inner:8480"


def test_the_settings_stand_above_what_is_told_of_the_address() -> None:
    place = behind("https://files.example/deep/")
    asked = scope(x_forwarded_host="office.example")
    assert place.base_of(Request(asked)) == "https://files.example/deep"
    assert place.placed(asked)["root_path"] == "/deep"
    assert place.may_be_below
    assert not behind(front=Front()).may_be_below
    assert behind("https://files.example/deep", Front()).may_be_below
    assert behind().may_be_below


def test_what_is_mounted_elsewhere_is_left_there() -> None:
    mounted = scope(x_forwarded_prefix="/below") | {"root_path": "/app"}
    assert behind().placed(mounted) is mounted


@pytest.mark.parametrize(
    ("peer", "secret", "store", "sends"),
    [
        (PROXY, "s3cret", "files", True),
        (PROXY, "wrong", "files", False),
        (PROXY, None, "files", False),
        (STRANGER, "s3cret", "files", False),
        (None, "s3cret", "files", False),
        (PROXY, "s3cret", "others", False),
    ],
)
def test_only_the_front_server_with_the_secret_is_told_where_files_lie(
    peer: str | None, secret: str | None, store: str, *, sends: bool
) -> None:
    head = RequestHead("GET", fields(x_secret=secret) if secret else [])
    assert FRONT.sends_from(store, peer, head) is sends


def representation(coding: str | None = None) -> Representation:
    return Representation(
        content=Content([b"x"]), size=1, tag="t", modified=None, media_type="text/plain", charset=None, name="a",
        disposition=None, cache="no-cache", coding=coding,
    )  # fmt: skip


def handed_off(
    tmp_path: Path, *throttles: Throttle, coding: str | None = None, asked: dict[str, str] | None = None
) -> Reply | None:
    (tmp_path / "a").write_bytes(b"x")
    file = DiskFile.of(os.fsencode(tmp_path / "a"), (tmp_path / "a").stat())
    found = Found(FileFacts(Address("files", "north ä.txt"), 1, None, "t"), file)
    reply = Reply(206, [(b"etag", b'"t"'), (b"content-length", b"1"), (b"content-range", b"bytes 0-0/1")], [b"x"], 1)
    return FRONT.hand_off(RequestHead("GET", fields(**asked or {})), found, representation(coding), reply, throttles)


def test_a_file_is_handed_over_without_what_the_front_server_says_itself(tmp_path: Path) -> None:
    reply = handed_off(tmp_path)
    assert reply is not None
    assert (reply.status, reply.parts, reply.length) == (200, [], 0)
    assert reply.headers == [
        (b"etag", b'"t"'), (b"x-inner", b"/internal/files/north%20%C3%A4.txt"), (b"content-length", b"0")
    ]  # fmt: skip


def test_the_slowest_rate_is_the_front_servers(tmp_path: Path) -> None:
    reply = handed_off(tmp_path, Throttle(1000), Throttle(500))
    assert reply is not None
    assert (b"x-rate", b"500") in reply.headers


@pytest.mark.parametrize("asked", [{"if_match": '"t"'}, {"if_range": '"t"'}, {"want_content_digest": "sha-256=1"}])
def test_what_the_front_server_cannot_know_is_answered_here(tmp_path: Path, asked: dict[str, str]) -> None:
    assert handed_off(tmp_path, asked=asked) is None
    assert handed_off(tmp_path, coding="gzip") is None


def test_a_redirect_keeps_the_method_and_is_kept_by_nobody() -> None:
    reply = redirect("https://objects.example/a?signature=s")
    assert reply.status == 307
    assert dict(reply.headers)[b"cache-control"] == b"no-store"
    assert dict(reply.headers)[b"referrer-policy"] == b"no-referrer"
    assert (dict(reply.headers)[b"location"], reply.parts, reply.length) == (
        b"https://objects.example/a?signature=s", [], 0,
    )  # fmt: skip


def test_over_a_unix_socket_the_client_is_the_last_that_is_told() -> None:
    told = RequestHead("GET", fields(x_forwarded_for="198.51.100.1, 192.0.2.9"))
    by_socket = Front(unix=True)
    assert by_socket.network(None, told) == "192.0.2.9"
    assert by_socket.network(None, RequestHead("GET", [])) is None
    assert by_socket.network(STRANGER, told) == STRANGER, "who comes by the network is who it is"
    assert FRONT.network(None, told) is None
    assert FRONT.network(PROXY, told) == "192.0.2.9"

"""The requests of a transfer, one by one: which bytes, when, and what became of each."""

from __future__ import annotations

import socket
import subprocess
from collections.abc import Callable
from datetime import datetime

import pytest

from tests.running import Service, until

SIZE = 4_000_000
LONG = 30_000_000  # more than the system holds for a reader that takes nothing


@pytest.fixture(scope="module")
def service(start_shared: Callable[..., Service]) -> Service:
    files = {name: bytes(SIZE) for name in ("ranges.bin", "whole.bin")}
    return start_shared(files=files | {"cut.bin": bytes(LONG)})


def of(service: Service, name: str) -> str:
    [transfer] = [one["id"] for one in service.transfers() if one["address"] == f"files/{name}"]
    return str(transfer)


def test_ranges_of_one_transfer_are_told_one_by_one_to_those_who_may_see_it(
    service: Service, invio: Callable[..., subprocess.CompletedProcess[str]]
) -> None:
    for span, status in (("bytes=0-999", 206), ("bytes=1000-1999,3000-3999", 206), ("bytes=2000-", 206)):
        assert service.get("/get/files/ranges.bin", "bob", Range=span).status_code == status
    transfer = of(service, "ranges.bin")
    assert service.get(f"/api/transfers/{transfer}", "bob").json()["state"] == "complete"
    told = service.get(f"/api/transfers/{transfer}/requests", "bob").json()["requests"]
    assert [(one["start"], one["asked"], one["arrived"], one["reason"]) for one in told] == [
        (0, 1000, 1000, None),
        (1000, 2000, 2000, None),
        (2000, SIZE - 2000, SIZE - 2000, None),
    ]
    moments = [datetime.fromisoformat(one[name]) for one in told for name in ("started", "ended")]
    assert moments == sorted(moments)
    assert service.get(f"/api/transfers/{transfer}/requests", "ann").json()["requests"] == told
    assert service.get(f"/api/transfers/{transfer}/requests").status_code == 404
    shown = invio("transfers", transfer, url=service.url, token=service.tokens["bob"])
    assert shown.returncode == 0, shown.stderr
    assert "from byte" in shown.stdout
    assert "1,000" in shown.stdout


def test_one_that_breaks_off_says_why_and_where(service: Service) -> None:
    with socket.create_connection(("127.0.0.1", service.port)) as connection:
        connection.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 4096)
        connection.sendall(b"GET /get/files/cut.bin HTTP/1.1\r\nhost: 127.0.0.1\r\n\r\n")
        assert connection.recv(2000)
        connection.shutdown(socket.SHUT_RDWR)
    until(lambda: [one["state"] for one in service.transfers() if "cut" in one["address"]] == ["broken-off"])
    [one] = service.get(f"/api/transfers/{of(service, 'cut.bin')}/requests", "ann").json()["requests"]
    assert one["start"] == 0
    assert one["asked"] == LONG
    assert 0 < one["arrived"] < LONG
    assert one["reason"] == "the client went away"


def test_one_request_that_brought_all_of_it_needs_none(
    service: Service, invio: Callable[..., subprocess.CompletedProcess[str]]
) -> None:
    assert len(service.get("/get/files/whole.bin", "bob").content) == SIZE
    until(lambda: [one["state"] for one in service.transfers() if "whole" in one["address"]] == ["complete"])
    transfer = of(service, "whole.bin")
    assert service.get(f"/api/transfers/{transfer}/requests", "bob").json() == {"requests": []}
    shown = invio("transfers", transfer, url=service.url, token=service.tokens["bob"])
    assert "No request is told by itself" in shown.stdout
    refused = invio("transfers", transfer, "--follow", url=service.url, token=service.tokens["bob"])
    assert refused.returncode == 2

"""Probes, which are answered without the API: what they say, and what is left to the API."""

from __future__ import annotations

import asyncio
import json
from types import SimpleNamespace
from typing import Any

import pytest
import sqlalchemy as sa

from invio.core.http.cors import CrossOrigin
from invio.delivery.sending.errors import ClientGone
from invio.service.probes import answer_probe

BROKEN = SimpleNamespace(fault="line 3: no such word")
FULL = sa.exc.OperationalError("INSERT", None, OSError("disk full"))
FULL.__cause__ = OSError("disk full")


class Journal:
    """One that writes, or raises."""

    def __init__(self, error: BaseException | None = None) -> None:
        self._error = error

    async def call(self, _: object) -> None:
        if self._error is not None:
            raise self._error


def parts(**other: Any) -> Any:
    given: dict[str, Any] = {
        "health": SimpleNamespace(faults={}, hints={}), "rules_file": None, "keys_file": None,
        "stopping": lambda: False, "journal": Journal(), "way": SimpleNamespace(cross_origin=CrossOrigin()),
    }  # fmt: skip
    return SimpleNamespace(**given | other)


def probed(parts: Any, path: str = "/readyz", method: str = "GET", query: bytes = b"", **fields: str) -> list[Any]:
    """What is sent; nothing where the request is left to the API."""
    sent: list[Any] = []
    headers = [(name.replace("_", "-").encode(), value.encode()) for name, value in fields.items()]

    async def send(message: Any) -> None:
        sent.append(message)

    scope = {"method": method, "headers": headers, "query_string": query}
    assert asyncio.run(answer_probe(parts, path, scope, send)) == bool(sent)
    return sent


@pytest.mark.parametrize(
    ("state", "status", "said"),
    [
        ({}, 200, {"status": "ready"}),
        ({"stopping": lambda: True}, 503, {"status": "stopping"}),
        ({"rules_file": SimpleNamespace(fault=None)}, 200, {"status": "ready"}),
        (
            {"rules_file": BROKEN, "keys_file": BROKEN},
            200,
            {
                "status": "ready",
                "hints": {
                    "rules": "the file of the rules cannot be used; those before it are in force",
                    "keys": "the file of the keys cannot be used; those before it are in force",
                },
            },
        ),
        (
            {"health": SimpleNamespace(faults={"store files": "Ærø is gone"}, hints={"clock": "is ahead"})},
            503,
            {"status": "not ready", "faults": {"store files": "Ærø is gone"}, "hints": {"clock": "is ahead"}},
        ),
        (
            {"journal": Journal(TimeoutError())},
            503,
            {"status": "not ready", "faults": {"records": "nothing could be written to the records for 2 seconds"}},
        ),
        (
            {"journal": Journal(FULL)},
            503,
            {"status": "not ready", "faults": {"records": "the records cannot be written: disk full"}},
        ),
    ],
)
def test_ready_is_what_can_deliver_and_record(state: dict[str, Any], status: int, said: dict[str, Any]) -> None:
    start, body = probed(parts(**state))
    assert (start["status"], json.loads(body["body"])) == (status, said)
    assert body["body"].isascii() == ("Ærø" not in str(said)), "letters are told as they are"
    assert dict(start["headers"])[b"content-length"] == str(len(body["body"])).encode()


def test_a_process_is_alive_whatever_does_not_work() -> None:
    start, body = probed(parts(journal=Journal(TimeoutError())), "/healthz")
    assert (start["status"], body["body"]) == (200, b'{"status":"alive"}')


def test_head_has_the_same_head_and_no_body() -> None:
    start, _ = probed(parts())
    assert probed(parts(), method="HEAD") == [start, {"type": "http.response.body", "body": b""}]


@pytest.mark.parametrize(
    "other",
    [
        {"path": "/readyz/"},
        {"path": "/api/readyz"},
        {"method": "POST"},
        {"method": "OPTIONS"},
        {"query": b"a=1"},
        {"content_length": "3"},
        {"transfer_encoding": "chunked"},
        {"expect": "100-continue"},
        {"origin": "https://office.example"},
    ],
)
def test_what_is_more_than_a_plain_probe_is_the_apis(other: dict[str, Any]) -> None:
    assert probed(parts(), **other) == []


def test_where_other_origins_may_ask_the_api_says_what_they_may() -> None:
    others = SimpleNamespace(cross_origin=CrossOrigin(frozenset({"https://office.example"})))
    assert probed(parts(way=others)) == []


def test_an_error_that_is_not_expected_is_the_apis_to_answer() -> None:
    assert probed(parts(journal=Journal(ValueError("?")))) == []


def test_a_client_that_leaves_is_no_error() -> None:
    async def gone(_: Any) -> None:
        raise ClientGone

    scope = {"method": "GET", "headers": [], "query_string": b""}
    assert asyncio.run(answer_probe(parts(), "/healthz", scope, gone))

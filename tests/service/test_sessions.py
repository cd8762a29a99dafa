"""Signing in by the console's cookie, and what another site cannot do with it."""

from __future__ import annotations

from collections.abc import Callable

import pytest

from tests.running import Service


@pytest.fixture(scope="module")
def service(start_shared: Callable[..., Service]) -> Service:
    return start_shared(files={"a.txt": b"a"}, rules="")


def test_a_token_becomes_a_session_and_the_session_ends(service: Service) -> None:
    with service.client() as browser:
        assert browser.get("/api/sessions/current").json() == {"recipient": None, "groups": [], "administers": False}
        signed = browser.post("/api/sessions", json={"token": service.tokens["bob"]})
        assert (signed.status_code, signed.json()) == (
            201,
            {"recipient": "bob", "groups": ["crew"], "administers": False},
        )
        cookie = signed.headers["set-cookie"].lower()
        assert "httponly" in cookie
        assert "samesite=strict" in cookie
        assert service.tokens["bob"].lower() not in cookie
        assert browser.get("/api/sessions/current").json()["recipient"] == "bob"
        secret = browser.cookies["invio-session"]
        ended = browser.delete("/api/sessions/current", headers={"sec-fetch-site": "same-origin"})
        assert ended.status_code == 204
        stale = browser.get("/api/sessions/current", headers={"cookie": f"invio-session={secret}"})
        assert stale.json()["recipient"] is None


def test_a_wrong_token_opens_no_session(service: Service) -> None:
    with service.client() as browser:
        for body in ({"token": "wrong"}, {"token": ""}, {}, {"token": "x", "more": 1}):
            answer = browser.post("/api/sessions", json=body)
            assert answer.status_code in (400, 401)
            assert "set-cookie" not in answer.headers


@pytest.mark.parametrize(
    ("headers", "status"),
    [
        ({"sec-fetch-site": "same-origin"}, 400),
        ({"sec-fetch-site": "cross-site"}, 403),
        ({"sec-fetch-site": "same-site"}, 403),
        ({"origin": "http://evil.example"}, 403),
        ({"origin": "SELF"}, 400),
        ({}, 403),
    ],
)
def test_another_site_cannot_act_with_the_cookie(service: Service, headers: dict[str, str], status: int) -> None:
    with service.client() as browser:
        browser.post("/api/sessions", json={"token": service.tokens["ann"]})
        headers = {name: service.url if value == "SELF" else value for name, value in headers.items()}
        # 400 is the answer to the empty selection: the request was let through to it.
        assert browser.post("/bundles", data={"name": "x"}, headers=headers).status_code == status


def test_a_token_needs_no_origin(service: Service) -> None:
    with service.client("ann") as program:
        assert program.post("/api/bundles", json={"files": []}).status_code == 400

"""Tokens of an identity provider: a stand-in for one signs them and publishes its keys, in a file or at an address."""

from __future__ import annotations

import base64
import hmac
import json
import socket
import sqlite3
import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, field
from functools import partial
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import httpx
import jwt
import pytest
from cryptography.hazmat.primitives.asymmetric import ec, ed25519, rsa
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat
from jwt.algorithms import ECAlgorithm, OKPAlgorithm, RSAAlgorithm

from invio.records.recipients import Recipient
from invio.service import provider as provider_module
from invio.service.provider import Provider
from invio.service.settings import IdentitySettings
from tests.rules import rule
from tests.running import SETTINGS, Service, make_folder, until

Start = Callable[..., Service]
RULES = rule("group:pilots", "files/pilots/**", "read") + rule("group:crew", "files/crew/**", "read")
FILES = {"pilots/a.txt": b"for pilots", "crew/b.txt": b"for the crew"}
IDENTITY = """
[identity]
issuer = "https://login.example"
audience = "files"
keys = "{keys}"
"""


@dataclass
class Issuer:
    """The stand-in: its private keys, by their names."""

    keys: dict[str, Any] = field(default_factory=lambda: {"one": rsa.generate_private_key(65537, 2048)})

    def published(self) -> str:
        return json.dumps({"keys": [self._published(name, key) for name, key in self.keys.items()]})

    @staticmethod
    def _published(name: str, key: Any) -> dict[str, Any]:
        kind: type[RSAAlgorithm | ECAlgorithm | OKPAlgorithm] = RSAAlgorithm
        if isinstance(key, ec.EllipticCurvePrivateKey):
            kind = ECAlgorithm
        elif isinstance(key, ed25519.Ed25519PrivateKey):
            kind = OKPAlgorithm
        return {**kind.to_jwk(key.public_key(), as_dict=True), "kid": name, "use": "sig"}

    def token(self, by: str = "one", algorithm: str = "RS256", named: bool = True, **claims: object) -> str:
        told = {
            "iss": "https://login.example",
            "aud": ["files", "mail"],
            "exp": int(time.time()) + 300,
            "sub": "dora",
            "groups": ["pilots"],
        }
        told.update(claims)
        said = {name: value for name, value in told.items() if value is not None}
        return jwt.encode(said, self.keys[by], algorithm, headers={"kid": by} if named else None)


def by_what_is_published(token: str, issuer: Issuer) -> str:
    """A token like this one, sealed with the public key taken for a shared secret."""
    claims = token.split(".")[1]
    head = base64.urlsafe_b64encode(b'{"alg":"HS256","typ":"JWT","kid":"one"}').rstrip(b"=").decode()
    pem = issuer.keys["one"].public_key().public_bytes(Encoding.PEM, PublicFormat.SubjectPublicKeyInfo)
    seal = hmac.digest(pem, f"{head}.{claims}".encode(), "sha256")
    return f"{head}.{claims}.{base64.urlsafe_b64encode(seal).rstrip(b'=').decode()}"


def started(start: Start, tmp_path: Path, keys: str, more: str = "") -> Service:
    folder = tmp_path / "service"
    make_folder(folder, FILES, RULES, SETTINGS + IDENTITY.format(keys=keys) + more)
    return start(folder)


def status(service: Service, token: str, path: str = "pilots/a.txt") -> int:
    with service.client() as client:
        return client.get(f"/get/files/{path}", headers={"authorization": f"Bearer {token}"}).status_code


@pytest.fixture
def issuer() -> Issuer:
    return Issuer()


@pytest.fixture
def service(start: Start, tmp_path: Path, issuer: Issuer) -> Service:
    folder = tmp_path / "keys"
    folder.mkdir()
    (folder / "jwks.json").write_text(issuer.published())
    return started(start, tmp_path, str(folder / "jwks.json"))


def test_a_good_token_tells_who_asks_and_the_groups(service: Service, issuer: Issuer) -> None:
    token = issuer.token()
    with service.client() as client:
        client.headers["authorization"] = f"Bearer {token}"
        assert client.get("/api/sessions/current").json() == {
            "recipient": "dora",
            "groups": ["pilots"],
            "administers": False,
        }
        assert client.get("/get/files/pilots/a.txt").content == b"for pilots"
    assert status(service, issuer.token(groups="crew pilots"), "crew/b.txt") == 200, "groups may be one text"
    assert status(service, issuer.token(groups=None)) == 404, "the rules see no group"
    assert status(service, issuer.token(named=False)) == 200, "a provider of one key need not name it"
    assert service.get("/get/files/crew/b.txt", "bob").status_code == 200, "our own tokens go on as before"
    assert token not in service.logged()


def test_a_token_with_anything_wrong_is_none(service: Service, issuer: Issuer) -> None:
    stranger = Issuer()
    now = int(time.time())
    good = issuer.token()
    wrong = {
        "another issuer": issuer.token(iss="https://other.example"),
        "for somebody else": issuer.token(aud="mail"),
        "over": issuer.token(exp=now - 60),
        "without an end": issuer.token(exp=None),
        "not yet": issuer.token(nbf=now + 120),
        "signed by another with the key's name": stranger.token(),
        "an unknown key": Issuer({"two": stranger.keys["one"]}).token(by="two"),
        "an id that is none": issuer.token(sub="a b"),
        "no id": issuer.token(sub=None),
        "not signed": jwt.encode(jwt.decode(good, options={"verify_signature": False}), "", "none"),
        "signed with what is published": by_what_is_published(good, issuer),
        "altered": good[:-6] + ("AAAAAA" if good[-6:] != "AAAAAA" else "BBBBBB"),
        "of dots": "..",
        "endless": "a" * 40_000 + ".b.c",
    }
    assert {what: status(service, token) for what, token in wrong.items()} == dict.fromkeys(wrong, 401)
    with service.client() as client:
        over = client.get("/get/files/pilots/a.txt", headers={"authorization": f"Bearer {wrong['over']}"})
    assert "has expired; sign in there again" in over.json()["detail"]
    assert status(service, good) == 200


def test_other_algorithms_and_a_provider_that_changes_its_keys(
    service: Service, issuer: Issuer, tmp_path: Path
) -> None:
    issuer.keys = {"two": ec.generate_private_key(ec.SECP256R1()), "three": ed25519.Ed25519PrivateKey.generate()}
    before = issuer.token("two", "ES256")
    assert status(service, before) == 401
    assert status(service, Issuer.token(Issuer({"one": issuer.keys["two"]}), "one", "ES256", named=False)) == 401
    (tmp_path / "keys" / "jwks.json").write_text(issuer.published())
    until(lambda: status(service, before) == 200)
    assert status(service, issuer.token("three", "EdDSA")) == 200
    assert status(service, issuer.token("two", "ES256", named=False)) == 401, "of two keys, one has to be named"
    (tmp_path / "keys" / "jwks.json").write_text("{")
    assert status(service, issuer.token("two", "ES256", jti="another")) == 200, "a broken file leaves what is known"
    assert "identity.keys-not-read" in service.logged()


def test_who_is_known_here_too_has_those_groups_and_can_be_shut_out(service: Service, issuer: Issuer) -> None:
    assert status(service, issuer.token(sub="bob", groups=[]), "crew/b.txt") == 200
    records = sqlite3.connect(service.folder / "data" / "records.sqlite")
    with records:
        records.execute("UPDATE recipients SET disabled = 1 WHERE id = 'bob'")
    records.close()
    assert status(service, issuer.token(sub="bob", groups=["crew"]), "crew/b.txt") == 401


@contextmanager
def published(issuer: Issuer) -> Iterator[tuple[str, list[float]]]:
    """The provider's address, and when it was asked."""
    asked: list[float] = []

    class Handler(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            asked.append(time.time())
            body = issuer.published().encode()
            self.send_response(200)
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)

        def log_message(self, *_: object) -> None:
            """Not here."""

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    thread = threading.Thread(target=server.serve_forever, daemon=True)
    thread.start()
    try:
        yield f"http://127.0.0.1:{server.server_port}/keys", asked
    finally:
        server.shutdown()
        server.server_close()


def test_keys_at_an_address_are_asked_for_once_and_serve_on_when_it_is_gone(
    start: Start, tmp_path: Path, issuer: Issuer
) -> None:
    with published(issuer) as (address, asked):
        service = started(start, tmp_path, address, 'prefix = "sso."\nalgorithms = ["RS256"]\n')
        assert status(service, issuer.token()) == 200
        strange = Issuer({f"strange-{n}": issuer.keys["one"] for n in range(20)})
        for n in range(20):
            assert status(service, strange.token(by=f"strange-{n}")) == 401
        assert len(asked) == 1, "strangers' tokens do not make the service ask"
        assert status(service, jwt.encode({}, "k" * 40, "HS256")) == 401
        with service.client() as client:
            client.headers["authorization"] = f"Bearer {issuer.token()}"
            assert client.get("/api/sessions/current").json()["recipient"] == "sso.dora"
    assert status(service, issuer.token(jti="later")) == 200


class Clock:
    """A steady clock that the test sets."""

    now = 10_000.0

    def monotonic(self) -> float:
        return self.now


def given(keys: str) -> IdentitySettings:
    return IdentitySettings(issuer="https://login.example", audience="files", keys=keys)


def answered_by(monkeypatch: pytest.MonkeyPatch, answer: Callable[[httpx.Request], httpx.Response]) -> None:
    monkeypatch.setattr(httpx, "Client", partial(httpx.Client, transport=httpx.MockTransport(answer)))


def test_keys_are_had_again_when_old_and_for_an_unknown_one_every_half_minute(
    issuer: Issuer, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    clock, asked = Clock(), []

    def answer(_: httpx.Request) -> httpx.Response:
        asked.append(clock.now)
        return httpx.Response(200, text=issuer.published())

    monkeypatch.setattr(provider_module, "time", clock)
    answered_by(monkeypatch, answer)
    provider = Provider(given("https://login.example/keys"), tmp_path)
    known = issuer.token()
    for later in (0, 3600, 1, 3600):
        clock.now += later
        assert isinstance(provider.recipient_of(known), Recipient)
    assert asked == [10_000, 13_601]
    issuer.keys["two"] = rsa.generate_private_key(65537, 2048)
    unknown = issuer.token(by="two")
    clock.now = 13_601 + 30
    assert isinstance(provider.recipient_of(unknown), str)
    clock.now += 0.1
    assert isinstance(provider.recipient_of(unknown), Recipient)
    assert len(asked) == 3


def test_while_keys_are_fetched_only_those_wait_whose_key_is_unknown(
    issuer: Issuer, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    clock, asked, goes_on = Clock(), threading.Event(), threading.Event()
    goes_on.set()

    def answer(_: httpx.Request) -> httpx.Response:
        asked.set()
        assert goes_on.wait(10)
        return httpx.Response(200, text=issuer.published())

    monkeypatch.setattr(provider_module, "time", clock)
    answered_by(monkeypatch, answer)
    provider, known = Provider(given("https://login.example/keys"), tmp_path), issuer.token()
    assert isinstance(provider.recipient_of(known), Recipient)
    goes_on.clear()
    asked.clear()
    clock.now += 31
    issuer.keys["two"] = rsa.generate_private_key(65537, 2048)
    with ThreadPoolExecutor() as others:
        waiting = others.submit(provider.recipient_of, issuer.token(by="two"))
        assert asked.wait(10)
        assert isinstance(provider.recipient_of(known), Recipient)
        assert not waiting.done()
        goes_on.set()
        assert isinstance(waiting.result(), Recipient)


def test_a_provider_that_hangs_keeps_nobody_else_from_being_known(start: Start, tmp_path: Path, issuer: Issuer) -> None:
    with socket.create_server(("127.0.0.1", 0)) as hole, ExitStack() as connections:
        service = started(start, tmp_path, f"http://127.0.0.1:{hole.getsockname()[1]}/keys")
        for number in range(12):
            token = issuer.token(sub=f"dora-{number}")
            head = f"GET /api/sessions/current HTTP/1.1\r\nhost: x\r\nauthorization: Bearer {token}\r\n\r\n"
            connection = connections.enter_context(socket.create_connection(("127.0.0.1", service.port)))
            connection.sendall(head.encode())
        hole.settimeout(10)
        connections.enter_context(hole.accept()[0])  # it is asked for its keys
        began = time.monotonic()
        assert service.get("/api/sessions/current", "ann").json()["recipient"] == "ann"
        assert time.monotonic() - began < 2, "the keys are waited for five seconds long"


def drip(clock: Clock, pieces: int) -> Iterator[bytes]:
    for _ in range(pieces):
        clock.now += 1
        yield b" " * 100


@pytest.mark.parametrize("what", ["an error", "a redirect", "too deep", "a list", "of numbers", "too long", "too slow"])
def test_an_answer_that_holds_no_keys_leaves_those_that_are_known(
    issuer: Issuer, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, what: str
) -> None:
    clock, known, read = Clock(), issuer.token(), dict[int, bytes]()
    good = httpx.Response(200, text=issuer.published())
    content: dict[str, Callable[[], str | Iterator[bytes]]] = {
        "an error": issuer.published,
        "a redirect": str,
        "too deep": lambda: "[" * 100_000,
        "a list": lambda: "[]",
        "of numbers": lambda: '{"keys": [1]}',
        "too long": lambda: (read.setdefault(number, b" " * 100_000) for number in range(1000)),
        "too slow": lambda: drip(clock, 100),
    }
    status = {"an error": 500, "a redirect": 302}.get(what, 200)
    elsewhere = {"location": "https://elsewhere.example/keys"}
    bad = [httpx.Response(status, headers=elsewhere, content=content[what]()) for _ in range(2)]
    answers = [bad[0], good, bad[1]]
    monkeypatch.setattr(provider_module, "time", clock)
    answered_by(monkeypatch, lambda _: answers.pop(0))
    provider = Provider(given("https://login.example/keys"), tmp_path)
    assert isinstance(provider.recipient_of(known), str)
    clock.now += 3601
    for _ in range(2):
        assert isinstance(provider.recipient_of(known), Recipient)
        clock.now += 3601
    assert answers == []
    assert len(read) < 12, "of a long one no more is read than may be"
    assert clock.now < 10_000 + 3 * 3601 + 20, "of a slow one no more is waited for"


def test_groups_that_are_none_are_left_out_and_an_id_has_to_be_one(issuer: Issuer, tmp_path: Path) -> None:
    (tmp_path / "keys.json").write_text(issuer.published())
    provider = Provider(given("keys.json"), tmp_path)

    def told(**claims: object) -> Recipient | str:
        return provider.recipient_of(issuer.token(**claims))  # type: ignore[arg-type]

    odd = told(groups=["pilots", 7, None, "a b", "", "crew"], name=7)
    assert isinstance(odd, Recipient)
    assert (odd.id, odd.name, set(odd.groups)) == ("dora", "dora", {"pilots", "crew"})
    in_words = told(groups="pilots crew", name="Dora")
    assert isinstance(in_words, Recipient)
    assert (in_words.name, set(in_words.groups)) == ("Dora", {"pilots", "crew"})
    for sub in (7, "a b", "", "x" * 65, None):
        assert isinstance(told(sub=sub), str)
    assert isinstance(told(more="x" * 20_000), str), "too long to be looked into"

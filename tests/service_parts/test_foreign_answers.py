"""What is asked of other services: how long it may take, whatever they do."""

from __future__ import annotations

import socket
import threading
from collections.abc import Sequence
from pathlib import Path

import jwt
import pytest

from invio.core.signing import SigningKey
from invio.service import provider as provider_module
from invio.service.provider import Provider
from invio.service.settings import IdentitySettings, WebhookSettings
from invio.service.webhook_posts import Posts

KEY = SigningKey.new()
WHOLE = b"HTTP/1.1 204 No Content\r\n\r\n"


class Receiver:
    """Answers each connection's first request with one of `answers`, and those to come drip."""

    def __init__(self, *answers: bytes) -> None:
        self._listener = socket.create_server(("127.0.0.1", 0))
        self._answers = answers
        self.origin = f"http://127.0.0.1:{self._listener.getsockname()[1]}"
        self.ended = threading.Event()  # a connection on which an answer dripped was broken off
        threading.Thread(target=self._serve, daemon=True).start()

    def close(self) -> None:
        self._listener.close()

    def posts(self, seconds: float) -> Posts:
        return Posts(f"{self.origin}/hook", WebhookSettings(origins=[self.origin]), KEY, seconds)

    def _serve(self) -> None:
        connection = self._listener.accept()[0]
        with connection:
            for answer in self._answers:
                connection.recv(65536)
                connection.sendall(answer)
            connection.recv(65536)
            connection.settimeout(0.02)
            try:
                connection.sendall(b"HTTP/1.1 204 ")
                while True:
                    connection.sendall(b"x")
                    if not _silent(connection):
                        break
            except OSError:
                pass
            self.ended.set()


def _silent(connection: socket.socket) -> bool:
    try:
        return bool(connection.recv(65536))
    except TimeoutError:
        return True


@pytest.mark.parametrize("before", [(), (WHOLE,)], ids=["on a new connection", "on one that is used again"])
def test_an_answer_that_drips_is_broken_off(before: Sequence[bytes]) -> None:
    receiver = Receiver(*before)
    with receiver.posts(0.3) as posts:
        assert [posts.post(b"{}") for _ in before] == [("204 No Content", True) for _ in before]
        assert posts.post(b"{}") == ("127.0.0.1: its answer was not complete after 0.3 seconds", False)
    assert receiver.ended.wait(5)
    receiver.close()


def test_an_identity_provider_whose_answer_drips_is_broken_off(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, caplog: pytest.LogCaptureFixture
) -> None:
    receiver = Receiver()
    monkeypatch.setattr(provider_module, "_ANSWERS_WITHIN", 0.3)
    given = IdentitySettings(issuer=receiver.origin, audience="files", keys=f"{receiver.origin}/keys")
    token = jwt.encode({"sub": "dora"}, "a secret that is long enough for it", headers={"kid": "one"})
    said = Provider(given, tmp_path).recipient_of(token)
    assert isinstance(said, str)
    assert receiver.ended.wait(5)
    told = next(record for record in caplog.records if record.message == "identity.keys-not-read")
    assert told.__dict__["fields"]["error"] == "its answer was not complete after 0.3 seconds"
    receiver.close()

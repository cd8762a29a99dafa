"""Who asks, by their token: looked up once in a while, with what the request says of itself."""

from __future__ import annotations

import asyncio
from pathlib import Path

import pytest

from invio.core.files import Caller
from invio.core.http.request_head import RequestHead
from invio.core.reasons import Refusal
from invio.delivery.access import authentication as module
from invio.delivery.access.authentication import Identifier
from invio.records.database import open_database, write
from invio.records.recipients import add_token, open_session, save_recipient
from invio.workers.pool import DeadlinePassed, PoolBusy


def test_a_token_tells_who_asks_and_the_request_from_where_and_with_what(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    engine, noted = open_database(tmp_path / "records.sqlite"), []
    with write(engine).begin() as connection:
        save_recipient(connection, "ann", "Ann", ["pilots"])
        token = add_token(connection, "ann", "laptop")
    monkeypatch.setattr(module, "note_use", lambda _, used: noted.append(used))
    identifier = Identifier(engine)
    head = RequestHead("GET", [(b"authorization", f"Bearer {token}".encode()), (b"user-agent", b"charts/2")])
    plain = RequestHead("GET", [(b"authorization", f"bearer  {token}".encode())])

    async def work() -> None:
        assert identifier.known(head, "192.0.2.7") is None, "it is not known yet"
        for request, agent in ((head, "charts/2"), (plain, "")):
            for _ in range(10):  # it is known for a while, in which the machine may stand still
                caller = await identifier.identify(request, "192.0.2.7")
                known = identifier.known(request, "192.0.2.7")
                if known is not None:
                    break
            assert known == caller
            assert (caller.recipient, caller.groups, caller.network) == ("ann", frozenset({"pilots"}), "192.0.2.7")
            assert (caller.agent, caller.session) == (agent, False)
            assert "laptop" in str(caller.credential)
        identifier.forget_all()
        assert identifier.known(head, "192.0.2.7") is None
        await identifier.identify(head, "192.0.2.7")
        with pytest.raises(Refusal) as refused:
            await identifier.identify(RequestHead("GET", [(b"authorization", b"Bearer none")]), "192.0.2.7")
        assert refused.value.reason.word == "bad-token"

    asyncio.run(work())
    assert noted == [token], "a use is noted once in a while, and not for what is none"
    engine.dispose()


def test_who_may_be_known_by_a_cookie_is_looked_up_and_who_shows_nothing_is_anonymous_at_once(tmp_path: Path) -> None:
    engine = open_database(tmp_path / "records.sqlite")
    identifier = Identifier(engine)
    anonymous = identifier.known(RequestHead("GET", [(b"user-agent", b"charts/2")]), "192.0.2.7")
    assert anonymous == Caller(None, frozenset(), "192.0.2.7", "charts/2")
    assert identifier.known(RequestHead("GET", [(b"cookie", b"invio-session=abc")]), "192.0.2.7") is None
    engine.dispose()


def test_a_cookie_tells_who_asks_and_the_request_with_what(tmp_path: Path) -> None:
    engine = open_database(tmp_path / "records.sqlite")
    with write(engine).begin() as connection:
        save_recipient(connection, "ann", "Ann", ["pilots"])
        opened = open_session(connection, "ann")
    assert opened is not None
    cookie = (b"cookie", f"{module.COOKIE}={opened.secret}".encode())

    async def work() -> None:
        identifier = Identifier(engine)
        for more, agent in (([(b"user-agent", b"charts/2")], "charts/2"), ([], "")):
            caller = await identifier.identify(RequestHead("GET", [cookie, *more]), "192.0.2.7")
            assert (caller.recipient, caller.session, caller.agent) == ("ann", True, agent)

    asyncio.run(work())
    engine.dispose()


@pytest.mark.parametrize("error", [PoolBusy("it is full"), DeadlinePassed("it took too long")])
def test_who_cannot_be_looked_up_now_is_asked_to_come_again(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, error: Exception
) -> None:
    engine = open_database(tmp_path / "records.sqlite")
    identifier = Identifier(engine)

    async def full(*_: object) -> None:
        raise error

    monkeypatch.setattr(identifier._pool, "run", full)
    with pytest.raises(Refusal, match="too many sign-ins are being checked") as refused:
        asyncio.run(identifier.identify(RequestHead("GET", [(b"authorization", b"Bearer x")]), "192.0.2.7"))
    assert (refused.value.reason.word, refused.value.retry_after) == ("busy", 1)
    engine.dispose()

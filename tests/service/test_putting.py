"""How uploads are held and written: without a process, by bodies that a test sends."""

from __future__ import annotations

import asyncio
import errno
import os
import threading
from collections.abc import AsyncIterator
from functools import partial
from pathlib import Path
from types import SimpleNamespace

import pytest

from invio.core.addresses import parse_address
from invio.core.reasons import Refusal
from invio.delivery.sending.eager import in_thread
from invio.service import putting
from invio.service.putting import Held, take
from invio.stores.arriving import Arriving
from invio.stores.directory import DirectoryStore

KIB, MIB = 1024, 1024 * 1024


@pytest.fixture(autouse=True)
def fresh(monkeypatch: pytest.MonkeyPatch) -> Held:
    held = Held(4 * MIB)
    monkeypatch.setattr(putting, "held", held)
    return held


class Writing(Arriving):
    """Notes the lengths of what is written, and in how many pieces; `stops` keeps the writer waiting, and `fails` has it fail."""

    def __init__(self, folder: Path) -> None:
        super().__init__(os.fsencode(folder), 0o600)
        self.lengths: list[int] = []
        self.calls: list[int] = []
        self.goes_on = threading.Event()
        self.goes_on.set()
        self.error: OSError | None = None

    def write(self, *pieces: bytes) -> None:
        assert self.goes_on.wait(10)
        if self.error is not None:
            raise self.error
        super().write(*pieces)
        self.lengths.append(sum(map(len, pieces)))
        self.calls.append(len(pieces))


async def body(*pieces: bytes) -> AsyncIterator[bytes]:
    for piece in pieces:
        yield piece
        await asyncio.sleep(0)


def anything(count: int) -> None:
    """Any length will do."""


def writes(arriving: Writing) -> putting.Write:
    return partial(in_thread, arriving.write)


def test_a_body_is_written_in_long_pieces_while_few_bytes_are_held(tmp_path: Path, fresh: Held) -> None:
    fresh.most = 64 * MIB
    content = [bytes([number]) * MIB for number in range(9)]
    with Writing(tmp_path) as arriving:
        asyncio.run(take(body(*content), writes(arriving), anything))
        assert arriving.lengths == [4 * MIB, 4 * MIB, MIB]
        assert arriving.calls == [4, 4, 1]  # none of it is copied before
        assert b"".join(arriving.pieces(MIB)) == b"".join(content)
    assert fresh.bytes == 0


def test_small_pieces_are_joined_before_they_are_written(tmp_path: Path) -> None:
    content = [bytes([number % 256]) * 16_383 for number in range(300)]
    with Writing(tmp_path) as arriving:
        asyncio.run(take(body(*content), writes(arriving), anything))
        assert set(arriving.calls) == {1}
        assert b"".join(arriving.pieces(MIB)) == b"".join(content)


@pytest.mark.parametrize(
    ("text", "kept"),
    [(None, None), (" Soundings \n of  May ", "Soundings of May"), ("", ""), ("a\x1b[31m", 400), ("a\u202eb", 400)],
)
def test_a_description_is_one_line_of_what_can_be_seen(tmp_path: Path, text: str | None, kept: object) -> None:
    store = DirectoryStore("files", tmp_path)
    store.describes = True  # type: ignore[attr-defined]
    if kept == 400:
        with pytest.raises(Refusal, match="no control characters"):
            putting._said_description(store, parse_address("files/a"), text)  # type: ignore[arg-type]
    else:
        assert putting._said_description(store, parse_address("files/a"), text) == kept  # type: ignore[arg-type]
    store.describes = False  # type: ignore[attr-defined]
    if text is not None:
        with pytest.raises(Refusal, match="'files' keeps no descriptions"):
            putting._said_description(store, parse_address("files/a"), text)  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("number", "word", "says"),
    [
        (errno.ENOSPC, "no-space", "the disk is full; nothing was changed"),
        (errno.EDQUOT, "no-space", "the disk is full; nothing was changed"),
        (errno.ENAMETOOLONG, "bad-request", "a name in the address is too long for the disk"),
        (errno.EIO, "unavailable", "the operator's log says why"),
    ],
)
def test_why_a_file_was_not_written_is_said(number: int, word: str, says: str) -> None:
    refusal = putting._not_written(parse_address("files/a"), OSError(number, os.strerror(number)))
    assert refusal.reason.word == word
    assert says in refusal.detail


def test_a_file_may_have_just_as_many_bytes_as_the_limit() -> None:
    parts = SimpleNamespace(settings=SimpleNamespace(limits=SimpleNamespace(put_bytes=10)))
    putting._require_room(parts, 10)  # type: ignore[arg-type]
    with pytest.raises(Refusal, match="at most 10 bytes") as refused:
        putting._require_room(parts, 11)  # type: ignore[arg-type]
    assert refused.value.reason.word == "file-too-large"


def test_what_is_held_is_written_at_once_from_where_it_is_said(fresh: Held) -> None:
    assert [fresh.is_due(count) for count in (4 * MIB - 1, 4 * MIB)] == [False, True]
    fresh.bytes = fresh.most - 1
    assert not fresh.is_due(64 * KIB)
    fresh.bytes = fresh.most
    assert [fresh.is_due(count) for count in (64 * KIB - 1, 64 * KIB)] == [False, True]


def test_many_slow_bodies_hold_little_more_than_the_limit(tmp_path: Path, fresh: Held) -> None:
    """Each sends short pieces, and goes on only when all others have sent theirs: 200 of 240 KiB."""
    most = 0

    async def slow(turns: int) -> AsyncIterator[bytes]:
        nonlocal most
        for _ in range(turns):
            yield bytes(8 * KIB)
            most = max(most, fresh.bytes)
            await asyncio.sleep(0)

    async def all_of_them() -> None:
        await asyncio.gather(*(take(slow(30), writes(arriving), anything) for arriving in arrivings))

    arrivings = [Writing(tmp_path) for _ in range(200)]
    asyncio.run(all_of_them())
    assert all(arriving.size == 240 * KIB for arriving in arrivings)
    assert all(max(arriving.lengths) < 128 * KIB for arriving in arrivings), "and long before there are four MiB of one"
    # 47 MiB came: 4 may be held, and each its last piece and the one that is being written.
    assert most < 4 * MIB + 200 * 2 * (64 + 8) * KIB
    assert fresh.bytes == 0
    for arriving in arrivings:
        arriving.__exit__(None, None, None)


@pytest.mark.parametrize("where", ["coming", "refused", "writing"])
def test_nothing_is_held_of_a_body_that_failed(tmp_path: Path, fresh: Held, where: str) -> None:
    async def breaks_off() -> AsyncIterator[bytes]:
        yield bytes(5 * MIB)
        yield bytes(MIB)
        if where == "coming":
            raise ConnectionResetError

    def refuses(count: int) -> None:
        if where == "refused" and count > 5 * MIB:
            raise ConnectionResetError

    with Writing(tmp_path) as arriving:
        if where == "writing":
            arriving.error = OSError(errno.ENOSPC, "full")
        with pytest.raises((OSError, ConnectionResetError)):
            asyncio.run(take(breaks_off(), writes(arriving), refuses))
    assert fresh.bytes == 0


def test_a_writer_is_waited_for_when_its_upload_is_cancelled(tmp_path: Path, fresh: Held) -> None:
    async def cancelled(arriving: Writing) -> None:
        async def long() -> AsyncIterator[bytes]:
            yield bytes(4 * MIB)
            yield bytes(4 * MIB)  # the second waits for the first to be written

        arriving.goes_on.clear()
        taking = asyncio.ensure_future(take(long(), writes(arriving), anything))
        while fresh.bytes < 8 * MIB:
            await asyncio.sleep(0)
        taking.cancel()
        for _ in range(5):
            await asyncio.sleep(0)
        assert not taking.done(), "its file would be closed under the writer"
        arriving.goes_on.set()
        with pytest.raises(asyncio.CancelledError):
            await taking
        assert arriving.lengths == [4 * MIB]

    with Writing(tmp_path) as arriving:
        asyncio.run(cancelled(arriving))
    assert fresh.bytes == 0

"""How much of contents that are read piece by piece is in memory, for readers who take their time."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Iterable

import pytest

from invio.core.addresses import Address, parse_address
from invio.core.files import FileFacts
from invio.stores import blocking
from invio.stores.blocking import BlockingStore, Reading
from tests.running import until

KIB = 1024
LENGTH = 8192 * KIB
ADDRESS = parse_address("far/a.bin")


class Far(BlockingStore):
    """Another system with one content."""

    def look_up(self, address: Address) -> FileFacts:
        return FileFacts(address, LENGTH, 1.0, "one")

    def look_into(self, folder: Address) -> Iterable[FileFacts | Address]:  # noqa: ARG002
        return [ADDRESS]

    def read_at(self, address: Address, tag: str, offset: int, count: int) -> bytes:  # noqa: ARG002
        return bytes(count)


async def first_pieces(store: BlockingStore, readers: int) -> tuple[list[AsyncIterator[bytes]], list[int]]:
    """Some readers who take one piece each and no more, and how long these are."""
    content = store.locate(ADDRESS).content
    running, sizes = [], []
    for _ in range(readers):
        pieces = content.pieces(0, LENGTH)
        sizes.append(len(await anext(pieces)))
        running.append(pieces)
    return running, sizes


async def closed(running: list[AsyncIterator[bytes]]) -> None:
    for pieces in running:
        await pieces.aclose()  # type: ignore[attr-defined]


@pytest.fixture
def far(monkeypatch: pytest.MonkeyPatch) -> Far:
    monkeypatch.setattr(blocking, "_held", blocking._Held())
    monkeypatch.setattr(blocking, "_ROOM", 8192 * KIB)
    monkeypatch.setattr(blocking, "_FIRST", 1024 * KIB)
    monkeypatch.setattr(blocking, "_LEAST", 4 * KIB)
    return Far("far", timeout=60)


def test_the_more_read_slowly_the_shorter_their_pieces_are(far: Far) -> None:
    """Each had a MiB: eight hundred readers of another system's files took 1.2 GB."""

    async def work() -> None:
        running, sizes = await first_pieces(far, 600)
        assert sizes[0] == 1024 * KIB
        assert sizes == sorted(sizes, reverse=True)
        assert sizes[-1] == 4 * KIB
        assert blocking._held.transfers == 600
        assert sizes[200] == 8192 * KIB // 4 // 201, "all such pieces together have a quarter of the room"
        # Those that were the first have read ahead, too, while there was room.
        assert blocking._held.count <= 3 * 8192 * KIB
        await closed(running)
        assert (blocking._held.transfers, blocking._held.count) == (0, 0)

    asyncio.run(work())


def test_no_piece_is_longer_than_the_store_says(far: Far) -> None:
    far.reading = Reading(largest=100 * KIB)

    async def work() -> None:
        pieces = [len(piece) async for piece in far.locate(ADDRESS).content.pieces(0, LENGTH)]
        assert (max(pieces), sum(pieces)) == (100 * KIB, LENGTH)
        running, _ = await first_pieces(far, 30)
        assert len(await anext(running[-1])) <= 100 * KIB
        await closed(running)

    asyncio.run(work())


def test_memory_is_given_back_once_most_of_what_was_held_is_gone(far: Far, monkeypatch: pytest.MonkeyPatch) -> None:
    given_back: list[int] = []
    monkeypatch.setattr(blocking, "give_back_memory", lambda: given_back.append(blocking._held.count))
    monkeypatch.setattr(blocking, "_MUCH", 8192 * KIB)

    async def work() -> int:
        few, _ = await first_pieces(far, 1)
        await closed(few)
        until(lambda: far._calls.taken == 0)
        assert given_back == [], "it was little"
        many, _ = await first_pieces(far, 40)
        held = blocking._held.count
        for pieces in many:
            await closed([pieces])
            until(lambda: far._calls.taken == 0)
        return held

    held = asyncio.run(work())
    assert len(given_back) == 1
    assert given_back[0] <= held // 4

"""A rendition in an archive: read from the cache, and made again once it was evicted."""

from __future__ import annotations

import asyncio
import os
import threading
from collections.abc import Callable
from pathlib import Path
from typing import cast

import pytest

from invio.core.addresses import parse_address
from invio.core.files import ANYONE, FileFacts
from invio.core.readable import ContentChanged
from invio.core.reasons import Refusal
from invio.core.renditions import Rendition
from invio.delivery.representation.renditions import RenditionFile, Renditions, _opened
from invio.producers.image_workers import ImageWorkers
from invio.producers.imaging import NotAnImage
from invio.stores.disk_cache import DiskCache
from invio.stores.sources import PIECE, BlockingFile, DiskFile, Reader
from invio.stores.store import Found, StoreFault
from invio.workers.pool import Pool

CONTENT = b"0123456789" * (PIECE // 8)


class Cache:
    """One content of a bounded cache, which is evicted and made again under the same name."""

    def __init__(self, path: Path) -> None:
        self.path, self.made = path, 0

    def find(self) -> Found:
        if not self.path.exists():
            self.path.write_bytes(CONTENT)
            self.made += 1
        facts = FileFacts(parse_address("charts/north.png"), len(CONTENT), None, "one")
        return Found(facts, DiskFile.of(os.fsencode(self.path), self.path.stat()))


@pytest.fixture
def cache(tmp_path: Path) -> Cache:
    return Cache(tmp_path / "key-digest-webp")


def rendition(cache: Cache, obtain: Callable[[], Found] | None = None, *, waiting: int = 1) -> RenditionFile:
    file = cache.find().on_disk
    assert file is not None
    return RenditionFile(file, obtain or cache.find, Pool("renditions", 1, waiting=waiting))


async def sent(source: RenditionFile, offset: int, count: int) -> bytes:
    return b"".join([piece async for piece in source.pieces(offset, count)])


def test_it_is_read_as_it_is_kept(cache: Cache) -> None:
    source = rendition(cache)
    assert (source.size, source.read(3, 4)) == (len(CONTENT), b"3456")
    assert asyncio.run(sent(source, 5, PIECE + 7)) == CONTENT[5 : PIECE + 12]
    assert cache.made == 1


def test_evicted_it_is_made_again_once_for_all_of_it(cache: Cache) -> None:
    source = rendition(cache)
    cache.path.unlink()
    assert asyncio.run(sent(source, 0, len(CONTENT))) == CONTENT
    assert source.read(3, 4) == b"3456"
    descriptor = source.open()
    assert os.pread(descriptor, 4, 3) == b"3456"
    assert source.is_at(descriptor)
    os.truncate(cache.path, 9)
    assert not source.is_at(descriptor)
    os.close(descriptor)
    assert cache.made == 2


def test_what_is_another_now_is_not_sent_as_what_was_planned(cache: Cache, tmp_path: Path) -> None:
    source = rendition(cache, Cache(tmp_path / "key-other-webp").find)
    cache.path.unlink()
    with pytest.raises(ContentChanged, match="is another now"):
        source.read(0, 1)


@pytest.mark.parametrize(("word", "raises"), [("changed", ContentChanged), ("unreachable", StoreFault)])
def test_what_cannot_be_made_again_says_why(cache: Cache, word: str, raises: type[Exception]) -> None:
    def fails() -> Found:
        raise Refusal("changed", "the image is gone") if word == "changed" else StoreFault("the image is gone")

    source = rendition(cache, fails)
    cache.path.unlink()
    with pytest.raises(raises, match="the image is gone"):
        source.read(0, 1)
    with pytest.raises(raises, match="the image is gone"):
        asyncio.run(sent(source, 0, 1))


def test_where_no_more_may_be_made_now_the_archive_says_so(cache: Cache) -> None:
    source, goes_on = rendition(cache, waiting=0), threading.Event()
    cache.path.unlink()
    source.pool.submit(goes_on.wait, 5)
    with pytest.raises(StoreFault) as raised:
        asyncio.run(sent(source, 0, 1))
    goes_on.set()
    assert raised.value.word == "busy"


def test_it_is_made_of_an_image_that_a_cache_has_evicted_too(cache: Cache, tmp_path: Path) -> None:
    image = cache.find()
    found = image._replace(lasting=rendition(Cache(tmp_path / "from-elsewhere")))
    for _ in range(2):
        with _opened(found) as descriptor:
            assert os.pread(descriptor, 4, 3) == b"3456"
        cache.path.unlink(missing_ok=True)
    with pytest.raises(ContentChanged), _opened(image):
        pytest.fail("there is nothing to open")


class Copies:
    """In place of the processes: what is made of an image is the image."""

    def make(self, source: int, target: int, rendition: Rendition) -> str:  # noqa: ARG002
        os.write(target, os.pread(source, 100, 0))
        return "webp"

    def close(self) -> None:
        """There are no processes."""


class Far:
    """Another system, which does not answer before it is let."""

    def __init__(self) -> None:
        self.goes_on = threading.Event()

    def read(self, file: BlockingFile, offset: int, count: int) -> bytes:  # noqa: ARG002
        assert self.goes_on.wait(60)
        return b"far"[offset : offset + count]

    def is_unaltered(self, file: BlockingFile) -> bool:  # noqa: ARG002
        return True


def test_images_of_a_system_that_hangs_keep_no_other_rendition_waiting(cache: Cache, tmp_path: Path) -> None:
    far, workers = Far(), cast(ImageWorkers, Copies())
    made = Renditions({"thumb": Rendition(8, 8)}, workers, DiskCache(tmp_path / "kept", 1 << 20))

    def remote(number: int) -> Found:
        address = parse_address(f"far/{number}.png")
        return Found(FileFacts(address, 3, None, f"t{number}"), BlockingFile(cast(Reader, far), address, 3, "t"))

    async def ask() -> list[Found]:
        hanging = [asyncio.create_task(made.made(remote(number), "thumb", ANYONE)) for number in range(20)]
        near = await made.made(cache.find(), "thumb", ANYONE)
        assert not any(task.done() for task in hanging)
        far.goes_on.set()
        return [near, *(await asyncio.gather(*hanging))]

    near, *others = asyncio.run(ask())
    assert near.content.read(0, 4) == b"0123"
    assert {other.content.read(0, 3) for other in others} == {b"far"}
    assert {other.facts.name for other in others} == {f"{number}-thumb.webp" for number in range(20)}
    made.close()


def test_an_image_that_cannot_be_read_takes_a_process_once_and_not_for_each_request(
    cache: Cache, tmp_path: Path
) -> None:
    tries: list[int] = []
    told = threading.Event()

    class Refusing(Copies):
        def make(self, source: int, target: int, rendition: Rendition) -> str:  # noqa: ARG002
            tries.append(source)
            assert told.wait(60)
            raise NotAnImage("reading it takes longer than 5 seconds")

    made = Renditions(
        {"thumb": Rendition(8, 8), "large": Rendition(80, 80)},
        cast(ImageWorkers, Refusing()),
        DiskCache(tmp_path / "kept", 1 << 20),
    )
    found = cache.find()

    def refused(name: str = "thumb", found: Found = found) -> None:
        with pytest.raises(Refusal, match="reading it takes longer than 5 seconds") as error:
            made.of(found, name)
        assert error.value.reason.word == "not-an-image"

    async def ask() -> None:
        asked = [asyncio.create_task(made.made(found, "thumb", ANYONE)) for _ in range(20)]
        while not tries:
            await asyncio.sleep(0.01)
        told.set()
        assert all(isinstance(one, Refusal) for one in await asyncio.gather(*asked, return_exceptions=True))

    asyncio.run(ask())
    refused()
    assert len(tries) == 1
    refused("large")
    refused(found=found._replace(facts=found.facts._replace(tag="another")))
    assert len(tries) == 3, "another rendition of it, and another content, are tried"
    made._refused.seconds = 0.0
    refused()
    assert len(tries) == 4, "after a while it is tried again"
    made.close()

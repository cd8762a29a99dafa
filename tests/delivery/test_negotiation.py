"""Which representation a client gets: type, coding, tag and caching; and what is kept of it."""

from __future__ import annotations

import asyncio
import gzip
import hashlib
import os
import threading
from collections.abc import AsyncIterator, Iterator
from pathlib import Path

import pytest

from invio.core.addresses import Address, parse_address
from invio.core.files import FileFacts
from invio.core.http.caching import PERSONAL, PINNED, USUAL
from invio.core.http.digests import content_tag
from invio.core.http.replies import Representation, Slice, Streamed
from invio.core.http.request_head import RequestHead
from invio.core.readable import ContentChanged, Readable
from invio.core.reasons import Refusal
from invio.core.rules.terms import Terms
from invio.delivery.representation.codings import CODINGS, Compressed
from invio.delivery.representation.digests import AT_ONCE, Digests, digest_of
from invio.delivery.representation.negotiation import Negotiated, Negotiator, kind_of
from invio.delivery.representation.presentation import Presentation
from invio.stores.blocking import BlockingStore
from invio.stores.directory import DirectoryStore
from invio.stores.sources import BlockingFile, DiskFile, Made, Recipe
from invio.stores.store import Found, Missing
from invio.workers.pool import Pool
from tests.clocks import SetClock

PLAIN = Presentation()
LATE = 2_000_000_000.0  # Unix seconds


class Recorded:
    """Digests as records keep them."""

    def __init__(self) -> None:
        self.kept: dict[str, bytes] = {}
        self.looked = 0

    def known(self, tag: str) -> bytes | None:
        self.looked += 1
        return self.kept.get(tag)

    def save(self, tag: str, sha256: bytes) -> None:
        self.kept[tag] = sha256


@pytest.fixture
def recorded() -> Recorded:
    return Recorded()


@pytest.fixture
def digests(recorded: Recorded) -> Iterator[Digests]:
    digests = Digests(recorded)
    yield digests
    digests.close()


@pytest.fixture
def store(tmp_path: Path) -> DirectoryStore:
    for name, content in (("log.txt", b"level 3\n"), ("log.txt.gz", gzip.compress(b"level 3\n")), ("chart.png", b"x")):
        (tmp_path / name).write_bytes(content)
        os.utime(tmp_path / name, (1.6e9, 1.6e9))
    return DirectoryStore("files", tmp_path, precompressed=True)


def asked(**fields: str) -> RequestHead:
    return RequestHead("GET", [(name.replace("_", "-").encode(), value.encode()) for name, value in fields.items()])


def offered(
    negotiator: Negotiator,
    found: Found,
    head: RequestHead | None = None,
    presentation: Presentation = PLAIN,
    terms: Terms | None = None,
) -> Negotiated:
    return asyncio.run(negotiator.offer(head or asked(), found, presentation, terms or Terms()))


def test_what_lies_compressed_beside_a_file_is_sent_to_whoever_takes_it(
    store: DirectoryStore, digests: Digests
) -> None:
    negotiator, found = Negotiator(store.locate, digests), store.locate(parse_address("files/log.txt"))
    plain, packed = offered(negotiator, found), offered(negotiator, found, asked(accept_encoding="gzip"))
    assert (plain.representation.coding, packed.representation.coding) == (None, "gzip")
    assert packed.representation.size == len(gzip.compress(b"level 3\n"))
    assert packed.representation.tag != plain.representation.tag
    for one in (plain, packed):
        assert (one.representation.vary, one.representation.name) == ("accept-encoding", "log.txt")
        assert one.representation.media_type == "text/plain"


def test_an_older_neighbour_is_another_content(store: DirectoryStore, digests: Digests, tmp_path: Path) -> None:
    os.utime(tmp_path / "log.txt.gz", (1.5e9, 1.5e9))
    found = store.locate(parse_address("files/log.txt"))
    stale = offered(Negotiator(store.locate, digests), found, asked(accept_encoding="gzip"))
    assert (stale.representation.coding, stale.representation.vary) == (None, "")


def test_a_neighbour_that_is_being_written_is_not_sent(store: DirectoryStore, digests: Digests, tmp_path: Path) -> None:
    negotiator, found = Negotiator(store.locate, digests), store.locate(parse_address("files/log.txt"))
    (tmp_path / "log.txt.gz").write_bytes(gzip.compress(b"level 3\n")[:10])
    half = offered(negotiator, found, asked(accept_encoding="gzip"))
    assert (half.representation.coding, half.representation.size) == (None, 8)
    (tmp_path / "log.txt.gz").write_bytes(gzip.compress(b"level 3\n"))
    os.utime(tmp_path / "log.txt.gz", (1.6e9, 1.6e9))  # as gzip does at its end
    assert offered(negotiator, found, asked(accept_encoding="gzip")).representation.coding == "gzip"


def test_a_representation_is_kept_for_a_finding_and_what_is_asked_of_it(
    store: DirectoryStore, digests: Digests
) -> None:
    negotiator, found = Negotiator(store.locate, digests), store.locate(parse_address("files/chart.png"))
    first = offered(negotiator, found)
    assert offered(negotiator, found) is first
    assert offered(negotiator, found, presentation=Presentation("inline")) is not first
    assert offered(negotiator, found, terms=Terms(cache="no-store")) is not first
    passing = found._replace(passing=True)
    assert offered(negotiator, passing) is not offered(negotiator, passing)
    assert first.representation.content.kept
    assert not offered(negotiator, passing).representation.content.kept


def test_a_digest_that_is_wanted_is_waited_for_and_makes_the_tag(
    store: DirectoryStore, digests: Digests, recorded: Recorded
) -> None:
    negotiator, found = Negotiator(store.locate, digests), store.locate(parse_address("files/chart.png"))
    before = offered(negotiator, found).representation
    wanted = offered(negotiator, found, asked(want_repr_digest="sha-256=1")).representation
    sha256 = hashlib.sha256(b"x").digest()
    assert (wanted.sha256, wanted.tag, wanted.earlier_tag) == (sha256, content_tag(sha256), before.tag)
    assert recorded.kept == {found.facts.tag: sha256}
    assert offered(negotiator, found).representation.tag == content_tag(sha256), "from then on"


def test_the_digest_of_a_large_file_is_computed_beside_the_answer(digests: Digests, tmp_path: Path) -> None:
    (tmp_path / "large.bin").write_bytes(b"x" * (AT_ONCE + 1))
    store = DirectoryStore("files", tmp_path)
    found = store.locate(parse_address("files/large.bin"))
    got = offered(Negotiator(store.locate, digests), found, asked(want_repr_digest="sha-256=1"))
    assert got.representation.sha256 is None
    source, tag = found.on_disk, found.facts.tag
    assert source is not None
    assert tag is not None
    assert digests.of(source, tag) == hashlib.sha256(b"x" * (AT_ONCE + 1)).digest()


def test_a_file_that_is_replaced_while_it_is_hashed_is_not_answered(
    store: DirectoryStore, digests: Digests, tmp_path: Path
) -> None:
    found = store.locate(parse_address("files/chart.png"))
    (tmp_path / "chart.png").write_bytes(b"")
    with pytest.raises(Refusal) as refused:
        offered(Negotiator(store.locate, digests), found, asked(want_content_digest="sha-256=1"))
    assert refused.value.reason.word == "changed"


def test_caching_is_by_whose_it_is_then_by_version_then_by_the_rules(store: DirectoryStore, digests: Digests) -> None:
    negotiator, found = Negotiator(store.locate, digests), store.locate(parse_address("files/chart.png"))
    rules, version = Terms(cache="max-age=60"), Presentation(version=3)
    assert offered(negotiator, found).representation.cache == USUAL
    assert offered(negotiator, found, terms=rules).representation.cache == "max-age=60"
    assert offered(negotiator, found, presentation=version, terms=rules).representation.cache == PINNED
    own = found._replace(personal=True)
    assert offered(negotiator, own, presentation=version, terms=rules).representation.cache == PERSONAL


def test_a_time_in_the_future_is_not_told(store: DirectoryStore, digests: Digests, tmp_path: Path) -> None:
    os.utime(tmp_path / "chart.png", (LATE * 2, LATE * 2))
    got = offered(Negotiator(store.locate, digests), store.locate(parse_address("files/chart.png")))
    assert got.representation.modified is not None
    assert got.representation.modified < LATE * 2


def made(name: str, media_type: str | None = None) -> Found:
    return Found(FileFacts(Address("made", name), None, None, "t", media_type), Made(lambda: iter([b"a" * 1000, b"b"])))


def bytes_of(representation: Representation) -> bytes:
    (part,) = representation.content.parts
    assert isinstance(part, Streamed)
    assert isinstance(part.source, Made | Compressed)
    pieces = part.source.chunks()
    assert isinstance(pieces, Iterator)
    return b"".join(pieces)


def test_what_is_made_is_compressed_on_its_way_and_has_another_tag(store: DirectoryStore, digests: Digests) -> None:
    negotiator = Negotiator(store.locate, digests)
    plain = offered(negotiator, made("water.csv")).representation
    packed = offered(negotiator, made("water.csv"), asked(accept_encoding="gzip")).representation
    assert (plain.coding, plain.tag, packed.coding) == (None, "t", "gzip")
    assert packed.tag not in (None, "t")
    assert [gzip.decompress(bytes_of(packed)), bytes_of(plain)] == [b"a" * 1000 + b"b"] * 2
    assert (plain.vary, packed.vary) == ("accept-encoding", "accept-encoding")
    picture = offered(negotiator, made("map.png"), asked(accept_encoding="gzip")).representation
    assert (picture.coding, picture.vary) == (None, "")


def unpacked(coding: str, content: bytes) -> bytes:
    if coding == "gzip":
        return gzip.decompress(content)
    import zstandard

    return zstandard.ZstdDecompressor().decompressobj().decompress(content)


@pytest.mark.parametrize("coding", CODINGS)
def test_a_coding_gives_the_same_bytes_sync_and_async(coding: str) -> None:
    content = [os.urandom(300_000), b"a" * 1000, b"b"]  # so much that it comes in more pieces than one

    async def pieces() -> AsyncIterator[bytes]:
        for piece in content:
            yield piece

    async def collected() -> list[bytes]:
        chunks = Compressed(Made(pieces), coding).chunks()
        assert isinstance(chunks, AsyncIterator)
        return [piece async for piece in chunks]

    chunks = Compressed(Made(lambda: iter(content)), coding).chunks()
    assert isinstance(chunks, Iterator)
    for come in (list(chunks), asyncio.run(collected())):
        assert len(come) > 1
        assert all(come)
        assert unpacked(coding, b"".join(come)) == b"".join(content)


def test_what_is_compressed_is_made_by_the_threads_of_what_it_is_made_of() -> None:
    pool = Pool("test", 1)
    assert Compressed(Made(lambda: iter([b"x"]), pool), "gzip").pool is pool


def test_what_is_made_for_all_can_be_resumed_as_long_as_it_is_not_coded(
    store: DirectoryStore, digests: Digests
) -> None:
    recipe = Recipe(lambda _: lambda: iter([b"level\n" * 100]), keep=10.0, estimate=600)
    facts = FileFacts(Address("made", "water.csv"), None, None, None)
    found = Found(facts, Made(lambda: iter([b"level\n" * 100]), Pool("test", 1), recipe))
    negotiator = Negotiator(store.locate, digests)
    for fields, resumable, estimate in (({}, True, 600), ({"accept_encoding": "gzip"}, False, None)):
        got = offered(negotiator, found, asked(**fields)).representation
        assert (got.resumable, got.estimate) == (resumable, estimate)
    assert not offered(negotiator, made("water.csv")).representation.resumable


def test_ending_a_compressed_content_ends_what_it_is_made_of() -> None:
    said: list[str] = []

    class Pieces(Iterator[bytes]):
        def __next__(self) -> bytes:
            return b"x"

        def cancel(self) -> None:
            said.append("cancelled")

        def close(self) -> None:
            said.append("closed")

    for ended in ("cancel", "close"):
        getattr(Compressed(Made(Pieces), "gzip").chunks(), ended)()
    assert said == ["cancelled", "closed"]


@pytest.mark.parametrize(
    ("name", "content", "media_type", "charset"),
    [
        ("a.txt", b"gr\xc3\xbc", "text/plain", "utf-8"),
        ("a.txt", b"gr\xfc", "text/plain", None),
        ("noname", b"\x89PNG\r\n\x1a\n", "image/png", None),
        ("noname", b"\xff\x00", "application/octet-stream", None),
    ],
)
def test_a_type_is_by_the_name_and_else_by_the_first_bytes(
    tmp_path: Path, name: str, content: bytes, media_type: str, charset: str | None
) -> None:
    (tmp_path / name).write_bytes(content)
    kind = kind_of(DirectoryStore("files", tmp_path).locate(Address("files", name)))
    assert (kind.media_type, kind.charset) == (media_type, charset)


def test_a_file_that_vanished_has_no_type(tmp_path: Path) -> None:
    (tmp_path / "noname").write_bytes(b"x")
    found = DirectoryStore("files", tmp_path).locate(Address("files", "noname"))
    (tmp_path / "noname").unlink()
    with pytest.raises(Refusal, match="files/noname"):
        kind_of(found)


def test_digests_of_other_processes_are_looked_for_again_after_a_while(
    recorded: Recorded, digests: Digests, monkeypatch: pytest.MonkeyPatch
) -> None:
    clock = SetClock()
    monkeypatch.setattr("invio.delivery.representation.digests.time", clock)
    assert digests.known(None) is None
    assert [digests.known("t"), digests.known("t")] == [None, None]
    assert recorded.looked == 1
    recorded.kept["t"] = b"d"
    clock.now += 31
    assert digests.known("t") == b"d"
    clock.now += 31
    assert (digests.known("t"), recorded.looked) == (b"d", 2)


def test_a_stop_ends_what_is_hashed_and_drops_what_waits(recorded: Recorded, tmp_path: Path) -> None:
    begun, goes_on = threading.Event(), threading.Event()
    save = recorded.save

    def saved(tag: str, sha256: bytes) -> None:
        begun.set()
        assert goes_on.wait(10)
        save(tag, sha256)

    recorded.save = saved  # type: ignore[method-assign]
    digests = Digests(recorded)
    (tmp_path / "a").write_bytes(b"a")
    file = DiskFile.of(os.fsencode(tmp_path / "a"), (tmp_path / "a").stat())
    for tag in ("first", "second", "third"):
        digests.ask(file, tag)
    assert begun.wait(10)
    threading.Timer(0.05, goes_on.set).start()
    digests.close()
    assert recorded.kept == {"first": hashlib.sha256(b"a").digest()}


def test_the_digest_of_a_file_that_has_grown_is_of_what_was_found_and_kept_nowhere(
    recorded: Recorded, digests: Digests, tmp_path: Path
) -> None:
    (tmp_path / "log").write_bytes(b"level 3\n")
    file = DiskFile.of(os.fsencode(tmp_path / "log"), (tmp_path / "log").stat())
    with (tmp_path / "log").open("ab") as log:
        log.write(b"level 4\n")
    assert digests.of(file, "t") == hashlib.sha256(b"level 3\n").digest()
    assert recorded.kept == {}


def test_of_too_many_digests_the_oldest_are_looked_up_again(
    recorded: Recorded, digests: Digests, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("invio.delivery.representation.digests._KNOWN", 2)
    recorded.kept = {name: name.encode() for name in "abc"}
    assert [digests.known(name) for name in "abc"] == [b"a", b"b", b"c"]
    assert (digests.known("c"), digests.known("b"), recorded.looked) == (b"c", b"b", 3)
    assert (digests.known("a"), recorded.looked) == (b"a", 4)


def test_a_stop_does_not_wait_for_a_long_file_to_be_hashed(digests: Digests, tmp_path: Path) -> None:
    (tmp_path / "large").write_bytes(b"x" * (AT_ONCE + 1))
    file = DiskFile.of(os.fsencode(tmp_path / "large"), (tmp_path / "large").stat())
    digests.close()
    with pytest.raises(ContentChanged, match="the service ends"):
        digests.of(file, "t")


class Shelf(BlockingStore):
    """One whose files are read by nobody's threads but its own."""

    def look_up(self, address: Address) -> FileFacts:
        return FileFacts(address, 10, None, "tag")

    def read_at(self, address: Address, tag: str, offset: int, count: int) -> bytes:  # noqa: ARG002
        assert threading.current_thread().name.startswith("store-far"), "a thread of the store's"
        if address.name == "gone":
            raise Missing(str(address))
        return b"0123456789"[offset : offset + count]


def test_a_digest_of_literal_bytes_and_slices_is_of_all_of_them(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "a").write_bytes(b"0123456789")
    near = DiskFile.of(os.fsencode(tmp_path / "a"), (tmp_path / "a").stat())
    far, gone = (Shelf("far").locate(Address("far", name)).content for name in ("a", "gone"))
    # Of another system's files none is read by a thread that waits for it.
    monkeypatch.setattr(BlockingFile, "read", lambda *_: pytest.fail("read by a thread of everybody's"))

    def of(source: Readable) -> bytes:
        return asyncio.run(digest_of([b"head", Slice(source, 2, 3), b"tail"]))

    assert of(near) == of(far) == hashlib.sha256(b"head234tail").digest()
    (tmp_path / "a").unlink()
    assert of(near) == of(gone) == hashlib.sha256(b"headtail").digest()


def test_a_queued_file_that_changed_or_vanished_is_passed_over(
    recorded: Recorded, digests: Digests, tmp_path: Path
) -> None:
    files = {}
    for name in ("changed", "anew", "gone", "good"):
        (tmp_path / name).write_bytes(name.encode())
        files[name] = DiskFile.of(os.fsencode(tmp_path / name), (tmp_path / name).stat())
    (tmp_path / "changed").write_bytes(b"CHANGED")
    (tmp_path / "anew").write_bytes(b"and longer than it was")
    (tmp_path / "gone").unlink()
    for name, file in files.items():
        digests.ask(file, name)
        digests.ask(file, name)
    while "good" not in recorded.kept:  # it comes last, so the others were looked at
        digests.known("good")
    assert recorded.kept == {"good": hashlib.sha256(b"good").digest()}

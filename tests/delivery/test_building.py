"""From a selection to a plan: what is left out, what is refused, and what changes while it is planned."""

from __future__ import annotations

import asyncio
import errno
import hashlib
import io
import os
import random
import shutil
import threading
import weakref
import zipfile
import zlib
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any, cast

import pytest
import sqlalchemy as sa

from invio.core.addresses import Address, parse_address
from invio.core.files import Caller, FileFacts
from invio.core.readable import Readable
from invio.core.reasons import Refusal
from invio.core.rules.file import parse_rules
from invio.delivery.access.catalogue import AccessPolicy, Catalogue
from invio.delivery.archives import builder, bundles, crc_ahead, deflate_cache, known_contents
from invio.delivery.archives.builder import Planning
from invio.delivery.archives.crc_ahead import CrcAhead
from invio.delivery.archives.deflate_cache import CacheFull, DeflateCache, Packed
from invio.delivery.archives.deflating import NotDeflatedFirst
from invio.delivery.archives.known_contents import Learnt
from invio.delivery.archives.plan import Plan, Preparing
from invio.delivery.archives.selection import Selection
from invio.delivery.archives.spools import Spool, Spools
from invio.delivery.sending.errors import NobodyWaits
from invio.delivery.transfers.limits import BundleLimits
from invio.records.archives import note_archive
from invio.records.bundles import BundleOptions, BundleRecord, known_crcs, known_digests
from invio.records.database import open_database
from invio.records.tables import archive_files, checksums
from invio.stores.directory import DirectoryStore
from invio.stores.sources import DiskFile, Made
from invio.stores.store import Found
from invio.workers.heap import nothing_collected
from tests.plans import compressed, data, read
from tests.rules import rule

BOB = Caller("bob", frozenset({"crew"}))
RULES = rule("group:crew", "files/**", "list read bundle") + rule("anyone", "files/drafts/**", "read", effect="deny")


@pytest.fixture(scope="module")
def engine(tmp_path_factory: pytest.TempPathFactory) -> Iterator[sa.Engine]:
    engine = open_database(tmp_path_factory.mktemp("building") / "records.sqlite")
    yield engine
    engine.dispose()


@pytest.fixture
def root(tmp_path: Path) -> Path:
    root = tmp_path / "files"
    for name in ("a.txt", "b.txt", "drafts/secret.txt", "empty/"):
        path = root / name
        (path if name.endswith("/") else path.parent).mkdir(parents=True, exist_ok=True)
        if not name.endswith("/"):
            path.write_text(name)
    return root


@pytest.fixture
def plan_of(root: Path, engine: sa.Engine) -> Callable[..., Plan]:
    def plan_of(
        *files: str,
        limits: BundleLimits | None = None,
        leave_out: bool = False,
        sums: bool = False,
        cache: DeflateCache | None = None,
        packs: bool = False,
        waits: bool = False,
        ends: Callable[[], bool] = lambda: False,
        later: list[tuple[DiskFile, str]] | None = None,
        preparing: Preparing | None = None,
    ) -> Plan:
        options = BundleOptions(leave_out=leave_out, sums=sums)
        record = BundleRecord("b1", "bob", "all.zip", files, 2e9, options)
        limits, preparing = limits or BundleLimits(), preparing or Preparing()
        catalogue = Catalogue([DirectoryStore("files", root)], parse_rules(RULES))
        spools = Spools(limits.spools)
        planning = Planning(engine, limits, cache, spools, record=record, preparing=preparing, ends=ends)
        planning.later = later
        return planning.plan(Selection(catalogue, BOB), packs=packs, waits=waits)

    return plan_of


@pytest.fixture
def cache(tmp_path: Path) -> DeflateCache:
    return DeflateCache(tmp_path / "deflated", 1 << 20, 1)


def settled(path: Path, content: bytes) -> None:
    """A file whose content is known by its time: it was not written just now."""
    path.write_bytes(content)
    os.utime(path, (1.7e9, 1.7e9))


def entries(plan: Plan) -> list[str]:
    return [plan.name_of(number) for number in range(len(plan))]


def test_what_is_not_allowed_is_named_with_why(plan_of: Callable[..., Plan]) -> None:
    with pytest.raises(Refusal) as raised:
        plan_of("files/", "files/none.txt")
    assert raised.value.reason.word == "bad-selection"
    assert raised.value.detail == "unknown: files/none.txt; not allowed: files/drafts/secret.txt"
    assert raised.value.names == ("files/none.txt", "files/drafts/secret.txt")


def test_of_very_many_that_are_not_there_a_hundred_are_named(plan_of: Callable[..., Plan]) -> None:
    with pytest.raises(Refusal) as raised:
        plan_of(*(f"files/none-{number}.txt" for number in range(103)))
    assert raised.value.detail.endswith("files/none-99.txt and 3 more")
    assert len(raised.value.names) == 100


@pytest.mark.parametrize(("count", "more"), [(1000, "900 more"), (1001, "at least 900 more")])
def test_a_selection_of_what_is_not_there_is_given_up(plan_of: Callable[..., Plan], count: int, more: str) -> None:
    with pytest.raises(Refusal) as raised:
        plan_of(*(f"files/none-{number}.txt" for number in range(count)))
    assert raised.value.detail.endswith(f"files/none-99.txt and {more}")


def test_an_archive_of_what_there_is_names_all_that_is_not(plan_of: Callable[..., Plan]) -> None:
    plan = plan_of(*(f"files/none-{number}.txt" for number in range(1100)), "files/a.txt", leave_out=True)
    assert read(plan).count(b"files/none-") == 1100


def test_an_empty_folder_is_no_archive(plan_of: Callable[..., Plan]) -> None:
    with pytest.raises(Refusal) as raised:
        plan_of("files/empty/")
    assert raised.value.reason.word == "no-selection"


@pytest.mark.parametrize(
    ("limits", "says"),
    [
        (BundleLimits(entries=1), "at most 1 files"),
        (BundleLimits(size=9), "at most 9 bytes"),
        (BundleLimits(seconds=-1), "took longer than"),
    ],
)
def test_an_archive_has_its_limits(plan_of: Callable[..., Plan], limits: BundleLimits, says: str) -> None:
    with pytest.raises(Refusal, match=says) as raised:
        plan_of("files/a.txt", "files/b.txt", limits=limits)
    assert raised.value.reason.word == "too-large"
    assert len(plan_of("files/a.txt", "files/b.txt", limits=BundleLimits(entries=2, size=10))) == 2


def test_a_file_that_vanishes_while_it_is_planned_is_refused_or_left_out(
    plan_of: Callable[..., Plan], root: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    found = DirectoryStore.locate

    def found_and_gone(store: DirectoryStore, address: object) -> object:
        file = found(store, address)  # type: ignore[arg-type]
        if address == parse_address("files/b.txt"):
            (root / "b.txt").unlink(missing_ok=True)
        return file

    monkeypatch.setattr(DirectoryStore, "locate", found_and_gone)
    with pytest.raises(Refusal) as raised:
        plan_of("files/a.txt", "files/b.txt")
    assert (raised.value.reason.word, "files/b.txt" in raised.value.detail) == ("changed", True)
    (root / "b.txt").write_text("again")
    plan = plan_of("files/a.txt", "files/b.txt", leave_out=True)
    assert entries(plan) == ["files/a.txt", ""]
    assert b"files/b.txt\tchanged\n" in read(plan)


def test_a_file_that_is_altered_after_it_was_planned_breaks_the_archive_off(
    plan_of: Callable[..., Plan], root: Path
) -> None:
    plan = plan_of("files/a.txt", "files/b.txt")
    assert plan.holds()
    whole = read(plan)
    shutil.copy(root / "b.txt", root / "c.txt")
    os.replace(root / "c.txt", root / "b.txt")
    assert not plan.holds()
    with pytest.raises(Exception, match=r"files/b.txt changed after the archive was planned"):
        read(plan)
    assert plan.broken
    assert len(whole) == plan.content.size


def test_compressible_contents_are_deflated_once_and_others_stored(
    plan_of: Callable[..., Plan], root: Path, cache: DeflateCache, tmp_path: Path
) -> None:
    text, noise = b"sounding 12.5 m\n" * 4000, os.urandom(20_000)
    settled(root / "log.txt", text)
    settled(root / "noise.bin", noise)
    settled(root / "photo.jpg", text)
    settled(root / "tiny.txt", b"tiny")
    names = [f"files/{name}" for name in ("log.txt", "noise.bin", "photo.jpg", "tiny.txt")]
    preparing = Preparing()
    plan = plan_of(*names, cache=cache, packs=True, preparing=preparing)
    assert preparing.read == sum(path.stat().st_size for path in root.glob("*.*")) - len("a.txt") * 2
    whole = read(plan)
    with zipfile.ZipFile(io.BytesIO(whole)) as archive:
        methods = {entry.filename: entry.compress_type for entry in archive.infolist()}
        assert [archive.read(name) for name in methods] == [text, noise, text, b"tiny"]
    stored, deflated = zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED
    assert methods == {"log.txt": deflated, "noise.bin": stored, "photo.jpg": stored, "tiny.txt": stored}
    [kept] = (tmp_path / "deflated").iterdir()
    again = Preparing()
    assert read(plan_of(*names, cache=cache, packs=True, preparing=again)) == whole
    assert again.read == 0, "everything is known"
    # What is kept no more is made anew.
    kept.unlink()
    assert read(plan_of(*names, cache=cache, packs=True)) == whole


def test_waiting_for_the_disk_counts_as_no_reading_and_ends_with_whoever_waits(
    plan_of: Callable[..., Plan], root: Path, cache: DeflateCache, monkeypatch: pytest.MonkeyPatch
) -> None:
    text = b"sounding 12.5 m\n" * 4000
    settled(root / "log.txt", text)
    waits: list[str] = []

    def check(name: str, on_wait: Callable[[], None]) -> None:
        waits.append(name)
        on_wait()

    monkeypatch.setattr(cache.syncing, "check", check)
    preparing = Preparing()
    plan_of("files/log.txt", cache=cache, packs=True, preparing=preparing)
    assert (len(waits), preparing.read) == (1, len(text))
    settled(root / "log.txt", text * 2)
    with pytest.raises(NobodyWaits):
        plan_of("files/log.txt", cache=cache, packs=True, ends=lambda: len(waits) == 2)


def log(number: int) -> bytes:
    return random.Random(number).randbytes(20_000).hex().encode()


def test_no_deflated_content_is_evicted_while_an_archive_with_it_is_sent(
    plan_of: Callable[..., Plan], root: Path, tmp_path: Path
) -> None:
    for number in range(4):
        settled(root / f"{number}.log", log(number))
    cache = DeflateCache(tmp_path / "deflated", 80_000, 1)

    def planned(*numbers: int) -> Plan:
        return plan_of(*(f"files/{number}.log" for number in numbers), cache=cache, packs=True)

    first = planned(0, 1)
    sent = iter(first.content.cut(0, first.content.size))
    begun = next(sent)
    other = planned(2, 3)  # for one of which there is room
    assert compressed(other) == [True, False]
    assert zipfile.ZipFile(io.BytesIO(data(begun) + b"".join(map(data, sent)))).testzip() is None
    del sent
    again = planned(3, 2)
    assert compressed(again) == [True, True]
    assert zipfile.ZipFile(io.BytesIO(read(again))).testzip() is None
    assert not first.holds(), "once it was sent, its contents make room for others"


def test_where_all_that_is_kept_is_being_sent_only_some_of_it_is_looked_at(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(deflate_cache, "_SPARED", 2)
    cache, user = DeflateCache(tmp_path / "deflated", 130_000, 1), Needing()
    cache.spare(user)
    names = [cache.pack(disk_file(tmp_path / f"{number}.log", log(number))).name for number in range(6)]
    user.names = set(names[1:4])  # of the five that are kept
    with pytest.raises(CacheFull):
        cache.pack(disk_file(tmp_path / "more.log", log(9)))
    assert user.asked <= 4
    user.names = {names[1]}
    assert cache.pack(disk_file(tmp_path / "more.log", log(9))).file is not None
    assert (tmp_path / "deflated" / names[1]).exists()


class Needing:
    """What needs some contents, and counts how often it is asked."""

    def __init__(self) -> None:
        self.names: set[str] = set()
        self.asked = 0

    def needs(self, name: str) -> bool:
        self.asked += bool(self.names)
        return name in self.names


def disk_file(path: Path, content: bytes) -> DiskFile:
    path.write_bytes(content)
    return DiskFile.of(os.fsencode(path), path.stat())


def test_more_cold_content_than_may_be_waited_for_is_stored_and_deflated_later(
    plan_of: Callable[..., Plan], root: Path, cache: DeflateCache, monkeypatch: pytest.MonkeyPatch
) -> None:
    settled(root / "log.txt", b"sounding 13.5 m\n" * 4000)
    limits = BundleLimits(wait_for=1000)
    with pytest.raises(NotDeflatedFirst):
        plan_of("files/log.txt", cache=cache, packs=True, waits=True, limits=limits)
    later: list[tuple[DiskFile, str]] = []
    plan = plan_of("files/log.txt", "files/a.txt", cache=cache, later=later, limits=limits)
    assert [os.fsdecode(file.path) for file, _ in later] == [str(root / "log.txt")], "a.txt is too small for it"
    assert b"sounding 13.5 m" in read(plan)
    monkeypatch.setattr(builder, "LATER", 1)
    plan_of("files/log.txt", cache=cache, later=later, limits=limits)
    assert len(later) == 1, "as many wait as may"
    assert b"sounding" not in read(plan_of("files/log.txt", cache=cache, packs=True, limits=limits))


def test_just_as_much_is_waited_for_as_the_limits_say(plan_of: Callable[..., Plan], root: Path, tmp_path: Path) -> None:
    size = 64_000
    settled(root / "one.txt", b"sounding 14.5 m\n" * (size // 16))
    settled(root / "two.txt", b"sounding 15.5 m\n" * (size // 16))

    def plan(number: int, limit: int, wait_for: int, *names: str) -> Preparing:
        preparing = Preparing()
        limits = BundleLimits(wait_for=wait_for)
        cache = DeflateCache(tmp_path / f"deflated-{number}", limit, 1)
        plan_of(*names, cache=cache, packs=True, waits=True, limits=limits, preparing=preparing)
        return preparing

    for number, (limit, wait_for) in enumerate(((1 << 20, size - 1), (2 * size - 2, 1 << 20))):
        with pytest.raises(NotDeflatedFirst):
            plan(number, limit, wait_for, "files/one.txt")
    with pytest.raises(NotDeflatedFirst):
        plan(2, 1 << 20, size, "files/one.txt", "files/two.txt")
    assert plan(2, 1 << 20, size, "files/one.txt").read == 0, "what was deflated until then is kept"
    assert plan(3, 2 * size, size, "files/two.txt").read == size


def test_deflating_ends_when_nobody_waits(plan_of: Callable[..., Plan], root: Path, tmp_path: Path) -> None:
    settled(root / "long.txt", b"sounding 16.5 m\n" * (1 << 18))
    preparing, cache = Preparing(), DeflateCache(tmp_path / "deflated", 1 << 30, 1)
    with pytest.raises(NobodyWaits):
        plan_of("files/long.txt", cache=cache, packs=True, preparing=preparing, ends=lambda: preparing.read > 0)
    assert 0 < preparing.read < 1 << 22


def test_what_is_missing_is_left_out_and_the_rest_is_not(plan_of: Callable[..., Plan]) -> None:
    assert entries(plan_of("files/none.txt", "files/a.txt", leave_out=True)) == ["files/a.txt", ""]


def test_sums_are_those_of_the_contents_and_kept(plan_of: Callable[..., Plan], root: Path, engine: sa.Engine) -> None:
    settled(root / "a.txt", b"some bytes of a")
    for _ in range(2):
        with zipfile.ZipFile(io.BytesIO(read(plan_of("files/a.txt", "files/b.txt", sums=True)))) as archive:
            lines = archive.read("SHA256SUMS").decode().splitlines()
            dated = archive.getinfo("SHA256SUMS").date_time
    assert lines == [f"{hashlib.sha256((root / name).read_bytes()).hexdigest()}  {name}" for name in ("a.txt", "b.txt")]
    assert dated[0] >= 2026, "as the newest file is"
    tag = DirectoryStore("files", root).locate(parse_address("files/a.txt")).facts.tag
    with engine.connect() as connection:
        assert known_digests(connection, [str(tag)]) == {tag: hashlib.sha256(b"some bytes of a").digest()}
    assert entries(plan_of("files/a.txt")) == ["files/a.txt"]


def test_planning_ends_when_nobody_waits_or_a_selection_names_too_much(plan_of: Callable[..., Plan]) -> None:
    many = [f"files/none-{number}" for number in range(200)]
    with pytest.raises(NobodyWaits):
        plan_of(*many, ends=lambda: True)
    with pytest.raises(NobodyWaits):
        plan_of("files/a.txt", ends=lambda: True)
    # Each name and each file that is found counts: four times as many as the archive may hold.
    with pytest.raises(Refusal, match="names the same files too often"):
        plan_of(*["files/a.txt"] * 9, limits=BundleLimits(entries=4))
    assert entries(plan_of(*["files/a.txt"] * 8, limits=BundleLimits(entries=4))) == ["files/a.txt"]


class Making:
    """A store of one file that is made when it is asked for."""

    name, kind, waits = "files", "tables", False

    def __init__(self, fault: Exception | None = None) -> None:
        self.fault = fault

    def make(self) -> Iterator[bytes]:
        yield from [b"2026-01-15,12.5\n"] * 4000
        if self.fault is not None:
            raise self.fault

    def locate(self, address: Address) -> Found:
        return Found(FileFacts(address, None, None, None), Made(self.make))

    def list(self, folder: Address) -> list[Address]:
        return [Address("files", folder.path + "gauge.csv")]


def test_what_is_made_for_an_archive_is_deflated_and_summed_like_a_file(engine: sa.Engine, cache: DeflateCache) -> None:
    record = BundleRecord("b2", "bob", "all.zip", ("files/gauge.csv",), 2e9, BundleOptions(sums=True))
    limits = BundleLimits()
    planning = Planning(engine, limits, cache, Spools(limits.spools), record=record, preparing=Preparing())
    catalogue = Catalogue([Making()], parse_rules(RULES))
    plan = planning.plan(Selection(catalogue, BOB), packs=True, waits=False)
    content = b"2026-01-15,12.5\n" * 4000
    with zipfile.ZipFile(io.BytesIO(read(plan))) as archive:
        assert archive.getinfo("gauge.csv").compress_type == zipfile.ZIP_DEFLATED
        assert archive.read("gauge.csv") == content
        assert archive.read("SHA256SUMS").decode().split()[0] == hashlib.sha256(content).hexdigest()


@pytest.mark.parametrize(
    ("fault", "word"),
    [
        (OSError(errno.ENOSPC, "No space left on device"), "no-space"),
        (OSError(errno.EDQUOT, "Disk quota exceeded"), "no-space"),
        (ValueError("a station without a level"), "not-made"),
        (OSError(errno.EIO, "Input/output error"), "not-made"),
    ],
)
def test_what_cannot_be_made_for_an_archive_refuses_it_by_name(engine: sa.Engine, fault: Exception, word: str) -> None:
    record = BundleRecord("b3", "bob", "all.zip", ("files/gauge.csv",), 2e9)
    limits = BundleLimits()
    planning = Planning(engine, limits, None, Spools(limits.spools), record=record, preparing=Preparing())
    catalogue = Catalogue([Making(fault)], parse_rules(RULES))
    with pytest.raises(Refusal, match=r"^files/gauge\.csv: the ") as refused:
        planning.plan(Selection(catalogue, BOB), packs=False, waits=False)
    assert refused.value.reason.word == word


@pytest.mark.parametrize(("number", "raised"), [(errno.ENOSPC, Refusal), (errno.EDQUOT, Refusal), (errno.EIO, OSError)])
def test_a_disk_that_cannot_take_what_is_made_for_an_archive_ends_its_plan(
    engine: sa.Engine, number: int, raised: type[Exception]
) -> None:
    class Failing(Spools):
        def take(self, *_: object) -> Spool:
            raise OSError(number, os.strerror(number))

    record = BundleRecord("b4", "bob", "all.zip", ("files/gauge.csv",), 2e9)
    limits = BundleLimits()
    planning = Planning(engine, limits, None, Failing(limits.spools), record=record, preparing=Preparing())
    catalogue = Catalogue([Making(ValueError())], parse_rules(RULES))
    says = "files/gauge.csv: the disk is full" if raised is Refusal else os.strerror(number)
    with pytest.raises(raised, match=says):
        planning.plan(Selection(catalogue, BOB), packs=False, waits=False)


class Typed(DirectoryStore):
    """A directory whose files have the media type, the time and the making that a test gives them."""

    media_type: str | None = None
    modified: float | None = 1.7e9
    makes = False

    def locate(self, address: Address) -> Found:
        found = super().locate(address)
        facts = found.facts._replace(media_type=self.media_type, modified=self.modified)
        if not self.makes:
            return found._replace(facts=facts)
        content = found.content.read(0, found.content.size)
        return Found(facts._replace(size=None, tag=None), Made(lambda: iter([content])))


@pytest.mark.parametrize("makes", [False, True])
@pytest.mark.parametrize(
    ("name", "media_type", "size", "deflated"),
    [
        ("log.txt", None, 512, True),
        ("log.txt", None, 511, False),
        ("log.jpg", None, 5000, False),
        ("log.txt", "image/jpeg", 5000, False),
        ("log.jpg", "text/csv", 5000, True),
        ("log", "text/csv", 5000, True),
    ],
)
def test_what_deflating_makes_shorter_is_told_by_type_and_size(
    engine: sa.Engine, cache: DeflateCache, root: Path, makes: bool,
    name: str, media_type: str | None, size: int, deflated: bool,
) -> None:  # fmt: skip
    settled(root / name, (b"depth 12\n" * 600)[:size])
    store = Typed("files", root)
    store.media_type, store.makes = media_type, makes
    record = BundleRecord(f"t-{makes}-{name}-{size}", "bob", "all.zip", (f"files/{name}",), 2e9)
    limits = BundleLimits()
    planning = Planning(engine, limits, cache, Spools(limits.spools), record=record, preparing=Preparing())
    plan = planning.plan(Selection(Catalogue([store], parse_rules(RULES)), BOB), packs=True, waits=False)
    with zipfile.ZipFile(io.BytesIO(read(plan))) as archive:
        [info] = archive.infolist()
    assert info.compress_type == (zipfile.ZIP_DEFLATED if deflated else zipfile.ZIP_STORED)
    assert info.filename == ("log.csv" if name == "log" else name), "a name without an extension gets its type's"


def test_files_without_a_time_can_be_in_an_archive(engine: sa.Engine, root: Path) -> None:
    store = Typed("files", root)
    store.modified = None
    record = BundleRecord("timeless", "bob", "all.zip", ("files/a.txt",), 2e9, BundleOptions(sums=True))
    planning = Planning(engine, BundleLimits(), None, Spools(1), record=record, preparing=Preparing())
    plan = planning.plan(Selection(Catalogue([store], parse_rules(RULES)), BOB), packs=False, waits=False)
    with zipfile.ZipFile(io.BytesIO(read(plan))) as archive:
        assert [info.date_time[0] for info in archive.infolist()] == [1980, 1980]


@pytest.mark.parametrize("sums", [False, True])
def test_contents_that_nothing_tells_apart_are_each_read(engine: sa.Engine, root: Path, *, sums: bool) -> None:
    class Untold(DirectoryStore):
        def locate(self, address: Address) -> Found:
            found = super().locate(address)
            return found._replace(facts=found.facts._replace(tag=None, modified=None))

    record = BundleRecord("untold", "bob", "all.zip", ("files/a.txt", "files/b.txt"), 2e9, BundleOptions(sums=sums))
    for _ in range(2):  # nor is anything kept of them
        planning = Planning(engine, BundleLimits(), None, Spools(1), record=record, preparing=Preparing())
        catalogue = Catalogue([Untold("files", root)], parse_rules(RULES))
        plan = planning.plan(Selection(catalogue, BOB), packs=False, waits=False)
        with zipfile.ZipFile(io.BytesIO(read(plan))) as archive:
            assert {name: archive.read(name).decode() for name in ("a.txt", "b.txt")} == {
                "a.txt": "a.txt",
                "b.txt": "b.txt",
            }
            if sums:
                said = [f"{hashlib.sha256(name.encode()).hexdigest()}  {name}\n" for name in ("a.txt", "b.txt")]
                assert archive.read("SHA256SUMS").decode() == "".join(said)
        (root / "a.txt").write_text("a.txt")
    with engine.connect() as connection:
        assert known_crcs(connection, ["", "None"]) == {}


def test_what_was_read_for_a_plan_is_kept_even_if_there_will_be_none(
    engine: sa.Engine, root: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    os.utime(root / "a.txt", (1.7e9, 1.7e9))
    store, asked = DirectoryStore("files", root), 0

    def ends() -> bool:
        nonlocal asked
        asked += 1
        return asked > 1

    monkeypatch.setattr(builder, "_FIRST", 1)
    monkeypatch.setattr(builder, "_MOST", 1)
    record = BundleRecord("ended", "bob", "all.zip", ("files/a.txt", "files/b.txt"), 2e9)
    planning = Planning(engine, BundleLimits(), None, Spools(1), record=record, preparing=Preparing(), ends=ends)
    with pytest.raises(NobodyWaits):
        planning.plan(Selection(Catalogue([store], parse_rules(RULES)), BOB), packs=False, waits=False)
    tag = store.locate(parse_address("files/a.txt")).facts.tag
    with engine.connect() as connection:
        assert known_crcs(connection, [str(tag)]) == {tag: zlib.crc32(b"a.txt")}


def test_a_plan_whose_files_are_read_ahead_is_the_same(
    engine: sa.Engine, root: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    def planned(worth: int) -> tuple[Plan, Preparing]:
        monkeypatch.setattr(crc_ahead, "WORTH", worth)
        preparing = Preparing()
        record = BundleRecord("many", "bob", "all.zip", ("files/many/",), 2e9)
        planning = Planning(engine, BundleLimits(), None, Spools(1), record=record, preparing=preparing)
        catalogue = Catalogue([DirectoryStore("files", root)], parse_rules(RULES))
        return planning.plan(Selection(catalogue, BOB), packs=False, waits=False), preparing

    ahead: list[str] = []
    ask = CrcAhead.ask

    def noted(self: CrcAhead, files: list[tuple[str, DiskFile]]) -> None:
        ahead.extend(os.path.basename(file.path).decode() for _, file in files)
        ask(self, files)

    monkeypatch.setattr(CrcAhead, "ask", noted)
    monkeypatch.setattr(os, "sched_getaffinity", lambda _: {0, 1})
    monkeypatch.setattr(builder, "_FIRST", 2)
    monkeypatch.setattr(builder, "_MOST", 4)
    monkeypatch.setattr(builder, "LARGEST", 40)
    (root / "many").mkdir()
    for number in range(15):
        settled(root / "many" / f"{number:02}.jpg", b"x" * (3 * number))
    (root / "many" / "new.jpg").write_bytes(b"written just now")
    os.utime(root / "many" / "new.jpg", (2e9, 2e9))  # however long it takes until that is looked at
    read_ahead, counted = planned(1)
    assert ahead == [f"{number:02}.jpg" for number in range(14)], "small ones whose time says that they do not change"
    assert counted.read == sum(3 * number for number in range(15)) + 16
    assert entries(read_ahead) == [f"files/many/{number:02}.jpg" for number in range(15)] + ["files/many/new.jpg"]
    with zipfile.ZipFile(io.BytesIO(read(read_ahead))) as archive:
        assert archive.testzip() is None
    with engine.begin() as connection:
        connection.execute(sa.delete(checksums))
    assert read(planned(10**6)[0]) == read(read_ahead)
    ahead.clear()
    planned(1)
    assert ahead == [], "what is known is not read again"


def test_all_addresses_and_spans_of_a_plan_are_those_of_each_entry(plan_of: Callable[..., Plan]) -> None:
    plan = plan_of("files/", sums=True, leave_out=True)
    each = [plan.address(number) for number in range(len(plan))]
    assert list(plan.addresses()) == [None if one is None else str(one) for one in each]
    assert each[-1] is None, "what the archive itself adds is no file"
    places = plan.places
    begins = [places.content_at(number) for number in range(len(plan))]
    assert list(places.spans) == [(at, at + places.held(number)) for number, at in enumerate(begins)]


def test_a_file_that_changes_before_it_is_read_ahead_is_refused(
    engine: sa.Engine, root: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    ask = CrcAhead.ask

    def altered(self: CrcAhead, files: list[tuple[str, DiskFile]]) -> None:
        settled(root / "b.txt", b"?")
        ask(self, files)

    monkeypatch.setattr(crc_ahead, "WORTH", 1)
    monkeypatch.setattr(os, "sched_getaffinity", lambda _: {0, 1})
    monkeypatch.setattr(CrcAhead, "ask", altered)
    for name in ("a.txt", "b.txt"):
        settled(root / name, b"altered soon")
    record = BundleRecord("altered", "bob", "all.zip", ("files/a.txt", "files/b.txt"), 2e9)
    planning = Planning(engine, BundleLimits(), None, Spools(1), record=record, preparing=Preparing())
    catalogue = Catalogue([DirectoryStore("files", root)], parse_rules(RULES))
    with pytest.raises(Refusal, match=r"files/b\.txt: the file ended before"):
        planning.plan(Selection(catalogue, BOB), packs=False, waits=False)


def test_what_a_plan_was_made_of_is_freed_with_it(engine: sa.Engine, root: Path, cache: DeflateCache) -> None:
    """Of a hundred thousand files it is tens of megabytes, and nothing collects it for hours when little goes on."""
    settled(root / "a.txt", b"level 3\n" * 1000)
    record = BundleRecord("freed", "bob", "all.zip", ("files/a.txt",), 2e9)
    catalogue = Catalogue([DirectoryStore("files", root)], parse_rules(RULES))
    with nothing_collected():
        planning = Planning(engine, BundleLimits(), cache, Spools(1), record=record, preparing=Preparing())
        plan = planning.plan(Selection(catalogue, BOB), packs=True, waits=False)
        worked, parts = weakref.ref(planning), plan.content.parts
        del planning
        assert worked() is None
        kept = weakref.ref(plan)
        del plan
        assert kept() is not None, "it is being sent"
        del parts
        assert kept() is None
    cache.close()


def test_no_byte_of_an_archive_leaves_before_it_is_recorded(
    engine: sa.Engine, root: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    may_go_on, fails = threading.Event(), [False, True, False]  # from the last one on

    def note(*given: Any) -> None:
        assert may_go_on.wait(60)
        if fails.pop():
            raise OSError("the disk is full")
        note_archive(*given)

    monkeypatch.setattr(bundles, "note_archive", note)
    made = bundles.Bundles(Catalogue([DirectoryStore("files", root)], parse_rules(RULES)), engine, BundleLimits(), None)
    record = made.save(BOB, ["files/a.txt"], "noted.zip", BundleOptions())
    tag = made.plan(BOB, record).plan.content.tag
    address = Address("bundles", f"{record.id}/noted.zip")

    def represented() -> str | None:
        return made.represent(BOB, address, sealed=False, resumes=False).representation.tag

    def noted() -> int:
        with engine.connect() as connection:
            return connection.scalar(sa.select(sa.func.count()).where(archive_files.c.archive == tag)) or 0

    with ThreadPoolExecutor(1) as asked:
        answer = asked.submit(represented)
        with pytest.raises(TimeoutError):
            answer.result(0.05)
        assert noted() == 0
        may_go_on.set()
        assert answer.result(60) == tag
    assert noted() == 1
    made.forget(record.id)
    with pytest.raises(OSError, match="disk is full"):
        represented()
    assert represented() == tag, "and is planned and recorded anew"
    assert fails == []
    made.close()


def test_what_was_learnt_is_saved_once_it_is_much_or_old(engine: sa.Engine, monkeypatch: pytest.MonkeyPatch) -> None:
    def saved() -> set[str]:
        with engine.connect() as connection:
            return set(known_crcs(connection, ["one", "two", "three"]))

    monkeypatch.setattr(known_contents, "_MANY", 2)
    learnt = Learnt(engine)
    learnt.crcs["one"] = 1
    learnt.save_if_due()
    assert saved() == set()
    learnt.digests["two"] = bytes(32)
    learnt.save_if_due()
    assert (learnt.crcs, learnt.digests) == ({}, {}), "and it is not saved again"
    learnt.crcs["three"] = 3
    learnt.save_if_due()
    assert learnt.crcs == {"three": 3}
    monkeypatch.setattr(known_contents, "_LONG", -1.0)
    learnt.save_if_due()
    assert learnt.crcs == {}
    learnt.save()  # returns when all of it is
    assert saved() == {"one", "three"}


class Altering(DeflateCache):
    """Somebody writes into each file just before it is deflated."""

    def pack(self, source: Readable, on_read: Callable[[int], None] | None = None) -> Packed:
        assert isinstance(source, DiskFile)
        Path(os.fsdecode(source.path)).write_bytes(b"another content")
        return super().pack(source, on_read)


def test_a_file_that_is_altered_before_it_is_deflated_refuses_the_archive_or_is_left_out(
    plan_of: Callable[..., Plan], root: Path, tmp_path: Path
) -> None:
    cache = Altering(tmp_path / "deflated", 1 << 20, 1)
    settled(root / "a.txt", b"0123456789" * 500)
    with pytest.raises(Refusal, match=r"files/a\.txt") as refused:
        plan_of("files/a.txt", cache=cache, packs=True)
    assert refused.value.reason.word == "changed"
    settled(root / "a.txt", b"9876543210" * 500)
    plan = plan_of("files/a.txt", "files/b.txt", cache=cache, packs=True, leave_out=True)
    assert entries(plan) == ["files/b.txt", ""], "the archive's own list of them has no address"
    assert b"files/a.txt\tchanged" in read(plan)


def test_archives_of_a_system_that_hangs_keep_no_other_archive_waiting(engine: sa.Engine, root: Path) -> None:
    goes_on = threading.Event()

    class Far(DirectoryStore):
        waits = True

        def locate(self, address: Address) -> Found:
            assert goes_on.wait(60)
            return super().locate(address)

    rules = RULES.replace("files/**", "**")
    stores = [DirectoryStore("files", root), Far("far", root), Far("gone", root)]
    made = bundles.Bundles(Catalogue(stores, parse_rules(rules)), engine, BundleLimits(), None)

    async def ask() -> list[str | None]:
        def represented(*files: str) -> asyncio.Task[bundles.Represented]:
            record = made.save(BOB, files, "some.zip", BundleOptions())
            address = Address("bundles", f"{record.id}/some.zip")
            return asyncio.create_task(made.represented(BOB, address, sealed=False, resumes=False))

        hanging = [represented("files/a.txt", "far/a.txt") for _ in range(20)]
        near = [(await represented("files/a.txt")).representation.tag for _ in range(3)]
        assert not any(task.done() for task in hanging)
        goes_on.set()
        assert {(await task).representation.tag for task in hanging} == {
            (await represented("files/a.txt", "gone/a.txt")).representation.tag
        }
        return near

    assert len(set(asyncio.run(ask()))) == 1
    taken = [pool.name for pool in made.pools.all]
    assert taken == ["archives", "archives-far", "archives-gone", "archives-by-url"]
    made.close()


@pytest.mark.parametrize("of_one_bundle", [True, False], ids=["one bundle", "many bundles"])
def test_nobody_takes_all_threads_that_plan_archives(engine: sa.Engine, root: Path, *, of_one_bundle: bool) -> None:
    goes_on, asked = threading.Event(), []

    class Slow(DirectoryStore):
        """On a disk of this machine, and long to be read."""

        def locate(self, address: Address) -> Found:
            asked.append(address)
            assert goes_on.wait(60)
            return super().locate(address)

    stores = [DirectoryStore("files", root), Slow("slow", root)]
    made = bundles.Bundles(
        Catalogue(stores, parse_rules(RULES.replace("files/**", "**"))), engine, BundleLimits(), None
    )

    async def ask() -> None:
        ann = Caller("ann", BOB.groups)

        def saved(caller: Caller, file: str) -> Address:
            return Address("bundles", f"{made.save(caller, [file], 'some.zip', BundleOptions()).id}/some.zip")

        def represented(caller: Caller, address: Address) -> asyncio.Task[bundles.Represented]:
            return asyncio.create_task(made.represented(caller, address, sealed=False, resumes=False))

        one = saved(BOB, "slow/a.txt")
        slow = [represented(BOB, one if of_one_bundle else saved(BOB, "slow/a.txt")) for _ in range(20)]
        while not asked:
            await asyncio.sleep(0.01)
        left = represented(BOB, one)
        await asyncio.sleep(0.1)
        left.cancel()
        await asyncio.wait_for(represented(ann, saved(ann, "files/a.txt")), 20)
        assert not any(task.done() for task in slow)
        goes_on.set()
        assert len({(await asyncio.wait_for(task, 20)).representation.tag for task in slow}) == 1

    asyncio.run(ask())
    assert len(asked) == (1 if of_one_bundle else 20), "each bundle was planned once"
    made.close()


def test_a_look_through_an_archive_is_waited_for_by_the_same_caller_alone(engine: sa.Engine, root: Path) -> None:
    goes_on, asked = threading.Event(), []

    class Policy:
        looks_at_files = has_reasons = sure_below = has_quotas = False

        def allows(self, caller: Caller, action: str, address: Address, facts: FileFacts | None = None) -> bool:  # noqa: ARG002
            asked.append(caller.network)
            return caller.network != "192.0.2.1" or goes_on.wait(60)

        def decide_with_rules(
            self, caller: Caller, action: str, address: Address, facts: FileFacts | None = None
        ) -> tuple[bool, str]:
            return self.allows(caller, action, address, facts), "policy"

    made = bundles.Bundles(
        Catalogue([DirectoryStore("files", root)], cast(AccessPolicy, Policy())), engine, BundleLimits(), None
    )
    maker = Caller(None, frozenset(), "192.0.2.9")
    record = made.save(maker, ["files/a.txt"], "some.zip", BundleOptions())
    address = Address("bundles", f"{record.id}/some.zip")
    tag = made.represent(maker, address, sealed=False, resumes=False).representation.tag

    async def ask() -> list[str | None]:
        def represented(network: str) -> asyncio.Task[bundles.Represented]:
            caller = Caller(None, frozenset(), network)
            return asyncio.create_task(made.represented(caller, address, sealed=False, resumes=False))

        slow = [represented("192.0.2.1") for _ in range(20)]
        while "192.0.2.1" not in asked:
            await asyncio.sleep(0.01)
        others = [await asyncio.wait_for(represented(f"192.0.2.{number}"), 20) for number in range(2, 8)]
        assert not any(task.done() for task in slow)
        goes_on.set()
        return [one.representation.tag for one in (*others, *(await asyncio.gather(*slow)))]

    assert set(asyncio.run(ask())) == {tag}
    looks = {network: asked.count(network) for network in asked}
    assert looks["192.0.2.1"] == looks["192.0.2.2"], "twenty of one caller are looked for once"
    made.close()


def test_what_an_application_allowed_one_request_tells_nothing_of_the_next(engine: sa.Engine, root: Path) -> None:
    may, asked = {"ann"}, []

    class Application:
        looks_at_files = has_reasons = sure_below = has_quotas = False

        def allows(self, caller: Caller, action: str, address: Address, facts: FileFacts | None = None) -> bool:  # noqa: ARG002
            asked.append(str(address))
            return caller.context in may

        def decide_with_rules(
            self, caller: Caller, action: str, address: Address, facts: FileFacts | None = None
        ) -> tuple[bool, str]:
            return self.allows(caller, action, address, facts), "application"

    catalogue = Catalogue([DirectoryStore("files", root)], cast(AccessPolicy, Application()))
    made = bundles.Bundles(catalogue, engine, BundleLimits(), None)
    ann = Caller(None, frozenset(), "192.0.2.7", context="ann")
    record = made.save(ann, ["files/a.txt"], "some.zip", BundleOptions())
    address = Address("bundles", f"{record.id}/some.zip")
    assert made.represent(ann, address, sealed=False, resumes=False).representation.size
    asked.clear()
    assert made.represent(ann, address, sealed=False, resumes=False).representation.size
    assert asked != [], "each request is decided by itself, even of who looks the same"
    may.clear()
    with pytest.raises(Refusal):
        made.represent(ann, address, sealed=False, resumes=False)
    made.close()

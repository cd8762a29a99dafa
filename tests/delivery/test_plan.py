"""Plans: files that have grown since are sent as far as they were planned, and those written anew break it off."""

from __future__ import annotations

import os
import zlib
from pathlib import Path

import pytest

from invio.core.addresses import Address
from invio.core.archive.plan import RUN
from invio.core.archive.tar_layout import TarLayout
from invio.core.archive.zip_layout import Entry, ZipLayout
from invio.core.files import FileFacts
from invio.core.http.replies import Slice
from invio.core.readable import ContentChanged
from invio.delivery.archives import plan as module
from invio.delivery.archives.plan import Literal, Plan, Preparing
from invio.stores.sources import DiskFile

LOG = b"08:00 level 3\n" * 50_000  # some pieces of a run each
SHORT = b"08:00 level 3\n"


def planned(root: Path, layout: type[ZipLayout] | type[TarLayout] = ZipLayout, **contents: bytes) -> Plan:
    plan = Plan(layout())
    for name, content in contents.items():
        path = root / name
        path.write_bytes(content)
        os.utime(path, (1.6e9, 1.6e9))
        status = path.stat()
        facts = FileFacts(Address("files", name), len(content), status.st_mtime, name)
        entry = Entry(name, len(content), zlib.crc32(content), status.st_mtime)
        plan.add(facts, DiskFile.of(os.fsencode(path), status), entry)
    return plan.end()


def sent(plan: Plan, start: int = 0, stop: int | None = None) -> bytes:
    parts = plan.content.cut(start, plan.content.size if stop is None else stop)
    return b"".join(
        part.source.read(part.offset, part.length) if isinstance(part, Slice) else part  # type: ignore[misc]
        for part in parts
    )


@pytest.mark.parametrize("layout", [ZipLayout, TarLayout])
def test_a_file_that_has_grown_is_in_it_as_it_was_planned(
    tmp_path: Path, layout: type[ZipLayout] | type[TarLayout]
) -> None:
    plan = planned(tmp_path, layout, long=LOG, short=SHORT)
    whole = sent(plan)
    for name in ("long", "short"):
        with (tmp_path / name).open("ab") as file:
            file.write(b"08:01 level 4\n")
    assert sent(plan) == whole
    middle = len(whole) // 2
    assert sent(plan, 0, middle) + sent(plan, middle) == whole
    assert not plan.broken


def test_a_small_file_of_another_time_is_in_it_if_its_content_is_the_same(tmp_path: Path) -> None:
    plan = planned(tmp_path, short=SHORT)
    whole = sent(plan)
    os.utime(tmp_path / "short", (1.7e9, 1.7e9))  # as while somebody appends to it, and nothing has come yet
    assert sent(plan) == whole
    (tmp_path / "short").write_bytes(SHORT[:-1] + b"?")
    with pytest.raises(ContentChanged, match="it was replaced or altered"):
        sent(plan)


def test_no_piece_of_a_file_that_has_grown_is_long(tmp_path: Path) -> None:
    plan = planned(tmp_path, long=LOG)
    (tmp_path / "long").write_bytes(LOG + b"more")
    slices = [part for part in plan.content.parts if isinstance(part, Slice)]
    assert [one.length for one in slices] == [RUN] * (len(LOG) // RUN) + [len(LOG) % RUN]
    assert all(one.source.open() is None for one in slices), "the CRC is of what is read, so it is read for it"


@pytest.mark.parametrize(
    ("name", "content"),
    [
        ("long", LOG.replace(b"3", b"4") + b"more"),
        ("long", LOG[:-1] + b"?more"),
        ("long", b"?" + LOG[1:] + b"more"),
        ("short", SHORT[:-1] + b"?more"),
    ],
)
def test_a_file_that_was_written_anew_and_is_longer_breaks_it_off(tmp_path: Path, name: str, content: bytes) -> None:
    plan = planned(tmp_path, long=LOG, short=SHORT)
    (tmp_path / name).write_bytes(content)
    with pytest.raises(ContentChanged, match=f"files/{name} changed after the archive was planned"):
        sent(plan)
    assert plan.broken


def test_pieces_of_a_file_that_has_grown_may_be_read_again(tmp_path: Path) -> None:
    plan = planned(tmp_path, long=LOG)
    (tmp_path / "long").write_bytes(LOG + b"more")
    slices = [part for part in plan.content.parts if isinstance(part, Slice)]
    for part in (slices[1], slices[0], slices[-1], slices[0], *slices):
        assert part.source.read(part.offset, part.length) == LOG[part.offset : part.offset + part.length]


@pytest.mark.parametrize(("start", "stop"), [(0.1, 0.9), (0.4, 1.0), (0.0, 0.6)])
def test_a_part_of_a_file_that_was_written_anew_breaks_it_off_too(tmp_path: Path, start: float, stop: float) -> None:
    plan = planned(tmp_path, long=LOG)
    size = plan.content.size
    assert len(sent(plan, int(start * size), int(stop * size))) == int(stop * size) - int(start * size)
    (tmp_path / "long").write_bytes(LOG[:-1] + b"?more")  # perhaps in none of what is sent
    with pytest.raises(ContentChanged, match="written anew"):
        sent(plan, int(start * size), int(stop * size))


def test_little_is_read_to_prove_a_part(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    plan = planned(tmp_path, long=LOG)
    (tmp_path / "long").write_bytes(LOG + b"more")
    at = plan.places.content_at(0)
    monkeypatch.setattr(module, "_READ_TO_PROVE", 100)
    assert sent(plan, at + 60, at + len(LOG) - 40) == LOG[60:-40]
    with pytest.raises(ContentChanged, match="too little of it is sent"):
        sent(plan, at + 61, at + len(LOG) - 40)


@pytest.mark.parametrize("content", [b"", LOG[:-1], None])
def test_a_file_that_became_shorter_or_vanished_breaks_it_off(tmp_path: Path, content: bytes | None) -> None:
    plan = planned(tmp_path, long=LOG)
    if content is None:
        (tmp_path / "long").unlink()
    else:
        (tmp_path / "long").write_bytes(content)
    with pytest.raises(ContentChanged):
        sent(plan)


def test_nothing_is_prepared_at_first() -> None:
    assert Preparing() == Preparing(files=0, read=0)


def test_an_entry_is_known_by_its_file_and_what_the_archive_adds_by_nothing(tmp_path: Path) -> None:
    plan = Plan(ZipLayout())
    (tmp_path / "a.log").write_bytes(SHORT)
    os.utime(tmp_path / "a.log", (1.6e9, 1.6e9))
    found = DiskFile.of(os.fsencode(tmp_path / "a.log"), (tmp_path / "a.log").stat())
    facts = FileFacts(Address("files", "a.log"), len(SHORT), 1.6e9, "tag")
    plan.add(facts, found, Entry("a.log", len(SHORT), zlib.crc32(SHORT), 1.6e9))
    added = Literal(b"sums")
    sums = FileFacts(Address("", "SUMS"), None, None, None)
    plan.add(sums, added, Entry("SUMS", added.size, zlib.crc32(b"sums"), 0.0))
    kept = FileFacts(Address("models", "b.log"), None, None, "v2", version=2)
    plan.add(kept, Literal(b"kept"), Entry("b.log", 4, zlib.crc32(b"kept"), 0.0))
    plan.end()
    assert list(plan.addresses()) == ["files/a.log", None, "models/b.log"]
    assert [plan.name_of(number) for number in range(3)] == ["files/a.log", "", "models/b.log"]
    assert plan.facts(0) == facts._replace(tag=None)
    assert (plan.facts(1), plan.facts(2)) == (None, kept._replace(size=4))
    assert plan.versions() == {"models/b.log": 2}
    assert list(plan.contents(0, 3)) == [SHORT, b"sums", b"kept"]


def test_small_contents_are_read_from_any_of_them_to_any_other(tmp_path: Path) -> None:
    plan, contents = Plan(ZipLayout()), [b"", b"one", b"two two", b"3"]
    for number, content in enumerate(contents):
        path = tmp_path / ("name " * number + "x")
        path.write_bytes(content)
        found = DiskFile.of(os.fsencode(path), path.stat())
        entry = Entry(path.name, len(content), zlib.crc32(content), 1.6e9)
        plan.add(FileFacts(Address("files", path.name), len(content), 1.6e9, "tag"), found, entry)
    plan.end()
    places = range(len(contents) + 1)
    for first, last in [(first, last) for first in places for last in places if first <= last]:
        assert list(plan.contents(first, last)) == contents[first:last]
    whole = b"".join(plan.places.head(number) + content for number, content in enumerate(contents))
    run = plan.run(plan.places, 0, len(contents))
    assert (run.read(0, run.size), run.read(5, 90)) == (whole, whole[5:95])


@pytest.mark.parametrize("name", ["a.log", "a.deflated", "b.log"])
def test_a_plan_holds_until_one_of_its_files_is_gone_or_another(tmp_path: Path, name: str) -> None:
    plan, files = Plan(ZipLayout()), {}
    for one in ("a.log", "a.deflated", "b.log"):
        (tmp_path / one).write_bytes(SHORT)
        files[one] = DiskFile.of(os.fsencode(tmp_path / one), (tmp_path / one).stat())
    entry = Entry("a.log", len(SHORT), zlib.crc32(SHORT), 0.0)
    plan.add(FileFacts(Address("files", "a.log"), len(SHORT), 0.0, "t"), files["a.log"], entry, files["a.deflated"])
    elsewhere = FileFacts(Address("models", "1"), len(SHORT), 0.0, "t")  # kept under another name than its address
    plan.add(elsewhere, files["b.log"], Entry("b.log", len(SHORT), zlib.crc32(SHORT), 0.0))
    plan.end()
    assert plan.holds()
    (tmp_path / name).write_bytes(SHORT + b"more")
    assert not plan.holds()
    (tmp_path / name).unlink()
    assert not plan.holds()


@pytest.mark.parametrize("modified", [2**63 - 1, 2**63, 10**21, -(2**63), -(10**21)])
def test_a_file_of_any_time_that_a_disk_can_tell_is_in_it(modified: int) -> None:
    plan = Plan(ZipLayout())
    source = DiskFile(b"/srv/survey/a.log", 1, 2, len(SHORT), modified)
    facts = FileFacts(Address("files", "a.log"), len(SHORT), modified / 1e9, "t")
    plan.add(facts, source, Entry("a.log", len(SHORT), zlib.crc32(SHORT), facts.modified))
    plan.end()
    assert plan.source(0) == source
    known = plan.facts(0)
    assert known is not None
    assert (known.address, known.size, known.modified) == (facts.address, facts.size, facts.modified)


def test_what_the_archive_adds_is_given_in_pieces_when_it_is_long() -> None:
    plan, text = Plan(ZipLayout()), bytes(range(256)) * (RUN // 100)
    entry = Entry("SUMS", len(text), zlib.crc32(text), 0.0)
    plan.add(FileFacts(Address("", "SUMS"), None, None, None), Literal(text), entry)
    plan.end()
    slices = [part for part in plan.content.parts if isinstance(part, Slice)]
    assert max(part.length for part in slices) <= RUN
    begins = plan.places.content_at(0)
    assert sent(plan, begins + 5, begins + len(text) - 5) == text[5:-5]

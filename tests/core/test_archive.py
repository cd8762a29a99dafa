"""Archives as they are laid out, read back by the standard library's readers and checked against the formats."""

from __future__ import annotations

import io
import itertools
import struct
import tarfile
import zipfile
import zlib
from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager, nullcontext

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from invio.core.archive import zip_layout
from invio.core.archive.entry_names import EntryNames
from invio.core.archive.plan import RUN, SMALL, ArchiveContent, EntryPlaces
from invio.core.archive.tar_layout import TarLayout
from invio.core.archive.zip_layout import Entry, ZipLayout
from invio.core.http.replies import Slice, part_length
from invio.core.readable import HeldInMemory

NOON = 1_768_478_400.0  # 2026-01-15 12:00 UTC
Given = tuple[Entry, bytes]


def entry(name: str, content: bytes, modified: float | None = NOON, deflated: bool = False) -> Given:
    held = content
    if deflated:
        coder = zlib.compressobj(wbits=-15)
        held = coder.compress(content) + coder.flush()
    packed = len(held) if deflated else None
    return Entry(name, len(content), zlib.crc32(content), modified, packed), held


class Held(HeldInMemory):
    """A content in memory."""

    def __init__(self, data: bytes) -> None:
        self.data, self.size = data, len(data)

    def read(self, offset: int, count: int) -> bytes:
        return self.data[offset : offset + count]


class Contents:
    """What the archive's entries hold, in memory."""

    def __init__(self, given: Sequence[Given]) -> None:
        self._held = [held for _, held in given]

    def slices(self, number: int, start: int, count: int) -> Iterator[Slice]:
        yield Slice(Held(self._held[number]), start, count)

    def name_of(self, number: int) -> str:
        return str(number)

    def sent(self) -> AbstractContextManager[object]:
        return nullcontext()

    def run(self, places: EntryPlaces, first: int, last: int) -> Held:
        data = b"".join(places.head(number) + self._held[number] for number in range(first, last))
        assert len(data) <= RUN
        return Held(data)


def archive_of(given: Sequence[Given], kind: type[ZipLayout] | type[TarLayout] = ZipLayout) -> ArchiveContent:
    places = EntryPlaces(kind())
    for one, _ in given:
        places.add(one)
    places.end()
    return ArchiveContent(places, Contents(given))


def read(content: ArchiveContent, start: int = 0, stop: int | None = None) -> bytes:
    parts = content.cut(start, content.size if stop is None else stop)
    return b"".join(
        part.source.read(part.offset, part.length) if isinstance(part, Slice) else part  # type: ignore[misc]
        for part in parts
    )


def archive(given: Sequence[Given], kind: type[ZipLayout] | type[TarLayout] = ZipLayout) -> bytes:
    content = archive_of(given, kind)
    data = read(content)
    assert len(data) == content.size
    return data


CONTENTS = {"a.txt": b"tide", "folder/Södra leden.pdf": b"x" * 5000, "潮汐.csv": b"1,2\r\n", "empty": b""}
LONG = "/".join(["a folder with a rather long name"] * 5) + "/chart.pdf"


def test_an_independent_reader_finds_what_was_put_in() -> None:
    data = archive([entry(name, content) for name, content in CONTENTS.items()])
    with zipfile.ZipFile(io.BytesIO(data)) as opened:
        assert opened.testzip() is None
        assert {info.filename: opened.read(info) for info in opened.infolist()} == CONTENTS
        for info in opened.infolist():
            assert info.date_time == (2026, 1, 15, 12, 0, 0)
            assert info.compress_type == zipfile.ZIP_STORED
            assert info.external_attr >> 16 == 0o100644
            assert not info.flag_bits & 0x08, "an entry needs no data descriptor"


@pytest.mark.parametrize("kind", [ZipLayout, TarLayout])
def test_spans_are_where_each_content_stands(kind: type[ZipLayout] | type[TarLayout]) -> None:
    content = archive_of([entry(name, content) for name, content in CONTENTS.items()], kind)
    data = read(content)
    stands = [data[begins:ends] for begins, ends in content.places.spans]
    assert [one[: len(own)] for one, own in zip(stands, CONTENTS.values(), strict=True)] == list(CONTENTS.values())


def test_deflated_entries_are_read_back_among_stored_ones() -> None:
    given = [entry(name, content, deflated=len(content) > 100) for name, content in CONTENTS.items()]
    with zipfile.ZipFile(io.BytesIO(archive(given))) as opened:
        assert opened.testzip() is None
        assert {info.filename: opened.read(info) for info in opened.infolist()} == CONTENTS
        assert [info.compress_type for info in opened.infolist()].count(zipfile.ZIP_DEFLATED) == 1
        assert not any(info.flag_bits & 0x08 for info in opened.infolist())


def test_a_tar_archive_is_read_back_with_long_and_foreign_names() -> None:
    contents = {**CONTENTS, LONG: b"far down", "b" * 512: b"y" * 512}
    data = archive([entry(name, content) for name, content in contents.items()], TarLayout)
    assert len(data) % 10_240 == 0
    with tarfile.open(fileobj=io.BytesIO(data)) as opened:
        found = {member.name: opened.extractfile(member).read() for member in opened}  # type: ignore[union-attr]
        assert found == contents
        assert {(member.mode, member.mtime, member.type) for member in opened} == {(0o644, int(NOON), tarfile.REGTYPE)}


@pytest.mark.parametrize("kind", [ZipLayout, TarLayout])
def test_the_same_entries_give_the_same_bytes_and_tag(kind: type[ZipLayout] | type[TarLayout]) -> None:
    first, second = (archive_of([entry(*one) for one in CONTENTS.items()], kind) for _ in range(2))
    assert (read(first), first.tag) == (read(second), second.tag)


@pytest.mark.parametrize("kind", [ZipLayout, TarLayout])
@pytest.mark.parametrize(
    "changed", [entry("b.txt", b"tide"), entry("a.txt", b"Tide"), entry("a.txt", b"tide", NOON + 2)]
)
def test_any_difference_shows_in_the_tag(changed: Given, kind: type[ZipLayout] | type[TarLayout]) -> None:
    assert archive_of([changed], kind).tag != archive_of([entry("a.txt", b"tide")], kind).tag


def test_what_a_kind_of_archive_is() -> None:
    assert (ZipLayout.deflates, TarLayout.deflates) == (True, False)
    assert len(archive_of([entry("a", b"a")]).tag) == 32
    assert struct.pack("<HHBi", 0x5455, 5, 1, 0) in archive([entry("a", b"a", 0.0)]), "the first second of all"


def test_another_coder_makes_another_tag() -> None:
    tags = set()
    for coder in ("one", "two"):
        layout = ZipLayout(coder)
        layout.add(entry("a.txt", b"tide" * 100, deflated=True)[0])
        layout.end()
        tags.add(layout.tag)
    assert len(tags) == 2


SIZES = st.one_of(st.integers(0, 300), st.sampled_from([SMALL - 1, SMALL, SMALL + 1, 2 * SMALL]))


@settings(max_examples=60, deadline=None)
@given(
    st.lists(st.tuples(SIZES, st.booleans()), min_size=1, max_size=12),
    st.sampled_from([ZipLayout, TarLayout]),
    st.data(),
)
def test_any_split_into_ranges_joins_to_the_same_bytes(
    sizes: list[tuple[int, bool]], kind: type[ZipLayout] | type[TarLayout], data: st.DataObject
) -> None:
    given = [
        entry(f"{number}.bin", bytes([number]) * size, deflated=deflated and kind is ZipLayout)
        for number, (size, deflated) in enumerate(sizes)
    ]
    content = archive_of(given, kind)
    whole = read(content)
    places = sorted(data.draw(st.lists(st.integers(0, content.size), max_size=6)))
    edges = [0, *places, content.size]
    assert b"".join(read(content, a, b) for a, b in zip(edges, edges[1:], strict=False)) == whole
    begun = whole.index(given[-1][1]) if given[-1][1] else 0
    assert content.places.ended_by(begun) <= len(given) - 1
    assert content.places.ended_by(content.size) == len(given)
    assert len(content.places) == len(given)


def test_zip64_appears_only_where_a_number_does_not_fit() -> None:
    assert b"PK\x06\x06" not in archive([entry("a", b"x")])
    huge = Entry("grid.bin", 5 * 2**30, 0, NOON), b"sparse"
    content = archive_of([huge, entry("after.txt", b"x")])
    assert content.size > 5 * 2**30
    tail = list(content.parts)[-1]
    assert isinstance(tail, bytes)
    assert b"PK\x06\x06" in tail
    assert b"PK\x06\x07" in tail
    # The second entry lies past 4 GiB: its offset stands in its Zip64 field, and is right.
    place = tail.index(b"after.txt") + len(b"after.txt")
    kind, size, offset = struct.unpack("<HHQ", tail[place : place + 12])
    assert (kind, size) == (1, 8)
    assert offset == len(content.places.head(0)) + 5 * 2**30


def test_a_tar_entry_of_more_than_eight_gibibytes_has_its_size_in_an_extended_header() -> None:
    layout = TarLayout()
    head = layout.add(Entry("grid.bin", 9 * 2**30, 0, NOON))
    assert b"size=9663676416\n" in head
    assert tarfile.TarInfo.frombuf(head[-512:], "utf-8", "strict").size == 0
    assert layout.size == len(head) + 9 * 2**30


def test_more_entries_than_sixteen_bits_count_are_read_back() -> None:
    with zipfile.ZipFile(io.BytesIO(archive([entry(f"{number:05}", b"") for number in range(70_000)]))) as opened:
        assert len(opened.infolist()) == 70_000


@pytest.mark.parametrize("modified", [None, 0.0, -5.0, -1e18, 5e9, 1e18])
def test_times_that_the_format_cannot_hold_are_brought_to_its_ends(modified: float | None) -> None:
    with zipfile.ZipFile(io.BytesIO(archive([entry("a", b"x", modified)]))) as opened:
        assert 1980 <= opened.infolist()[0].date_time[0] <= 2107


@pytest.mark.parametrize(
    ("paths", "names"),
    [
        (["a.txt", "b.txt"], ["a.txt", "b.txt"]),
        (["a.txt", "a.txt", "a.txt"], ["a.txt", "a (2).txt", "a (3).txt"]),
        (["Chart.PDF", "chart.pdf"], ["Chart.PDF", "chart (2).pdf"]),
        (["a (2).txt", "a.txt", "a.txt"], ["a (2).txt", "a.txt", "a (3).txt"]),
        (["x", "x/y", "x/z"], ["x", "x (2)/y", "x (2)/z"]),
        (["x/y", "x"], ["x/y", "x (2)"]),
        (["../up", "con", "a:b"], ["_/up", "_con", "a_b"]),
        (["noext", "noext"], ["noext", "noext (2)"]),
    ],
)
def test_entry_names_are_safe_and_told_apart(paths: list[str], names: list[str]) -> None:
    namer = EntryNames()
    assert [namer.name(path) for path in paths] == names


@given(st.lists(st.lists(st.text(min_size=1, max_size=8), min_size=1, max_size=3).map("/".join), max_size=12))
def test_no_entry_unpacks_outside_its_folder_or_over_another(paths: list[str]) -> None:
    namer = EntryNames()
    names = [namer.name(path) for path in paths]
    assert len({name.casefold() for name in names}) == len(paths)
    for name in names:
        assert all(segment not in ("", ".", "..") for segment in name.split("/"))
        assert "\\" not in name


def test_names_without_folders_and_without_an_extension() -> None:
    namer = EntryNames(flat=True)
    assert [namer.name(path) for path in ("a/x.txt", "b/x.txt", "c/x.txt")] == ["x.txt", "x (2).txt", "x (3).txt"]
    assert [namer.name("a/report", ".pdf"), namer.name("b/report", ".pdf")] == ["report.pdf", "report (2).pdf"]
    assert namer.name("a/report.v2", ".pdf") == "report.v2"


@pytest.mark.parametrize("kind", [ZipLayout, TarLayout])
def test_a_range_may_begin_and_end_at_any_byte_of_a_header(kind: type[ZipLayout] | type[TarLayout]) -> None:
    # Large entries: their headers are parts of their own, not bytes of a run.
    content = archive_of([entry(name, name.encode() * (SMALL + 1)) for name in "ab"], kind)
    whole = read(content)
    assert len(whole) == content.size
    second = content.places.content_at(1)
    places = range(content.places.at(1) - 2, second + 2)
    for start in places:
        for stop in range(start + 1, second + 2):
            assert read(content, start, stop) == whole[start:stop], (start, stop)


def test_an_entry_is_told_as_long_as_the_archive_holds_it() -> None:
    given = [entry("a", b"stored"), entry("b", b"x" * 5000, deflated=True), entry("c", b"y" * (SMALL + 5))]
    content = archive_of(given)
    whole = read(content)
    for number, (_, held) in enumerate(given):
        at = content.places.content_at(number)
        assert content.places.held(number) == len(held)
        assert whole[at : at + len(held)] == held


def test_every_byte_of_a_zip_archive_stands_as_it_is_laid_out() -> None:
    """By hand, from APPNOTE 6.3.10: §4.3.7, §4.3.12, §4.3.16, and the extended timestamp of §4.6."""
    stamp = bytes.fromhex("5554 0500 01") + struct.pack("<i", int(NOON))
    data = archive([entry("tides", b"12345")])
    crc = struct.pack("<I", zlib.crc32(b"12345"))
    about = b"\x14\0" + b"\0\x08" + b"\0\0" + b"\0\x60" + b"\x2f\x5c" + crc + b"\5\0\0\0" * 2 + b"\5\0" + b"\x09\0"
    local = b"PK\3\4" + about + b"tides" + stamp + b"12345"
    central = b"PK\1\2" + b"\x14\3" + about + bytes(6) + b"\0\0\xa4\x81" + bytes(4) + b"tides" + stamp
    end = b"PK\5\6" + bytes(4) + b"\1\0" * 2 + struct.pack("<II", len(central), len(local)) + bytes(2)
    assert data == local + central + end


@pytest.mark.parametrize(
    ("modified", "shown"),
    [
        (None, (1980, 1, 1, 0, 0, 0)),
        (-1.0, (1980, 1, 1, 0, 0, 0)),
        (315_532_799.0, (1980, 1, 1, 0, 0, 0)),
        (315_532_800.0, (1980, 1, 1, 0, 0, 0)),
        (315_532_802.0, (1980, 1, 1, 0, 0, 2)),
        (283_996_800.0, (1980, 1, 1, 0, 0, 0)),
        (4_354_819_198.0, (2107, 12, 31, 23, 59, 58)),
        (3e9, (2065, 1, 24, 5, 20, 0)),
        (4_323_283_200.0, (2107, 1, 1, 0, 0, 0)),
        (4_354_819_200.0, (2107, 12, 31, 23, 59, 58)),
        (5e9, (2107, 12, 31, 23, 59, 58)),
    ],
)
def test_a_time_is_one_that_zip_can_say(modified: float | None, shown: tuple[int, ...]) -> None:
    with zipfile.ZipFile(io.BytesIO(archive([entry("a", b"a", modified)]))) as opened:
        [info] = opened.infolist()
    assert (info.date_time, info.create_system, info.create_version, info.extract_version) == (shown, 3, 20, 20)


def test_a_deflated_entry_of_more_than_four_gibibytes_may_be_short_in_the_archive() -> None:
    layout, size = ZipLayout(), 5 * 2**30
    local = layout.add(Entry("a", size, 7, NOON, packed=1000))
    central = layout.end()
    assert struct.unpack_from("<H", local, 4) == (45,)
    assert struct.unpack_from("<II", local, 18) == (2**32 - 1, 2**32 - 1)
    assert struct.pack("<HHQQ", 1, 16, size, 1000) in local
    assert struct.pack("<HHQQ", 1, 16, size, 1000) in central
    assert struct.unpack_from("<HH", central, 4) == (3 << 8 | 45, 45)
    # By either of the two lengths, from the first one on that 32 bits cannot say, and not before.
    for size, packed, needs in ((2**32 - 1, 9, 45), (9, 2**32 - 1, 45), (2**32 - 2, 2**32 - 2, 20)):
        assert struct.unpack_from("<H", ZipLayout().add(Entry("a", size, 7, NOON, packed)), 4) == (needs,)


def test_an_entry_far_behind_is_named_by_a_large_number_from_the_first_that_32_bits_cannot_say() -> None:
    for offset, version in ((2**32 - 2, 20), (2**32 - 1, 45)):
        layout = ZipLayout()
        layout.size = offset
        assert struct.unpack_from("<H", layout.add(Entry("a", 1, 7, None)), 4) == (20,)
        central = layout.end()
        extra = struct.pack("<HHQ", 1, 8, offset) if version == 45 else b""
        fields = (0x02014B50, 3 << 8 | version, version, 1 << 11, 0, 0, 33, 7, 1, 1, 1, len(extra), 0, 0, 0)
        assert struct.unpack_from("<IHHHHHHIIIHHHHH", central) == fields
        assert struct.unpack_from("<I", central, 42) == (min(offset, 2**32 - 1),)
        assert central[46:].startswith(b"a" + extra + struct.pack("<I", 0x06064B50))


def test_the_records_of_the_end_hold_large_numbers_from_the_first_that_32_bits_cannot_say() -> None:
    for offset, large in ((2**32 - 2, False), (2**32 - 1, True)):
        layout = ZipLayout()
        layout.size = offset
        assert (struct.pack("<I", 0x06064B50) in layout.end()) is large
        assert (struct.pack("<I", 0x06064B50) in zip_layout._end_records(1, offset, 0)) is large, (
            "of the directory's size"
        )


def test_many_entries_end_with_records_that_hold_large_numbers() -> None:
    layout = ZipLayout()
    for number in range(65_535):
        layout.add(Entry(str(number), 0, 0, None))
    tail = layout.end()
    end64 = tail[-22 - 20 - 56 : -22 - 20]
    assert struct.unpack("<IQHHII4Q", end64)[:8] == (0x06064B50, 44, 3 << 8 | 45, 45, 0, 0, 65_535, 65_535)
    assert struct.unpack("<IIQI", tail[-42:-22]) == (0x07064B50, 0, layout.size - 98, 1)


def test_a_cut_of_nothing_is_empty_and_no_part_of_any_is() -> None:
    given = [entry("empty", b""), entry("small", b"s" * 10), entry("large", b"l" * (SMALL + 1)), entry("last", b"")]
    content = archive_of(given)
    assert not content.cut(5, 5)
    assert list(content.cut(5, 5)) == []
    assert content.cut(5, 6)
    laid_out = content.places
    bounds = {place(number) for number in range(4) for place in (laid_out.at, laid_out.content_at)} | {content.size - 1}
    places = sorted({max(0, bound + step) for bound in bounds for step in (-1, 0, 1)})
    for start, stop in itertools.combinations(places, 2):
        for part in content.cut(start, stop):
            assert part if isinstance(part, bytes) else part.length > 0  # type: ignore[union-attr]
    assert not content.kept, "no answer that holds an archive is kept for others"
    assert len(content.cut(0, content.size)) == len(list(content.parts))
    assert content.cut(0, content.size)[-1] == list(content.parts)[-1]


def test_what_has_to_be_waited_for_stands_alone_and_says_so() -> None:
    given = [entry(str(number), b"x" * 10) for number in range(4)]
    places = EntryPlaces(ZipLayout())
    for number, (one, _) in enumerate(given):
        places.add(one, alone=number == 2)
        assert places.may_block is (number >= 2)
    places.end()
    content = ArchiveContent(places, Contents(given))
    assert content.may_block
    lengths = [part.length for part in content.parts if isinstance(part, Slice)]
    assert lengths == [places.at(2), 10, places.held(3) + len(places.head(3))]
    assert not archive_of(given).may_block
    [run] = archive_of([entry("a", b"x" * SMALL)]).cut(0, SMALL)
    assert isinstance(run, Slice), "what is just small enough is read with its header"
    assert (content.media_type, archive_of(given, TarLayout).media_type) == ("application/zip", "application/x-tar")


def test_a_run_ends_before_it_is_longer_than_one_may_be() -> None:
    # Each entry, with its header, takes a quarter of a run: four fit exactly, and a fifth one does not.
    header = archive_of([entry("0", b"")]).places.content_at(0)
    given = [entry(str(number), b"x" * (RUN // 4 - header)) for number in range(9)]
    slices = [part for part in archive_of(given).parts if isinstance(part, Slice)]
    assert [part.length for part in slices] == [RUN, RUN, RUN // 4]


def test_how_many_entries_have_arrived_whole_is_told_by_their_ends() -> None:
    content = archive_of([entry(str(number), b"x" * 10) for number in range(3)])
    ends = [content.places.at(number) for number in range(4)]
    for offset in range(content.size + 1):
        assert content.places.ended_by(offset) == sum(end <= offset for end in ends[1:])
    assert content.places.whole_within(ends[0], ends[3]) == 3
    assert content.places.whole_within(ends[0] + 1, ends[3]) == 2
    assert content.places.whole_within(ends[1], ends[2]) == 1
    assert content.places.whole_within(ends[1], ends[2] - 1) == 0
    assert content.places.whole_within(ends[2], ends[1]) == 0


@pytest.mark.parametrize("start", [0, -3 * RUN + 5, -1])
def test_a_long_directory_is_given_in_pieces(start: int) -> None:
    given = [entry(f"{number:03}" + "x" * 4000, b"") for number in range(200)]
    content = archive_of(given)
    start = start % content.size
    parts = list(content.cut(start, content.size))
    assert max(map(part_length, parts)) <= RUN
    assert read(content, start) == read(content)[start:]

"""The archive's layout, read back by the standard library's reader and checked against the format."""

from __future__ import annotations

import io
import struct
import zipfile
import zlib

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from invio.core.replies import Slice
from invio.core.zip_layout import ZipEntry, ZipLayout, entry_names, zip_layout

NOON = 1_768_478_400.0  # 2026-01-15 12:00 UTC


def entry(name: str, content: bytes, modified: float | None = NOON) -> ZipEntry:
    return ZipEntry(name, len(content), zlib.crc32(content), modified, content)


def written(layout: ZipLayout, start: int = 0, stop: int | None = None) -> bytes:
    parts = layout.content.cut(start, layout.size if stop is None else stop)
    return b"".join(
        part.source[part.offset : part.offset + part.length] if isinstance(part, Slice) else part  # type: ignore[index,misc]
        for part in parts
    )


CONTENTS = {"a.txt": b"tide", "folder/Södra leden.pdf": b"x" * 5000, "潮汐.csv": b"1,2\r\n", "empty": b""}


def test_an_independent_reader_finds_what_was_put_in() -> None:
    layout = zip_layout([entry(name, content) for name, content in CONTENTS.items()])
    data = written(layout)
    assert len(data) == layout.size
    with zipfile.ZipFile(io.BytesIO(data)) as archive:
        assert archive.testzip() is None
        assert {info.filename: archive.read(info) for info in archive.infolist()} == CONTENTS
        for info in archive.infolist():
            assert info.date_time == (2026, 1, 15, 12, 0, 0)
            assert info.compress_type == zipfile.ZIP_STORED
            assert info.external_attr >> 16 == 0o100644
            assert not info.flag_bits & 0x08, "a stored entry needs no data descriptor"


def test_the_same_entries_give_the_same_bytes_and_tag() -> None:
    first, second = (zip_layout([entry(name, content) for name, content in CONTENTS.items()]) for _ in range(2))
    assert (written(first), first.tag) == (written(second), second.tag)


@pytest.mark.parametrize(
    "changed", [entry("b.txt", b"tide"), entry("a.txt", b"Tide"), entry("a.txt", b"tide", NOON + 2)]
)
def test_any_difference_shows_in_the_tag(changed: ZipEntry) -> None:
    assert zip_layout([changed]).tag != zip_layout([entry("a.txt", b"tide")]).tag


@settings(max_examples=60)
@given(st.lists(st.binary(max_size=300), min_size=1, max_size=8), st.data())
def test_any_split_into_ranges_joins_to_the_same_bytes(contents: list[bytes], data: st.DataObject) -> None:
    layout = zip_layout([entry(f"{number}.bin", content) for number, content in enumerate(contents)])
    places = sorted(data.draw(st.lists(st.integers(0, layout.size), max_size=6)))
    edges = [0, *places, layout.size]
    assert b"".join(written(layout, a, b) for a, b in zip(edges, edges[1:], strict=False)) == written(layout)


def test_zip64_appears_only_where_a_number_does_not_fit() -> None:
    small = written(zip_layout([entry("a", b"x")]))
    assert b"PK\x06\x06" not in small
    huge = ZipEntry("grid.bin", 5 * 2**30, 0, NOON, "sparse")
    layout = zip_layout([huge, entry("after.txt", b"x")])
    assert layout.size > 5 * 2**30
    tail = layout.content.parts[-1]
    assert isinstance(tail, bytes)
    assert b"PK\x06\x06" in tail
    assert b"PK\x06\x07" in tail
    # The second entry lies past 4 GiB: its offset stands in its Zip64 field, and is right.
    place = tail.index(b"after.txt") + len(b"after.txt")
    kind, size, offset = struct.unpack("<HHQ", tail[place : place + 12])
    assert (kind, size) == (1, 8)
    assert offset == len(layout.content.parts[0]) + 5 * 2**30  # type: ignore[arg-type]


def test_more_entries_than_sixteen_bits_count_are_read_back() -> None:
    layout = zip_layout([entry(f"{number:05}", b"") for number in range(70_000)])
    with zipfile.ZipFile(io.BytesIO(written(layout))) as archive:
        assert len(archive.infolist()) == 70_000


@pytest.mark.parametrize("modified", [None, 0.0, -5.0, 5e9])
def test_times_that_the_format_cannot_hold_are_brought_to_its_ends(modified: float | None) -> None:
    with zipfile.ZipFile(io.BytesIO(written(zip_layout([entry("a", b"x", modified)])))) as archive:
        assert 1980 <= archive.infolist()[0].date_time[0] <= 2107


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
    assert entry_names(paths) == names


@given(st.lists(st.lists(st.text(min_size=1, max_size=8), min_size=1, max_size=3).map("/".join), max_size=12))
def test_no_entry_unpacks_outside_its_folder_or_over_another(paths: list[str]) -> None:
    names = entry_names(paths)
    assert len({name.casefold() for name in names}) == len(paths)
    for name in names:
        assert all(segment not in ("", ".", "..") for segment in name.split("/"))
        assert "\\" not in name

"""Contents on their way in: what is known of them is of every byte, in whatever pieces they come."""

from __future__ import annotations

import errno
import hashlib
import itertools
import os
import tempfile
import threading
import zlib
from collections.abc import Sequence
from pathlib import Path
from unittest import mock

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from invio.stores import arriving as module
from invio.stores.arriving import Arriving, opened
from invio.workers.pool import Pool

_LONG = module._LONG
_BLOCK = os.urandom(1 << 16) * 48


@settings(max_examples=25, deadline=None)
@given(st.lists(st.sampled_from([0, 1, 4096, _LONG - 1, _LONG, _LONG + 1, 3 * _LONG]), max_size=5), st.data())
def test_digest_and_crc_are_of_all_bytes_in_their_order(sizes: list[int], data: st.DataObject) -> None:
    asked = data.draw(st.sets(st.integers(0, 5)))
    whole = b""
    with Arriving(os.fsencode(tempfile.gettempdir()), 0o600) as arriving:
        for number, size in enumerate(sizes):
            piece = _BLOCK[number : number + size]
            arriving.write(piece[: size // 3], piece[size // 3 :])
            whole += piece
            if number in asked:  # in the middle, too
                assert (arriving.sha256, arriving.crc) == (hashlib.sha256(whole).digest(), zlib.crc32(whole))
        assert arriving.size == len(whole)
        assert (arriving.sha256, arriving.crc) == (hashlib.sha256(whole).digest(), zlib.crc32(whole))
        assert b"".join(arriving.pieces(100_000)) == whole


def test_a_full_disk_is_reported_by_the_piece_that_does_not_fit(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    writev = os.writev
    left = 5 * _LONG // 2

    def nearly_full(descriptor: int, pieces: Sequence[memoryview]) -> int:
        nonlocal left
        if not left:
            raise OSError(errno.ENOSPC, "full")
        count = writev(descriptor, [pieces[0][:left]])
        left -= count
        return count

    monkeypatch.setattr(os, "writev", nearly_full)
    with Arriving(os.fsencode(tmp_path), 0o600) as arriving:
        arriving.write(_BLOCK[:_LONG])
        arriving.write(_BLOCK[:_LONG])
        with pytest.raises(OSError, match="full"):
            arriving.write(_BLOCK[:_LONG])
    assert list(tmp_path.iterdir()) == []


@given(st.lists(st.binary(max_size=9), max_size=30), st.lists(st.integers(1, 12), min_size=1), st.integers(1, 4))
def test_pieces_are_written_in_their_order_however_much_a_system_takes_at_once(
    pieces: list[bytes], takes: list[int], together: int
) -> None:
    written, at = [b""], itertools.cycle(takes)

    def writev(_: int, given: Sequence[memoryview]) -> int:
        assert len(given) <= together
        some = b"".join(given)[: next(at)]
        written.append(some)
        return len(some)

    with mock.patch.object(os, "writev", writev), mock.patch.object(module, "_TOGETHER", together):
        module.write_all(7, *pieces)
    assert b"".join(written) == b"".join(pieces)


def test_where_all_threads_hash_it_is_hashed_by_the_one_that_writes(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(module, "_HASHERS", Pool("hashing", 0))
    with Arriving(os.fsencode(tmp_path), 0o600) as arriving:
        arriving.write(_BLOCK[:_LONG])
        assert arriving.sha256 == hashlib.sha256(_BLOCK[:_LONG]).digest()


def test_what_has_landed_takes_the_place_of_what_had_its_name_where_it_may(tmp_path: Path) -> None:
    (tmp_path / "chart").write_bytes(b"old")
    with Arriving(os.fsencode(tmp_path), 0o600) as arriving, opened(os.fsencode(tmp_path)) as folder:
        arriving.write(b"n", b"ew")
        with pytest.raises(FileExistsError):
            arriving.land(folder, b"chart", replaces=False)
        assert (tmp_path / "chart").read_bytes() == b"old"
        arriving.land(folder, b"chart", replaces=True)
    assert {path.name: path.read_bytes() for path in tmp_path.iterdir()} == {"chart": b"new"}


def test_without_a_thread_all_of_it_is_written_at_the_end(tmp_path: Path) -> None:
    before = len(os.listdir("/proc/self/fd"))
    no_threads = mock.patch.object(threading.Thread, "start", side_effect=RuntimeError("no thread"))
    with no_threads, Arriving(os.fsencode(tmp_path), 0o600) as arriving, opened(os.fsencode(tmp_path)) as folder:
        for _ in range(20):
            arriving.write(_BLOCK[:_LONG])
        arriving.land(folder, b"landed", replaces=False)
    assert (tmp_path / "landed").read_bytes() == _BLOCK[:_LONG] * 20
    assert len(os.listdir("/proc/self/fd")) == before


def test_what_has_landed_is_whole(tmp_path: Path) -> None:
    with Arriving(os.fsencode(tmp_path), 0o600) as arriving, opened(os.fsencode(tmp_path)) as folder:
        for _ in range(20):  # more than is written to the disk at once
            arriving.write(_BLOCK[:_LONG])
        arriving.land(folder, b"sheet.bin", replaces=False)
        assert arriving.sha256 == hashlib.sha256(_BLOCK[:_LONG] * 20).digest()
    assert (tmp_path / "sheet.bin").read_bytes() == _BLOCK[:_LONG] * 20

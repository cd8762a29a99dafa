"""The file that a download gathers in, without a download."""

from __future__ import annotations

import errno
import os
from pathlib import Path

import pytest

from invio.client.partial import AlreadyThere, Existing, PartialFile

URL = "http://127.0.0.1:9/get/files/a.bin?seal=x"


@pytest.fixture
def target(tmp_path: Path) -> Path:
    return tmp_path / "a.bin"


def part(target: Path) -> Path:
    return target.with_name("a.bin.part")


def note(target: Path) -> Path:
    return target.with_name("a.bin.part.json")


def test_one_in_which_nothing_arrived_leaves_nothing_behind(target: Path) -> None:
    for noted in (False, True):
        file = PartialFile(target)
        file.lock()
        if noted:
            file.begin(URL, "tag")
        file.unlock()
        file.unlock()
        assert list(target.parent.iterdir()) == []


def test_what_has_arrived_stays_with_what_it_belongs_to_and_is_gone_on_with(target: Path) -> None:
    file = PartialFile(target)
    file.lock()
    file.begin(URL, "tag")
    file.write(b"12345")
    file.flush()
    file.unlock()
    assert part(target).read_bytes() == b"12345"
    again = PartialFile(target)
    again.lock()
    assert again.size == 5
    assert again.begun(URL.replace("seal=x", "seal=another")) == "tag", "a link may be sealed anew"
    assert again.begun("http://127.0.0.1:9/get/files/b.bin") is None
    again.cut(3)
    again.flush()
    again.cut(2)
    again.write(b"8")
    again.flush()
    assert again.finish() == target
    again.unlock()
    assert target.read_bytes() == b"128"
    assert not part(target).exists()
    assert not note(target).exists()


def test_what_belongs_to_something_else_is_dropped_also_where_nothing_says_what(target: Path) -> None:
    for noted in (True, False):
        file = PartialFile(target)
        file.lock()
        if noted:
            file.begin(URL, "tag")
        file.write(b"12345")
        file.flush()
        file.restart()
        file.restart()
        assert file.size == 0
        assert not note(target).exists()
        file.write(b"1")
        file.flush()
        file.discard()
        assert list(target.parent.iterdir()) == []
        file._finished = True
        file.unlock()


def test_while_one_has_it_another_download_has_not_and_afterwards_it_has(target: Path) -> None:
    first, second = PartialFile(target), PartialFile(target)
    first.lock()
    first.lock()
    with pytest.raises(FileExistsError, match="another download of it is under way"):
        second.lock()
    first.write(b"1")
    first.unlock()
    second.lock()
    second.unlock()
    assert part(target).exists()


def test_what_is_no_file_is_not_written_to(target: Path, tmp_path: Path) -> None:
    (tmp_path / "precious").write_text("kept")
    part(target).symlink_to(tmp_path / "precious")
    with pytest.raises(FileExistsError, match="symbolic link"):
        PartialFile(target).lock()
    assert (tmp_path / "precious").read_text() == "kept"
    part(target).unlink()
    os.mkfifo(part(target))
    before = len(os.listdir("/proc/self/fd"))
    with pytest.raises(FileExistsError, match="no regular file"):
        PartialFile(target).lock()
    assert len(os.listdir("/proc/self/fd")) == before
    part(target).unlink()
    part(target).mkdir()
    with pytest.raises(IsADirectoryError, match=r"a\.bin\.part"):
        PartialFile(target).lock()


def test_a_target_that_is_there_is_refused_kept_or_replaced_as_was_said(target: Path) -> None:
    target.write_text("before")
    with pytest.raises(FileExistsError, match="is there already"):
        PartialFile(target)
    with pytest.raises(AlreadyThere, match=r"/a\.bin"):
        PartialFile(target, "skip")
    with pytest.raises(FileExistsError, match="is a folder; name a file in it"):
        PartialFile(target.parent, "overwrite")
    file = PartialFile(target, "overwrite")
    file.lock()
    file.write(b"after")
    file.flush()
    file.finish()
    file.unlock()
    assert target.read_text() == "after"


def test_one_that_came_to_be_meanwhile_is_not_replaced(target: Path) -> None:
    file = PartialFile(target)
    file.lock()
    file.write(b"mine")
    target.write_text("somebody else's")
    with pytest.raises(FileExistsError):
        file.finish()
    file.unlock()
    assert target.read_text() == "somebody else's"


def gathered(target: Path, content: bytes, existing: Existing = "refuse") -> PartialFile:
    file = PartialFile(target, existing)
    file.lock()
    file.write(content)
    file.flush()
    return file


def test_what_came_to_stand_in_its_place_is_no_file_to_be_replaced(target: Path, tmp_path: Path) -> None:
    file = gathered(target, b"mine", "overwrite")
    (tmp_path / "precious").write_text("kept")
    target.symlink_to(tmp_path / "precious")
    with pytest.raises(FileExistsError, match="no regular file, and is not replaced"):
        file.finish()
    file.unlock()
    assert (target.is_symlink(), part(target).read_bytes()) == (True, b"mine")


def test_where_nothing_can_be_linked_it_is_renamed(target: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    def link(*_: object, **__: object) -> None:
        raise PermissionError("no links here")

    monkeypatch.setattr(os, "link", link)
    file = gathered(target, b"mine")
    assert file.finish().read_bytes() == b"mine"
    file.unlock()
    file = gathered(target.with_name("b.bin"), b"mine")
    target.with_name("b.bin").write_text("somebody else's")
    with pytest.raises(FileExistsError, match="is there already"):
        file.finish()
    file.unlock()
    assert target.with_name("b.bin").read_text() == "somebody else's"


def test_a_full_disk_is_told_with_what_is_kept(target: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    file = gathered(target, b"123")

    def full(_: int) -> None:
        raise OSError(errno.ENOSPC, "No space left on device")

    monkeypatch.setattr(os, "fsync", full)
    with pytest.raises(OSError, match=r"what has arrived, 3 bytes, is kept in .*a\.bin\.part; make room"):
        file.flush()
    file.unlock()


def test_what_was_finished_is_nobody_elses_download(target: Path) -> None:
    before = len(os.listdir("/proc/self/fd"))
    empty = gathered(target, b"")
    empty.finish()
    other = PartialFile(target.with_name("a.bin"), "overwrite")
    other.lock()
    empty.unlock()
    assert part(target).exists(), "it is another download's by now"
    with pytest.raises(FileExistsError, match="under way"):
        PartialFile(target, "overwrite").lock()
    part(target).unlink()
    other.unlock()
    assert len(os.listdir("/proc/self/fd")) == before
    with pytest.raises(ValueError, match="is not open"):
        _ = other.size

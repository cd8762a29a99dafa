"""CRCs that a process computes for a plan: what comes back, and what is left to whoever plans."""

from __future__ import annotations

import marshal
import os
import zlib
from array import array
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from invio.delivery.archives import crc_ahead
from invio.delivery.archives.crc_ahead import CrcAhead
from invio.stores.sources import DiskFile
from invio.workers.process import WorkerProcess

Asked = list[tuple[str, DiskFile]]


@pytest.fixture
def files(tmp_path: Path) -> Asked:
    found = []
    for number in range(5):
        path = tmp_path / f"{number}.bin"
        path.write_bytes(b"content %d" % number)
        found.append((f"tag{number}", DiskFile.of(os.fsencode(path), path.stat())))
    return found


@pytest.fixture
def ahead(monkeypatch: pytest.MonkeyPatch) -> Iterator[CrcAhead]:
    """With a process from the first file on."""
    monkeypatch.setattr(crc_ahead, "WORTH", 1)
    monkeypatch.setattr(os, "sched_getaffinity", lambda _: {0, 1})
    ahead = CrcAhead(lambda: None)
    yield ahead
    ahead.close()


def crcs(files: Asked) -> dict[str, int]:
    return {tag: zlib.crc32(Path(os.fsdecode(file.path)).read_bytes()) for tag, file in files}


def told(ahead: CrcAhead) -> dict[str, int]:
    return {tag: crc for tag, _, crc in ahead.answer()}


def test_what_is_no_longer_what_was_found_has_no_crc(files: Asked, tmp_path: Path) -> None:
    (tmp_path / "1.bin").write_bytes(b"other")
    (tmp_path / "2.bin").unlink()
    (tmp_path / "3.bin").unlink()
    (tmp_path / "3.bin").mkdir()
    (tmp_path / "4.bin").unlink()
    os.mkfifo(tmp_path / "4.bin")
    answer = array("q", crc_ahead.answer(marshal.dumps([tuple(file) for _, file in files])))
    assert list(answer) == [zlib.crc32(b"content 0"), -1, -1, -1, -1]


def test_one_list_after_the_other_is_read_by_one_process(ahead: CrcAhead, files: Asked, tmp_path: Path) -> None:
    ahead.ask(files[:2])
    assert told(ahead) == crcs(files[:2])
    assert told(ahead) == {}, "an answer comes once"
    (tmp_path / "3.bin").write_bytes(b"other")
    ahead.ask(files[2:])
    assert [tag for tag, *_ in ahead.answer()] == ["tag2", "tag4"]
    ahead.ask([])
    assert told(ahead) == {}


def test_a_few_files_are_not_worth_a_process(files: Asked, monkeypatch: pytest.MonkeyPatch) -> None:
    started: list[str] = []
    monkeypatch.setattr(WorkerProcess, "start", started.append)
    monkeypatch.setattr(crc_ahead, "WORTH", 6)
    monkeypatch.setattr(os, "sched_getaffinity", lambda _: {0, 1})
    ahead = CrcAhead(lambda: None)
    ahead.ask(files)
    assert (ahead.answer(), started) == ([], [])
    monkeypatch.setattr(os, "sched_getaffinity", lambda _: {0})
    ahead.ask(files)
    assert (ahead.answer(), started) == ([], []), "nor has one core room for it"
    ahead.close()


def test_a_second_plan_reads_by_itself_until_the_first_has_ended(ahead: CrcAhead, files: Asked) -> None:
    ahead.ask(files)
    second = CrcAhead(lambda: None)
    second.ask(files)
    assert second.answer() == []
    ahead.close()
    second.ask(files)
    assert told(second) == crcs(files)
    second.close()


def test_without_a_process_all_is_left_to_the_planner(
    ahead: CrcAhead, files: Asked, monkeypatch: pytest.MonkeyPatch
) -> None:
    tries: list[str] = []

    def refuse(module: str) -> WorkerProcess:
        tries.append(module)
        raise OSError("no process can be started")

    monkeypatch.setattr(WorkerProcess, "start", refuse)
    for _ in range(2):
        ahead.ask(files)
        assert ahead.answer() == []
    assert len(tries) == 1, "it is not tried for each list"


@pytest.mark.parametrize("moment", ["before it answers", "before it is asked"])
def test_when_the_process_has_died_the_rest_is_left_to_the_planner(ahead: CrcAhead, files: Asked, moment: str) -> None:
    ahead.ask(files[:1])
    assert told(ahead) == crcs(files[:1])
    assert ahead._worker is not None
    if moment == "before it answers":
        ahead._worker.process.send_signal(19)  # SIGSTOP
        ahead.ask(files)
    ahead._worker.process.kill()
    ahead._worker.process.wait()
    if moment == "before it is asked":
        ahead.ask(files)
    assert ahead.answer() == []
    ahead.ask(files)
    assert ahead.answer() == []


def test_who_waits_for_an_answer_asks_whether_it_is_wanted(
    files: Asked, monkeypatch: pytest.MonkeyPatch, ahead: CrcAhead
) -> None:
    class Enough(Exception):
        pass

    def enough() -> None:
        raise Enough

    monkeypatch.setattr(crc_ahead, "_LOOKED_EVERY", 0.01)
    ahead.ask(files)
    told(ahead)
    assert ahead._worker is not None
    ahead._worker.process.send_signal(19)  # SIGSTOP
    ahead._check = enough
    ahead.ask(files)
    with pytest.raises(Enough):
        ahead.answer()


def test_the_process_ends_with_the_socket(ahead: CrcAhead, files: Asked, monkeypatch: pytest.MonkeyPatch) -> None:
    ends: Callable[[WorkerProcess], None] = WorkerProcess.end
    monkeypatch.setattr(WorkerProcess, "end", lambda _: None)
    ahead.ask(files)
    told(ahead)
    worker = ahead._worker
    assert worker is not None
    ahead.close()
    assert worker.process.wait(20) == 0
    ends(worker)

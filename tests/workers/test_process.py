"""Worker processes: started as a module of Invio, whatever lies where the service was started."""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from invio.delivery.archives import crc_ahead
from invio.delivery.archives.crc_ahead import CrcAhead
from invio.stores.sources import DiskFile
from invio.workers.process import WorkerProcess


def test_nothing_is_loaded_from_the_folder_that_the_service_was_started_in(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A store may have its root there, and whoever may upload to it would run their own code in the service."""
    for name in ("logging", "multiprocessing", "isal", "json", "invio"):
        (tmp_path / f"{name}.py").write_text("open('loaded', 'w').close()\n")
    monkeypatch.chdir(tmp_path)
    monkeypatch.setattr(crc_ahead, "WORTH", 1)
    monkeypatch.setattr(os, "sched_getaffinity", lambda _: {0, 1})
    path = tmp_path / "sounding.xyz"
    path.write_bytes(b"59.1 18.2 4.5\n")
    ahead = CrcAhead(lambda: None)
    ahead.ask([("tag", DiskFile.of(os.fsencode(path), path.stat()))])
    answered = ahead.answer()
    ahead.close()
    assert not (tmp_path / "loaded").exists()
    assert [tag for tag, *_ in answered] == ["tag"]


def test_a_process_that_cannot_be_started_leaves_no_socket_open(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("sys.executable", "/nowhere/python")
    before = set(os.listdir("/proc/self/fd"))
    with pytest.raises(FileNotFoundError, match="nowhere"):
        WorkerProcess.start("invio.delivery.archives.crc_ahead")
    assert set(os.listdir("/proc/self/fd")) == before

"""What is kept is never thrown away by the way: foreign folders, wrong records, records put back, backups."""

from __future__ import annotations

import fcntl
import json
import os
import shutil
import signal
import stat
import subprocess
import sys
import tarfile
import threading
from collections.abc import Callable
from pathlib import Path

import pytest

from invio.records.database import open_database
from invio.service.assembly import check_roots
from invio.service.backup import BackupFault, back_up
from invio.service.settings import BadSettings, read_settings
from tests.forking import run_invio
from tests.running import SETTINGS, Service, make_folder

Start = Callable[..., Service]
MANAGED = '\n[stores.plans]\nkind = "managed"\nroot = "plans"\n'


def _contents(root: Path) -> dict[str, bytes]:
    """Everything below a folder, with its bytes."""
    return {str(path.relative_to(root)): path.read_bytes() for path in sorted(root.rglob("*")) if path.is_file()}


def _refused(folder: Path) -> str:
    """What a service says that does not start."""
    ended = run_invio("serve", "--settings", folder / "invio.toml", "--port", "0")
    assert ended.returncode != 0
    assert ended.stdout == ""
    return ended.stderr


def _put(service: Service, address: str, content: bytes) -> int:
    with service.client("ann") as client:
        answer = client.put(f"/api/files/{address}", content=content)
        answer.raise_for_status()
        return int(answer.json()["version"])


def _run(*given: object) -> str:
    ended = run_invio(*given)
    assert ended.returncode == 0, ended.stderr
    return ended.stdout


@pytest.mark.parametrize("names", [["a.txt"], ["2026/a.txt"], ["ab/notes.txt"], [f"{'ab'}/{'0' * 32}"]])
def test_a_folder_with_files_of_others_is_no_managed_store_and_stays_whole(tmp_path: Path, names: list[str]) -> None:
    folder = tmp_path / "service"
    make_folder(folder, settings=SETTINGS + MANAGED)
    for name in names:
        (folder / "plans" / name).parent.mkdir(parents=True)
        (folder / "plans" / name).write_bytes(b"ten years of work")
    before = _contents(folder / "plans")
    told = _refused(folder)
    assert "which these records do not know" in told
    assert "invio put FOLDER" in told
    assert _contents(folder / "plans") == before


def test_a_store_with_other_records_is_refused_by_name_and_stays_whole(start: Start, tmp_path: Path) -> None:
    service = start(settings=SETTINGS + MANAGED)
    _put(service, "plans/quay.pdf", b"first")
    service.stop()
    other = tmp_path / "other"
    make_folder(other, settings=SETTINGS + MANAGED)
    shutil.rmtree(other / "data")
    shutil.copytree(service.folder / "plans", other / "plans")
    before = _contents(other / "plans")
    assert "holds what other records know" in _refused(other)
    assert _contents(other / "plans") == before
    # Nor does a store come to an end because its disk is not mounted.
    shutil.move(service.folder / "plans", tmp_path / "away")
    (service.folder / "plans").mkdir()
    assert "is its disk mounted?" in _refused(service.folder)
    assert list((service.folder / "plans").iterdir()) == []
    shutil.rmtree(service.folder / "plans")
    shutil.move(tmp_path / "away", service.folder / "plans")
    again = start(service.folder)
    assert again.get("/get/plans/quay.pdf", "ann").content == b"first"


@pytest.mark.parametrize(
    ("root", "said"),
    [
        ("files", "a managed store's folder is its own"),
        ("files/inside", "a managed store's folder is its own"),
        ("files/..", "holds the service's own data"),
        ("data", "holds the service's own data"),
    ],
)
def test_folders_that_lie_within_each_other_are_refused(tmp_path: Path, root: str, said: str) -> None:
    folder = tmp_path / "service"
    make_folder(folder, {"a.txt": b"a"}, settings=SETTINGS + MANAGED.replace('root = "plans"', f'root = "{root}"'))
    before = _contents(folder / "files")
    assert said in _refused(folder)
    assert _contents(folder / "files") == before


@pytest.mark.parametrize(
    ("root", "what"),
    [
        ("conf", "settings"),
        ("law", "rules"),
        ("secret", "keys"),
        ("state", "data"),
        (".", "data"),
        ("conf/files", None),
    ],
)
def test_no_store_hands_out_what_is_the_services_own(tmp_path: Path, root: str, what: str | None) -> None:
    (tmp_path / "conf" / "files").mkdir(parents=True)
    file = tmp_path / "conf" / "invio.toml"
    file.write_text(
        '[service]\ndata = "../state"\nkeys = "../secret/keys.json"\nrules = "../law/rules.toml"\n'
        f'[stores.files]\nkind = "directory"\nroot = "../{root}"\n'
    )
    if what is None:
        check_roots(read_settings(file))
        return
    with pytest.raises(BadSettings, match=rf"stores\.files\.root: .* holds the service's own {what} "):
        check_roots(read_settings(file))


def test_what_came_after_the_records_that_were_put_back_is_kept_and_no_number_is_given_twice(start: Start) -> None:
    service = start(settings=SETTINGS + MANAGED)
    assert _put(service, "plans/quay.pdf", b"first") == 1
    service.stop()
    older = (service.folder / "data" / "records.sqlite").read_bytes()
    service = start(service.folder)
    assert _put(service, "plans/quay.pdf", b"second") == 2
    assert _put(service, "plans/crane.pdf", b"crane") == 1
    with service.client("ann") as client:
        client.delete("/api/files/plans/crane.pdf?version=1").raise_for_status()
    service.stop()
    for left in (service.folder / "data").glob("records.sqlite*"):
        left.unlink()
    (service.folder / "data" / "records.sqlite").write_bytes(older)
    service = start(service.folder)
    assert service.get("/get/plans/quay.pdf", "ann").content == b"second"
    assert service.get("/get/plans/quay.pdf?version=1", "ann").content == b"first"
    assert service.get("/get/plans/crane.pdf", "ann").status_code == 404  # its content went with it
    assert _put(service, "plans/quay.pdf", b"third") == 3
    assert _put(service, "plans/crane.pdf", b"again") == 2
    assert "store.versions-taken-back" in service.logged()


def test_a_content_that_nobody_knows_is_set_aside_and_not_removed(start: Start) -> None:
    service = start(settings=SETTINGS + MANAGED)
    _put(service, "plans/quay.pdf", b"first")
    service.stop()
    unknown = service.folder / "plans" / "ab" / ("ab" + "0" * 30)
    unknown.parent.mkdir(exist_ok=True)
    unknown.write_bytes(b"of whom?")
    (service.folder / "plans" / "note.txt").write_bytes(b"of a person")
    service = start(service.folder)
    assert service.get("/get/plans/quay.pdf", "ann").content == b"first"
    service.stop()
    assert (service.folder / "plans" / "aside" / unknown.name).read_bytes() == b"of whom?"
    assert (service.folder / "plans" / "note.txt").read_bytes() == b"of a person"


def test_a_folder_is_taken_into_a_managed_store_by_a_command(start: Start, tmp_path: Path) -> None:
    service = start(settings=SETTINGS + MANAGED)
    survey = tmp_path / "survey"
    for name in ("a.txt", "deep/er/b.txt", "with space.txt"):
        (survey / name).parent.mkdir(parents=True, exist_ok=True)
        (survey / name).write_text(name)
    reach = ("--url", service.url, "--token", service.tokens["ann"])
    _run("put", survey, "plans/", *reach)
    for name in ("a.txt", "deep/er/b.txt", "with%20space.txt"):
        got = service.get(f"/get/plans/{name}", "ann")
        assert (got.status_code, got.text) == (200, name.replace("%20", " "))
    assert sorted(_contents(survey)) == ["a.txt", "deep/er/b.txt", "with space.txt"]


def test_a_backup_made_while_files_are_put_fits_itself_and_comes_back_whole(start: Start, tmp_path: Path) -> None:
    service = start(settings=SETTINGS + MANAGED)
    acknowledged: dict[int, bytes] = {}
    stop = threading.Event()

    def keep_putting() -> None:
        while not stop.is_set():
            content = os.urandom(4000)
            acknowledged[_put(service, "plans/log.bin", content)] = content

    writer = threading.Thread(target=keep_putting)
    _put(service, "plans/log.bin", b"begin")
    writer.start()
    try:
        target = tmp_path / "nightly.tar"
        before = set(acknowledged)
        told = json.loads(_run("backup", target, "--settings", service.folder / "invio.toml", "--json"))
    finally:
        stop.set()
        writer.join()
    assert told["contents"] >= 1
    assert stat.S_IMODE(target.stat().st_mode) == 0o600
    last = max(acknowledged)
    service.stop(signal.SIGKILL)
    restored = tmp_path / "restored"
    _run("restore", target, "--dir", restored)
    shutil.copy(service.folder / "tokens.json", restored)
    (restored / "files").mkdir(exist_ok=True)
    again = start(restored)
    listed = again.get("/api/versions/plans/log.bin", "ann").json()["versions"]
    kept = {one["version"] for one in listed}
    assert kept - {1} <= set(acknowledged)
    assert before <= kept, "versions from before the backup are missing"
    for number in sorted(kept - {1})[-20:]:
        assert again.get(f"/get/plans/log.bin?version={number}", "ann").content == acknowledged[number]
    assert _put(again, "plans/log.bin", b"after") > last, "a number was given twice"


def test_a_damaged_backup_puts_nothing_back(start: Start, tmp_path: Path) -> None:
    service = start(settings=SETTINGS + MANAGED)
    _put(service, "plans/quay.pdf", b"the quay " * 500)
    target = tmp_path / "nightly.tar"
    _run("backup", target, "--settings", service.folder / "invio.toml")
    whole = target.read_bytes()
    at = whole.index(b"the quay the quay")
    for number, damaged in enumerate(
        [whole[: len(whole) // 2], whole[:at] + b"X" + whole[at + 1 :], b"not a backup", b""]
    ):
        broken = tmp_path / f"broken-{number}.tar"
        broken.write_bytes(damaged)
        folder = tmp_path / f"restored-{number}"
        ended = run_invio("restore", broken, "--dir", folder)
        assert ended.returncode == 1, ended
        assert "Traceback" not in ended.stderr
        assert not folder.exists() or list(folder.iterdir()) == []


_BACKUP_THAT_ENDS_ITSELF = """
import os, sys
from invio.cli import backing_up
from invio.cli.main import main
number = int(sys.argv.pop())
backing_up._shown = lambda *_: os.kill(os.getpid(), number)
main()
"""


def test_a_backup_that_is_ended_leaves_nothing_and_one_that_is_killed_nothing_for_the_next(
    start: Start, tmp_path: Path
) -> None:
    service = start(settings=SETTINGS + MANAGED)
    _put(service, "plans/quay.pdf", b"the quay " * 500)
    target = tmp_path / "kept" / "nightly.tar"
    target.parent.mkdir()
    given = ["backup", str(target), "--settings", str(service.folder / "invio.toml")]

    def ended_by(number: signal.Signals) -> int:
        command = [sys.executable, "-c", _BACKUP_THAT_ENDS_ITSELF, *given, str(int(number))]
        return subprocess.run(command, capture_output=True, timeout=60).returncode

    assert ended_by(signal.SIGTERM) == 128 + signal.SIGTERM
    assert list(target.parent.iterdir()) == []
    assert ended_by(signal.SIGKILL) == -signal.SIGKILL
    (left,) = target.parent.iterdir()
    assert stat.S_IMODE(left.stat().st_mode) == 0o700
    _run(*given)
    assert left.exists(), "it is too young to be known as nobody's"
    target.unlink()
    os.utime(left, (0, 0))
    with_it = os.open(left, os.O_RDONLY)
    fcntl.flock(with_it, fcntl.LOCK_EX)
    _run(*given)
    assert left.exists(), "it is in use"
    os.close(with_it)
    target.unlink()
    _run(*given)
    assert list(target.parent.iterdir()) == [target]


def test_a_backup_lands_where_there_are_no_links_and_never_in_place_of_another(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    def no_links(*_: object) -> None:
        raise PermissionError(1, "Operation not permitted")

    monkeypatch.setattr(os, "link", no_links)
    folder, target = tmp_path / "service", tmp_path / "nightly.tar"
    make_folder(folder, settings=SETTINGS + MANAGED)
    settings = read_settings(folder / "invio.toml")
    open_database(settings.database).dispose()
    back_up(settings, target)
    assert tarfile.is_tarfile(target)
    whole = target.read_bytes()
    with pytest.raises(BackupFault, match="there is no such folder; make it, or name another"):
        back_up(settings, tmp_path / "none" / "nightly.tar")
    said = [True, False]  # it comes while the backup is made
    monkeypatch.setattr(os.path, "lexists", lambda _: said.pop())
    with pytest.raises(BackupFault, match="was made by somebody else meanwhile; name another"):
        back_up(settings, target)
    assert target.read_bytes() == whole


def test_a_backup_that_would_write_elsewhere_is_refused(tmp_path: Path) -> None:
    hostile = tmp_path / "hostile.tar"
    with tarfile.open(hostile, "w") as archive:
        for name in ("../outside.txt", "/tmp/outside.txt", "settings/../../outside.txt"):
            archive.addfile(tarfile.TarInfo(name))
        link = tarfile.TarInfo("stores")
        link.type, link.linkname = tarfile.SYMTYPE, "/"
        archive.addfile(link)
    ended = run_invio("restore", hostile, "--dir", tmp_path / "in")
    assert ended.returncode == 1
    assert "Traceback" not in ended.stderr
    assert not (tmp_path / "outside.txt").exists()


def test_what_is_kept_is_its_owners_alone_whatever_the_umask(tmp_path: Path) -> None:
    folder = tmp_path / "service"
    make_folder(folder, {"a.txt": b"a" * 100_000}, settings=SETTINGS + MANAGED)
    for path in (folder / "data").iterdir():
        path.chmod(0o600)
    old = os.umask(0)
    try:
        service = Service.start(folder)
    finally:
        os.umask(old)
    try:
        _put(service, "plans/quay.pdf", b"x")
        with service.client("ann") as client:
            made = client.post("/api/bundles", json={"files": ["files/"]}).json()
            client.get(made["url"]).raise_for_status()
    finally:
        service.stop()
    shared = [
        f"{path.relative_to(folder)} {stat.S_IMODE(path.stat().st_mode):o}"
        for root in (folder / "data", folder / "plans")
        for path in [root, *root.rglob("*")]
        if path.stat().st_mode & 0o077 and path != folder / "data"
    ]
    assert shared == []


def test_rights_of_others_on_what_is_secret_are_warned_of(start: Start, tmp_path: Path) -> None:
    folder = tmp_path / "service"
    make_folder(folder)
    (folder / "keys.json").chmod(0o644)
    service = start(folder)
    service.stop()
    assert "keys.json" in service.logged()
    assert "chmod" in service.logged()

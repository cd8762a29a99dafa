"""Versions that are kept no longer, facts that are worked out ahead, and everything that is kept read once more."""

from __future__ import annotations

import hashlib
import json
import os
import time
from pathlib import Path

import pytest
import sqlalchemy as sa
from click.testing import CliRunner

from invio.cli.main import main
from invio.core.addresses import parse_address
from invio.core.http.request_head import RequestHead
from invio.core.links.keys import new_keys
from invio.core.links.seals import make_link
from invio.core.reasons import Refusal
from invio.core.versions import Putting
from invio.records import links
from invio.records.database import open_database, write
from invio.records.tables import bundles, transfers, versions
from invio.records.versions import VersionRecords
from invio.service.retention import drop_surplus
from invio.service.settings import read_settings
from invio.stores.managed import ManagedStore
from tests.running import SETTINGS, make_folder

MANAGED = """
[stores.models]
kind = "managed"
root = "models"
"""
DAY = 86_400.0


class Kept:
    """A managed store with five versions of a file, put on five days, the last one now."""

    limits: dict[str, int]

    def __init__(self, folder: Path, rule: str) -> None:
        make_folder(folder, {"a.bin": b"x" * 5000}, settings=SETTINGS + MANAGED + rule)
        self.settings = read_settings(folder / "invio.toml")
        self.engine = open_database(self.settings.database)
        self.store = ManagedStore("models", folder / "models", VersionRecords(self.engine, "models"))
        for number in range(1, 6):
            with self.store.begin() as arriving:
                arriving.write(b"%d" % number)
                self.store.put(parse_address("models/bank.grid"), arriving, self.putting)
        with write(self.engine).begin() as connection:
            for number in range(1, 6):
                put = time.time() - (5 - number) * DAY
                connection.execute(sa.update(versions).where(versions.c.number == number).values(at=put))

    putting = Putting(RequestHead("PUT", []), lambda _: None, "tern-lab")

    def left(self) -> list[int]:
        drop_surplus(self.settings, self.engine, [self.store])
        return [one.number for one in self.store.versions(parse_address("models/bank.grid"))]


@pytest.mark.parametrize(
    ("rule", "left"),
    [
        ("", [5, 4, 3, 2, 1]),
        ("keep_versions = 2", [5, 4]),
        ("keep_versions = 1", [5]),
        ("keep_days = 2.5", [5, 4, 3]),
        ("keep_days = 0.0001", [5]),
        ("keep_versions = 4\nkeep_days = 2.5", [5, 4, 3]),
    ],
)
def test_the_newest_stays_and_earlier_ones_go_by_number_and_age(tmp_path: Path, rule: str, left: list[int]) -> None:
    kept = Kept(tmp_path / "service", rule)
    assert kept.left() == left
    contents = [path for path in (tmp_path / "service" / "models").glob("??/*") if path.is_file()]
    assert len(contents) == len(left), "the disk is given back"


def test_what_something_still_needs_stays(tmp_path: Path) -> None:
    kept = Kept(tmp_path / "service", "keep_versions = 1")
    ring = new_keys()

    def link(number: int, until: float) -> None:
        root = [("version", str(number)), ("id", f"l{number}")]
        address = parse_address("models/bank.grid")
        made = make_link(address, ring.current, ring.keys[ring.current], root, [("until", str(int(until)))])
        with write(kept.engine).begin() as connection:
            links.note_made(connection, made, "ann", ())

    link(1, time.time() + 60)
    link(2, time.time() - 60)
    with write(kept.engine).begin() as connection:
        connection.execute(
            sa.insert(transfers).values(
                id="t", who="recipient:ann", address="models/bank.grid", state="running", started=0, updated=0,
                requests=1, covered=0, coverage=[], version=3,
            )
        )  # fmt: skip
        connection.execute(
            sa.insert(bundles).values(
                id="b", name="b.zip", files=[], created=0, expires=time.time() + 60, versions={"models/bank.grid": 4}
            )
        )
    assert kept.left() == [5, 4, 3, 1]
    with write(kept.engine).begin() as connection:
        links.revoke(connection, "l1")
        connection.execute(sa.update(transfers).values(state="complete"))
        connection.execute(sa.update(bundles).values(expires=0))
    assert kept.left() == [5]


def invio(folder: Path, *arguments: str) -> tuple[int, dict[str, object]]:
    done = CliRunner().invoke(main, [*arguments, "--settings", str(folder / "invio.toml"), "--json"])
    return done.exit_code, json.loads(done.stdout) if done.stdout.startswith("{") else {"said": done.output}


def test_a_scan_reads_each_content_once_and_again_when_it_changes(tmp_path: Path) -> None:
    folder = tmp_path / "service"
    make_folder(folder, {"a.bin": b"x" * 5000, "deep/b.txt": b"text", "new.bin": b"just now"})
    for name in ("a.bin", "deep/b.txt"):
        os.utime(folder / "files" / name, (1_700_000_000, 1_700_000_000))
    status, told = invio(folder, "scan")
    assert (status, told["files"], told["read"], told["size"]) == (0, 3, 2, 5004)
    assert told["left"] == ["files/new.bin"], "a second change may have the same time"
    assert invio(folder, "scan", "files")[1]["read"] == 0
    engine = open_database(folder / "data" / "records.sqlite")
    with engine.connect() as connection:
        known = set(connection.execute(sa.text("SELECT sha256 FROM digests")).scalars())
    engine.dispose()
    assert hashlib.sha256(b"x" * 5000).digest() in known
    (folder / "files" / "a.bin").write_bytes(b"y" * 5000)
    os.utime(folder / "files" / "a.bin", (1_700_000_001, 1_700_000_001))
    assert invio(folder, "scan")[1]["read"] == 1
    assert invio(folder, "scan", "none")[0] == 2


def test_a_scan_names_what_nobody_can_have(tmp_path: Path) -> None:
    folder = tmp_path / "service"
    odd = {b"a\nb", b"caf\xe9", "Gru\u0308n.txt".encode(), b"d\\e"}
    make_folder(folder, {"a.bin": b"x", "Gr\u00fcn.txt": b"x"}, settings=SETTINGS + 'leave_out = ["*.tmp"]\n')
    for name in odd:
        (folder / "files" / os.fsdecode(name)).write_bytes(b"x")
    (folder / "files" / "t\n.tmp").write_bytes(b"x")  # left out by the settings
    (folder / "files" / "deep\n").mkdir()
    status, told = invio(folder, "scan")
    assert (status, told["files"]) == (0, 2)
    assert told["unnamed"] == [
        "files/Gru\\u0308n.txt", "files/a\\nb", "files/caf\\udce9", "files/d\\\\e", "files/deep\\n",
    ]  # fmt: skip
    said = CliRunner().invoke(main, ["scan", "--settings", str(folder / "invio.toml")]).output
    assert "not served: files/Gru\\u0308n.txt (no address can hold the name; rename it)" in said


def test_what_is_kept_is_verified_and_damage_is_named(tmp_path: Path) -> None:
    folder = tmp_path / "service"
    kept = Kept(folder, "")
    assert invio(folder, "verify") == (0, {"contents": 5, "size": 5, "damaged": []})
    contents = {path.read_bytes(): path for path in (folder / "models").glob("??/*") if path.is_file()}
    contents[b"2"].chmod(0o600)
    contents[b"2"].write_bytes(b"X")
    contents[b"4"].unlink()
    (folder / "data" / "renditions").mkdir()
    damaged = folder / "data" / "renditions" / f"{'0' * 32}-{'1' * 32}-png"
    damaged.write_bytes(b"no image")
    status, told = invio(folder, "verify")
    assert status == 1
    assert told["damaged"] == [
        "models/bank.grid, version 2: its content is not what was put",
        "models/bank.grid, version 4: its content is gone",
        f"renditions/{damaged.name}: it was not what it was written as, and is removed",
    ]
    assert not damaged.exists()
    kept.engine.dispose()


def test_a_folder_holds_no_more_than_it_may(tmp_path: Path) -> None:
    kept = Kept(tmp_path / "service", 'folder_bytes = { "incoming/" = 10, "" = 18 }')
    folder = tmp_path / "service" / "models"
    kept.limits = {"incoming/": 10, "": 18}
    store = ManagedStore("models", folder, VersionRecords(kept.engine, "models"), kept.limits)

    def put(path: str, content: bytes) -> None:
        with store.begin() as arriving:
            arriving.write(content)
            store.put(parse_address(f"models/{path}"), arriving, kept.putting)

    put("incoming/a", b"12345")
    put("incoming/b", b"12345")
    put("incoming/b", b"12345")  # the same again takes nothing
    with pytest.raises(Refusal, match=r"models/incoming/ may hold 10 bytes and holds 10; 1 more"):
        put("incoming/b", b"X")
    put("other", b"123")
    with pytest.raises(Refusal, match=r"models/ may hold 18 bytes and holds 18"):
        put("other", b"1234")
    contents = [path for path in folder.glob("??/*") if path.is_file()]
    assert len(contents) == 8, "what was refused left nothing"
    store.remove(parse_address("models/incoming/a"), None, kept.putting)
    put("incoming/b", b"X")

"""What is wrong with a service, found without running it and without changing anything."""

from __future__ import annotations

import json
import os
import re
import resource
import shutil
import socket
import threading
import time
from collections import namedtuple
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import replace
from http.server import BaseHTTPRequestHandler, HTTPServer
from pathlib import Path

import pytest
import sqlalchemy as sa
from click.testing import CliRunner

from invio.cli.main import main
from invio.records import statements, webhooks
from invio.records.database import open_database, write
from invio.records.recipients import add_token, disable
from invio.records.rows import TransferRow
from invio.records.serving_lock import ServingLock
from invio.service import checking
from invio.service.checking import look_over
from tests.running import RULES, SETTINGS, Service, make_folder

NOW = time.time()
MODELS = '[stores.models]\nkind = "managed"\nroot = "models"\n'
EXPECTS = """
[[expect]]
who = "anyone"
action = "read"
address = "files/a.txt"
outcome = "allowed"
"""


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    make_folder(tmp_path, {"a.txt": b"a"}, RULES + EXPECTS, "[service]\nport = 0\n" + SETTINGS + MODELS)
    for name in ("keys.json", "invio.toml", "data/records.sqlite"):
        (tmp_path / name).chmod(0o600)
    (tmp_path / "data").chmod(0o700)
    return tmp_path


def seen(folder: Path, now: float = NOW) -> dict[str, list[str]]:
    """What is said of each part, after its grade."""
    found: dict[str, list[str]] = {}
    for one in look_over(folder / "invio.toml", now):
        found.setdefault(one.part, []).append(f"{one.grade}: {one.said}")
    return found


def test_a_sound_service_has_no_faults_and_stays_as_it_is(folder: Path) -> None:
    before = {path: path.lstat().st_mtime_ns for path in folder.rglob("*")}
    found = seen(folder)
    assert {path: path.lstat().st_mtime_ns for path in folder.rglob("*")} == before
    assert list(found) == [
        "settings", "rights", "keys", "records", "tokens", "disks", "address", "open files",
        "store files", "store models", "rules",
    ]  # fmt: skip
    assert all(said.startswith("ok: ") for one in found.values() for said in one), found
    assert found["settings"] == [f"ok: {folder / 'invio.toml'} is well formed and names 2 stores"]
    assert found["keys"] == ["ok: 1 key; k1 seals new links"]
    assert found["records"][0].endswith("2 recipients who may sign in")
    assert found["store models"] == [f"ok: {folder / 'models'} is made at the first start"]
    assert found["rules"] == ["ok: 2 rules; 1 of 1 expectations are met"]


def test_before_the_first_start_there_are_no_records_yet(folder: Path) -> None:
    shutil.rmtree(folder / "data")
    assert seen(folder)["records"] == [f"ok: {folder / 'data'} holds no records yet; the first start makes them"]
    (folder / "data").write_text("in its way")
    said = seen(folder)["records"][0]
    assert said.startswith(f"fault: {folder / 'data'} cannot be made: ")
    assert "correct 'data'" in said


def replaced(name: str, before: str, after: str) -> Callable[[Path], None]:
    def replace(folder: Path) -> None:
        text = (folder / name).read_text()
        assert before in text
        (folder / name).write_text(text.replace(before, after))

    return replace


def executed(statement: str) -> Callable[[Path], None]:
    def execute(folder: Path) -> None:
        engine = open_database(folder / "data/records.sqlite")
        with write(engine).begin() as connection:
            connection.exec_driver_sql(statement)
        engine.dispose()

    return execute


def recorded(record: Callable[[sa.Connection], object]) -> Callable[[Path], None]:
    def write_down(folder: Path) -> None:
        engine = open_database(folder / "data/records.sqlite")
        with write(engine).begin() as connection:
            record(connection)
        engine.dispose()

    return write_down


def give_up(connection: sa.Connection) -> None:
    webhooks.add(connection, webhooks.Webhook("h" * 12, "https://app.example.org/hook", "", ("file.put",), NOW, None))
    for age in (1, 6.9 * 86_400, 7.1 * 86_400):
        webhooks.queue(connection, "h" * 12, "file.put", "1", NOW - age)
    connection.exec_driver_sql("UPDATE webhook_deliveries SET state = 'given-up'")


ROW = TransferRow("0" * 20, "recipient:bob", "bob", None, None, None, None, "files/a.txt", "tag", 3)


def obtain(later: float) -> Callable[[Path], None]:
    return recorded(lambda connection: statements.insert(connection, [replace(ROW, updated=NOW + later)]))


@pytest.mark.parametrize(
    ("breaks", "part", "says"),
    [
        (replaced("invio.toml", "root", "roots"), "settings", "fault: .*invio.toml:[0-9]+: stores.files.*"),
        (lambda folder: (folder / "invio.toml").unlink(), "settings", "fault: .*'invio init' creates one"),
        (replaced("invio.toml", '"models"', '"files/models"'), "settings", "fault: .*folder is its own.*"),
        (lambda folder: (folder / "keys.json").chmod(0o640), "rights", "warning: .*keys.json has the mode 0640.*"),
        (lambda folder: (folder / "keys.json").unlink(), "keys", "fault: .*keys.json.*"),
        (lambda folder: (folder / "data/records.sqlite").write_text("x" * 99), "records", "fault: .*cannot be read.*"),
        (executed("UPDATE alembic_version SET version_num = '9999'"), "records", "fault: .*later version.*"),
        (executed("UPDATE alembic_version SET version_num = '0001'"), "records", "ok: .*brings them up to date"),
        (obtain(90), "records", "warning: .*yet to come; set this.*clock"),
        (replaced("invio.toml", "[stores.files]", '[pages]\nfolder = "none"\n[stores.files]'), "settings", "fault: .*none.*"),
        (recorded(give_up), "records", "warning: the webhook https://app.example.org/hook did not take 2 .*"),
        (
            recorded(lambda one: add_token(one, "bob", "bridge", NOW + 13 * 86_400)),
            "tokens", r"warning: the token \w+ of bob \(bridge\) expires at .*",
        ),
        (recorded(lambda one: add_token(one, "bob", "", NOW + 15 * 86_400)), "tokens", "ok: none .*"),
        (recorded(lambda one: add_token(one, "bob", "", NOW - 1)), "tokens", "ok: none .*"),
        (recorded(lambda one: disable(one, "ann", disabled=True)), "rules", "warning: nobody who .* may administer.*"),
        (lambda folder: shutil.rmtree(folder / "files"), "store files", "fault: .*/files.*"),
        (lambda folder: (folder / "models").write_text(""), "store models", "fault: .*/models is no folder.*"),
        (replaced("invio.toml", '"models"', '"keys.json/m"'), "store models", "fault: .*/m is not there and cannot be made.*"),
        (replaced("rules.toml", 'effect = "allow"', 'effect = "perhaps"'), "rules", "fault: .*rules.toml:.*perhaps.*"),
        (
            replaced("rules.toml", 'outcome = "allowed"', 'outcome = "refused"'),
            "rules", "fault: .*rules.toml:[0-9]+: anyone read files/a.txt is not refused: .*everyone reads.*",
        ),
        (replaced("rules.toml", "group:admins", "group:admin"), "rules", "warning: .*nobody is in the group 'admin'.*"),
    ],
)  # fmt: skip
def test_what_is_wrong_is_said_of_its_part(
    folder: Path, breaks: Callable[[Path], object], part: str, says: str
) -> None:
    breaks(folder)
    found = seen(folder)[part]
    assert any(re.fullmatch(says, said) for said in found), found


def test_a_service_that_is_used_and_written_to_is_sound(folder: Path) -> None:
    obtain(-30)(folder)
    (folder / "models").mkdir()
    replaced("invio.toml", 'root = "files"', 'root = "files"\nwritable = true')(folder)
    found = seen(folder)
    assert [said for said in found["records"] if not said.startswith("ok")] == []
    assert found["store files"] == [f"ok: {folder / 'files'} can be written to"]
    assert found["store models"] == [f"ok: {folder / 'models'} can be written to"]


def test_no_cache_is_made_for_another_system(folder: Path) -> None:
    remote = '[stores.mirror]\nkind = "remote"\nurl = "http://127.0.0.1:1/"\ncache_bytes = 1000000\n'
    replaced("invio.toml", "[stores.models]", f"{remote}[stores.models]")(folder)
    assert seen(folder)["store mirror"][0].startswith("fault: store 'mirror'")
    assert sorted(path.name for path in (folder / "data").iterdir()) == ["records.sqlite"]


def test_a_service_of_an_earlier_version_that_runs_is_told(folder: Path) -> None:
    executed("UPDATE alembic_version SET version_num = '0001'")(folder)
    old = ServingLock(folder / "data")
    found = seen(folder)
    assert found["records"][0].startswith("warning: ")
    assert found["rules"] == ["ok: 2 rules; expectations are tried once the records can be read"]
    old.close()
    assert seen(folder)["records"][0].startswith("ok: ")


def test_of_very_many_tokens_a_few_are_named(folder: Path) -> None:
    recorded(lambda one: [add_token(one, "bob", f"t{n}", NOW + 1000 - n) for n in range(8)])(folder)
    found = seen(folder)["tokens"]
    assert [re.search(r"\((t\d)\)", said)[1] for said in found[:5]] == ["t7", "t6", "t5", "t4", "t3"]  # type: ignore[index]
    assert found[5:] == ["warning: 3 more tokens expire within two weeks"]


Usage = namedtuple("Usage", "total free")
Files = namedtuple("Files", "f_files f_favail")


@pytest.mark.parametrize(
    ("free", "files", "says"),
    [
        (60 << 20, 1000, "fault: the disk of data, store models .* is full: .*Make room"),
        (70 << 20, 1000, "warning: .* is nearly full: .*"),
        (1020 << 20, 1000, "warning: .* is nearly full: .*"),
        (1030 << 20, 1000, "ok: .*"),
        (1030 << 20, 9, "warning: .* has room for 9 more files only.*"),
        (1030 << 20, 10, "ok: .*"),
    ],
)
def test_a_disk_that_fills_is_told_before_it_is_full(
    folder: Path, monkeypatch: pytest.MonkeyPatch, free: int, files: int, says: str
) -> None:
    monkeypatch.setattr(shutil, "disk_usage", lambda _: Usage(free * 19, free))
    monkeypatch.setattr(os, "statvfs", lambda _: Files(1000, files))
    [said] = seen(folder)["disks"]
    assert re.fullmatch(says, said), said
    monkeypatch.setattr(shutil, "disk_usage", lambda _: Usage(free * 21, free))
    assert seen(folder)["disks"][0].startswith(("warning", "fault")), "less than a twentieth of the disk"


@pytest.mark.parametrize(
    ("settings", "warns"),
    [
        ('host = "127.0.0.1"', ""),
        ('host = "::1"', ""),
        ('host = "localhost"', ""),
        ('host = "0.0.0.0"', "listens on 0.0.0.0 without TLS"),
        ('host = "files.example.org"', "listens on files.example.org without TLS"),
        ('host = "0.0.0.0"\npublic_url = "https://files.example.org"', ""),
        ('public_url = "http://files.example.org:8000"', "'public_url' is http://files.example.org:8000"),
        ('public_url = "http://127.0.0.1:8000/sub"', ""),
        ('public_url = "http://[::1]:8000"', ""),
        ('public_url = "http://[2001:db8::1]/"', "'public_url' is"),
    ],
)
def test_what_travels_in_the_clear_is_told(folder: Path, settings: str, warns: str) -> None:
    replaced("invio.toml", "[service]\n", f"[service]\n{settings}\n")(folder)
    found = seen(folder)["address"]
    assert [said for said in found if said.startswith("warning")] == [said for said in found if warns and warns in said]
    assert len(found) == 1 + bool(warns)


@contextmanager
def answering(body: bytes) -> Iterator[int]:
    class Handler(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            assert self.path == "/readyz"
            self.send_response(200)
            self.end_headers()
            self.wfile.write(body)

        def log_message(self, *_: object) -> None:
            pass

    server = HTTPServer(("127.0.0.1", 0), Handler)
    thread = threading.Thread(target=server.serve_forever, kwargs={"poll_interval": 0.01})
    thread.start()
    try:
        yield server.server_port
    finally:
        server.shutdown()
        thread.join()
        server.server_close()


@pytest.mark.parametrize(
    ("body", "says"),
    [
        (b'{"status": "ready"}', "ok: a service runs on 127.0.0.1 port PORT: ready"),
        (b'{"status": "ready", "hints": {"rules": "old"}}', "warning: a service .*: ready (rules: old)"),
        (
            b'{"status": "not ready", "faults": {"records": "full"}, "hints": {"rules": "old"}}',
            "fault: a service .*: not ready (records: full; rules: old)",
        ),
        (b"<html>", "warning: 127.0.0.1 port PORT is in use, and what runs there is no such service .*"),
        (b"[]", "warning: .* is in use, .*"),
        (b"{}", "warning: .* is in use, .*"),
    ],
)
def test_who_listens_at_the_address_is_asked_how_it_is(folder: Path, body: bytes, says: str) -> None:
    with answering(body) as port:
        replaced("invio.toml", "port = 0", f"port = {port}")(folder)
        [said] = seen(folder)["address"]
    expected = re.escape(says).replace(r"\.\*", ".*").replace("PORT", str(port))
    assert re.fullmatch(expected, said), said


def test_an_address_where_nobody_listens_is_free(folder: Path) -> None:
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))  # nobody else gets it meanwhile, and nobody listens
        replaced("invio.toml", "port = 0", f"port = {taken.getsockname()[1]}")(folder)
        [said] = seen(folder)["address"]
    assert said.startswith("ok: nothing runs on 127.0.0.1")


def test_few_descriptors_are_told(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    for most, grade in ((1024, "warning"), (4096, "ok"), (resource.RLIM_INFINITY, "ok")):
        monkeypatch.setattr(resource, "getrlimit", lambda _, most=most: (most, most))
        assert seen(folder)["open files"][0].startswith(grade), most


def test_a_store_that_does_not_answer_keeps_nobody_waiting(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(checking, "_STORE_WITHIN", 0.05)
    ended = threading.Event()
    monkeypatch.setattr(checking, "fault_of", lambda _: ended.wait(10) and None)
    try:
        assert seen(folder)["store files"] == ["fault: it did not answer within 0.05 seconds"]
    finally:
        ended.set()


def test_the_command_is_read_by_people_and_programs(start: Callable[..., Service]) -> None:
    service = start(files={"a.txt": b"a"})

    def check(*given: str) -> tuple[int, str]:
        done = CliRunner().invoke(main, ["check", "--settings", str(service.folder / "invio.toml"), *given])
        return done.exit_code, done.output

    status, text = check()
    assert status == 0, text
    assert "✓  store files" in text
    told = json.loads(check("--json")[1])
    assert (told["faults"], told["warnings"]) == (0, sum(one["grade"] == "warning" for one in told["seen"]))
    shutil.rmtree(service.folder / "files")
    status, text = check()
    assert (status, text.splitlines()[-1].partition(",")[0]) == (1, "1 fault")
    assert re.search(r"✗  store files +\S", text)
    status, text = check("--json")
    assert (status, json.loads(text)["faults"]) == (1, 1)

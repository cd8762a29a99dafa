"""Starting a service: what is wrong is said, with the place and what to do, and nothing is half begun."""

from __future__ import annotations

import socket
import subprocess
from collections.abc import Callable
from itertools import product
from pathlib import Path

import pytest
from click.testing import CliRunner, Result

from invio.cli.main import main
from tests.forking import run_invio
from tests.running import RULES, SETTINGS, Service, make_folder, until


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    make_folder(tmp_path / "service", files={"a.txt": b"a"})
    return tmp_path / "service"


def serve(folder: Path, *more: str) -> subprocess.CompletedProcess[str]:
    return run_invio("serve", "--settings", folder / "invio.toml", "--port", "0", *more)


def serve_here(folder: Path) -> Result:
    """The same command in this process, for what ends before it listens."""
    return CliRunner().invoke(main, ["serve", "--settings", str(folder / "invio.toml"), "--port", "0"])


@pytest.mark.parametrize(
    ("file", "text", "says"),
    [
        (
            "invio.toml",
            SETTINGS.replace('"directory"', '"folder"'),
            "invio.toml:3: stores.files.kind: is 'folder'; expected one of 'directory', 'managed', 'tables'",
        ),
        (
            "invio.toml",
            SETTINGS.replace("root", "roots"),
            "invio.toml:2: stores.files.root: this is needed, and is missing; give root = …",
        ),
        (
            "invio.toml",
            SETTINGS + "writeable = true\n",
            "invio.toml:5: stores.files.writeable: there is no such setting (did you mean 'writable'?); expected kind, ",
        ),
        (
            "invio.toml",
            "[servce]\nport = 1\n" + SETTINGS,
            "invio.toml:1: servce: there is no such setting (did you mean",
        ),
        (
            "invio.toml",
            SETTINGS.replace('kind = "directory"', ""),
            "invio.toml:2: stores.files: the store has no kind; give kind = one of 'directory', 'managed'",
        ),
        (
            "invio.toml",
            '[service]\ncontact = """\nport = 9\n"""\npublic_url = "files.example.org"\n' + SETTINGS,
            "invio.toml:5: service.public_url: is 'files.example.org'; "
            "expected what links begin with, as in https://files.example.org",
        ),
        ("invio.toml", '[service]\ndata = "rules.toml"\n' + SETTINGS, "invio.toml:2: service.data: "),
        (
            "invio.toml",
            '[identity]\nissuer = "i"\naudience = "a"\nkeys = "nofile.json"\n' + SETTINGS,
            "invio.toml:4: identity.keys: there is no file ",
        ),
        ("invio.toml", "[service]\nport = 99999\n" + SETTINGS, "invio.toml:2: service.port: input should be less than"),
        (
            "invio.toml",
            "[service]\nport = 'x'\n" + SETTINGS,
            "invio.toml:2: service.port: input should be a valid integer",
        ),
        ("invio.toml", "[service\n" + SETTINGS, "invio.toml:1: not TOML"),
        ("invio.toml", SETTINGS.replace("stores.files", "stores.bundles"), "cannot name a store"),
        ("invio.toml", SETTINGS.replace('"files"', '"nowhere"'), "is not a directory; create it, or correct 'root'"),
        (
            "rules.toml",
            RULES.replace('"allow"', '"permit"', 1),
            "rules.toml:4: effect is 'permit'; expected 'allow' or 'deny'",
        ),
        (
            "rules.toml",
            RULES.replace('"files/**"', '"flies/**"', 1),
            "rules.toml:6: 'flies/**': there is no store 'flies' (did you mean 'files'?)",
        ),
        ("keys.json", "{}", "keys.json: expected"),
    ],
)
def test_an_error_in_a_file_names_file_line_and_what_was_expected(
    folder: Path, file: str, text: str, says: str
) -> None:
    (folder / file).write_text(text)
    ended = serve_here(folder)
    assert ended.exit_code == 1
    assert says in ended.stderr
    assert "Traceback" not in ended.stderr
    assert ended.stdout == ""


TABLES = '[stores.t]\nkind = "tables"\n[[stores.t.file]]\npath = "a.csv"\n'


@pytest.mark.parametrize(
    ("more", "says"),
    [
        ("", "invio.toml:3: stores.t.file.0: a file needs either function, or database and query"),
        (
            'function = "invio.demo.tides:none"\n',
            "invio.toml:5: stores.t.file.0.function: function 'invio.demo.tides:none'",
        ),
        (
            'function = "no_such_module:rows"\n',
            "there is no module 'no_such_module' here; name its folder in PYTHONPATH",
        ),
        ('database = "postgresql+pg8000://h/d"\nquery = "SELECT 1"\n', "install it, as in: pip install pg8000"),
        (
            'function = "os:times"\n[[stores.t.file]]\npath = "a.csv"\nfunction = "os:times"\n',
            "invio.toml:7: stores.t.file.1.path",
        ),
        ('function = "os:getcwd"\npath = "../a.csv"\n', "not TOML"),
        ('database = "nothing at all"\nquery = "SELECT 1"\n', "database"),
    ],
)
def test_a_table_that_cannot_be_made_is_said_at_the_start(folder: Path, more: str, says: str) -> None:
    (folder / "invio.toml").write_text(TABLES + more)
    (folder / "rules.toml").write_text("")
    ended = serve_here(folder)
    assert (ended.exit_code, "Traceback" in ended.stderr) == (1, False)
    assert says in ended.stderr


def test_a_port_in_use_is_said_with_what_to_do(folder: Path) -> None:
    with socket.create_server(("127.0.0.1", 0)) as taken:
        port = str(taken.getsockname()[1])
        ended = serve(folder, "--port", port)
    assert ended.returncode == 1
    assert f"port {port} of 127.0.0.1 is in use" in ended.stderr
    assert "choose another port" in ended.stderr


def test_a_missing_settings_file_says_what_makes_one(tmp_path: Path) -> None:
    ended = serve(tmp_path)
    assert (ended.returncode, "'invio init' creates one" in ended.stderr) == (1, True)


def test_init_makes_a_service_that_runs(tmp_path: Path, start: Callable[..., Service]) -> None:
    folder = tmp_path / "new"
    made = run_invio("init", "--dir", folder)
    assert made.returncode == 0, made.stderr
    token = made.stdout.split("once: ")[1].split()[0]
    (folder / "files" / "hello.txt").write_text("hello")
    (folder / "tokens.json").write_text(f'{{"admin": "{token}"}}')
    service = start(folder)
    assert service.get("/get/files/hello.txt", "admin").text == "hello"
    assert service.get("/get/files/hello.txt").status_code == 401
    again = run_invio("init", "--dir", folder)
    assert again.returncode == 1
    assert "nothing was changed" in again.stderr


def test_health_and_the_api_s_description(folder: Path, start: Callable[..., Service]) -> None:
    service = start(folder)
    assert service.get("/healthz").json() == {"status": "alive"}
    assert service.get("/readyz").json() == {"status": "ready"}
    described = service.get("/api/openapi.json").json()
    assert {"/get/{address}", "/api/files", "/api/bundles", "/api/links", "/bundles"} <= set(described["paths"])
    page = service.get("/api/docs")
    assert page.headers["content-type"] == "text/html; charset=utf-8"
    assert "://" not in page.text, "no other host is involved"
    assert service.get("/console/api-docs/swagger-ui-bundle.js").status_code == 200


def probes(service: Service, **fields: str) -> list[object]:
    found: list[object] = []
    with service.client() as client:
        for method, path in product(("GET", "HEAD"), ("/healthz", "/readyz")):
            reply = client.request(method, path, headers=fields)
            head = [(name, value) for name, value in reply.headers.multi_items() if name != "date"]
            found.append((method, path, reply.status_code, head, reply.content))
    return found


def test_a_plain_probe_is_answered_as_the_api_answers_one(start: Callable[..., Service]) -> None:
    service = start(files={"a.txt": b"a"})
    by_the_api = {"origin": "https://office.example"}
    assert probes(service) == probes(service, **by_the_api)
    (service.folder / "files").rename(service.folder / "elsewhere")
    until(lambda: service.get("/readyz").status_code == 503)
    assert probes(service) == probes(service, **by_the_api)

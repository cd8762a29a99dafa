"""What several tests start from: a service of one's own, and the demo, both as their users run them."""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
from collections.abc import Callable, Generator, Iterator
from contextlib import chdir, nullcontext, suppress
from pathlib import Path

import hypothesis
import pytest
import sqlalchemy as sa
from click.testing import CliRunner
from playwright.sync_api import Browser, Error, sync_playwright

from invio.cli.main import main
from invio.records.database import open_database
from tests.forking import start_invio
from tests.running import Demo, Service, make_folder
from tests.watchdog import Watchdog

SWITCHES = [
    "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
    "--disable-component-update", "--disable-sync",
]  # fmt: skip


QUICK = Path(__file__).parent / "core"
"""What no process is started for."""

LONG = (Path(__file__).parent / "torture", Path(__file__).parent)
"""Where the files lie of what takes longest: begun last, it would go on when all else has ended."""

CLEARING_UP = 120.0
"""Seconds beyond its time limit for what clears up after a test, and for the end of the process."""

watchdog = pytest.StashKey[Watchdog]()


def pytest_configure(config: pytest.Config) -> None:
    # What takes how long is not what these tests are about, and a machine may stand still for a moment.
    hypothesis.settings.register_profile("unhurried", deadline=None)
    hypothesis.settings.load_profile("unhurried")
    # Output is not captured at this moment, so the watchdog's words reach whoever runs the tests.
    config.stash[watchdog] = Watchdog(os.dup(2))
    config.stash[watchdog].start()


@pytest.hookimpl(wrapper=True, tryfirst=True)
def pytest_runtest_protocol(item: pytest.Item) -> Generator[None, object, object]:
    limit = float(item.config.getvalue("timeout") or item.config.getini("timeout"))
    item.config.stash[watchdog].allow(limit + CLEARING_UP, item.nodeid)
    result = yield
    item.config.stash[watchdog].allow(None)
    return result


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Spreads the files that drive a browser, which take all cores, among those that wait.

    The longest come first, and quick ones last.
    """
    files: dict[Path, list[pytest.Item]] = {}
    for item in items:
        files.setdefault(item.path, []).append(item)
    browsing: list[list[pytest.Item]] = []
    waiting: list[list[pytest.Item]] = []
    quick: list[list[pytest.Item]] = []
    for path, tests in files.items():
        if any("browser" in getattr(item, "fixturenames", ()) for item in tests):
            browsing.append(tests)
        elif path.is_relative_to(QUICK):
            quick.append(tests)
        else:
            waiting.append(tests)
    waiting.sort(key=lambda tests: (*LONG, tests[0].path.parent).index(tests[0].path.parent))
    apart = max(1, len(waiting) // max(1, len(browsing)))
    for number, tests in enumerate(browsing):
        waiting.insert(number * (apart + 1), tests)
    items[:] = [item for tests in (*waiting, *quick) for item in tests]


def pytest_unconfigure(config: pytest.Config) -> None:
    config.stash[watchdog].allow(CLEARING_UP, "the end of the tests")


@pytest.fixture(scope="module")
def browser() -> Iterator[Browser]:
    path = shutil.which("chromium")
    assert path, "Chromium is missing: 'make test' installs it, or apt-get install chromium"
    with sync_playwright() as playwright:
        browser = None
        for last in (False, False, True):  # on a busy machine it ends now and then while it begins
            with nullcontext() if last else suppress(Error):
                browser = playwright.chromium.launch(executable_path=path, args=SWITCHES)
                break
        assert browser is not None
        yield browser
        browser.close()


@pytest.fixture
def engine(tmp_path: Path) -> Iterator[sa.Engine]:
    """Records of a test's own, without a service."""
    engine = open_database(tmp_path / "records.sqlite")
    yield engine
    engine.dispose()


@pytest.fixture
def start(tmp_path: Path) -> Iterator[Callable[..., Service]]:
    """Starts services: `start(files={"files/a.txt": b"…"}, rules="…")`; all are ended after the test."""
    yield from _starting(tmp_path)


@pytest.fixture(scope="module")
def start_shared(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Callable[..., Service]]:
    """Like `start`, for services that all tests of a module share; they are ended after the last one."""
    yield from _starting(tmp_path_factory.mktemp("shared"))


def _starting(place: Path) -> Iterator[Callable[..., Service]]:
    started: list[Service] = []

    def begin(folder: Path | None = None, **given: object) -> Service:
        if folder is None:
            folder = place / f"service-{len(started)}"
            make_folder(folder, **given)  # type: ignore[arg-type]
        service = Service.start(folder)
        started.append(service)
        return service

    yield begin
    for service in started:
        service.stop()


@pytest.fixture(scope="session")
def demo(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Demo]:
    """The demo, as `invio demo` runs it; shared, so nothing in it may be changed."""
    folder = tmp_path_factory.mktemp("demo")
    arguments = ("demo", "--port", "0", "--data", str(folder))
    process = start_invio(*arguments, environment=os.environ, stderr=folder.with_suffix(".errors"))
    line = process.stdout.readline()
    assert line.startswith("ready: http://127.0.0.1:"), line
    yield Demo(folder, json.loads((folder / "demo.json").read_text()), process.pid)
    process.send_signal(signal.SIGTERM)
    assert process.wait(20) == 0


@pytest.fixture
def invio(tmp_path: Path) -> Callable[..., subprocess.CompletedProcess[str]]:
    """Runs the command line in an empty folder: `invio("files", "charts/", token="…", url="…")`.

    In this process, for a process of its own takes a second; what is about processes starts one (`INVIO`).
    """

    def run(*arguments: str, url: str = "", token: str | None = None) -> subprocess.CompletedProcess[str]:
        environment = {"INVIO_URL": url or None, "INVIO_TOKEN": token, "COLUMNS": "160"}
        with chdir(tmp_path):
            done = CliRunner(env=environment).invoke(main, arguments, prog_name="invio")
        if done.exception is not None and not isinstance(done.exception, SystemExit):
            raise done.exception
        return subprocess.CompletedProcess(arguments, done.exit_code, done.stdout, done.stderr)

    return run

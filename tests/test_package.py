"""The package as others get it: built, installed by itself and started."""

from __future__ import annotations

import os
import re
import subprocess
import sys
import tarfile
import zipfile
from pathlib import Path

import httpx
import pytest

from tests.running import NO_TLS

ROOT = Path(__file__).parents[1]
START = "from invio.cli.main import main; main()"


@pytest.fixture(scope="module")
def built(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Path]:
    """The wheel, and the archive of the sources that it was built from."""
    folder = tmp_path_factory.mktemp("dist")
    build = [sys.executable, "-m", "build", "--no-isolation", "--outdir", str(folder), str(ROOT)]
    subprocess.run(build, check=True, capture_output=True, timeout=120)
    [wheel], [sources] = folder.glob("*.whl"), folder.glob("*.tar.gz")
    return wheel, sources


def test_the_archive_of_sources_has_what_a_wheel_is_built_from(built: tuple[Path, Path]) -> None:
    with tarfile.open(built[1]) as archive:
        names = {name.partition("/")[2] for name in archive.getnames()}
    assert {"pyproject.toml", "build_console.py", "README.md", "console/package.json"} <= names
    assert not [name for name in names if "node_modules" in name or name.startswith(("tests/", ".venv"))]


def test_the_wheel_runs_by_itself_with_its_console(built: tuple[Path, Path], tmp_path: Path) -> None:
    installed = tmp_path / "installed"
    with zipfile.ZipFile(built[0]) as wheel:
        wheel.extractall(installed)
    assert (installed / "invio" / "py.typed").exists()
    # Its own folder comes before everything else, the sources included.
    environment = {**os.environ, "PYTHONPATH": str(installed)}
    where = subprocess.run(
        [sys.executable, "-c", "import invio; print(invio.__file__)"],
        env=environment, cwd=tmp_path, capture_output=True, text=True, check=True,
    )  # fmt: skip
    assert where.stdout.startswith(str(installed))
    command = [sys.executable, "-c", START]
    made = subprocess.run(
        [*command, "init", "--dir", str(tmp_path / "service")],
        env=environment,
        capture_output=True,
        text=True,
        check=True,
    )
    token = re.search(r"only once: (\S+)", made.stdout)
    assert token
    serve = [*command, "serve", "--settings", str(tmp_path / "service" / "invio.toml"), "--port", "0"]
    with subprocess.Popen(serve, env=environment, stdout=subprocess.PIPE, text=True) as process:
        assert process.stdout is not None
        url = process.stdout.readline().split()[-1]
        try:
            with httpx.Client(base_url=url, verify=NO_TLS, trust_env=False) as client:
                page = client.get("/console/")
                script = re.search(r'src="(/console/assets/[^"]+\.js)"', page.text)
                assert script
                assert client.get(script[1]).status_code == 200
                found = client.get("/api/files", headers={"authorization": f"Bearer {token[1]}"})
                assert found.status_code == 200
        finally:
            process.terminate()
    assert process.returncode == 0

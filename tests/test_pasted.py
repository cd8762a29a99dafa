"""The docs, pasted: the commands of README's tour, of docs/versions.md and of docs/embedding.md, as they stand."""

from __future__ import annotations

import json
import os
import re
import signal
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.embedding.test_programs import PAGE, PROGRAMS, run
from tests.running import INVIO, Demo

ROOT = Path(__file__).parents[1]
README = (ROOT / "README.md").read_text("utf-8")
# What ends otherwise than with 0, and is meant to.
STATUSES = {"timeout 3": 124, "invio rules compare": 1, "invio why": 3}


@pytest.fixture(scope="module")
def demo(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Demo]:
    """One of this file's own, for the tour alters it."""
    folder = tmp_path_factory.mktemp("demo")
    process = subprocess.Popen([INVIO, "demo", "--port", "0", "--data", str(folder)], stdout=subprocess.PIPE, text=True)
    assert process.stdout is not None
    assert process.stdout.readline().startswith("ready: ")
    yield Demo(folder, json.loads((folder / "demo.json").read_text()), process.pid)
    process.send_signal(signal.SIGTERM)
    assert process.wait(20) == 0


def lines_of(text: str, begin: str = "", end: str = "") -> list[str]:
    """The commands of a page's blocks, one a line, between two headings."""
    part = text.partition(begin)[2] if begin else text
    part = part.partition(end)[0] if end else part
    blocks = re.findall(r"```sh\n(.*?)```", part, re.DOTALL)
    return [line for block in blocks for line in block.splitlines() if line.strip()]


def pasted(lines: list[str], folder: Path, **more: str) -> list[tuple[str, int, str]]:
    """Each line with its exit status and what it printed, all in one shell."""
    script = "".join(f"{line}\n__status=$?; echo; echo '@@{number}' $__status\n" for number, line in enumerate(lines))
    path = f"{Path(INVIO).parent}{os.pathsep}{os.environ['PATH']}"
    kept = {name: value for name, value in os.environ.items() if not name.startswith("INVIO")}
    ended = subprocess.run(
        ["bash", "-c", script], cwd=folder, env={**kept, "PATH": path, "COLUMNS": "160", **more}, text=True,
        stdout=subprocess.PIPE, stderr=subprocess.STDOUT, timeout=150,
    )  # fmt: skip
    parts = re.split(r"^@@(\d+) (\d+)$", ended.stdout, flags=re.MULTILINE)
    told = [(lines[int(parts[at + 1])], int(parts[at + 2]), parts[at]) for at in range(0, len(parts) - 2, 3)]
    assert len(told) == len(lines), ended.stdout
    return told


def wanted(line: str) -> int:
    return next((status for begin, status in STATUSES.items() if line.startswith(begin)), 0)


def test_the_tour_of_the_readme_runs_as_it_stands(demo: Demo, tmp_path: Path) -> None:
    lines = [line for line in lines_of(README, "## Five minutes", "## A service of one's own") if line != "make demo"]
    lines = [line.replace("$PWD/demo-data/demo.json", str(demo.folder / "demo.json")) for line in lines]
    told = pasted([line for line in lines if not line.startswith("export PATH=")], tmp_path, TMPDIR=str(tmp_path))
    assert [(line, status, said) for line, status, said in told if status != wanted(line)] == []
    said_by = {line.partition("#")[0].strip(): said for line, _, said in told}

    def said(begin: str) -> str:
        return next(text for line, text in said_by.items() if line.startswith(begin))

    assert "No errors detected" in said("unzip -t")
    assert "were there already" in said('invio fetch "$LINK"')
    assert "complete" in said("invio transfers")
    assert said("curl -sS -o basin.pdf").strip() == "200"
    assert '"status": 410' in said("sleep 5; curl")
    assert "net=10.0.0.0/8" in said("invio link narrow")
    assert "ok: the link is good" in said("invio link check")
    assert "may not read" in said("invio why")
    assert "0 not met" in said("invio rules check")
    assert "pilots" in said("invio rules compare")
    assert "shown only once" in said("invio recipients token")
    assert "version 4" in said("invio put sea-floor.grid")


def test_the_commands_of_versions_run_as_they_stand(demo: Demo, tmp_path: Path) -> None:
    lines = lines_of((ROOT / "docs" / "versions.md").read_text("utf-8"))
    lines = [line.replace("https://files.example.org", demo.url) for line in lines]
    (tmp_path / "survey-2026").mkdir()
    (tmp_path / "survey-2026" / "notes.txt").write_text("calm\n")
    before = ["echo one > floor.grid", "invio put floor.grid models/west-bank/", "echo two > floor.grid"]
    token = demo.token("harbour-office")
    told = pasted([*before, *lines], tmp_path, INVIO_URL=demo.url, INVIO_TOKEN=token, TOKEN=token)
    odd = [(line, status, said) for line, status, said in told if status != (1 if "--only-new" in line else 0)]
    assert odd == []


@pytest.mark.parametrize("number", range(len(PROGRAMS)))
def test_the_requests_of_embedding_are_answered_as_they_say(number: int, tmp_path: Path) -> None:
    after = PAGE.read_text("utf-8").partition(PROGRAMS[number])[2]
    lines = lines_of(after.partition("# program.py")[0])
    assert lines
    for client in run(PROGRAMS[number], tmp_path):
        here = [line.replace("http://127.0.0.1:8000", str(client.base_url).rstrip("/")) for line in lines]
        for line, status, said in pasted(here, tmp_path):
            assert status == 0, (line, said)
            promised = re.search(r"# (\d{3}):", line)
            if promised is not None:
                assert f"HTTP/1.1 {promised[1]} " in said, line


def test_the_program_of_the_readme_runs_as_it_stands(demo: Demo, tmp_path: Path) -> None:
    [program] = re.findall(r"```python\n(from pathlib.*?)```", README, re.DOTALL)
    program = program.replace("http://127.0.0.1:8480", demo.url).replace('"…"', repr(demo.token("harbour-office")))
    (tmp_path / "program.py").write_text(program)
    (tmp_path / "sea-floor.grid").write_bytes(b"another model")
    python = Path(INVIO).with_name("python")
    ended = subprocess.run([python, "program.py"], cwd=tmp_path, capture_output=True, text=True, timeout=60)
    assert (ended.returncode, ended.stderr) == (0, "")
    assert ended.stdout.splitlines()[-1] == "100.0"
    assert (tmp_path / "approach.zip").stat().st_size > 100_000

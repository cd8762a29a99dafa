"""The docs, pasted: commands and programs of README and of the pages in docs, run as they stand."""

from __future__ import annotations

import json
import os
import re
import signal
import subprocess
from collections.abc import Callable, Iterator
from pathlib import Path

import click
import pytest

from invio.cli.main import main
from tests.embedding.test_programs import PAGE, PROGRAMS, run
from tests.rules import rule
from tests.running import INVIO, Demo, Service

ROOT = Path(__file__).parents[1]
PAGES = [ROOT / "README.md", *sorted((ROOT / "docs").glob("*.md"))]
README = (ROOT / "README.md").read_text("utf-8")
# What ends otherwise than with 0, and is meant to.
STATUSES = {"timeout 3": 124, "invio rules compare": 1, "invio why": 3}

QUOTA = rule("signed-in", "files/**", "read", "crew", quota={"files": 3, "per": "1d"}) + rule(
    "group:admins", "**", "list read link manage administer", "admins"
)


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
        stdout=subprocess.PIPE, stderr=subprocess.STDOUT, timeout=400,
    )  # fmt: skip
    parts = re.split(r"^@@(\d+) (\d+)$", ended.stdout, flags=re.MULTILINE)
    told = [(lines[int(parts[at + 1])], int(parts[at + 2]), parts[at]) for at in range(0, len(parts) - 2, 3)]
    assert len(told) == len(lines), ended.stdout
    return told


def wanted(line: str) -> int:
    return next((status for begin, status in STATUSES.items() if line.startswith(begin)), 0)


def test_the_tour_of_the_readme_runs_as_it_stands(demo: Demo, tmp_path: Path) -> None:
    lines = [line for line in lines_of(README, "## Five minutes", "## Your own service") if line != "make demo"]
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
    assert "no faults" in said("invio check")
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
    assert ended.stdout.splitlines()[-1] == "100"
    assert (tmp_path / "approach.zip").stat().st_size > 100_000


def unknown_words(line: str) -> list[str]:
    """What of a command line the command line does not know: commands, and options of theirs."""
    command: click.Command = main
    unknown = []
    for word in re.sub(r"[<$]\(.*?\)", "PIPED", line).replace(",", " ").split()[1:]:
        if word.startswith("-"):
            known = {name for one in command.params for name in (*one.opts, *one.secondary_opts)}
            unknown += [] if word in known else [word]
        elif isinstance(command, click.Group):
            found = command.get_command(click.Context(command), word)
            if found is None:
                return [*unknown, word]
            command = found
    return unknown


def test_every_command_that_a_page_names_is_there_with_its_options() -> None:
    named = []
    for page in PAGES:
        text = page.read_text("utf-8")
        named += re.findall(r"`(invio [^`]+)`", text.replace("\n", " "))
        named += [line.partition(" #")[0] for line in lines_of(text) if line.startswith("invio ")]
    assert len(named) > 60
    assert [(line, unknown_words(line)) for line in named if unknown_words(line)] == []
    assert unknown_words("invio link forge --under oath") == ["forge"]
    assert unknown_words("invio link make a/b --under oath") == ["--under"]


def test_the_commands_of_the_guide_about_recipients_run_as_they_stand(
    start: Callable[..., Service], tmp_path: Path
) -> None:
    service = start(files={"a.txt": b"content"}, rules=QUOTA)
    table = (ROOT / "docs" / "guide.md").read_text("utf-8").partition("## Recipients")[2].partition("\n\nOn the")[0]
    lines = [line for row in table.splitlines() for line in re.findall(r"`(invio [^`]+)`", row.split(" | ")[0])]
    assert len(lines) == 13
    lines.sort(key=lambda line: line.startswith("invio recipients remove"))  # what removes them comes last
    known = {"ID": "anna", "NAME": "crew", "N": "Anna", "A": "admins", "B": "crew", "RULE": "crew", "TEXT": "phone"}
    lines = [re.sub(r"\b[A-Z]+\b", lambda name: known.get(name[0], name[0]), line) for line in lines]
    lines = [line.replace("--end TOKEN", '--end "$TOKEN"') for line in lines]
    lines = [f"printf 'a long password\\n%.0s' 1 2 | {line}" if " password " in line else line for line in lines]
    kept = "TOKEN=$(invio recipients token anna --json | python3 -c 'import json, sys; print(json.load(sys.stdin)[\"id\"])')"
    told = pasted([lines[0], kept, *lines[1:]], tmp_path, INVIO_URL=service.url, INVIO_TOKEN=service.tokens["ann"])
    assert [(line, said) for line, status, said in told if status] == []
    said_by = {line: said for line, _, said in told}
    assert "shown only once" in said_by["invio recipients token anna --label phone --until 90d"]
    assert "50" in said_by["invio quotas grant anna crew --files 50 --bytes 5M"]
    assert service.get("/api/recipients", "ann").text.count('"anna"') == 0

"""The programs of docs/embedding.md, run as they stand, under the zero-copy server and under a plain one."""

from __future__ import annotations

import csv
import io
import os
import re
import socket
import subprocess
import sys
import time
import zipfile
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest

from tests.running import NO_TLS, get_raw

PAGE = Path(__file__).parents[2] / "docs" / "embedding.md"
PROGRAMS = re.findall(r"```python\n(# program\.py\n.*?)```", PAGE.read_text("utf-8"), re.DOTALL)


def run(program: str, folder: Path) -> Iterator[httpx.Client]:
    (folder / "program.py").write_text(program)
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    process = subprocess.Popen(
        [sys.executable, "program.py"],
        cwd=folder,
        env={**os.environ, "PORT": str(port)},
        stderr=subprocess.PIPE,
        text=True,
    )
    try:
        for _ in range(400):
            assert process.poll() is None, process.communicate()[1]
            with socket.socket() as probe:
                if probe.connect_ex(("127.0.0.1", port)) == 0:
                    break
            time.sleep(0.05)
        with httpx.Client(base_url=f"http://127.0.0.1:{port}", trust_env=False, timeout=20, verify=NO_TLS) as client:
            yield client
    finally:
        process.terminate()
        assert "Traceback" not in process.communicate(timeout=20)[1]


@pytest.fixture(params=["zero-copy", "plain"])
def program(request: pytest.FixtureRequest, tmp_path: Path) -> Iterator[httpx.Client]:
    text = PROGRAMS[request.node.get_closest_marker("program").args[0]]
    if request.param == "plain":
        text = text.replace(", http=invio.ZeroCopyProtocol", "")
    yield from run(text, tmp_path)


def test_there_are_three() -> None:
    assert len(PROGRAMS) == 3


@pytest.mark.program(0)
def test_a_file_in_one_line(program: httpx.Client) -> None:
    whole = program.get("/reports/january.txt")
    assert whole.text == "Soundings taken: 4,120\n" * 100
    assert whole.headers["content-disposition"] == 'inline; filename="january.txt"'
    assert program.head("/reports/january.txt").headers["content-length"] == "2300"
    part = program.get("/reports/january.txt", headers={"range": "bytes=0-8"})
    assert (part.status_code, part.text) == (206, "Soundings")
    same = program.get("/reports/january.txt", headers={"if-none-match": whole.headers["etag"]})
    assert same.status_code == 304
    beyond = program.get("/reports/january.txt", headers={"range": "bytes=2300-"})
    assert (beyond.status_code, beyond.json()["reason"]) == (416, "range")
    assert program.get("/reports/none.txt").json()["reason"] == "missing"
    port = int(str(program.base_url.port))
    for climbing in ("../program.py", "%2e%2e/program.py", "/etc/passwd", "..%2fprogram.py"):
        assert get_raw(port, f"/reports/{climbing}").status == 404


@pytest.mark.program(0)
def test_an_archive_in_one_line(program: httpx.Client) -> None:
    whole = program.get("/everything")
    assert whole.headers["content-disposition"] == 'attachment; filename="reports.zip"'
    archive = zipfile.ZipFile(io.BytesIO(whole.content))
    assert archive.testzip() is None
    assert archive.read("reports/january.txt") == b"Soundings taken: 4,120\n" * 100
    rest = program.get("/everything", headers={"range": "bytes=50-", "if-range": whole.headers["etag"]})
    assert (rest.status_code, rest.content) == (206, whole.content[50:])


@pytest.mark.program(1)
def test_a_table_that_is_made(program: httpx.Client) -> None:
    for coding in ("identity", "gzip", "zstd"):
        answer = program.get("/soundings.csv", headers={"accept-encoding": coding})
        rows = list(csv.reader(io.StringIO(answer.text)))
        assert (len(rows), rows[0], rows[-1]) == (100_001, ["station", "metres"], ["S099999", "9.99"])
        assert answer.headers.get("content-encoding", "identity") == coding
        assert answer.headers["vary"] == "accept-encoding"
        again = program.get(
            "/soundings.csv", headers={"accept-encoding": coding, "if-none-match": answer.headers["etag"]}
        )
        assert again.status_code == 304
    tags = {program.head(answer.url, headers={"accept-encoding": coding}).status_code for coding in ("gzip", "zstd")}
    assert tags == {405}  # the route answers GET alone, and says so


@pytest.mark.program(2)
def test_all_of_it_by_ones_own_function(program: httpx.Client) -> None:
    ann = {"x-crew-key": "secret-of-ann"}
    chart = program.get("/files/get/charts/north-channel.txt")
    assert (chart.status_code, chart.text) == (200, "Depths in metres\n")
    assert chart.headers["content-disposition"].startswith("inline")
    assert program.get("/files/get/charts/draft.txt").status_code == 404
    assert program.get("/files/get/charts/draft.txt", headers=ann).text == "Not yet checked\n"
    assert [f["name"] for f in program.get("/files/api/files?in=charts/").json()["files"]] == ["north-channel.txt"]
    listed = program.get("/files/api/files?in=charts/", headers=ann).json()["files"]
    assert [f["name"] for f in listed] == ["draft.txt", "north-channel.txt"]
    refused = program.post("/files/api/bundles", json={"files": ["charts/draft.txt"]})
    assert (refused.status_code, refused.json()["names"]) == (403, ["charts/draft.txt"])
    made = program.post("/files/api/bundles", json={"files": ["charts/"]}, headers=ann).json()
    archive = program.get(made["url"], headers=ann).content
    assert len(archive) == made["size"]
    assert sorted(zipfile.ZipFile(io.BytesIO(archive)).namelist()) == ["charts/draft.txt", "charts/north-channel.txt"]
    assert program.get(made["url"]).status_code == 404, "it is ann's"
    transfers = program.get("/files/api/transfers", headers=ann).json()["transfers"]
    own = [shown["address"] for shown in transfers if shown["recipient"] == "ann"]
    assert "charts/draft.txt" in own
    assert {shown["state"] for shown in transfers} == {"complete"}
    page = program.get("/files/get/charts/draft.txt", headers={"accept": "text/html"})
    assert (page.status_code, page.headers["content-type"]) == (404, "text/html; charset=utf-8")

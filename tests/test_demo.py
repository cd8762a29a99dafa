"""The demo, walked through as a newcomer would: curl, the command line, a browser without scripts."""

from __future__ import annotations

import io
import json
import signal
import subprocess
import time
import zipfile
from collections.abc import Callable
from pathlib import Path

import pytest
from PIL import Image

from tests.forking import run_invio
from tests.running import INVIO, Demo

Invio = Callable[..., subprocess.CompletedProcess[str]]
GRID = "charts/soundings/west-bank-5m.grid"


def test_the_card_tells_what_one_needs(demo: Demo) -> None:
    assert set(demo.card) == {"url", "console", "keys", "people"}
    assert demo.card["console"] == demo.url + "/console/"
    assert set(demo.card["people"]) == {"harbour-office", "pilot-7", "tern-lab"}
    assert demo.card["people"]["pilot-7"]["groups"] == ["pilots"]
    assert set(json.loads(Path(demo.card["keys"]).read_text())) == {"keys", "current"}
    with demo.client() as anyone:
        assert anyone.get("/healthz").status_code == 200


def test_what_the_demo_makes_is_its_owners_alone(demo: Demo) -> None:
    shared = [path.name for path in demo.folder.iterdir() if path.stat().st_mode & 0o077]
    assert shared == []


def test_there_is_what_makes_delivering_hard(demo: Demo) -> None:
    with demo.client("harbour-office") as office:

        def below(folder: str) -> list[dict[str, object]]:
            files: list[dict[str, object]] = []
            for entry in office.get("/api/files", params={"in": folder, "limit": 1000}).json()["files"]:
                files += below(entry["address"]) if entry["folder"] else [entry]
            return files

        files = [file for store in ("notices/", "charts/", "tables/") for file in below(store)]
        names = [str(file["name"]) for file in files]
        sizes = {file["size"] for file in files}
    assert any(isinstance(size, int) and size >= 256 * 1024 * 1024 for size in sizes)
    assert 0 in sizes
    assert None in sizes, "files that are made on demand"
    assert any(" " in name for name in names)
    assert any("ö" in name for name in names)
    assert any("潮" in name for name in names)


def test_each_person_sees_their_own(demo: Demo) -> None:
    def stores(who: str | None) -> list[str]:
        with demo.client(who) as client:
            return [file["address"] for file in client.get("/api/files").json()["files"]]

    assert stores(None) == ["notices/", "tables/"]
    assert stores("pilot-7") == ["charts/", "models/", "notices/", "tables/"]
    with demo.client("pilot-7") as pilot:
        folders = [file["name"] for file in pilot.get("/api/files?in=charts/").json()["files"]]
        assert folders == ["approach", "harbour", "soundings"], "drafts are under embargo"
        assert pilot.get("/get/charts/drafts/west-bank-2027.pdf").status_code == 404
    with demo.client("tern-lab") as lab:
        assert lab.get("/get/charts/approach/north-channel.pdf").status_code == 403
        readings = lab.get("/get/tables/gauges/tern-rock/2026-01.csv").text.splitlines()
    assert readings[0] == "time_utc,level_m,water_c"
    assert len(readings) == 1 + 31 * 144


def test_the_demos_rules_are_what_was_meant(demo: Demo) -> None:
    settings = str(demo.folder / "invio.toml")
    checked = run_invio("rules", "check", "--settings", settings, "--json")
    assert checked.returncode == 0, checked.stderr + checked.stdout
    expectations = json.loads(checked.stdout)["expectations"]
    assert len(expectations) >= 10
    assert all(one["met"] for one in expectations)
    assert {one["expected"] for one in expectations} == {"allowed", "refused"}


def test_curl_resumes_the_large_grid_byte_for_byte(demo: Demo, tmp_path: Path) -> None:
    original = demo.file("charts", "soundings/west-bank-5m.grid")
    target = tmp_path / "grid"
    half = original.stat().st_size // 2
    with original.open("rb") as source, target.open("wb") as file:
        file.write(source.read(half))
    header = f"Authorization: Bearer {demo.token('pilot-7')}"
    command = [
        "curl",
        "-sS",
        "-C",
        "-",
        "-H",
        header,
        "-o",
        str(target),
        "-w",
        "%{http_code}",
        f"{demo.url}/get/{GRID}",
    ]
    told = subprocess.run(command, capture_output=True, text=True, timeout=60)
    assert told.stdout == "206", told.stderr
    assert subprocess.run(["cmp", original, target]).returncode == 0


def test_a_browser_without_scripts_gets_the_file_by_a_link(demo: Demo, invio: Invio) -> None:
    made = invio(
        "link",
        "make",
        "charts/harbour/fuel pier.png",
        "--keys",
        demo.card["keys"],
        "--base",
        demo.url,
        "--until",
        "60s",
    )
    with demo.client() as browser:
        answer = browser.get(made.stdout.strip(), headers={"accept": "text/html,*/*"})
    assert answer.headers["content-disposition"] == 'attachment; filename="fuel pier.png"'
    assert answer.content == demo.file("charts", "harbour/fuel pier.png").read_bytes()


def test_an_archive_of_everything_a_pilot_has_is_sound(demo: Demo) -> None:
    with demo.client("pilot-7") as pilot:
        files = [
            "charts/approach/",
            "charts/harbour/",
            "notices/",
            "tables/tides/",
            "charts/soundings/inner-basin-1m.grid",
        ]
        told = pilot.post("/api/bundles", json={"files": files, "name": "watch"}).json()
        content = pilot.get(told["url"]).content
    assert len(content) == told["size"]
    with zipfile.ZipFile(io.BytesIO(content)) as archive:
        assert archive.testzip() is None
        assert len(archive.namelist()) == told["entries"]
        assert "approach/Södra leden – översikt.pdf" in archive.namelist()
        assert "approach/潮汐観測所 配置図.png" in archive.namelist()


def test_starting_again_keeps_the_data_and_fresh_makes_it_anew(tmp_path: Path) -> None:
    folder = tmp_path / "demo"

    def run(*more: str) -> tuple[dict[str, object], float, int]:
        process = subprocess.Popen(
            [INVIO, "demo", "--port", "0", "--data", str(folder), *more],
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
        )
        began = time.perf_counter()
        assert process.stdout is not None
        assert process.stdout.readline().startswith("ready: ")
        took = time.perf_counter() - began
        card = json.loads((folder / "demo.json").read_text())
        process.send_signal(signal.SIGINT)
        return card["people"], took, process.wait(20)

    first, _, status = run()
    grid = folder / "files" / "charts" / "soundings" / "inner-basin-1m.grid"
    content = grid.read_bytes()
    again, took, _ = run()
    assert (status, again == first) == (0, True)
    assert took < 20
    fresh, _, _ = run("--fresh")
    assert fresh != first
    assert grid.read_bytes() == content, "the same seed gives the same data"


def test_a_folder_that_is_not_the_demo_s_is_left_alone(tmp_path: Path) -> None:
    (tmp_path / "precious.txt").write_text("mine")
    ended = run_invio("demo", "--port", "0", "--data", tmp_path, "--fresh")
    assert ended.returncode == 1
    assert "not a folder of the demo's" in ended.stderr
    assert (tmp_path / "precious.txt").read_text() == "mine"


ONE_OF_EACH = {
    "notices": "notices/2026/002-dredging.pdf",
    "charts": "charts/soundings/inner-basin-1m.grid",
    "tables": "tables/gauges/tern-rock/2026-02.jsonl",
    "models": "models/west-bank/sea-floor.grid",
    "gauges": "gauges/pier/2026-02-12.dump",
    "archive": "archive/surveys/1998/single-beam.grid",
}


@pytest.mark.parametrize("store", ONE_OF_EACH)
def test_a_file_of_each_store_is_listed_fetched_resumed_bundled_and_linked(
    demo: Demo, invio: Invio, tmp_path: Path, store: str
) -> None:
    """By the command line, and so by the client library."""
    address = ONE_OF_EACH[store]
    name = address.rpartition("/")[2]
    where = ("--url", demo.url, "--token", demo.token("harbour-office"))
    listed = json.loads(invio("files", address.rpartition("/")[0] + "/", *where, "--json").stdout)
    assert address in [file["address"] for file in listed["files"]]
    fetched = invio("fetch", address, *where, "-o", str(tmp_path / name), "-q")
    assert fetched.returncode == 0, fetched.stderr
    content = (tmp_path / name).read_bytes()
    with demo.client("harbour-office") as office:
        whole = office.get(f"/get/{address}", headers={"accept-encoding": "identity"}, follow_redirects=True)
        assert whole.content == content
        fields = {"range": f"bytes={len(content) // 2}-", "if-range": whole.headers["etag"]}
        rest = office.get(f"/get/{address}", headers={**fields, "accept-encoding": "identity"}, follow_redirects=True)
        assert (rest.status_code, rest.content) == (206, content[len(content) // 2 :])
    bundled = invio("bundle", address, *where, "-o", str(tmp_path / "all.zip"), "-q")
    assert bundled.returncode == 0, bundled.stderr
    with zipfile.ZipFile(tmp_path / "all.zip") as archive:
        assert archive.read(name) == content
    made = invio("link", "make", address, "--keys", demo.card["keys"], "--base", demo.url, "--until", "60s")
    linked = invio("fetch", made.stdout.strip(), "-o", str(tmp_path / "linked"), "-q")
    assert linked.returncode == 0, linked.stderr
    assert (tmp_path / "linked").read_bytes() == content


def test_files_say_what_they_are_about_and_charts_have_renditions(demo: Demo) -> None:
    with demo.client("tern-lab") as lab:
        dumps = lab.get("/api/files?in=gauges/tern-rock/").json()["files"]
        assert dumps[2]["description"] == "Weeks 5 and 6, after the battery was changed"
        assert dumps[2]["about"] == {"station": "tern-rock", "firmware": "3.2"}
    with demo.client("pilot-7") as pilot:
        thumb = pilot.get("/get/charts/approach/north-channel.png?rendition=thumb")
    assert thumb.headers["content-type"] == "image/webp"
    with Image.open(io.BytesIO(thumb.content)) as image:
        assert image.size == (320, 240)

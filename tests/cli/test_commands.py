"""The command line as it is typed: what it prints, what it leaves, and how it ends."""

from __future__ import annotations

import json
import os
import pty
import re
import subprocess
import tarfile
import time
import unicodedata
import zipfile
from collections.abc import Callable
from pathlib import Path

import pytest

from tests import running
from tests.rules import rule
from tests.running import INVIO, Service

Invio = Callable[..., subprocess.CompletedProcess[str]]
RULES = (
    rule("group:crew", "files/charts/**", "list read bundle", "crew reads charts")
    + rule("group:crew", "files/charts/drafts/**", "read bundle", "drafts are secret", effect="deny")
    + rule("group:admins", "**", "list read bundle link put manage", "admins have everything")
)
BIG = os.urandom(3_000_000)


@pytest.fixture(scope="module")
def service(start_shared: Callable[..., Service]) -> Service:
    files = {"charts/north.pdf": b"n" * 2000, "charts/drafts/w.pdf": b"w", "charts/Å – 潮.txt": b"x", "big.bin": BIG}
    settings = running.SETTINGS + '\n[stores.up]\nkind = "managed"\nroot = "up"\n'
    return start_shared(files=files, rules=RULES, settings=settings)


@pytest.fixture
def own(start: Callable[..., Service]) -> Service:
    """One that a test may alter or end, or in which nothing else is to have happened."""
    files = {"charts/north.pdf": b"n" * 2000, "charts/drafts/w.pdf": b"w", "charts/Å – 潮.txt": b"x", "big.bin": BIG}
    return start(files=files, rules=RULES)


@pytest.fixture
def ann(invio: Invio, service: Service) -> Invio:
    return lambda *arguments: invio(*arguments, url=service.url, token=service.tokens["ann"])


@pytest.fixture
def bob(invio: Invio, service: Service) -> Invio:
    return lambda *arguments: invio(*arguments, url=service.url, token=service.tokens["bob"])


def test_files_lists_what_one_may_see(ann: Invio, bob: Invio) -> None:
    assert ann("files").stdout.splitlines()[1].split() == ["files/"]
    lines = ann("files", "files/").stdout.splitlines()
    assert lines[0].split() == ["address", "size", "modified", "(UTC)", "type"]
    assert lines[1].split() == ["files/charts/"]
    assert lines[2].startswith("files/big.bin")
    assert "2.9 MiB" in lines[2]
    assert "application/octet-stream" in lines[2]
    assert "big.bin" not in bob("files", "files/").stdout
    told = json.loads(bob("files", "files/charts/", "--json").stdout)["files"]
    assert [file["name"] for file in told] == ["drafts", "north.pdf", "Å – 潮.txt"]
    assert json.loads(bob("files", "files/charts/north.pdf", "--json").stdout)["files"][0]["size"] == 2000


def test_fetch_saves_under_the_names_and_says_so(ann: Invio, tmp_path: Path) -> None:
    ended = ann("fetch", "files/big.bin", "files/charts/Å – 潮.txt")
    assert (ended.returncode, ended.stdout) == (
        0,
        "big.bin: 2.9 MiB, SHA-256 verified\nÅ – 潮.txt: 1 B, SHA-256 verified\n",
    )
    assert (tmp_path / "big.bin").read_bytes() == BIG
    assert "100 %" in ended.stderr
    (tmp_path / "out").mkdir()
    told = json.loads(ann("fetch", "files/big.bin", "-o", "out", "--json").stdout)
    assert told["files"][0]["path"] == "out/big.bin"
    assert ann("fetch", "files/big.bin", "-o", "renamed.bin").stdout == "renamed.bin: 2.9 MiB, SHA-256 verified\n"


def test_fetch_writes_out_makes_folders_and_is_quiet(ann: Invio, tmp_path: Path) -> None:
    assert ann("fetch", "files/charts/north.pdf", "-o", "-", "--quiet").stdout == "n" * 2000
    assert not (tmp_path / "-").exists()
    quiet = ann("fetch", "files/charts/north.pdf", "-o", "new/folder/", "-q")
    assert (quiet.returncode, quiet.stdout, quiet.stderr) == (0, "", "")
    assert (tmp_path / "new/folder/north.pdf").stat().st_size == 2000
    again = ann("fetch", "files/charts/north.pdf", "-o", "new/folder/")
    assert (again.returncode, "is there already" in again.stderr) == (1, True)
    left = ann("fetch", "files/charts/north.pdf", "-o", "new/folder/", "--skip")
    assert (left.returncode, left.stdout) == (0, "new/folder/north.pdf: is there already, and was left as it is\n")
    (tmp_path / "new/folder/north.pdf").write_bytes(b"old")
    assert ann("fetch", "files/charts/north.pdf", "-o", "new/folder/north.pdf", "--overwrite").returncode == 0
    assert (tmp_path / "new/folder/north.pdf").stat().st_size == 2000
    assert ann("bundle", "files/charts/", "-o", "-").stdout.startswith("PK")


def test_of_several_files_the_refused_are_named_and_the_others_fetched(bob: Invio, tmp_path: Path) -> None:
    sources = ("files/charts/north.pdf", "files/charts/drafts/w.pdf", "files/charts/Å – 潮.txt")
    ended = bob("fetch", *sources)
    assert ended.returncode == 1
    assert [line.partition(":")[0] for line in ended.stdout.splitlines()] == ["north.pdf", "Å – 潮.txt"]
    assert "Error: the rules do not let bob read files/charts/drafts/w.pdf (not-allowed)" in ended.stderr
    told = json.loads(bob("fetch", *sources, "-o", "again/", "--json").stdout)["files"]
    assert [one["source"] for one in told] == list(sources)
    assert [one.get("error", {}).get("reason") for one in told] == [None, "not-allowed", None]
    alone = bob("fetch", sources[1])
    assert (alone.returncode, alone.stderr.count("\n"), alone.stderr[:7]) == (1, 1, "Error: ")


def test_an_empty_token_and_other_wrong_words_are_refused_in_words(ann: Invio, invio: Invio, service: Service) -> None:
    for arguments, says in (
        (("files", "/files/"), "leave out the first slash of '/files/'"),
        (("fetch", "ftp://a/b"), "only http:// and https:// can be fetched"),
        (("fetch", "files/big.bin", "--skip", "--overwrite"), "not both"),
        (("fetch", "files/big.bin", "--retries", "many"), "'many' is not a valid integer"),
    ):
        ended = ann(*arguments)
        assert (ended.returncode, says in ended.stderr) == (2, True), ended.stderr
    ended = invio("files", url=service.url, token="")
    assert (ended.returncode, "the token is empty" in ended.stderr) == (2, True), ended.stderr


def test_a_reader_that_has_enough_ends_a_command_quietly(service: Service) -> None:
    command = f"'{INVIO}' files files/ --url {service.url} --token {service.tokens['ann']} --json | head -c 1"
    ended = subprocess.run(["bash", "-o", "pipefail", "-c", command], capture_output=True, text=True, timeout=20)
    assert (ended.stdout, ended.stderr) == ("{", "")


def test_fetch_goes_on_where_it_was_killed(ann: Invio, own: Service, tmp_path: Path) -> None:
    link = own.url + own.link("files/big.bin", {"to": "bob"}, rate=3_000_000)
    first = subprocess.Popen([INVIO, "fetch", link], cwd=tmp_path, stderr=subprocess.DEVNULL)
    part = tmp_path / "big.bin.part"
    for _ in range(100):
        if part.exists() and part.stat().st_size > 500_000:
            break
        time.sleep(0.05)
    first.kill()
    first.wait()
    assert not (tmp_path / "big.bin").exists()
    again = ann("fetch", link)
    assert again.returncode == 0, again.stderr
    assert "were there already" in again.stdout
    assert (tmp_path / "big.bin").read_bytes() == BIG
    assert sorted(path.name for path in tmp_path.glob("big*")) == ["big.bin"]
    [shown] = own.transfers()
    assert (shown["requests"], shown["state"], shown["bytes"]) == (2, "complete", len(BIG))


def test_a_terminal_sees_the_download_move(service: Service, tmp_path: Path) -> None:
    near, far = pty.openpty()
    environment = {**os.environ, "TERM": "xterm", "COLUMNS": "120", "LINES": "30"}
    link = service.url + service.link("files/big.bin", rate=2_000_000)
    process = subprocess.Popen([INVIO, "fetch", link], cwd=tmp_path, env=environment, stdout=far, stderr=far)
    os.close(far)
    seen = b""
    try:
        while piece := os.read(near, 65536):
            seen += piece
    except OSError:
        pass
    assert process.wait(10) == 0
    shown = {float(text.split()[-1]) for text in seen.decode().split(" %")[:-1]}
    assert len(shown) >= 4
    assert max(shown) == 100.0
    assert re.search(r"\d [KM]iB/s", seen.decode())
    assert "left" in seen.decode()


def test_bundle_saves_one_archive(bob: Invio, tmp_path: Path) -> None:
    ended = bob("bundle", "files/charts/north.pdf", "files/charts/Å – 潮.txt", "-o", "trip.zip")
    assert ended.returncode == 0, ended.stderr
    assert ended.stdout.startswith("trip.zip: 2 files, ")
    assert zipfile.ZipFile(tmp_path / "trip.zip").namelist() == ["north.pdf", "Å – 潮.txt"]
    refused = bob("bundle", "files/charts/", "files/none")
    assert refused.returncode == 1
    assert "files/charts/drafts/w.pdf" in refused.stderr
    assert "files/none" in refused.stderr


def test_why_gives_the_rules_that_spoke(ann: Invio, bob: Invio) -> None:
    told = ann("why", "files/charts/drafts/w.pdf", "--as", "bob").stdout.splitlines()
    assert [ann("why", "files/big.bin", "--as", who).returncode for who in ("ann", "anyone")] == [0, 3]
    assert told[0] == "bob (crew) may not read files/charts/drafts/w.pdf"
    assert told[2].split() == ["×", "denies", "drafts", "are", "secret", "9", "it", "applies"]
    assert told[3].startswith("+ allows")
    assert "bob is not group:admins" in told[4]
    assert "may read" in bob("why", "files/charts/north.pdf").stdout
    assert json.loads(ann("why", "files/big.bin", "--as", "anyone", "--json").stdout)["allowed"] is False


def test_transfers_lists_what_was_delivered(ann: Invio, bob: Invio) -> None:
    bob("fetch", "files/charts/north.pdf")
    line = ann("transfers").stdout.splitlines()[1]
    assert line.split()[:3] == ["✓", "complete", "100"]
    assert line.split()[-3:-1] == ["bob", "files/charts/north.pdf"]
    told = json.loads(ann("transfers", "--json").stdout)["transfers"][0]
    assert told["state"] == "complete"
    assert line.split()[-1] == told["id"], "other commands take it"


@pytest.mark.parametrize(
    ("arguments", "status", "says"),
    [
        (["files", "none/"], 1, "(missing)"),
        (["fetch", "files/none"], 1, "there is no file files/none that you have access to (missing)"),
        (["fetch", "files/../x"], 2, "not an address"),
        (["fetch"], 2, "Missing argument"),
        (["fetch", "files/a", "files/b", "-o", "one-name"], 2, "several files need a folder"),
        (["fetch", "files/big.bin", "-o", "no/such/folder"], 2, "there is no folder no/such"),
        (["files", "--colour"], 2, "No such option"),
        (["why", "files/x", "--action", "eat"], 2, "is not one of"),
        (["link", "make", "files/x"], 1, "there is no such key file; 'invio keys new' creates one"),
    ],
)
def test_the_exit_status_tells_a_no_from_a_wrong_call(ann: Invio, arguments: list[str], status: int, says: str) -> None:
    ended = ann(*arguments)
    assert (ended.returncode, says in ended.stderr) == (status, True), ended.stderr
    assert "Traceback" not in ended.stderr


def test_a_wrong_token_and_a_missing_service_are_told_apart(invio: Invio, service: Service) -> None:
    assert "(bad-token)" in invio("files", url=service.url, token="wrong").stderr
    gone = invio("files", url="http://127.0.0.1:9", token="x")
    assert (gone.returncode, "no service answers at http://127.0.0.1:9" in gone.stderr) == (1, True)


def test_a_bundle_goes_on_where_it_was_killed(start: Callable[..., Service], invio: Invio, tmp_path: Path) -> None:
    files = {f"{n}.bin": os.urandom(1_000_000) for n in range(4)}
    service = start(files=files, settings=running.SETTINGS + "[limits]\nrecipient_rate = 1500000\n")
    command = ["bundle", "files/", "-o", "all.zip"]
    environment = {**os.environ, "INVIO_URL": service.url, "INVIO_TOKEN": service.tokens["bob"]}
    first = subprocess.Popen([INVIO, *command], cwd=tmp_path, env=environment, stderr=subprocess.DEVNULL)
    part = tmp_path / "all.zip.part"
    running.until(lambda: part.exists() and part.stat().st_size > 700_000)
    first.kill()
    first.wait()
    again = invio(*command, "--json", url=service.url, token=service.tokens["bob"])
    assert again.returncode == 0, again.stderr
    assert json.loads(again.stdout)["resumed"] > 600_000, "another bundle, of the same bytes"
    with zipfile.ZipFile(tmp_path / "all.zip") as opened:
        assert {name: opened.read(name) for name in opened.namelist()} == {
            f"files/{name}": content for name, content in files.items()
        }


def test_a_bundle_tells_what_it_went_without(ann: Invio, tmp_path: Path) -> None:
    done = ann("bundle", "files/big.bin", "files/none.txt", "--name", "x.tar", "--flatten", "--sums", "--leave-out")
    assert done.returncode == 0, done.stderr
    assert "left out: files/none.txt (missing)" in done.stdout
    with tarfile.open(tmp_path / "x.tar") as opened:
        assert opened.getnames() == ["big.bin", "SHA256SUMS", "LEFT-OUT.txt"]


@pytest.mark.parametrize(
    "line",
    ["why {} --as bob", "why files/ --as {}", "link revoke {}", "link list --made-by {}", "transfers {}", "receipt {}",
     "history --address {}", "audit --by {}", "quotas show {}", "webhooks try {}"],
)  # fmt: skip
def test_an_argument_that_is_not_utf_8_is_named(ann: Invio, line: str) -> None:
    told = ann(*(word.format("a\udcff") for word in line.split()))
    assert told.returncode == 2
    assert "it holds bytes that are not UTF-8" in told.stderr


@pytest.mark.parametrize("url", ["http://a..b", f"http://{'a' * 64}.example", "http://:80"])
def test_a_url_without_the_name_of_a_host_is_none(invio: Invio, url: str) -> None:
    told = invio("files", "--url", url)
    assert (told.returncode, "is no name of a host" in told.stderr) == (2, True)
    told = invio("fetch", f"{url}/get/files/a.txt")
    assert (told.returncode, "is no URL" in told.stderr) == (2, True)
    invio("init", "--dir", "here")
    told = invio("serve", "--settings", "here/invio.toml", "--host", url.partition("//")[2])
    assert (told.returncode, "to listen on" in told.stderr) == (1, True)


def test_what_an_encoding_cannot_hold_is_written_as_an_escape(service: Service) -> None:
    reach = {"INVIO_URL": service.url, "INVIO_TOKEN": service.tokens["ann"]}

    def run(encoding: str, *given: str) -> bytes:
        environment = {**os.environ, **reach, "PYTHONIOENCODING": encoding}
        return subprocess.run([INVIO, *given], env=environment, capture_output=True, check=True).stdout

    assert b"charts/\\xc5 \\u2013 \\u6f6e.txt" in run("ascii", "files", "files/charts/")
    latin = run("latin-1", "files", "files/charts/", "--json")
    [there] = [one for one in json.loads(latin)["files"] if one["address"].startswith("files/charts/Å")]
    assert there["address"] == "files/charts/Å – 潮.txt"
    assert "Å – 潮".encode() in run("utf-8", "files", "files/charts/", "--json")


def test_more_lines_than_there_can_be_are_refused(ann: Invio) -> None:
    for command in ("history", "audit"):
        assert ann(command, "--limit", "1000000000").returncode == 0
        told = ann(command, "--limit", "99999999999999999999")
        assert (told.returncode, "'--limit'" in told.stderr) == (2, True)


def test_of_many_files_the_last_few_bars_are_seen_with_how_many_there_are(
    own: Service, invio: Invio, tmp_path: Path
) -> None:
    (tmp_path / "many").mkdir()
    for number in range(30):
        (tmp_path / "many" / f"{number:02}").write_bytes(b"x")
    told = invio("fetch", *(["files/charts/north.pdf"] * 30), "--overwrite", url=own.url, token=own.tokens["ann"])
    assert told.returncode == 0
    bars = [line for line in told.stderr.splitlines() if "━" in line]
    assert [bar.partition(":")[0] for bar in bars] == [f"{number} of 30" for number in range(23, 31)]
    own.stop()
    lost = invio("put", "many", "files/many/", "--retries", "0", url=own.url, token=own.tokens["ann"])
    first, rest = lost.stderr.splitlines()
    assert first.startswith("Error: no service answers at ")
    assert rest == "Error: 29 more were not tried, because the service did not answer before"
    lost = invio("put", "many", "files/many/", "--retries", "0", "--json", url=own.url, token=own.tokens["ann"])
    assert len(json.loads(lost.stdout)["files"]) == 30


def test_of_a_folder_its_own_files_are_put_under_names_in_one_form(ann: Invio, tmp_path: Path) -> None:
    folder = tmp_path / "sea"
    (folder / "deep").mkdir(parents=True)
    (folder / "deep" / "o\u0308.txt").write_text("decomposed")
    (tmp_path / "secret.txt").write_text("not of the folder")
    (folder / "link.txt").symlink_to(tmp_path / "secret.txt")
    (folder / "loop").symlink_to("loop")
    (folder / "deep" / "outside").symlink_to(tmp_path)
    os.mkfifo(folder / "pipe")
    told = ann("put", "sea", "up/u\u0308/", "--json")
    assert told.returncode == 0, told.stderr
    assert json.loads(told.stdout)["files"][0]["address"] == "up/\u00fc/deep/\u00f6.txt"
    assert len(json.loads(told.stdout)["files"]) == 1
    left = [line.removeprefix("left out: ") for line in told.stderr.splitlines() if line.startswith("left out: ")]
    assert left == [
        "sea/deep/outside, which is a link",
        "sea/link.txt, which is a link",
        "sea/loop, which is a link",
        "sea/pipe, which is no regular file",
    ]
    (folder / "deep" / "\u00f6.txt").write_text("composed")
    told = ann("put", "sea", "up/u/")
    assert told.returncode == 2
    assert "would both be put as 'up/u/deep/\u00f6.txt'" in " ".join(told.stderr.split())


@pytest.mark.parametrize(
    "line", ["files {}", "why {}", "link make {} --service", "link make {} --service --in files/charts/ --only {}",
             "fetch {} --output -", "bundle {} --output -"]
)  # fmt: skip
def test_addresses_are_typed_in_whichever_form_a_system_writes_them(ann: Invio, service: Service, line: str) -> None:
    typed = unicodedata.normalize("NFD", "files/charts/Å – 潮.txt")
    assert typed != "files/charts/Å – 潮.txt"
    base = ("--base", service.url) if "link make" in line else ()
    done = ann(*[typed if word == "{}" else word for word in line.split()], *base)
    assert done.returncode == 0, done.stderr


def test_which_file_has_no_address_is_said_and_nothing_is_put(ann: Invio, tmp_path: Path) -> None:
    (tmp_path / "folder").mkdir()
    for name in ("a.txt", "b\n.txt"):
        (tmp_path / "folder" / name).write_text("x")
    told = ann("put", "folder", "files/")
    assert told.returncode == 2
    assert "folder/b" in told.stderr
    assert "it cannot be put as" in told.stderr

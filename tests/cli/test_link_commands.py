"""`invio link`, offline: made, explained and narrowed with a key file and nothing else."""

from __future__ import annotations

import json
import subprocess
import time
from collections.abc import Callable
from pathlib import Path

import pytest

from tests.running import SETTINGS

Invio = Callable[..., subprocess.CompletedProcess[str]]
VECTORS = json.loads((Path(__file__).parents[1] / "core" / "link-vectors.json").read_text("utf-8"))


@pytest.fixture
def keys(tmp_path: Path) -> str:
    path = tmp_path / "keys.json"
    path.write_text(json.dumps({"keys": VECTORS["keys"], "current": "k1"}))
    return str(path)


@pytest.mark.parametrize(
    "note", ["plain", "expired", "network differs", "signed in", "agent holds", "seal cut", "unknown key"]
)
def test_check_prints_the_reason_of_a_vector(invio: Invio, keys: str, note: str) -> None:
    vector = next(vector for vector in VECTORS["links"] if vector["note"] == note)
    asked = {**VECTORS["defaults"], **vector}
    arguments = ["--at", str(asked["at"]), "--from", asked["ip"], "--agent", asked["agent"]]
    if asked["caller"]:
        arguments += ["--caller", asked["caller"]]
    ended = invio("link", "check", asked["url"], "--keys", keys, *arguments, "--json")
    assert json.loads(ended.stdout)["reason"] == vector["expect"]
    assert ended.returncode == (0 if vector["expect"] == "ok" else 1)


def test_make_check_and_narrow_follow_one_another(invio: Invio, keys: str) -> None:
    made = invio(
        "link", "make", "charts/Södra leden.pdf", "--keys", keys, "--base", "https://files.example", "--in", "charts/",
        "--to", "pilot-7", "--as", "inline", "--until", "2h", "--net", "127.0.0.0/8",
    )  # fmt: skip
    assert made.returncode == 0, made.stderr
    url = made.stdout.strip()
    assert url.startswith(
        "https://files.example/get/charts/S%C3%B6dra%20leden.pdf?in=charts/&as=inline&to=pilot-7&key=k1&until="
    )
    words = invio("link", "check", url, "--keys", keys, "--from", "127.0.0.1")
    assert words.stdout.startswith("ok: the link is good\n  opens charts/, sealed with key k1\n")
    assert "UTC)" in words.stdout
    assert invio("link", "check", url, "--keys", keys).stdout.startswith("wrong-network")
    late = str(time.time() + 7300)
    assert invio("link", "check", url, "--keys", keys, "--at", late, "--from", "127.0.0.1").stdout.startswith("expired")
    narrowed = invio("link", "narrow", url, "--until", "1h", "--via", "deck hand", "--address", "charts/x.pdf")
    assert "/get/charts/x.pdf?" in narrowed.stdout
    told = json.loads(
        invio("link", "check", narrowed.stdout.strip(), "--keys", keys, "--from", "127.0.0.1", "--json").stdout
    )
    assert (told["reason"], abs(told["until"] - time.time() - 3600) < 60) == ("ok", True)
    for more, says in (
        (["--until", "1000"], "in the past"),
        (["--until", "1h", "--after", "2h"], "--after is not before --until"),
        (["--only", "notices/"], "the link opens charts/, and nothing of it is there"),
        (["--address", "notices/x.pdf"], "the link opens charts/, and notices/x.pdf is not in it"),
    ):
        refused = invio("link", "narrow", url, *more)
        assert (refused.returncode in (1, 2), says in refused.stderr) == (True, True), refused.stderr


def test_a_link_begins_with_the_public_url_of_the_settings(invio: Invio, keys: str, tmp_path: Path) -> None:
    (tmp_path / "invio.toml").write_text(f'[service]\npublic_url = "https://files.example"\n{SETTINGS}')
    assert invio("link", "make", "charts/x", "--keys", keys).stdout.startswith("https://files.example/get/charts/x?")
    refused = invio("link", "make", "charts/x", "--keys", keys, "--base", "files.example")
    assert (refused.returncode, "has no scheme" in refused.stderr) == (2, True)
    assert invio("keys", "new", "--keys", "fresh.json").stdout == "k1 seals new links now\n"
    assert invio("link", "make", "charts/x", "--keys", "fresh.json").returncode == 0


@pytest.mark.parametrize(
    ("arguments", "status", "says"),
    [
        (["make", "charts/x", "--uses", "3"], 2, "needs an id"),
        (["make", "charts/"], 2, "charts/ is a folder; name a file in it, and the folder as 'in' (--in)"),
        (["make", "charts/x", "--until", "soon"], 2, "nor a span"),
        (["make", "charts/x", "--net", "10.0.0.1/8"], 2, "net='10.0.0.1/8' is not possible; expected a network"),
        (["make", "charts/x", "--id", "a b"], 2, "expected 1 to 64 of A-Z"),
        (["make", "charts/x", "--rate", "4X"], 2, "'4X' is no number of bytes; expected one as 4000000 or 4M"),
        (["make", "charts/x", "--until", "2020-01-01"], 2, "is in the past"),
        (["check", "http://h/get/a/b?in=a/"], 1, "the link ends before its seal; copy all of it"),
        (["narrow", "http://h/get/a/b?key=k1&seal=x", "--via", "x"], 1, "(malformed)"),
        (["narrow", "http://h/get/a/b?key=k1&seal=x"], 2, "name a condition"),
    ],
)
def test_a_link_that_cannot_be_is_refused_in_words(
    invio: Invio, keys: str, arguments: list[str], status: int, says: str
) -> None:
    more = [] if arguments[0] == "narrow" else ["--keys", keys]
    ended = invio("link", *arguments, *more)
    assert (ended.returncode, says in ended.stderr + ended.stdout) == (status, True), ended.stderr


def test_times_may_be_given_in_three_ways(invio: Invio, keys: str) -> None:
    def until(text: str) -> int:
        ended = invio("link", "make", "charts/x", "--keys", keys, "--until", text, "--json")
        return int(json.loads(ended.stdout)["until"])

    assert until("1800000000") == 1_800_000_000
    assert until("2027-01-15T08:00Z") == until("2027-01-15T09:00+01:00") == 1_800_000_000
    assert abs(until("90m") - time.time() - 5400) < 30

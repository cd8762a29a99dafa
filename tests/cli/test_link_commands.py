"""`invio link`, offline: made, explained and narrowed with a key file and nothing else."""

from __future__ import annotations

import json
import subprocess
import time
from collections.abc import Callable
from pathlib import Path

import pytest

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
    narrowed = invio("link", "narrow", url, "--until", "1000", "--via", "deck hand", "--address", "charts/x.pdf")
    assert "/get/charts/x.pdf?" in narrowed.stdout
    told = json.loads(
        invio(
            "link", "check", narrowed.stdout.strip(), "--keys", keys, "--at", "999", "--from", "127.0.0.1", "--json"
        ).stdout
    )
    assert (told["reason"], told["until"]) == ("ok", 1000)


@pytest.mark.parametrize(
    ("arguments", "status", "says"),
    [
        (["make", "charts/x", "--uses", "3"], 2, "needs an id"),
        (["make", "charts/"], 2, "made for a file"),
        (["make", "charts/x", "--until", "soon"], 2, "nor a span"),
        (["make", "charts/x", "--net", "10.0.0.1/8"], 2, "net="),
        (["narrow", "http://h/get/a/b?key=k1&seal=x", "--via", "x"], 1, "(malformed)"),
        (["narrow", "http://h/get/a/b?key=k1&seal=x"], 2, "name a condition"),
    ],
)
def test_a_link_that_cannot_be_is_refused_in_words(
    invio: Invio, keys: str, arguments: list[str], status: int, says: str
) -> None:
    more = ["--keys", keys] if arguments[0] == "make" else []
    ended = invio("link", *arguments, *more)
    assert (ended.returncode, says in ended.stderr) == (status, True), ended.stderr


def test_times_may_be_given_in_three_ways(invio: Invio, keys: str) -> None:
    def until(text: str) -> int:
        ended = invio("link", "make", "charts/x", "--keys", keys, "--until", text, "--json")
        return int(json.loads(ended.stdout)["until"])

    assert until("1800000000") == 1_800_000_000
    assert until("2027-01-15T08:00Z") == until("2027-01-15T09:00+01:00") == 1_800_000_000
    assert abs(until("90m") - time.time() - 5400) < 30

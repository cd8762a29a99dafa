import json
import stat
from pathlib import Path

import pytest

from invio.core.links.keys import BadKeyFile, new_keys
from invio.service.configuration import read_keys, write_keys

KEY = "bSXPc0xJod0nPk2Pq19b240QmewF6P3Hwdc0d3ZIq3M"


def test_what_is_written_is_read_and_is_only_the_owner_s(tmp_path: Path) -> None:
    ring = new_keys("k1")
    write_keys(ring, tmp_path / "keys.json")
    assert read_keys(tmp_path / "keys.json") == ring
    assert stat.S_IMODE((tmp_path / "keys.json").stat().st_mode) == 0o600
    assert len(ring.keys["k1"]) == 32


@pytest.mark.parametrize(
    ("content", "says"),
    [
        ("{", "not readable as JSON"),
        ("[]", "expected"),
        ('{"keys": {}}', "expected"),
        (json.dumps({"keys": {"k1": "short"}, "current": "k1"}), "32 bytes"),
        (json.dumps({"keys": {"k 1": KEY}, "current": "k 1"}), "key id"),
        (json.dumps({"keys": {"k1": KEY}, "current": "k2"}), "must name one of the keys: k1"),
        (json.dumps({"keys": {"k1": KEY, "k2": KEY}}), "must name one of the keys"),
    ],
)
def test_a_key_file_that_cannot_be_used_says_why(tmp_path: Path, content: str, says: str) -> None:
    path = tmp_path / "keys.json"
    path.write_text(content)
    with pytest.raises(BadKeyFile, match=says):
        read_keys(path)


def test_one_key_alone_is_the_current_one(tmp_path: Path) -> None:
    (tmp_path / "keys.json").write_text(json.dumps({"keys": {"a": KEY}}))
    assert read_keys(tmp_path / "keys.json").current == "a"


def test_a_missing_key_file_says_what_makes_one(tmp_path: Path) -> None:
    with pytest.raises(BadKeyFile, match="invio keys new"):
        read_keys(tmp_path / "none.json")

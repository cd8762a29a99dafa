"""The house: each package that lists its modules lists all of them."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

import invio

ROOT = Path(invio.__file__).parent
LISTING = [
    path for path in sorted(ROOT.rglob("__init__.py")) if "\n- " in path.read_text("utf-8").partition('"""\n\n')[0]
]


@pytest.mark.parametrize("package", LISTING, ids=lambda path: path.parent.name)
def test_a_package_that_lists_its_modules_lists_all_and_no_others(package: Path) -> None:
    named = set(re.findall(r"`(\w+)`", package.read_text("utf-8").partition('"""')[2].partition('"""')[0]))
    there = {path.stem for path in package.parent.glob("*.py")} - {"__init__"}
    folders = {path.name for path in package.parent.iterdir() if path.is_dir()}
    assert there - named == set()
    assert named - there - folders - {"invio"} == set()


def test_most_packages_do() -> None:
    assert len(LISTING) >= 5

"""The house: each package that lists its modules lists all of them."""

from __future__ import annotations

import ast
import re
import subprocess
import sys
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


def loaded_by(modules: str, looked_for: set[str]) -> set[str]:
    program = f"import sys, {modules}; print(*sys.modules, sep='\\n')"
    ran = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, check=True)
    return set(ran.stdout.split()) & looked_for


def test_a_service_loads_nothing_that_it_does_not_need_yet() -> None:
    """Each takes megabytes of every process and a part of every start: the API, HTTP elsewhere, signatures, images."""
    late = {"httpx", "rich", "pygments", "jwt", "cryptography", "PIL", "xlsxwriter", "fsspec", "jinja2", "numpy"}
    late |= {"fastapi", "pydantic.v1", "invio.service.api", "invio.service.schemas"}
    assert loaded_by("invio.cli.serving, invio.service.run, invio.service.supervising", late) == set()


def test_what_waits_for_the_history_plans_and_stores_says_whose_it_is() -> None:
    """Else one caller's questions can take all threads of a pool: what is not said counts as nobody's."""
    unsaid = [
        f"{path.name}:{call.lineno}"
        for path in sorted((ROOT / "service").glob("*.py"))
        for call in ast.walk(ast.parse(path.read_text("utf-8")))
        if isinstance(call, ast.Call)
        and ast.unparse(call.func) in {"in_pool", "decided"}
        and ast.unparse(call.args[0]) in {"pool", "parts.pools.history", "parts.pools.planning"}
        and "whose" not in {given.arg for given in call.keywords}
    ]
    assert unsaid == []


def test_in_code_replies_load_no_records() -> None:
    assert loaded_by("invio; invio.FileReply", {"sqlalchemy", "invio.records", "invio.service"}) == set()

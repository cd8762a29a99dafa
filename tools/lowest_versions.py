"""Prints constraints for the lowest version of each package that the project says it runs with."""

from __future__ import annotations

import re
import tomllib
from pathlib import Path

project = tomllib.loads((Path(__file__).parents[1] / "pyproject.toml").read_text("utf-8"))["project"]
for requirement in [*project["dependencies"], *project["optional-dependencies"]["zstd"]]:
    named = re.match(r"([A-Za-z0-9_.-]+)(?:\[[^]]*\])?>=([0-9.]+)", requirement)
    if named is None:
        raise SystemExit(f"{requirement!r} names no lowest version; write it as name>=version")
    print(f"{named[1]}=={named[2]}")

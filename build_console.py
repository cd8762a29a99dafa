"""Build hook: a wheel carries the console, built from console/ when it is not there yet."""

from __future__ import annotations

import shutil
import subprocess
from pathlib import Path
from typing import Any

from hatchling.builders.hooks.plugin.interface import BuildHookInterface


class ConsoleHook(BuildHookInterface[Any]):
    """Runs the console's own build; an editable install leaves that to `make setup`."""

    def initialize(self, version: str, build_data: dict[str, Any]) -> None:
        """Has the console be built before it is packed."""
        built = Path(self.root, "src/invio/service/web/index.html")
        if version == "editable" or built.exists():
            return
        npm = shutil.which("npm")
        if npm is None:
            raise RuntimeError("the console needs Node.js 20 or newer to be built: install it and run this again")
        for command in (["ci", "--no-audit", "--no-fund"], ["run", "build"]):
            subprocess.run([npm, *command], cwd=Path(self.root, "console"), check=True)

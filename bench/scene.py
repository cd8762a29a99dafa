"""What the measurements are made on: a service's folder with large and small files, rules, and links."""

from __future__ import annotations

import os
import time
from pathlib import Path

from invio.core.addresses import parse_address
from invio.core.links.keys import KeyRing, new_keys
from invio.core.links.seals import link_target, make_link
from invio.records.database import open_database
from invio.service.configuration import write_keys

SMALL_FILES = 1000
SMALL = 4096  # bytes
MIB = 1024 * 1024

_SETTINGS = '[stores.files]\nkind = "directory"\nroot = "files"\n'
_RULES = """
[[rule]]
effect = "allow"
who = ["group:readers"]
what = ["files/**"]
actions = ["list", "read", "bundle"]

[[rule]]
effect = "allow"
who = ["anyone"]
what = ["files/large.bin"]
actions = ["read"]
"""


class Scene:
    """The folder, and the request targets for what is in it."""

    def __init__(self, folder: Path, large: int = 1024 * MIB) -> None:
        """Makes the files; `large` is the size of the large one, in bytes."""
        self.folder = folder
        self.files = folder / "files"
        self.files.mkdir()
        self.large = large
        (folder / "invio.toml").write_text(_SETTINGS)
        (folder / "rules.toml").write_text(_RULES)
        self._ring: KeyRing = new_keys()
        write_keys(self._ring, folder / "keys.json")
        # As 'invio init' does: the service finds its records as they should be.
        (folder / "data").mkdir()
        open_database(folder / "data" / "records.sqlite").dispose()
        block = os.urandom(MIB)
        with (self.files / "large.bin").open("wb") as file:
            for _ in range(large // MIB):
                file.write(block)
        for number in range(SMALL_FILES):
            (self.files / f"small-{number:04}.bin").write_bytes(os.urandom(SMALL))

    def sealed(self) -> list[str]:
        """A sealed link for each small file."""
        end = str(int(time.time()) + 3600)
        return [self._link(f"files/small-{number:04}.bin", [("until", end)]) for number in range(SMALL_FILES)]

    def slow_links(self) -> list[str]:
        return [self._link("files/large.bin", [("tag", f"reader-{number}")]) for number in range(SMALL_FILES)]

    def tagged(self, tag: str) -> str:
        """A link to the large file whose download may be followed."""
        return self._link("files/large.bin", [("tag", tag)])

    def slow_tagged(self, tag: str) -> str:
        """The same, at a speed at which a download lasts."""
        return self._link("files/large.bin", [("rate", "1000000"), ("tag", tag)], to=tag)

    def limited(self, rate: int) -> str:
        """A link to the large file, at so many bytes a second."""
        return self._link("files/large.bin", [("rate", str(rate))])

    def _link(self, address: str, conditions: list[tuple[str, str]], to: str = "bench") -> str:
        key = self._ring.keys[self._ring.current]
        return link_target(make_link(parse_address(address), self._ring.current, key, [("to", to)], conditions))

    def stock(self) -> list[str]:
        return [f"/stock/small-{number:04}.bin" for number in range(SMALL_FILES)]

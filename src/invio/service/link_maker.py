"""`invio.LinkMaker`: sealed links made in one's own code, with the key file and without asking the service."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from os import PathLike
from pathlib import Path

from invio.core.addresses import parse_address, quoted
from invio.core.links.keys import KeyRing
from invio.core.links.seals import link_target, make_link
from invio.core.links.terms import CONDITION_NAMES, ROOT
from invio.service.configuration import read_keys

Moment = int | float | datetime
Value = str | int | float | datetime | None
_MOMENTS = ("until", "after")


class LinkMaker:
    """Seals links for a service whose key file one has: `LinkMaker("keys.json", "https://files.example.org")`.

    Nothing is asked of the service, and its rules say nothing of such a link: it stands above them. The file is read
    again when it has changed, so that a new key is sealed with once the service has it.
    """

    def __init__(self, key_file: str | PathLike[str], base_url: str = "") -> None:
        """`base_url` is what links begin with, up to `/get/`; without one they begin with `/get/`.

        Raises:
            BadKeyFile: it cannot be read, or holds no keys.
        """
        self._path = Path(key_file)
        self._base = base_url.rstrip("/")
        self._read_at: tuple[int, int] | None = None
        self._ring = self._keys()

    def link(self, address: str, **terms: Value | Iterable[str]) -> str:
        """A link for the file at an address (`store/path`); the terms are those of the link format.

        Root parameters (`version`, `rendition`, `as_`, `name`, `id`, `to`, and `in_` for a folder that it opens) and
        conditions (`until` and `after` as Unix seconds or a datetime with its zone, `who`, `net`, `agent`, `uses`,
        `rate` in bytes a second, `via`, `tag`, `only`); a list where a condition comes more than once. None is as if
        it was not given.

        Raises:
            ValueError: a term is not one of these, or its value is not what the format allows.
        """
        root: list[tuple[str, str]] = []
        conditions: list[tuple[str, str]] = []
        for given, value in terms.items():
            name = given.rstrip("_")
            if name not in ROOT and name not in CONDITION_NAMES:
                known = ", ".join([*ROOT, *CONDITION_NAMES])
                raise ValueError(f"{given!r} is no term of a link; expected one of {known}")
            values = [value] if isinstance(value, str | int | float | datetime | None) else list(value)
            pairs = [(name, _text(name, one)) for one in values if one is not None]
            (root if name in ROOT else conditions).extend(pairs)
        ring = self._keys()
        try:
            made = make_link(parse_address(address), ring.current, ring.keys[ring.current], root, conditions)
        except Exception as error:
            raise ValueError(f"{address}: {error}") from None
        return self._base + link_target(made)

    def url(self, address: str) -> str:
        """The address of a file, without a seal: whoever asks for it needs rights of their own. Raises ValueError."""
        return f"{self._base}/get/{quoted(parse_address(address))}"

    def _keys(self) -> KeyRing:
        mark = None
        if self._path.exists():
            status = self._path.stat()
            mark = status.st_mtime_ns, status.st_ino
        if mark is None or mark != self._read_at:
            self._ring, self._read_at = read_keys(self._path), mark
        return self._ring


def _text(name: str, value: str | int | float | datetime) -> str:
    if isinstance(value, datetime):
        if value.tzinfo is None:
            raise ValueError(f"{name}: {value} has no time zone; give one, as in datetime.now(UTC)")
        value = value.timestamp()
    return str(int(value)) if name in _MOMENTS and not isinstance(value, str) else str(value)

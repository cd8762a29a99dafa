"""The key file: the keys that seal links, and which of them seals new ones.

JSON, so that programs in other languages read it:
`{"keys": {"<id>": "<base64url of 32 bytes>"}, "current": "<id>"}`.
"""

from __future__ import annotations

import base64
import json
import re
import secrets
from dataclasses import dataclass, field

from invio.core.errors import ConfigurationError

KEY_SIZE = 32  # bytes
_KEY_ID = re.compile(r"[A-Za-z0-9_-]{1,32}", re.ASCII)


class BadKeyFile(ConfigurationError):
    """The key file cannot be used; the message names the file and says what is wrong."""


@dataclass(frozen=True, slots=True)
class KeyRing:
    """`keys` maps an id to its 32 bytes; `current` is the id that seals new links."""

    keys: dict[str, bytes] = field(repr=False)
    current: str

    def with_new(self, name: str | None = None) -> KeyRing:
        """The ring with a key more, which seals new links; without a `name`, the first free one of k1, k2 and so on."""
        if name is None:
            name = next(f"k{number}" for number in range(1, len(self.keys) + 2) if f"k{number}" not in self.keys)
        return KeyRing({**self.keys, **new_keys(name).keys}, name)

    def without(self, name: str) -> KeyRing:
        """The ring without a key: every link that it sealed is refused. The current one is not to be taken out."""
        return KeyRing({other: key for other, key in self.keys.items() if other != name}, self.current)


def parse_keys(text: str, file: str) -> KeyRing:
    """Reads the text of a key file; `file` is the name that errors give.

    Raises:
        BadKeyFile: it is not JSON, or does not hold what it must.
    """
    try:
        data = json.loads(text)
    except (ValueError, RecursionError) as error:
        raise BadKeyFile(f"{file}: not readable as JSON: {error}") from None
    keys = data.get("keys") if isinstance(data, dict) else None
    if not isinstance(keys, dict) or not keys:
        raise BadKeyFile(f'{file}: expected {{"keys": {{"<id>": "<base64url of 32 bytes>"}}, "current": "<id>"}}')
    ring = {name: _key_bytes(file, name, text) for name, text in keys.items()}
    # A file with one key need not say which one is current.
    current = data.get("current", next(iter(ring)) if len(ring) == 1 else None)
    if not isinstance(current, str) or current not in ring:
        raise BadKeyFile(f"{file}: 'current' must name one of the keys: {', '.join(ring)}")
    return KeyRing(ring, current)


def is_key_id(name: str) -> bool:
    """Whether a key can be called so."""
    return _KEY_ID.fullmatch(name) is not None


def _key_bytes(file: str, name: str, text: object) -> bytes:
    if not is_key_id(name):
        raise BadKeyFile(f"{file}: key id {name!r} must be 1 to 32 characters of A-Z a-z 0-9 _ -")
    try:
        key = base64.urlsafe_b64decode(str(text) + "=" * (-len(str(text)) % 4))
    except ValueError:
        key = b""
    if len(key) != KEY_SIZE:
        raise BadKeyFile(f"{file}: key {name!r} must be the base64url of {KEY_SIZE} bytes")
    return key


def new_keys(name: str = "k1") -> KeyRing:
    """A key ring with one new key of 32 random bytes, which seals new links."""
    return KeyRing({name: secrets.token_bytes(KEY_SIZE)}, name)


def keys_text(ring: KeyRing, file: str) -> str:
    """The text of a key file; `file` is the name that errors give.

    Raises:
        BadKeyFile: what would be written could not be read again.
    """
    for name, key in ring.keys.items():
        if not is_key_id(name) or len(key) != KEY_SIZE:
            raise BadKeyFile(
                f"{file}: key id {name!r} must be 1 to 32 characters of A-Z a-z 0-9 _ -, of {KEY_SIZE} bytes"
            )
    if ring.current not in ring.keys:
        raise BadKeyFile(f"{file}: 'current' must name one of the keys: {', '.join(ring.keys)}")
    keys = {name: base64.urlsafe_b64encode(key).rstrip(b"=").decode() for name, key in ring.keys.items()}
    return json.dumps({"keys": keys, "current": ring.current}, indent=2) + "\n"

"""The files of keys and of rules, as they lie on the disk; what is in them is read by the core."""

from __future__ import annotations

import os
import time
from collections.abc import Collection
from pathlib import Path

from invio.core.links.keys import BadKeyFile, KeyRing, keys_text, parse_keys
from invio.core.rules.decisions import RuleSet
from invio.core.rules.file import BadRules, parse_rules


def read_keys(path: str | Path) -> KeyRing:
    """Reads a key file.

    Raises:
        BadKeyFile: it is missing, is not JSON, or does not hold what it must.
    """
    try:
        text = Path(path).read_text("utf-8")
    except FileNotFoundError:
        raise BadKeyFile(f"{path}: there is no such key file; 'invio keys new' creates one") from None
    except (OSError, ValueError) as error:
        raise BadKeyFile(f"{path}: the key file cannot be read: {error}") from None
    return parse_keys(text, str(path))


def write_keys(ring: KeyRing, path: str | Path) -> None:
    """Writes a key file that only its owner may read, whole or not at all.

    Raises:
        BadKeyFile: what would be written could not be read again; nothing was written.
        OSError: it cannot be written; the file before it is as it was.
    """
    target = Path(path)
    text = keys_text(ring, str(path))
    partial = target.with_name(target.name + ".new")
    partial.unlink(missing_ok=True)
    descriptor = os.open(partial, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    with os.fdopen(descriptor, "w", encoding="utf-8") as file:
        file.write(text)
        file.flush()
        os.fsync(file.fileno())
    os.replace(partial, target)


def read_rules(path: str | Path, stores: Collection[str] = ()) -> RuleSet:
    """Reads a rules file; `stores` are the stores that patterns may name (none: any).

    Raises:
        BadRules: the file is missing, is not TOML, or says something that is no rule.
    """
    try:
        text = Path(path).read_text("utf-8")
    except OSError as error:
        raise BadRules.at(str(path), 1, f"the rules file cannot be read: {error.strerror}") from None
    except UnicodeDecodeError:
        raise BadRules.at(str(path), 1, "the rules file is not UTF-8 text") from None
    return parse_rules(text, str(path), stores).under(clock=time.time)

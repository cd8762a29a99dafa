"""Backup and restore: the records and the contents that fit each other, in one TAR file (POSIX pax).

A backup is made while the service runs. The records are copied first, in one transaction; then the contents that they
know, which never change. What was removed in between is not there any more: it is left out of the copy, too.

The archive holds `backup.json` (what it is and when it was made), `settings/` (settings, rules, keys), `records.sqlite`
and `stores/NAME/` with each managed store's contents and its `versions.jsonl`. It has the keys and everybody's hashes
in it, and is its owner's alone.
"""

from __future__ import annotations

import hashlib
import json
import os
import sqlite3
import tarfile
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path

from invio.core.errors import ConfigurationError
from invio.core.version import VERSION
from invio.records.database import open_database
from invio.records.versions import RESTORED
from invio.service.settings import Settings, read_settings
from invio.service.store_settings import ManagedSettings
from invio.service.unfinished import unfinished

_ABOUT, _RECORDS, _SETTINGS, _STORES = "backup.json", "records.sqlite", "settings", "stores"
_FORMAT = "invio-backup-1"
_NOTES = ("store.json", "versions.jsonl")
_READ = 1024 * 1024  # bytes

Progress = Callable[[str, int, int], None]  # what is written now, and how many contents of how many are


class BackupFault(ConfigurationError):
    """A backup cannot be made or put back; the message says why and what to do."""


@dataclass(frozen=True, slots=True)
class Backup:
    """What a backup holds. `size` of the file in bytes; `left_out` contents that were removed while it was made."""

    path: Path
    size: int
    contents: int
    left_out: int


def back_up(settings: Settings, target: Path, progress: Progress = lambda *_: None) -> Backup:
    """Writes a backup of a service to `target`, whether the service runs or not.

    Raises:
        BackupFault: there is something of that name, no folder for it, or there are no records.
        OSError: it cannot be written; nothing is left of it then.
    """
    if os.path.lexists(target):
        raise BackupFault(f"{target} is there already; move it away, or name another")
    if not target.parent.is_dir():
        raise BackupFault(f"{target.parent}: there is no such folder; make it, or name another")
    if not settings.database.exists():
        raise BackupFault(f"{settings.database}: there are no records; start the service once, or correct 'data'")
    with unfinished(target.parent) as folder:
        copy, partial = folder / _RECORDS, folder / "backup.tar"
        _copy_records(settings.database, copy)
        with open(partial, "xb", opener=_private) as file:
            with tarfile.open(fileobj=file, mode="w|", format=tarfile.PAX_FORMAT) as archive:
                count, left_out = _write(archive, settings, copy, progress)
            file.flush()
            os.fsync(file.fileno())
        _give_name(partial, target)
    return Backup(target, target.stat().st_size, count, left_out)


def _give_name(partial: Path, target: Path) -> None:
    """Raises BackupFault: something has the name meanwhile."""
    try:
        os.link(partial, target)
    except OSError:
        if os.path.lexists(target):
            raise BackupFault(f"{target} was made by somebody else meanwhile; name another") from None
        os.rename(partial, target)  # not every file system has links


def _private(path: str, flags: int) -> int:
    return os.open(path, flags, 0o600)


def _copy_records(database: Path, target: Path) -> None:
    """A copy of the records as they are in one moment, with what is in the write-ahead log."""
    os.close(os.open(target, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600))
    with closing(sqlite3.connect(database)) as source, closing(sqlite3.connect(target)) as copy:
        source.backup(copy)
        copy.execute("PRAGMA journal_mode=DELETE")
        if copy.execute("PRAGMA quick_check").fetchone() != ("ok",):
            raise BackupFault(f"{database}: the records are damaged; put an earlier backup back")


def _write(archive: tarfile.TarFile, settings: Settings, copy: Path, progress: Progress) -> tuple[int, int]:
    about = {"format": _FORMAT, "version": VERSION, "made": time.time(), "stores": sorted(_managed(settings))}
    names = {"invio.toml": settings.file, "rules.toml": settings.path(settings.service.rules)}
    names["keys.json"] = settings.path(settings.service.keys)
    for name, path in names.items():
        if path is not None and path.exists():
            archive.add(path, f"{_SETTINGS}/{name}")
    count = left_out = 0
    with closing(sqlite3.connect(copy)) as records:
        kept = list(_contents(records, settings))
        for store, root in _managed(settings).items():
            # Before the contents: what is noted there and has no content yet is of a put that came later.
            for note in _NOTES:
                if (root / note).exists():
                    archive.add(root / note, f"{_STORES}/{store}/{note}")
        for store, root, name in kept:
            path = root / name[:2] / name
            try:
                archive.add(path, f"{_STORES}/{store}/{name[:2]}/{name}")
                count += 1
            except FileNotFoundError:  # its version was removed while the backup was made
                records.execute(
                    "UPDATE versions SET removed = ? WHERE store = ? AND name = ?", (time.time(), store, name)
                )
                left_out += 1
            progress(f"{store}/{name}", count + left_out, len(kept))
        records.commit()
    archive.add(copy, _RECORDS)
    with tempfile.NamedTemporaryFile(dir=copy.parent) as file:
        file.write(json.dumps(about, indent=2).encode())
        file.flush()
        archive.add(file.name, _ABOUT)
    return count, left_out


def _managed(settings: Settings) -> dict[str, Path]:
    return {
        name: settings.path(store.root) for name, store in settings.stores.items() if isinstance(store, ManagedSettings)
    }


def _contents(records: sqlite3.Connection, settings: Settings) -> Iterator[tuple[str, Path, str]]:
    """Each content that the records know, once: its store, that store's folder, and its name."""
    for store, root in _managed(settings).items():
        query = "SELECT DISTINCT name FROM versions WHERE store = ? AND removed IS NULL ORDER BY name"
        for (name,) in records.execute(query, (store,)).fetchall():
            yield store, root, name


def restore(source: Path, folder: Path, progress: Progress = lambda *_: None) -> Settings:
    """Puts a backup back into a folder of its own; gives the settings of the service that is there then.

    Everything is unpacked beside it and checked, contents by their SHA-256, before anything gets its name. Version
    numbers that may have been given after the backup are passed over.

    Raises:
        BackupFault: it is no backup, or damaged; or the folder holds something. Nothing was changed.
        OSError: it cannot be read, or there is no room.
    """
    if folder.exists() and any(folder.iterdir()):
        raise BackupFault(f"{folder} is not empty; name a new folder, and move the service's settings over by hand")
    folder.parent.mkdir(parents=True, exist_ok=True)
    with unfinished(folder.parent) as unpacked:
        _unpack(source, unpacked)
        settings = _settled(unpacked)
        records = unpacked / _RECORDS
        engine = open_database(records)  # brought to the schema of today
        engine.dispose()
        with closing(sqlite3.connect(records)) as connection:
            _verify(connection, unpacked, progress)
            restored = "INSERT OR REPLACE INTO facts (name, value) VALUES (?, ?)"
            connection.execute(restored, (RESTORED, repr(time.time())))
            connection.commit()
        return _put_in_place(unpacked, folder, settings)


def _unpack(source: Path, target: Path) -> None:
    try:
        with tarfile.open(source, "r|") as archive:
            archive.extractall(target, filter="data")
        about = json.loads((target / _ABOUT).read_text("utf-8"))
    except (tarfile.TarError, ValueError, FileNotFoundError) as error:
        raise BackupFault(f"{source}: this is no whole backup of Invio's: {error}; use another one") from None
    if about.get("format") != _FORMAT:
        raise BackupFault(f"{source}: a backup of the format {about.get('format')!r}; this version reads {_FORMAT}")


def _settled(unpacked: Path) -> Settings:
    """The settings in a backup, with relative paths; others lie where they lay."""
    file = unpacked / _SETTINGS / "invio.toml"
    if not file.exists():
        raise BackupFault("the backup holds no settings: it is of a service that an application gave them to")
    return read_settings(file)


def _verify(connection: sqlite3.Connection, unpacked: Path, progress: Progress) -> None:
    """Compares each content with what the records know of it. Raises BackupFault."""
    query = "SELECT DISTINCT store, name, sha256 FROM versions WHERE removed IS NULL"
    rows = connection.execute(query).fetchall()
    for number, (store, name, sha256) in enumerate(rows, 1):
        path = unpacked / _STORES / store / name[:2] / name
        try:
            with open(path, "rb") as file:
                found = hashlib.file_digest(file, "sha256").digest()
        except FileNotFoundError:
            found = b""
        if found != bytes(sha256):
            raise BackupFault(f"the backup is damaged: a content of {store} is not what the records know; use another")
        progress(f"{store}/{name}", number, len(rows))


def _put_in_place(unpacked: Path, folder: Path, settings: Settings) -> Settings:
    folder.mkdir(mode=0o700, exist_ok=True)
    names = {"rules.toml": settings.service.rules, "keys.json": settings.service.keys}
    moves = [(unpacked / _SETTINGS / name, folder / place) for name, place in names.items()]
    moves.append((unpacked / _RECORDS, folder / settings.service.data / _RECORDS))
    for store, given in settings.stores.items():
        if isinstance(given, ManagedSettings):
            moves.append((unpacked / _STORES / store, folder / given.root))
    moves.append((unpacked / _SETTINGS / "invio.toml", folder / "invio.toml"))  # last: then it is a service
    for _, target in moves:
        if not target.resolve().is_relative_to(folder.resolve()):
            raise BackupFault(f"{target}: the settings name a place outside of {folder}; put that part back by hand")
    for origin, target in moves:
        if origin.exists():
            target.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
            os.rename(origin, target)
    for given in settings.stores.values():
        root = getattr(given, "root", None)
        if root is not None and not Path(root).is_absolute():
            (folder / root).mkdir(mode=0o700, parents=True, exist_ok=True)
    return read_settings(folder / "invio.toml")

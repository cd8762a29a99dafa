"""`invio scan` and `invio verify`: facts worked out ahead, and everything that is kept read once more.

Both work on a service's records and folders without asking it; it may run meanwhile.
"""

from __future__ import annotations

import hashlib
import os
import sqlite3
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from dataclasses import dataclass, field
from itertools import islice
from pathlib import Path

import sqlalchemy as sa

from invio.core.addresses import Address
from invio.core.readable import ContentChanged
from invio.delivery.archives.deflate_cache import DeflateCache
from invio.records.bundles import known_crcs, known_digests, save_crcs, save_digests
from invio.records.database import open_database, write
from invio.records.versions import VersionRecords
from invio.service.open_stores import open_stores
from invio.service.settings import Settings
from invio.service.store_settings import ManagedSettings
from invio.stores.arriving import crc32
from invio.stores.directory import DirectoryStore
from invio.stores.disk_cache import DiskCache
from invio.stores.sources import DiskFile, is_settled, read_through
from invio.stores.store import Found, Missing, Store, StoreFault, WalkableStore

# What is told of the progress: files that were looked at, and bytes that were read.
Report = Callable[[int, int], None]
_AT_ONCE = 256  # files that are looked up, and kept, together
_READ = 1024 * 1024  # bytes


@dataclass(slots=True)
class Scanned:
    """A scan's result: the number of files, how many were read, and their bytes."""

    files: int = 0
    read: int = 0
    size: int = 0
    left: list[str] = field(default_factory=list)  # what could not be read, or changes just now
    unnamed: list[str] = field(default_factory=list)  # what no address names, so that nobody can have it


@dataclass(slots=True)
class Verified:
    """What was read once more, and of it what is not what it was."""

    contents: int = 0
    size: int = 0
    damaged: list[str] = field(default_factory=list)


def scan(settings: Settings, stores: Iterable[str], report: Report) -> Scanned:
    """Works out digests and CRCs of the files of directories that are not known yet: each content is read once.

    Raises BadSettings; StoreFault: a store cannot be read.
    """
    engine = open_database(settings.database)
    try:
        wanted = [store for store in open_stores(settings, engine) if not stores or store.name in stores]
        done = _scanned(engine, wanted, report)
        for store in wanted:
            if isinstance(store, DirectoryStore):
                done.unnamed += [f"{store.name}/{path}" for path in store.unnamed()]
        return done
    finally:
        engine.dispose()


def _scanned(engine: sa.Engine, stores: Iterable[Store], report: Report) -> Scanned:
    done = Scanned()
    with ThreadPoolExecutor(os.cpu_count() or 1, "scan") as pool:
        files = _files(stores)
        while some := list(islice(files, _AT_ONCE)):
            tags = [str(found.facts.tag) for found in some]
            with engine.connect() as connection:
                crcs, digests = known_crcs(connection, tags), known_digests(connection, tags)
            new = [one for one in some if str(one.facts.tag) not in crcs or str(one.facts.tag) not in digests]
            read: list[tuple[Found, tuple[int, bytes] | None]] = list(zip(new, pool.map(_sums, new), strict=True))
            fresh = {str(found.facts.tag): sums for found, sums in read if sums is not None}
            if fresh:
                with write(engine).begin() as connection:
                    save_crcs(connection, {tag: crc for tag, (crc, _) in fresh.items()})
                    save_digests(connection, {tag: sha256 for tag, (_, sha256) in fresh.items()})
            done.files += len(some)
            done.read += len(fresh)
            done.size += sum(found.facts.size or 0 for found, sums in read if sums is not None)
            done.left += [str(found.facts.address) for found, sums in read if sums is None]
            report(done.files, done.size)
    return done


def _files(stores: Iterable[Store]) -> Iterator[Found]:
    for store in stores:
        if isinstance(store, WalkableStore) and not store.waits:
            try:
                yield from (found for found in store.walk(Address(store.name, "")) if found.on_disk is not None)
            except Missing:
                raise StoreFault(f"store {store.name!r}: its root cannot be read") from None


def _sums(found: Found) -> tuple[int, bytes] | None:
    """CRC-32 and SHA-256 of a content; None if it is changing, or cannot be read."""
    if not is_settled(found.facts.modified):
        return None
    crc, sha256 = 0, hashlib.sha256()
    try:
        for piece in read_through(found.content):
            crc = crc32()(piece, crc)
            sha256.update(piece)
    except (ContentChanged, OSError):
        return None
    return crc, sha256.digest()


def verify(settings: Settings, report: Report) -> Verified:
    """Reads everything that the service keeps: its records, the contents of managed stores, and its caches.

    What is damaged in a cache is removed, for it is made again; what is damaged in a store stays as it is.

    Raises BadSettings.
    """
    done = Verified()
    _verify_records(settings.database, done)
    engine = open_database(settings.database)
    try:
        for name, given in settings.stores.items():
            if isinstance(given, ManagedSettings):
                _verify_versions(name, settings.path(given.root), VersionRecords(engine, name), done, report)
    finally:
        engine.dispose()
    data = settings.path(settings.service.data)
    for what, damaged in (
        ("deflated", DeflateCache(data / "deflated", settings.bundles.cache_bytes).verify),
        ("renditions", DiskCache(data / "renditions", settings.images.cache_bytes).verify),
    ):
        for name, size, good in damaged():
            done.contents += 1
            done.size += size
            if not good:
                done.damaged.append(f"{what}/{name}: it was not what it was written as, and is removed")
            report(done.contents, done.size)
    return done


def _verify_records(database: Path, done: Verified) -> None:
    with closing(sqlite3.connect(f"file:{database}?mode=ro", uri=True)) as connection:
        for (said,) in connection.execute("PRAGMA integrity_check(20)"):
            if said != "ok":
                done.damaged.append(f"{database}: {said}")


def _verify_versions(name: str, root: Path, index: VersionRecords, done: Verified, report: Report) -> None:
    for version in index.everything():
        content = version.content
        path = root / content.name[:2] / content.name
        try:
            file = DiskFile.of(os.fsencode(path), os.stat(path))
            sha256 = hashlib.sha256()
            for piece in read_through(file):
                sha256.update(piece)
            good = sha256.digest() == content.sha256 and file.size == content.size
            said = "its content is not what was put"
        except FileNotFoundError:
            good, said = False, "its content is gone"
        except (ContentChanged, OSError) as error:
            good, said = False, str(error)
        done.contents += 1
        done.size += content.size
        if not good:
            done.damaged.append(f"{name}/{version.path}, version {version.number}: {said}")
        report(done.contents, done.size)

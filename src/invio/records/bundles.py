"""Bundles in the records: a selection, not an archive; and what archives need to know of contents."""

from __future__ import annotations

import json
import secrets
import time
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import asdict, dataclass, field
from types import MappingProxyType
from typing import Any

import sqlalchemy as sa
from sqlalchemy.dialects import sqlite

from invio.records.database import driver_of, insert_many
from invio.records.tables import bundles, checksums, deflated, digests

BUNDLE_LIFE = 24 * 3600  # seconds


@dataclass(frozen=True, slots=True)
class BundleOptions:
    """How a selection becomes an archive.

    `flat`: without folders. `sums`: with the entry SHA256SUMS. `leave_out`: without what cannot be had,
    which an entry then lists. `packs`: whether compressible contents are deflated; None: not decided yet.
    `tag` is of the archive as it was planned first, which may be another one elsewhere if files of it are made.
    `rendition`: images are in it as this.
    """

    flat: bool = False
    sums: bool = False
    leave_out: bool = False
    packs: bool | None = None
    tag: str | None = None
    rendition: str | None = None


@dataclass(frozen=True, slots=True)
class BundleRecord:
    """`files` are addresses of files and folders as they were asked for; `expires` in Unix seconds."""

    id: str
    recipient: str | None
    name: str
    files: tuple[str, ...]
    expires: float
    options: BundleOptions = BundleOptions()
    versions: Mapping[str, int] = field(default_factory=dict)  # by address, those that it was first planned with


def new_bundle(
    recipient: str | None,
    name: str,
    files: Sequence[str],
    options: BundleOptions,
    versions: Mapping[str, int] = MappingProxyType({}),
) -> BundleRecord:
    """A selection with an id that cannot be guessed; it is not kept yet."""
    return BundleRecord(
        secrets.token_urlsafe(16), recipient, name, tuple(files), time.time() + BUNDLE_LIFE, options, versions
    )


def save_bundle(connection: sa.Connection, record: BundleRecord) -> None:
    """Saves a selection, and deletes expired ones."""
    now = time.time()
    connection.execute(sa.delete(bundles).where(bundles.c.expires < now))
    connection.execute(
        sa.insert(bundles).values(
            id=record.id, recipient=record.recipient, name=record.name, files=list(record.files), created=now,
            expires=record.expires, options=asdict(record.options), versions=dict(record.versions),
        )
    )  # fmt: skip


def drop_bundle(connection: sa.Connection, bundle_id: str) -> None:
    """Forgets a bundle."""
    connection.execute(sa.delete(bundles).where(bundles.c.id == bundle_id))


def bundle_named(connection: sa.Connection, bundle_id: str) -> BundleRecord | None:
    """The selection, unless it has expired."""
    row = connection.execute(
        sa.select(bundles).where(bundles.c.id == bundle_id, bundles.c.expires > time.time())
    ).first()
    if row is None:
        return None
    return BundleRecord(
        row.id,
        row.recipient,
        row.name,
        tuple(row.files),
        row.expires,
        BundleOptions(**(row.options or {})),
        row.versions or {},
    )


def decide_packs(connection: sa.Connection, bundle_id: str, *, packs: bool) -> bool:
    """Decides, once and for all, whether a bundle is deflated; returns the first decision."""
    known: dict[str, object] = (
        connection.execute(sa.select(bundles.c.options).where(bundles.c.id == bundle_id)).scalar() or {}
    )
    if known.get("packs") is not None:
        return bool(known["packs"])
    connection.execute(sa.update(bundles).where(bundles.c.id == bundle_id).values(options={**known, "packs": packs}))
    return packs


def pin_versions(connection: sa.Connection, bundle_id: str, found: Mapping[str, int]) -> dict[str, int]:
    """Fixes the version of each file in a bundle, once and for all; returns what is fixed now."""
    known: dict[str, int] = (
        connection.execute(sa.select(bundles.c.versions).where(bundles.c.id == bundle_id)).scalar() or {}
    )
    pinned = {**found, **known}
    if pinned != known:
        connection.execute(sa.update(bundles).where(bundles.c.id == bundle_id).values(versions=pinned))
    return pinned


def keep_until(connection: sa.Connection, bundle_id: str, moment: float) -> None:
    """Keeps a selection at least until a moment, in Unix seconds."""
    later = sa.update(bundles).where(bundles.c.id == bundle_id, bundles.c.expires < moment)
    connection.execute(later.values(expires=moment))


def known_crcs(connection: sa.Connection, tags: Sequence[str]) -> dict[str, int]:
    """CRC-32 by content tag, for those of `tags` that are known."""
    return dict(_rows(connection, _CRCS, tags))


# Saved in the order of their tags, which lie all over an index: what is next to each other there is written together.


def save_crcs(connection: sa.Connection, crcs: Mapping[str, int]) -> None:
    """Saves CRC-32s by the tags of their contents."""
    if crcs:
        driver_of(connection).execute(_SAVED, (json.dumps(dict(sorted(crcs.items()))),))


def known_digests(connection: sa.Connection, tags: Sequence[str]) -> dict[str, bytes]:
    """SHA-256 by content tag, for those of `tags` that are known."""
    return dict(_rows(connection, _DIGESTS, tags))


def save_digests(connection: sa.Connection, found: Mapping[str, bytes]) -> None:
    """Saves SHA-256s by the tags of their contents."""
    if found:
        insert_many(connection, digests, sorted(found.items()))


def known_deflated(connection: sa.Connection, tags: Sequence[str]) -> dict[str, tuple[str, int | None]]:
    """Name and length of the deflated form by content tag; a length of None where deflating is no gain."""
    return {tag: (name, size) for tag, name, size in _rows(connection, _DEFLATED, tags)}


def save_deflated(connection: sa.Connection, found: Mapping[str, tuple[str, int | None]]) -> None:
    """Saves names and lengths of deflated forms by content tag; None where deflating is no gain."""
    if found:
        insert_many(connection, deflated, [(tag, *found[tag]) for tag in sorted(found)], instead=True)


def _looked_up(key: sa.Column[Any], *values: sa.Column[Any]) -> str:
    """A query for many keys at once, given as one JSON list: hundreds of parameters take ten times as long."""
    keys = sa.func.json_each(sa.bindparam("keys")).table_valued("value")
    query = sa.select(key, *values).join_from(keys, key.table, key == keys.c.value)
    return str(query.compile(dialect=sqlite.dialect(paramstyle="qmark")))


_MANY = 100  # keys, which lie all over the table
_CACHE = 4096  # KiB of its pages that a connection keeps then: with fewer, most are read again for the next keys

# In one statement, which takes less time and keeps no other thread waiting.
_SAVED = f"INSERT OR IGNORE INTO {checksums.name} (tag, crc) SELECT key, value FROM json_each(?)"
_CRCS = _looked_up(checksums.c.tag, checksums.c.crc)
_DIGESTS = _looked_up(digests.c.tag, digests.c.sha256)
_DEFLATED = _looked_up(deflated.c.tag, deflated.c.name, deflated.c.size)


def _rows(connection: sa.Connection, query: str, keys: Sequence[str]) -> Iterable[tuple[Any, ...]]:
    if not keys:
        return ()
    driver = driver_of(connection)
    if len(keys) >= _MANY:
        driver.execute(f"PRAGMA cache_size=-{_CACHE}")
    rows: Iterable[tuple[Any, ...]] = driver.execute(query, (_json(keys),))
    return rows


def _json(keys: Sequence[str]) -> str:
    """A list of keys as JSON; most are hexadecimal digits, which need not be looked at one by one."""
    whole = "".join(keys)
    return '["' + '","'.join(keys) + '"]' if whole.isalnum() and whole.isascii() else json.dumps(keys)

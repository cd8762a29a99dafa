"""Versions of files in the records: put, removed, looked up, and listed folder by folder.

A removed version keeps its line, so that its number is not given again, and who removed it is known.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from typing import Any

import sqlalchemy as sa

from invio.core.versions import Arrived, PathConflict, Version, version_tag
from invio.records.bundles import save_crcs, save_digests
from invio.records.database import write, write_durable
from invio.records.facts import fact, records_id, save_fact
from invio.records.tables import versions

RESTORED = "restored"  # the fact that says when records were put back, Unix seconds
LEAP = 1000  # numbers that are passed over then, for each file once
_PAGE = 500
_AFTER_SLASH = "0"  # what sorts right after `/`
_AFTER_NAME = "\x01"  # no path holds it: nothing sorts between one and the same with this
_held = versions.c


class VersionRecords:
    """The index of one managed store."""

    def __init__(self, engine: sa.Engine, store: str) -> None:
        self._engine = engine
        self._here = sa.and_(_held.store == store, _held.removed.is_(None))
        self._store = store

    def current(self, path: str) -> Version | None:
        """The newest version of a file."""
        with self._engine.connect() as connection:
            return self._current(connection, path)

    def numbered(self, path: str, number: int) -> Version | None:
        """One version of a file by its number; None where there is none, or it was removed."""
        query = sa.select(versions).where(self._here, _held.path == path, _held.number == number)
        with self._engine.connect() as connection:
            row = connection.execute(query).first()
            newest = None if row is None else self._newest(connection, path)
        return None if row is None else _version(row, current=row.number == newest)

    def all_of(self, path: str, before: int | None, limit: int) -> list[Version]:
        """Versions of a file, the newest first; `before` is the number to go on after."""
        query = sa.select(versions).where(self._here, _held.path == path).order_by(_held.number.desc()).limit(limit)
        if before is not None:
            query = query.where(_held.number < before)
        with self._engine.connect() as connection:
            newest = self._newest(connection, path)
            return [_version(row, current=row.number == newest) for row in connection.execute(query)]

    def inside(self, folder: str) -> list[str]:
        """The names in a folder (`""`, or ending in `/`); those of folders end in `/`."""
        names: list[str] = []
        first, stop = folder, folder[:-1] + _AFTER_SLASH if folder else None
        with self._engine.connect() as connection:
            while True:
                query = sa.select(_held.path).where(self._here, _held.path >= first).distinct()
                if stop is not None:
                    query = query.where(_held.path < stop)
                page = list(connection.scalars(query.order_by(_held.path).limit(_PAGE)))
                for path in page:
                    if path < first:
                        continue  # in a folder that is listed already
                    name, slash, _ = path[len(folder) :].partition("/")
                    names.append(name + slash)
                    first = folder + name + _AFTER_SLASH if slash else path + _AFTER_NAME
                if len(page) < _PAGE:
                    return names
                first = max(first, page[-1] + _AFTER_NAME)

    def below(self, folder: str) -> Iterator[Version]:
        """The newest version of every file below a folder, by path."""
        query = sa.select(versions).where(self._here).order_by(_held.path, _held.number.desc()).limit(_PAGE)
        if folder:
            query = query.where(_held.path > folder, _held.path < folder[:-1] + _AFTER_SLASH)
        last: tuple[str, int] | None = None
        before = None
        while True:
            page = query
            if last is not None:
                same = sa.and_(_held.path == last[0], _held.number < last[1])
                page = query.where(sa.or_(_held.path > last[0], same))
            with self._engine.connect() as connection:
                rows = connection.execute(page).all()
            for row in rows:
                if row.path != before:
                    before = row.path
                    yield _version(row, current=True)
            if len(rows) < _PAGE:
                return
            last = (rows[-1].path, rows[-1].number)

    def add(
        self,
        path: str,
        content: Arrived,
        by: str | None,
        check: Callable[[Version | None], None],
        note: Callable[[Version], int],
    ) -> Version:
        """Puts a further version, whose content is on the disk; the current one is given where it is the same.

        `check` is called with the current version, within the transaction, and raises what it will. So is `note`,
        with the new one: it writes it down elsewhere, and gives how much is written there.

        Raises:
            PathConflict.
        """
        with write_durable(self._engine) as connection:
            current = self._current(connection, path)
            check(current)
            if current is not None and _same(current.content, content):
                return self._described(connection, current, content.description)
            if current is None:
                self._require_room(connection, path)
            newest = connection.scalar(
                sa.select(sa.func.max(_held.number)).where(_held.store == self._store, _held.path == path)
            )
            number = (newest or 0) + 1
            if newest and self._is_before_restore(connection, path):
                number += LEAP
            version = Version(path, number, content, time.time(), by)
            save_fact(connection, f"noted:{self._store}", str(note(version)))
            connection.execute(
                sa.insert(versions).values(
                    store=self._store, path=path, number=version.number, name=content.name, size=content.size,
                    sha256=content.sha256, crc=content.crc, media_type=content.media_type, at=version.at, by=by,
                    description=content.description,
                )
            )  # fmt: skip
            tag = version_tag(content.sha256)
            save_crcs(connection, {tag: content.crc})
            save_digests(connection, {tag: content.sha256})
            return version

    def _described(self, connection: sa.Connection, current: Version, description: str | None) -> Version:
        """The current version, which is put again, with what it is said to be about now."""
        if description is None or description == current.content.description:
            return current
        one = sa.and_(_held.store == self._store, _held.path == current.path, _held.number == current.number)
        connection.execute(sa.update(versions).where(one).values(description=description))
        return replace(current, content=replace(current.content, description=description))

    def about(self, folder: str, text: str, limit: int) -> list[str]:
        """The files below a folder whose newest version's description has a text, whatever the case."""
        has = _held.description.icontains(text, autoescape=True)
        query = sa.select(_held.path, sa.func.max(_held.number)).where(self._here, has).group_by(_held.path)
        if folder:
            query = query.where(_held.path > folder, _held.path < folder[:-1] + _AFTER_SLASH)
        with self._engine.connect() as connection:
            rows = connection.execute(query.limit(limit)).all()
            return [path for path, number in rows if number == self._newest(connection, path)]

    def remove(
        self, path: str, number: int | None, by: str | None, check: Callable[[Version | None], None]
    ) -> list[Version]:
        """Removes one version, or all (None) of a file; gives them. Their contents are the caller's to drop."""
        fits = sa.and_(self._here, _held.path == path)
        if number is not None:
            fits = sa.and_(fits, _held.number == number)
        with write_durable(self._engine) as connection:
            check(self._current(connection, path))
            gone = [_version(row, current=False) for row in connection.execute(sa.select(versions).where(fits))]
            connection.execute(sa.update(versions).where(fits).values(removed=time.time(), removed_by=by))
            return gone

    def held(self, folder: str) -> int:
        """How many bytes all versions below a folder have (`""`: of the store)."""
        below = sa.and_(_held.path > folder, _held.path < folder[:-1] + _AFTER_SLASH) if folder else sa.true()
        with self._engine.connect() as connection:
            return int(connection.scalar(sa.select(sa.func.sum(_held.size)).where(self._here, below)) or 0)

    def everything(self) -> Iterator[Version]:
        """Every version that was not removed, page by page."""
        query = sa.select(versions).where(self._here).order_by(_held.path, _held.number).limit(_PAGE)
        last: tuple[str, int] | None = None
        while True:
            page = query
            if last is not None:
                same = sa.and_(_held.path == last[0], _held.number > last[1])
                page = query.where(sa.or_(_held.path > last[0], same))
            with self._engine.connect() as connection:
                rows = connection.execute(page).all()
            yield from (_version(row, current=False) for row in rows)
            if len(rows) < _PAGE:
                return
            last = (rows[-1].path, rows[-1].number)

    def surplus(self, keep: int | None, before: float | None) -> Iterator[tuple[str, int]]:
        """Earlier versions beyond the newest `keep`, or put before a moment (Unix seconds); never the newest one."""
        path, newer = None, 0
        query = sa.select(_held.path, _held.number, _held.at).where(self._here)
        with self._engine.connect() as connection:
            for row in connection.execute(query.order_by(_held.path, _held.number.desc())):
                newer = newer + 1 if row.path == path else 0
                path = row.path
                if newer and ((keep is not None and newer >= keep) or (before is not None and row.at < before)):
                    yield row.path, row.number

    def names(self) -> dict[str, bool]:
        """The names of all contents, and whether each one's version was removed."""
        query = sa.select(_held.name, _held.removed).where(_held.store == self._store)
        with self._engine.connect() as connection:
            rows = connection.execute(query).all()
        names = {row.name: True for row in rows}
        names |= {row.name: False for row in rows if row.removed is None}
        return names

    def identity(self) -> tuple[str, str | None]:
        """What the records are called, and what the store is, once it has claimed a folder."""
        with write(self._engine).begin() as connection:
            return records_id(connection), fact(connection, f"store:{self._store}")

    def claim(self, called: str) -> None:
        """Saves the store's id."""
        with write_durable(self._engine) as connection:
            save_fact(connection, f"store:{self._store}", called)

    def noted(self) -> int:
        """How many bytes of the store's own log the records know."""
        with self._engine.connect() as connection:
            return int(fact(connection, f"noted:{self._store}") or 0)

    def take_back(self, found: Sequence[Version], noted: int) -> None:
        """Adds versions that are written down elsewhere and not here; one that is not `current` has no content now."""
        with write_durable(self._engine) as connection:
            for version in found:
                content = version.content
                connection.execute(
                    sa.insert(versions)
                    .prefix_with("OR IGNORE")
                    .values(
                        store=self._store, path=version.path, number=version.number, name=content.name,
                        size=content.size, sha256=content.sha256, crc=content.crc, media_type=content.media_type,
                        at=version.at, by=version.by, removed=None if version.current else time.time(),
                        description=content.description,
                    )
                )  # fmt: skip
            save_fact(connection, f"noted:{self._store}", str(noted))

    def _is_before_restore(self, connection: sa.Connection, path: str) -> bool:
        """Whether the newest version is of before the records were put back into a folder of their own.

        Nobody there knows which numbers were given after the backup was made.
        """
        restored = fact(connection, RESTORED)
        if restored is None:
            return False
        query = sa.select(sa.func.max(_held.at)).where(_held.store == self._store, _held.path == path)
        return bool((connection.scalar(query) or 0) < float(restored))

    def _current(self, connection: sa.Connection, path: str) -> Version | None:
        query = sa.select(versions).where(self._here, _held.path == path).order_by(_held.number.desc()).limit(1)
        row = connection.execute(query).first()
        return None if row is None else _version(row, current=True)

    def _newest(self, connection: sa.Connection, path: str) -> int | None:
        newest: int | None = connection.scalar(
            sa.select(sa.func.max(_held.number)).where(self._here, _held.path == path)
        )
        return newest

    def _require_room(self, connection: sa.Connection, path: str) -> None:
        """Raises PathConflict."""
        segments = path.split("/")
        above = ["/".join(segments[:count]) for count in range(1, len(segments))]
        below = sa.and_(_held.path > path + "/", _held.path < path + _AFTER_SLASH)
        query = sa.select(_held.path).where(self._here, sa.or_(_held.path.in_(above), below)).limit(1)
        there = connection.scalar(query)
        if there is not None:
            raise PathConflict(there)


def digest_of_version(connection: sa.Connection, store: str, path: str, number: int) -> bytes | None:
    """SHA-256 of a version's content, 32 bytes; also of one that was removed."""
    query = sa.select(versions.c.sha256).where(
        versions.c.store == store, versions.c.path == path, versions.c.number == number
    )
    found = connection.execute(query).scalar()
    return None if found is None else bytes(found)


def _same(one: Arrived, other: Arrived) -> bool:
    return (one.sha256, one.size, one.media_type) == (other.sha256, other.size, other.media_type)


def _version(row: Any, *, current: bool) -> Version:
    content = Arrived(row.name, row.size, bytes(row.sha256), row.crc, row.media_type, row.description)
    return Version(row.path, row.number, content, row.at, row.by, current)

"""Bundles: a selection → the plan of an archive, of which nothing is ever written.

The plan is made anew for every request from the selection and the facts of the files, and the
same facts give the same bytes; so a bundle needs no more memory than its selection, and can be
resumed on any worker. Files that are made on demand are made once and kept, without a name on
the disk, as long as the bundle is asked for.
"""

from __future__ import annotations

import os
import tempfile
import threading
import time
from collections import Counter, OrderedDict
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field

import sqlalchemy as sa

from invio.core.addresses import Address, BadAddress, parse_address
from invio.core.files import Caller
from invio.core.names import safe_name
from invio.core.quotas import Quota
from invio.core.reasons import Refusal
from invio.core.replies import Representation
from invio.core.zip_layout import ZipEntry, ZipLayout, entry_names, zip_layout
from invio.delivery.catalogue import Catalogue
from invio.delivery.checksums import crc32, crc_of
from invio.records.bundles import BundleRecord, bundle_named, known_crcs, save_bundle, save_crcs
from invio.records.database import patient
from invio.stores.sources import Made, SpooledFile
from invio.stores.store import Found

STORE = "bundles"  # what stands where an address has its store


@dataclass(frozen=True, slots=True)
class BundleLimits:
    """`entries` in files, `size` in bytes, `spools` is how many made files are kept at once."""

    entries: int = 20_000
    size: int = 1 << 40
    spools: int = 64


@dataclass(frozen=True, slots=True)
class _Chosen:
    """A file of a selection, and its path within the archive before names are made safe."""

    found: Found
    path: str


@dataclass(slots=True)
class _Spool:
    file: SpooledFile
    crc: int
    made: float


@dataclass(slots=True)
class Spools:
    """Files made on demand, kept open for bundles; the oldest go first."""

    limit: int
    _kept: OrderedDict[tuple[str, str], _Spool] = field(default_factory=OrderedDict)
    _lock: threading.Lock = field(default_factory=threading.Lock)

    def take(self, bundle: str, address: Address, made: Made) -> _Spool:
        """The content that this bundle has of this address; made now if it has none."""
        key = (bundle, str(address))
        with self._lock:
            kept = self._kept.get(key)
            if kept is not None:
                self._kept.move_to_end(key)
                return kept
        spool = _spooled(made)
        with self._lock:
            # Another request of the same bundle may have been quicker: all must get one content.
            kept = self._kept.setdefault(key, spool)
            if kept is not spool:
                os.close(spool.file.descriptor)
            while len(self._kept) > self.limit:
                _, oldest = self._kept.popitem(last=False)
                os.close(oldest.file.descriptor)
            return kept

    def close(self) -> None:
        with self._lock:
            for spool in self._kept.values():
                os.close(spool.file.descriptor)
            self._kept.clear()


class Bundles:
    """Makes bundles from selections, and representations from bundles."""

    def __init__(self, catalogue: Catalogue, engine: sa.Engine, limits: BundleLimits) -> None:
        self._catalogue = catalogue
        self._engine = engine
        self._limits = limits
        self._spools = Spools(limits.spools)

    def make(self, caller: Caller, files: Sequence[str], name: str | None) -> tuple[BundleRecord, ZipLayout, int]:
        """Keeps a selection as a bundle; gives it with the archive's plan and the number of entries.

        Raises:
            Refusal: `no-selection`; `bad-selection`, naming every address that is unknown or not
                allowed; `too-large`.
        """
        chosen = self._choose(caller, files)
        # Saved before it is planned, for the id under which made files are kept.
        with patient(self._engine).begin() as connection:
            record = save_bundle(connection, caller.recipient, _archive_name(name, files), files)
        return record, self._layout(record.id, chosen), len(chosen)

    def represent(self, caller: Caller, address: Address) -> tuple[Representation, Mapping[Quota, int]]:
        """The archive at `bundles/<id>/<name>.zip`, with the caller's rights checked again.

        With it, the quotas that hold for what is in it, and how many of its files each is about.

        Raises:
            Refusal: `missing`, when there is no such bundle or it is another's; or as `make`.
        """
        bundle_id, _, name = address.path.partition("/")
        with self._engine.connect() as connection:
            record = bundle_named(connection, bundle_id)
        if record is None or name != record.name or record.recipient not in (None, caller.recipient):
            raise Refusal("missing", "there is no such bundle for you; it may be over, so select the files again")
        chosen = self._choose(caller, record.files)
        layout = self._layout(record.id, chosen)
        representation = Representation(
            content=layout.content,
            size=layout.size,
            tag=layout.tag,
            modified=None,
            media_type="application/zip",
            name=record.name,
        )
        return representation, self._quotas(caller, chosen)

    def _quotas(self, caller: Caller, chosen: Sequence[_Chosen]) -> Mapping[Quota, int]:
        rules = self._catalogue.rules
        facts = (item.found.facts for item in chosen)
        return Counter(quota for one in facts for quota in rules.terms(caller, "read", one.address, one).quotas)

    def close(self) -> None:
        self._spools.close()

    def _choose(self, caller: Caller, files: Sequence[str]) -> list[_Chosen]:
        if not files:
            raise Refusal("no-selection", 'the selection is empty; give "files": ["store/path", "store/folder/"]')
        chosen: dict[str, _Chosen] = {}
        refused: list[str] = []
        unknown: list[str] = []
        for text in files:
            try:
                for item in self._expand(caller, text):
                    if self._allowed(caller, item.found):
                        chosen.setdefault(str(item.found.facts.address), item)
                    else:
                        refused.append(str(item.found.facts.address))
                    if len(chosen) > self._limits.entries:
                        raise Refusal("too-large", f"a bundle holds at most {self._limits.entries} files")
            except (BadAddress, Refusal) as error:
                if isinstance(error, Refusal) and error.reason.word == "too-large":
                    raise
                (refused if isinstance(error, Refusal) and error.reason.status != 404 else unknown).append(text)
        if refused or unknown:
            raise _bad_selection(caller, refused, unknown)
        if not chosen:
            raise Refusal("no-selection", "the selected folders hold no file for you")
        return list(chosen.values())

    def _allowed(self, caller: Caller, found: Found) -> bool:
        """A bundle delivers what `read` would: it takes both rights."""
        rules, facts = self._catalogue.rules, found.facts
        return all(rules.allows(caller, action, facts.address, facts) for action in ("bundle", "read"))

    def _expand(self, caller: Caller, text: str) -> Iterator[_Chosen]:
        address = parse_address(text)
        if not address.folder:
            yield _Chosen(self._catalogue.obtain(caller, "bundle", address), address.name)
            return
        # A folder keeps its own name in the archive, and what is above it is left out.
        above = len(str(address).rstrip("/").rpartition("/")[0])
        for line in self._catalogue.walk(caller, address):
            yield _Chosen(self._catalogue.locate(line.address), str(line.address)[above:].lstrip("/"))

    def _layout(self, bundle: str, chosen: Sequence[_Chosen]) -> ZipLayout:
        names = entry_names(item.path for item in chosen)
        stored = [item.found for item in chosen if not isinstance(item.found.source, Made)]
        if sum(found.facts.size or 0 for found in stored) > self._limits.size:
            raise Refusal("too-large", f"a bundle holds at most {self._limits.size} bytes")
        crcs = self._crcs(stored)
        entries = []
        for item, name in zip(chosen, names, strict=True):
            facts, source = item.found.facts, item.found.source
            if isinstance(source, Made):
                spool = self._spools.take(bundle, facts.address, source)
                entries.append(ZipEntry(name, spool.file.size, spool.crc, spool.made, spool.file))
            else:
                entries.append(ZipEntry(name, source.size, crcs[str(facts.tag)], facts.modified, source))
        return zip_layout(entries)

    def _crcs(self, stored: Sequence[Found]) -> dict[str, int]:
        """The CRC of each content by its tag: from the records, else computed now and recorded."""
        tags = [str(found.facts.tag) for found in stored]
        with self._engine.connect() as connection:
            known = known_crcs(connection, tags)
        fresh: dict[str, int] = {}
        for found, tag in zip(stored, tags, strict=True):
            if tag not in known and tag not in fresh:
                fresh[tag] = crc_of(found.source, str(found.facts.address))  # type: ignore[arg-type]
        if fresh:
            with patient(self._engine).begin() as connection:
                save_crcs(connection, fresh)
        return known | fresh


def _bad_selection(caller: Caller, refused: list[str], unknown: list[str]) -> Refusal:
    said = []
    if unknown:
        said.append(f"unknown: {', '.join(unknown)}")
    if refused:
        said.append(f"not allowed: {', '.join(refused)}")
    word = "sign-in" if refused and caller.recipient is None else "bad-selection"
    return Refusal(word, "; ".join(said), names=(*unknown, *refused))


def _archive_name(name: str | None, files: Sequence[str]) -> str:
    """What was asked for, else the name of the one folder or file, else `files`; always `.zip`."""
    if not name:
        name = files[0].rstrip("/").rpartition("/")[2] if len(files) == 1 else "files"
    name = safe_name(name, "files")
    return name if name.lower().endswith(".zip") else safe_name(name + ".zip")


def _spooled(made: Made) -> _Spool:
    """Makes the content into a file that has no name and ends with its descriptor."""
    size = crc = 0
    with tempfile.TemporaryFile(prefix="invio-") as file:
        pieces = made.chunks()
        if not isinstance(pieces, Iterator):
            raise TypeError("only an application's own reply is made asynchronously")
        for piece in pieces:
            file.write(piece)
            crc = crc32()(piece, crc)
            size += len(piece)
        file.flush()
        return _Spool(SpooledFile(os.dup(file.fileno()), size), crc, time.time())

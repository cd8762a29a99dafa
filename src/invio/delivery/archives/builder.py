"""Building plans: selected files → the plan of an archive, with what must be known of each before the first byte.

CRC-32s, SHA-256s and deflated forms are looked up by content tag; unknown ones are computed now, once per content, and
saved.
"""

from __future__ import annotations

import errno
import hashlib
import logging
import math
import time
from collections.abc import Callable, Iterator
from functools import partial
from itertools import islice
from typing import NamedTuple

import sqlalchemy as sa

from invio.core.addresses import Address
from invio.core.archive.entry_names import LEFT_OUT, SUMS, EntryNames
from invio.core.archive.plan import Layout
from invio.core.archive.tar_layout import TarLayout
from invio.core.archive.zip_layout import Entry, ZipLayout
from invio.core.files import FileFacts
from invio.core.http.media_types import extension_of
from invio.core.readable import Readable
from invio.core.reasons import Refusal
from invio.delivery.archives.background_deflate import LATER
from invio.delivery.archives.checksums import crc_of
from invio.delivery.archives.crc_ahead import LARGEST, CrcAhead
from invio.delivery.archives.deflate_cache import CODER, DeflateCache
from invio.delivery.archives.deflating import Deflating, is_worth_deflating, tags_worth_deflating
from invio.delivery.archives.known_contents import Known, Learnt, look_up
from invio.delivery.archives.plan import Literal, Plan, Preparing
from invio.delivery.archives.selection import Selection, Skipped
from invio.delivery.archives.spools import Spool, Spools
from invio.delivery.representation.negotiation import kind_of
from invio.delivery.sending.errors import NobodyWaits
from invio.delivery.transfers.limits import BundleLimits
from invio.producers.failures import NotProduced
from invio.records.bundles import BundleRecord
from invio.stores.arriving import crc32
from invio.stores.sources import DiskFile, Made, is_settled, read_through
from invio.stores.store import Found, StoreFault

log = logging.getLogger("invio.delivery")

_NO_TAG = ""  # of a content that nothing known tells from another: it is read each time, and nothing is kept of it
# Files whose contents are looked up together: the first ones, and at most. Two thousand take two thirds of the time of
# four times five hundred; a few are planned sooner.
_FIRST, _MOST = 250, 2000
_LOOKED_EVERY = 200  # files
_LOOKED_AT = 4  # times as many files as a bundle may hold
_ENOUGH_MISSING = 1000  # names of what a selection may not hold; more than a refusal says


_Selected = tuple[Found, str]  # a file, and its path in the archive before it is made safe


class Planning:
    """Makes the plan of one bundle."""

    def __init__(
        self,
        engine: sa.Engine,
        limits: BundleLimits,
        packing: DeflateCache | None,
        spools: Spools,
        *,
        record: BundleRecord,
        preparing: Preparing,
        ends: Callable[[], bool] = lambda: False,
    ) -> None:
        """`ends` tells whether nobody waits for the plan any more."""
        self._watch = _Watch(limits, preparing, ends)
        self._engine = engine
        self._learnt = Learnt(engine)
        self._ahead = CrcAhead(self._watch.check)
        self._limits = limits
        self._packing = packing
        self._spools = spools
        self._preparing = preparing
        self.record = record
        self._whose: str | None = None  # who asks for it
        self._deflating: Deflating | None = None  # None: contents are stored
        self._sums: list[tuple[bytes, str]] = []
        # Contents to deflate later, with what they are known by, when this archive stores them; None: not wanted.
        self.later: list[tuple[DiskFile, str]] | None = None

    @property
    def deflates(self) -> bool:
        """Whether this kind of archive holds deflated contents."""
        return not self.record.name.lower().endswith(".tar")

    def plan(self, choosing: Selection, *, packs: bool, waits: bool) -> Plan:
        """The plan; `packs`: compressible contents are deflated, `waits`: unless too much of it is cold.

        What was computed for it is saved, also when there will be no plan.

        Raises:
            NotDeflatedFirst, NobodyWaits; or Refusal: as `Bundles.plan`.
        """
        self._whose = choosing.caller.principal
        try:
            limit = self._limits.wait_for if waits else None
            self._deflating = None
            if packs and self._packing is not None:
                self._deflating = Deflating(self._packing, self._learnt, limit=limit, on_read=self._watch.has_read)
            plan = self._planned(choosing)
            if self._deflating is not None:
                self._deflating.check()
            return plan
        finally:
            self._ahead.close()
            self._learnt.save()

    def _planned(self, choosing: Selection) -> Plan:
        options = self.record.options
        self._watch.begin()
        choosing.tick = partial(self._watch.tick, leave_out=options.leave_out)
        layout: Layout = ZipLayout(CODER if self._deflating is not None else "") if self.deflates else TarLayout()
        plan, names = Plan(layout), EntryNames(flat=options.flat)
        if self._deflating is not None and self._packing is not None:
            self._packing.spare(plan)
        self._sums = []
        self._preparing.files = self._preparing.read = 0
        size, newest = 0, -math.inf
        for some, known in self._batches(choosing):
            for found, path, content in self._contents(some, known, choosing.left_out):
                has_extension = path.rfind(".") > path.rfind("/")
                name = names.name(path, "" if has_extension else extension_of(kind_of(found).media_type))
                source, length, crc, modified, sha256, packed = content
                plan.add(
                    found.facts,
                    source,
                    Entry(name, length, crc, modified, None if packed is None else packed.size),
                    packed,
                )
                size += length
                if modified is not None and modified > newest:
                    newest = modified
                if options.sums:
                    self._sums.append((sha256, name))
            self._preparing.files = len(plan)
            if len(plan) > self._limits.entries:
                raise Refusal("too-large", f"a bundle holds at most {self._limits.entries} files")
            if size > self._limits.size:
                raise Refusal("too-large", f"a bundle holds at most {self._limits.size} bytes")
            self._watch.check()
        if not options.leave_out:
            choosing.refuse()
        if not len(plan):
            raise Refusal("no-selection", "the selected folders contain no file that you have access to")
        self._add_own(plan, names, choosing.left_out, None if newest == -math.inf else max(0.0, newest))
        return plan.end()

    def _add_own(self, plan: Plan, names: EntryNames, left_out: list[Skipped], modified: float | None) -> None:
        """The entries that the archive itself adds, with the time of its newest file."""
        if self.record.options.sums:
            lines = [f"{sha256.hex()}  {name}\n" for sha256, name in self._sums]
            _add_text(plan, names.name(SUMS), "".join(lines), modified)
        if left_out:
            lines = [f"{one.address}\t{one.reason}\n" for one in left_out]
            _add_text(plan, names.name(LEFT_OUT), "".join(lines), modified)

    def _batches(self, choosing: Selection) -> Iterator[tuple[list[_Selected], Known]]:
        """The selected files, some at a time, with what is known of them. While some are planned, the next are read."""
        files, count = choosing.chosen(self.record.files), _FIRST
        last: tuple[list[_Selected], Known] | None = None
        while some := list(islice(files, count)):
            if choosing.left_out and not self.record.options.leave_out:
                continue  # it is refused at the end, with everything that is missing
            count = min(2 * count, _MOST)
            known = self._look_up([found for found, _ in some])
            self._take_read()
            self._ahead.ask(self._to_read(some, known))
            if last is not None:
                yield last
            last = some, known
        if last is not None and (self.record.options.leave_out or not choosing.left_out):
            self._take_read()
            yield last

    def _take_read(self) -> None:
        """Takes what was read ahead."""
        for tag, file, crc in self._ahead.answer():
            self._learnt.crcs[tag] = crc
            self._preparing.read += file.size

    @staticmethod
    def _to_read(some: list[_Selected], known: Known) -> list[tuple[str, DiskFile]]:
        """The small files, with the tags of their contents, that have to be read for nothing but their CRCs."""
        if len(known.crcs) == len(some):
            return []
        unknown = []
        for found, _ in some:
            facts, file = found.facts, _stays(found)
            tag = facts.tag
            if not tag or file is None or file.size > LARGEST or tag in known.crcs or tag in known.worth:
                continue
            if is_settled(facts.modified):
                unknown.append((tag, file))
        return unknown

    def _contents(
        self, some: list[_Selected], known: Known, left_out: list[Skipped]
    ) -> Iterator[tuple[Found, str, _Content]]:
        """What the archive holds of each of some files."""
        for found, path in some:
            try:
                content = self._content(found, known)
            except (Refusal, StoreFault) as error:  # it changed or vanished since it was found
                if not self.record.options.leave_out:
                    raise
                word = error.reason.word if isinstance(error, Refusal) else "unreachable"
                left_out.append(Skipped(str(found.facts.address), word))
                continue
            yield found, path, content
        self._learnt.save_if_due()

    def _look_up(self, some: list[Found]) -> Known:
        facts = [found.facts for found in some]
        tags = [one.tag for one in facts if one.tag]
        deflates = self._deflating is not None
        worth = tags_worth_deflating(facts) if deflates else frozenset()
        return look_up(self._engine, tags, digests=self.record.options.sums, deflated=deflates, worth=worth)

    def _content(self, found: Found, known: Known) -> _Content:
        if found.made is not None:
            return self._made_content(found.facts, found.made)
        facts, file = found.facts, _stays(found)
        source = found.lasting or found.content
        tag = facts.tag or _NO_TAG
        packed: DiskFile | None = None
        if file is not None:
            if self._deflating is not None:
                if tag in known.worth:
                    packed = self._deflating.of_file(file, facts, known)
            elif tag and self.later is not None and len(self.later) < LATER and is_worth_deflating(facts):
                self.later.append((file, tag))
        crc = known.crcs.get(tag)
        if crc is None:
            crc = self._learnt.crcs.get(tag)
        if crc is None:
            crc = crc_of(source, facts.address)
            self._preparing.read += source.size
            if tag and is_settled(facts.modified):
                self._learnt.crcs[tag] = crc
        sha256 = self._sha256(source, facts, known) if self.record.options.sums else b""
        return _Content(source, source.size, crc, facts.modified, sha256, packed)

    def _made_content(self, facts: FileFacts, made: Made) -> _Content:
        spool = self._made(facts.address, made)
        sha256 = _sha256_of(spool.file) if self.record.options.sums else b""
        packed = None if self._deflating is None else self._deflating.of_spool(spool.file, facts)
        return _Content(spool.file, spool.file.size, spool.crc, spool.made, sha256, packed)

    def _sha256(self, source: Readable, facts: FileFacts, known: Known) -> bytes:
        tag = facts.tag or _NO_TAG
        sha256 = known.digests.get(tag)
        if sha256 is None:
            sha256 = _sha256_of(source)
            if tag and is_settled(facts.modified):
                self._learnt.digests[tag] = sha256
        return sha256

    def _made(self, address: Address, source: Made) -> Spool:
        """What was made for this archive. Raises Refusal (`not-made`, `no-space`, `busy`)."""
        try:
            return self._spools.take(self.record.id, address, source, self._watch.check, self._whose)
        except NotProduced as error:
            raise Refusal(error.word, f"{address}: {error}", retry_after=5) from None
        except OSError as error:
            log.error("bundle.no-space", extra={"fields": {"address": str(address), "error": str(error)}})
            if error.errno not in (errno.ENOSPC, errno.EDQUOT):
                raise
            raise Refusal("no-space", f"{address}: the disk is full") from None


class _Watch:
    """Ends a planning that takes too long or that nobody waits for, and counts what was read for it.

    What a planning uses calls back methods of this object, not of the planning: otherwise they would form a reference
    cycle, and everything that was found would stay in memory until the next garbage collection.
    """

    def __init__(self, limits: BundleLimits, preparing: Preparing, ends: Callable[[], bool]) -> None:
        self._limits, self._preparing, self._ends = limits, preparing, ends
        self._ticks = 0
        self._deadline = 0.0

    def begin(self) -> None:
        """Sets the time until which it may take."""
        self._deadline = time.monotonic() + self._limits.seconds

    def check(self) -> None:
        """Raises NobodyWaits, or Refusal (`too-large`), when it has to end."""
        if self._ends():
            raise NobodyWaits
        if time.monotonic() > self._deadline:
            raise Refusal("too-large", f"planning the archive took longer than {self._limits.seconds:g} seconds")

    def has_read(self, count: int) -> None:
        """Notes what was read of contents, in bytes. Raises as `check`."""
        self._preparing.read += count
        self.check()

    def tick(self, choosing: Selection, *, leave_out: bool) -> None:
        """Checks the time every so often: a selection may name a folder a hundred thousand times.

        One that is going to be refused is not looked at to its end either: what is missing would fill it.
        """
        if len(choosing.left_out) >= _ENOUGH_MISSING and not leave_out:
            choosing.refuse(whole=False)
        self._ticks += 1
        if self._ticks % _LOOKED_EVERY == 0:
            self.check()
        if self._ticks > _LOOKED_AT * self._limits.entries:
            raise Refusal("too-large", "the selection names the same files too often; name each once")


class _Content(NamedTuple):
    """What an archive holds of a file."""

    source: Readable
    size: int
    crc: int
    modified: float | None
    sha256: bytes
    packed: DiskFile | None = None


def _stays(found: Found) -> DiskFile | None:
    """The file, where it is one on a disk of this machine, and not one that a cache may evict."""
    return found.on_disk if found.lasting is None else None


def _sha256_of(source: Readable) -> bytes:
    sha = hashlib.sha256()
    for piece in read_through(source):
        sha.update(piece)
    return sha.digest()


def _add_text(plan: Plan, name: str, text: str, modified: float | None) -> None:
    data = text.encode()
    facts = FileFacts(Address("", name), len(data), None, None)
    plan.add(facts, Literal(data), Entry(name, len(data), crc32()(data, 0), modified))

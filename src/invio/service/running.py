"""What runs beside the requests for the life of a service, mounted or not, and how it ends.

Each piece of background work is called again and again; whatever it raises is logged and shown by `/readyz`, and
does not end it. The order of the end: no more background work, then what is delivered is broken off and settled,
then the records are written and closed.
"""

from __future__ import annotations

import asyncio
import logging
import os
import threading
import time
from collections.abc import AsyncIterator, Awaitable, Callable
from contextlib import asynccontextmanager
from functools import partial

import sqlalchemy as sa

from invio.records import quotas, transfers, webhooks
from invio.records.archives import forget_unused
from invio.records.audit import forget_lines
from invio.records.facts import look_at_clock
from invio.records.history import forget
from invio.records.serving_lock import Left
from invio.service.assembly import Parts
from invio.service.peers import telling_peers
from invio.service.store_settings import ManagedSettings
from invio.service.webhook_sender import WebhookSender
from invio.stores.directory import DirectoryStore
from invio.workers.pool import DeadlinePassed, PoolBusy, PoolsByName

log = logging.getLogger("invio.service")

_AGAIN = 1.0  # seconds after which background work that failed is tried again
_HOURLY = 3600.0
_LOOKED_EVERY = 1.0  # seconds between two looks at files and folders
_ANSWERS_WITHIN = 5.0  # seconds, for a folder
_COMPANY_EVERY = 2.0  # seconds between two looks at the other processes
_FORGOTTEN_AT_ONCE = 500  # lines that one transaction drops


@asynccontextmanager
async def running(parts: Parts) -> AsyncIterator[None]:
    """The background work of a service, for as long as it serves."""
    ended, sender = threading.Event(), WebhookSender(parts)
    work: list[tuple[str, Callable[[], Awaitable[object]], float]] = [
        ("progress", parts.transfers.note_progress, 0.0),
        ("records", partial(_look_at_records, parts), _LOOKED_EVERY),
        ("stores", partial(_look_at_stores, parts, PoolsByName("looks", 1, deadline=_ANSWERS_WITHIN)), _LOOKED_EVERY),
        ("endings", parts.endings.look, _LOOKED_EVERY),
        ("webhooks", sender.look, _LOOKED_EVERY),
        ("audit", partial(parts.audit.write, parts.journal), _LOOKED_EVERY),
        ("company", partial(_look_at_company, parts), _COMPANY_EVERY),
        ("clock", partial(_hourly, parts), _HOURLY),
    ]
    if parts.rules_file is not None:
        work.append(("rules", partial(parts.rules_file.keep, parts.decide_by), _LOOKED_EVERY))
    if parts.keys_file is not None:
        work.append(("keys", partial(parts.keys_file.keep, parts.seal_by), _LOOKED_EVERY))
    if parts.settings.bundles.scan_every:
        work.append(("scan", partial(_scan, parts, ended), parts.settings.bundles.scan_every))
    tasks = [asyncio.create_task(_lasting(parts, *one), name=one[0]) for one in work]
    try:
        async with telling_peers(parts.company, parts.transfers.live):
            yield
    finally:
        ended.set()
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)
        await sender.stop()
        parts.delivery.stop()
        try:
            await parts.audit.write(parts.journal)
        except Exception as error:  # the log has them
            log.warning("audit.not-written", extra={"fields": {"error": str(error)[:500]}})
        await parts.journal.stop()
        parts.close()


async def _lasting(parts: Parts, name: str, work: Callable[[], Awaitable[object]], every: float) -> None:
    """Repeats a piece of background work, whatever it raises."""
    while True:
        try:
            await work()
            parts.health.works(name)
            await asyncio.sleep(every)
        except Exception as error:  # any error, which must not end the work
            parts.health.fails(name, error, hint=name not in ("progress", "records"))
            await asyncio.sleep(max(_AGAIN, min(every, 60.0)))


async def _look_at_records(parts: Parts) -> None:
    """Detects that the records were removed or replaced: further writes would be lost."""
    status = await parts.pools.files.run(_identity, parts.settings.database)
    if status != parts.records_identity:
        what = "are gone" if status is None else "were replaced"
        raise RuntimeError(f"the records {what} while the service runs; start it again")
    if parts.journal.fault is not None:
        raise RuntimeError(f"the records cannot be written: {parts.journal.fault}")


def _identity(path: os.PathLike[str]) -> tuple[int, int] | None:
    try:
        status = os.stat(path)
    except OSError:
        return None
    return status.st_dev, status.st_ino


async def _look_at_stores(parts: Parts, looks: PoolsByName) -> None:
    """Detects that a store's directory is gone, as when its disk is not mounted, or does not answer."""
    for name, store in parts.catalogue.stores.items():
        if isinstance(store, DirectoryStore):
            try:
                fault = await looks.of(name).run(store.fault)
            except (PoolBusy, DeadlinePassed):
                fault = "its folder does not answer; look at its disk"
            if fault is None:
                parts.health.works(f"store {name}")
            else:
                parts.health.fails(f"store {name}", fault)


async def _look_at_company(parts: Parts) -> None:
    """Cleans up after processes that died while this one lives."""
    for number in parts.company.others():
        with parts.company.left(number) as left:
            if left is not None:
                log.warning("process.died", extra={"fields": {"number": number}})
                await parts.journal.call(partial(put_in_order, left=left))


def put_in_order(connection: sa.Connection, left: Left) -> None:
    """Cleans up after a dead process: its reservations count as taken, its transfers as broken off."""
    quotas.take_orphans(connection, left.number, left.since)
    said = "the process that sent it ended before the transfer did"
    transfers.break_off_orphans(connection, said, left.number, left.since)


async def _drop_surplus(parts: Parts) -> None:
    """Drops versions that the settings no longer keep."""
    kept = [one for one in parts.settings.stores.values() if isinstance(one, ManagedSettings)]
    if all(one.keep_versions is None and one.keep_days is None for one in kept):
        return
    from invio.service.retention import drop_surplus

    await parts.pools.scanning.run(drop_surplus, parts.settings, parts.engine, parts.catalogue.stores.values())


async def _hourly(parts: Parts) -> None:
    """Deletes expired records, if the clock can be trusted."""
    clock = await parts.journal.call(look_at_clock)
    if clock.jumped:
        log.error("clock.jumped", extra={"fields": {"seconds": round(clock.jumped)}})
    if not clock.trusted:
        raise RuntimeError("the clock has jumped by days; nothing is deleted from the history until a week has passed")
    now = time.time()
    while await parts.journal.call(partial(forget_unused, now=now)):
        await asyncio.sleep(0.05)
    await parts.journal.call(partial(quotas.forget, before=now - quotas.LONGEST_KEPT))
    while await parts.journal.call(partial(webhooks.forget, now=now, most=_FORGOTTEN_AT_ONCE)) == _FORGOTTEN_AT_ONCE:
        await asyncio.sleep(0.05)
    await _drop_surplus(parts)
    days = parts.settings.service.history_days
    for drop in (forget, forget_lines) if days is not None else ():
        before = now - (days or 0) * 86_400
        while await parts.journal.call(partial(drop, before=before, most=_FORGOTTEN_AT_ONCE)) == _FORGOTTEN_AT_ONCE:
            await asyncio.sleep(0.05)  # so that other lines need not wait


async def _scan(parts: Parts, ended: threading.Event) -> None:
    """Computes checksums before archives need them."""
    from invio.delivery.archives.crc_scan import scan

    began = time.monotonic()
    read = await parts.pools.scanning.run(scan, parts.engine, parts.catalogue.stores.values(), ended.is_set)
    if read:
        log.info("scan.done", extra={"fields": {"files": read, "seconds": round(time.monotonic() - began, 1)}})

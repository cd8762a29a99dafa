"""How the service is, for administrators: its stores, disks, queues, versions, and what was slow."""

from __future__ import annotations

import asyncio
import os
import platform
import shutil
import time
from collections.abc import Iterable
from dataclasses import asdict
from pathlib import Path

from invio.core.addresses import Address
from invio.core.moments import timestamp
from invio.core.version import VERSION
from invio.service.assembly import Parts
from invio.service.dependencies import TheCaller, TheParts, require_administrator
from invio.service.open_stores import fault_of
from invio.service.operating_schemas import DiskState, QueueState, ServiceState, SlowRequest, StoreState
from invio.service.routes import Routes
from invio.service.store_settings import DirectorySettings, ManagedSettings
from invio.stores.store import Store, WritableStore
from invio.workers.pool import DeadlinePassed, Pool, PoolBusy

routes = Routes("operators")
_WITHIN = 3.0  # seconds within which a store answers, or is said not to


@routes.get("/api/service", summary="How the service is")
async def get_service(caller: TheCaller, parts: TheParts) -> ServiceState:
    """The state of the service. Each store has three seconds to respond to a probe. For administrators."""
    await require_administrator(parts, caller)
    stores = await asyncio.gather(*(_state_of(parts, one) for one in parts.catalogue.stores.values()))
    disks, records = await parts.pools.files.run(_on_disk, parts)
    return ServiceState(
        version=VERSION,
        python=platform.python_version(),
        since=timestamp(parts.since),
        rules_since=None if parts.rules_file is None else timestamp(parts.rules_file.since),
        processes=1 + len(parts.company.others()),
        requests=parts.transfers.live.requests_everywhere,
        records=records,
        faults=parts.health.faults,
        hints=parts.health.hints,
        stores=sorted(stores, key=lambda one: one.name),
        disks=disks,
        # There are many, and nearly all are idle: what somebody waits for comes first.
        queues=sorted(map(_queue, _pools(parts)), key=lambda queue: (-queue.waiting, -queue.running)),
        slowest=[SlowRequest(**{**asdict(one), "at": timestamp(one.at)}) for one in parts.slow.slowest(time.time())],
    )


async def _state_of(parts: Parts, store: Store) -> StoreState:
    began, fault = time.monotonic(), None
    pool = parts.catalogue.pool_of(Address(store.name, ""))
    try:
        async with asyncio.timeout(_WITHIN):
            fault = await pool.run(fault_of, store)
    except (TimeoutError, DeadlinePassed):
        fault = f"no answer within {_WITHIN:g} seconds"
    except PoolBusy:
        fault = "all its threads are taken"
    kind = parts.settings.stores[store.name].kind if store.name in parts.settings.stores else "made"
    return StoreState(name=store.name, kind=kind, fault=fault, seconds=round(time.monotonic() - began, 4))


def _on_disk(parts: Parts) -> tuple[list[DiskState], int]:
    """The disks that something lies on, and how many bytes the records are."""
    settings = parts.settings
    places = [("records", settings.database.parent)]
    for name, store in settings.stores.items():
        if isinstance(store, (DirectorySettings, ManagedSettings)):
            places.append((name, settings.path(store.root)))
    disks: dict[int, tuple[list[str], Path]] = {}
    for name, path in places:
        try:
            device = os.stat(path).st_dev
        except OSError:
            continue
        disks.setdefault(device, ([], path))[0].append(name)
    states = []
    for names, path in disks.values():
        usage = shutil.disk_usage(path)
        states.append(DiskState(what=names, free=usage.free, total=usage.total))
    return states, _sizes([settings.database, Path(f"{settings.database}-wal")])


def _sizes(paths: Iterable[Path]) -> int:
    size = 0
    for path in paths:
        try:
            size += path.stat().st_size
        except OSError:  # the journal is there only while it is needed
            continue
    return size


def _pools(parts: Parts) -> list[Pool]:
    own = [getattr(parts.pools, name) for name in parts.pools.__slots__]
    stores = {Address(name, ""): store for name, store in parts.catalogue.stores.items()}
    looking = [parts.catalogue.pool_of(root) for root in stores]
    writing = [parts.catalogue.writing_pool_of(root) for root, one in stores.items() if isinstance(one, WritableStore)]
    return list(dict.fromkeys([*own, *parts.bundles.pools.all, *looking, *writing]))


def _queue(pool: Pool) -> QueueState:
    return QueueState(
        name=pool.name,
        running=min(pool.taken, pool.workers),
        waiting=max(0, pool.taken - pool.workers),
        room=pool.room,
    )

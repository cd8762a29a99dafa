"""The keys that seal links, for administrators: which there are, a new one, and one that opens no link any more."""

from __future__ import annotations

import time
from collections.abc import Callable

from fastapi import Path

from invio.core.errors import ConfigurationError
from invio.core.files import Caller
from invio.core.links.keys import KeyRing
from invio.core.reasons import Refusal
from invio.delivery.sending.eager import in_pool
from invio.records.links import held_by_key
from invio.service.assembly import Parts
from invio.service.configuration import read_keys, write_keys
from invio.service.dependencies import TheCaller, TheParts, require_administrator
from invio.service.operating_schemas import KeyList, KeyShape
from invio.service.reloading import Watched, required
from invio.service.routes import Routes

routes = Routes("keys")


@routes.get("/api/keys", summary="The keys that seal links")
async def list_keys(caller: TheCaller, parts: TheParts) -> KeyList:
    """The sealing keys by id, with the number of valid links this service made with each. For administrators."""
    await require_administrator(parts, caller)
    return await in_pool(parts.pools.history, _list, parts, whose=caller.principal)


@routes.post("/api/keys", status_code=201, summary="Make a key that seals links from now on")
async def post_key(caller: TheCaller, parts: TheParts) -> KeyList:
    """Creates a key, which seals new links from now on. For administrators.

    Links sealed with the others stay valid. Other processes use the new key within two seconds.
    """
    shown = await _changed(parts, caller, KeyRing.with_new)
    parts.audit("key.made", caller, key=parts.keys.current)
    return shown


@routes.delete("/api/keys/{key}", summary="Retire a key")
async def delete_key(
    caller: TheCaller, parts: TheParts, key: str = Path(pattern="^[A-Za-z0-9_-]{1,32}$", description="the key's id")
) -> KeyList:
    """Retires a key for good: every link it sealed is refused. The newest cannot be retired. For administrators."""

    def without(ring: KeyRing) -> KeyRing:
        if key not in ring.keys:
            raise Refusal("missing", f"there is no key {key!r}")
        if key == ring.current:
            raise Refusal("bad-request", f"{key!r} seals new links; make another key first")
        return ring.without(key)

    shown = await _changed(parts, caller, without)
    parts.audit("key.retired", caller, key=key)
    return shown


def _list(parts: Parts) -> KeyList:
    with parts.engine.connect() as connection:
        held = held_by_key(connection, time.time())
    ring = parts.keys
    shapes = [KeyShape(id=name, current=name == ring.current, links=held.get(name, 0)) for name in ring.keys]
    return KeyList(keys=shapes)


async def _changed(parts: Parts, caller: Caller, change: Callable[[KeyRing], KeyRing]) -> KeyList:
    """Rewrites the key file and reads it again. Raises Refusal."""
    await require_administrator(parts, caller)
    file = required(parts.keys_file)
    await in_pool(parts.pools.files, _write, file, change)
    file.expire()
    await file.keep(parts.seal_by)
    return await in_pool(parts.pools.history, _list, parts, whose=caller.principal)


def _write(watched: Watched[KeyRing], change: Callable[[KeyRing], KeyRing]) -> None:
    path = watched.path
    try:
        write_keys(change(read_keys(path)), path)
    except ConfigurationError as error:
        said = str(error).replace(str(path), path.name)
        raise Refusal("unavailable", f"the key file cannot be used, and was left as it is: {said}") from None
    except OSError as error:
        raise Refusal("unavailable", f"{path.name} cannot be written: {error.strerror}") from None

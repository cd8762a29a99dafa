"""Probes: whether the process answers, and whether it can deliver.

They are asked every few seconds of processes that may be asked for nothing else but files, so they are answered without
what the API takes. What is more than a plain probe, the API answers the same.
"""

from __future__ import annotations

import asyncio
import json
import time
from contextlib import suppress
from typing import Any

import sqlalchemy as sa

from invio.core.http.request_head import RequestHead
from invio.delivery.sending.errors import ClientGone
from invio.records.facts import save_fact
from invio.service.assembly import Parts

ALIVE = {"status": "alive"}
_WRITES_WITHIN = 2.0  # seconds
# What says that a request has more than a line to it, and is the API's to refuse or to take.
_MORE = (b"content-length", b"transfer-encoding", b"expect", b"origin")


async def answer_probe(parts: Parts, path: str, scope: Any, send: Any) -> bool:
    """Answers a plain probe; False for any other request, of which nothing was answered."""
    if path not in ("/healthz", "/readyz") or scope["method"] not in ("GET", "HEAD") or scope["query_string"]:
        return False
    head = RequestHead(scope["method"], scope["headers"])
    if parts.way.cross_origin.origins or any(name in head for name in _MORE):
        return False
    try:
        status, said = (200, ALIVE) if path == "/healthz" else await readiness(parts)
    except Exception:  # the API has an answer to each of them
        return False
    body = json.dumps(said, ensure_ascii=False, separators=(",", ":")).encode()
    headers = [
        (b"content-length", str(len(body)).encode()),
        (b"content-type", b"application/json"),
        (b"cache-control", b"no-store"),
        (b"x-content-type-options", b"nosniff"),
    ]
    with suppress(ClientGone):
        await send({"type": "http.response.start", "status": status, "headers": headers})
        await send({"type": "http.response.body", "body": b"" if head.method == "HEAD" else body})
    return True


async def readiness(parts: Parts) -> tuple[int, dict[str, Any]]:
    """The status and the body of the answer to `/readyz`, without what there is none of."""
    faults, hints = parts.health.faults, parts.health.hints
    for what, file in (("rules", parts.rules_file), ("keys", parts.keys_file)):
        if file is not None and file.fault is not None:
            hints[what] = f"the file of the {what} cannot be used; those before it are in force"
    status = "stopping"
    if not parts.stopping():
        fault = await _writing_fails(parts)
        if fault is not None:
            faults["records"] = fault
        status = "not ready" if faults else "ready"
    told = {"faults": faults, "hints": hints}
    return 200 if status == "ready" else 503, {"status": status} | {name: one for name, one in told.items() if one}


async def _writing_fails(parts: Parts) -> str | None:
    """Why the records cannot be written now; None when they can."""
    try:
        async with asyncio.timeout(_WRITES_WITHIN):
            await parts.journal.call(lambda connection: save_fact(connection, "readiness", str(int(time.time()))))
    except TimeoutError:
        return f"nothing could be written to the records for {_WRITES_WITHIN:g} seconds"
    except sa.exc.SQLAlchemyError as error:
        return f"the records cannot be written: {error.__cause__ or error}"
    return None

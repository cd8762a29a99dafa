"""Requests that are answered in the turn of the event loop that read them, and become tasks when they wait.

A task costs as much as planning an answer does, and most requests wait for nothing but their line in the
records, which tells them itself when it is written. So a request begins without one; what has to wait
for anything is given a task there, and goes on in it.
"""

from __future__ import annotations

import asyncio
import types
from collections.abc import Callable, Coroutine, Generator
from typing import Any, TypeVar

from starlette.concurrency import run_in_threadpool

from invio.core.reasons import Refusal
from invio.workers.pool import DeadlinePassed, Pool, PoolBusy

T = TypeVar("T")


def start_eagerly(coroutine: Coroutine[Any, Any, None]) -> asyncio.Task[None] | None:
    """Runs a coroutine up to where it first waits; gives the task in which it goes on, None when it has ended."""
    try:
        waits_for = coroutine.send(None)
    except StopIteration:
        return None
    return asyncio.get_running_loop().create_task(_rest_of(coroutine, waits_for))


async def _rest_of(coroutine: Coroutine[Any, Any, None], waits_for: Any) -> None:
    await _passed_on(coroutine, waits_for)


@types.coroutine
def _passed_on(coroutine: Coroutine[Any, Any, None], waits_for: Any) -> Generator[Any, None, None]:
    """Waits, in the task that runs this, for whatever the coroutine waits for."""
    while True:
        error: BaseException | None = None
        try:
            yield waits_for
        except BaseException as thrown:  # such as the task being cancelled: the coroutine's to deal with
            error = thrown
        try:
            waits_for = coroutine.send(None) if error is None else coroutine.throw(error)
        except StopIteration:
            return


async def ensure_task() -> None:
    """Returns in a task, which much of what waits has to be in."""
    if asyncio.current_task() is None:
        await asyncio.sleep(0)


async def in_pool(pool: Pool, work: Callable[..., T], *given: Any, whose: str | None = None) -> T:
    """Runs something by a thread of a pool of its own; `whose` is who asks for it, where that is known.

    Raises:
        Refusal: `busy`; and what `work` raises.
    """
    await ensure_task()
    try:
        return await pool.run(work, *given, whose=whose)
    except PoolBusy:
        raise Refusal(
            "busy", "the service is busy with requests of this kind; try again in a few seconds", retry_after=5
        ) from None
    except DeadlinePassed:
        raise Refusal("busy", "this took too long; try again later, or ask for less", retry_after=5) from None


async def in_thread(work: Callable[..., T], *given: Any) -> T:
    """Runs something in a worker thread and gives what it gave."""
    await ensure_task()
    return await run_in_threadpool(work, *given)

"""Production: the pieces of a content that is made while it is sent, taken by threads of their own.

Nothing of it runs on the event loop, its first step included: a query or a function may take as long as it likes to
give its first row. When the client leaves, what is waited for is cancelled, as far as it can be, and closed.
"""

from __future__ import annotations

import asyncio
import logging
from collections.abc import AsyncIterator, Callable, Iterator
from contextlib import suppress
from typing import Any

from invio.delivery.sending.eager import ensure_task
from invio.delivery.sending.errors import ClientGone, ProducerFailed, ReplyBroken
from invio.producers.failures import NotProduced
from invio.workers.pool import Pool, PoolBusy

log = logging.getLogger("invio.delivery")

MAKING = Pool("making", 32, waiting=200)  # for producers without their own pool
_LOOKED_EVERY = 0.25  # seconds between two looks whether the client is still there
_END = object()


async def made_pieces(source: object, gone: Callable[[], bool]) -> AsyncIterator[bytes]:
    """The pieces of `source`, a `Made` or something like it, as they come; `gone` tells whether nobody takes them.

    Raises:
        ProducerFailed: whoever makes the content failed. The log says how; whoever obtains it is not told.
        ClientGone.
    """
    pool: Pool = getattr(source, "pool", None) or MAKING
    await ensure_task()
    pieces: Any = None
    try:
        pieces = await waited(pool, gone, None, source.chunks)  # type: ignore[attr-defined]
        if isinstance(pieces, AsyncIterator):
            while (piece := await _following(pieces, gone)) is not _END:
                yield piece
            return
        while (piece := await waited(pool, gone, pieces, next, pieces, _END)) is not _END:
            yield piece
    except (ClientGone, ReplyBroken, asyncio.CancelledError, GeneratorExit):
        raise
    except PoolBusy as error:
        raise ProducerFailed("too much of this is being made at once", "busy") from error
    except NotProduced as error:  # it was logged once for everyone who waits for it
        raise ProducerFailed(str(error), error.word) from error
    except Exception as error:  # a producer is the operator's own code, and may raise anything
        log.error("producer.failed", exc_info=error)
        raise ProducerFailed("the content could not be made") from error
    finally:
        if isinstance(pieces, Iterator):
            _close(pool, pieces)
        elif pieces is not None:
            await _close_async(pieces)


async def _following(pieces: AsyncIterator[bytes], gone: Callable[[], bool]) -> Any:
    """The next piece, or the end. Raises ClientGone, and what making it raises."""
    following = asyncio.ensure_future(anext(pieces, _END))
    try:
        while not following.done():
            await asyncio.wait({following}, timeout=_LOOKED_EVERY)
            if not following.done() and gone():
                raise ClientGone("the client closed the connection")
    finally:
        if not following.done():
            following.cancel()
            with suppress(asyncio.CancelledError, Exception):
                await following
    try:
        return following.result()
    finally:
        # Breaks the cycle task → error → this frame → task, so that what is made is let go at once, not by a search.
        del following


async def _close_async(pieces: Any) -> None:
    close = getattr(pieces, "aclose", None)
    if close is not None:
        with suppress(Exception):  # the operator's own code; its failure was reported already
            await close()


async def waited(
    pool: Pool | None, gone: Callable[[], bool], pieces: Any, work: Callable[..., Any], *given: Any
) -> Any:
    """What `work` gives, called by a thread of the pool, or of those for whatever has none.

    Raises:
        ClientGone, and what `work` raises.
    """
    future = asyncio.wrap_future((pool or MAKING).submit(work, *given))
    while not future.done():
        await asyncio.wait({future}, timeout=_LOOKED_EVERY)
        if not future.done() and gone():
            cancel = getattr(pieces, "cancel", None)
            if cancel is not None:
                with suppress(Exception):  # a driver's error, of a query that is no longer needed
                    cancel()
            future.add_done_callback(_looked_at)
            raise ClientGone("the client closed the connection")
    return future.result()


def _looked_at(future: asyncio.Future[Any]) -> None:
    """Consumes the result of a call that nobody awaits any more."""
    if not future.cancelled():
        future.exception()


def _close(pool: Pool, pieces: Iterator[bytes]) -> None:
    """Closes what pieces came from, by a thread: that may wait for a database. One that still runs closes itself."""
    close = getattr(pieces, "close", None)
    if close is not None:
        with suppress(PoolBusy):
            pool.submit(_closed, close)


def _closed(close: Callable[[], object]) -> None:
    try:
        close()
    except ValueError:  # a generator that is running: its thread has not returned from what it waits for
        pass
    except Exception as error:  # the operator's own code
        log.warning("producer.not-closed", exc_info=error)

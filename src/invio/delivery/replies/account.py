"""Reports a response's progress to its route, while it is sent and when it has ended."""

from __future__ import annotations

import asyncio
import inspect
import logging
from collections.abc import Awaitable, Callable
from weakref import WeakKeyDictionary

from invio.core.http.replies import Reply
from invio.core.meter import Progress, ProgressMeter
from invio.delivery.sending.acknowledgement import AcknowledgementMonitor
from invio.delivery.sending.senders import Sender

log = logging.getLogger("invio.delivery")

OnProgress = Callable[[Progress], Awaitable[None] | None]
OnEnd = Callable[[Progress, str | None], Awaitable[None] | None]
_EVERY = 0.25  # seconds between two calls
_IDLE = 60.0  # seconds for which a reader may take nothing

# The monitors of the last acknowledgements, one per event loop.
_monitors: WeakKeyDictionary[asyncio.AbstractEventLoop, AcknowledgementMonitor] = WeakKeyDictionary()
_calls: set[asyncio.Task[None]] = set()


class Account:
    """Calls `on_progress` at most four times a second, and `on_end` once; what they raise is logged."""

    def __init__(self, on_progress: OnProgress | None, on_end: OnEnd | None, sender: Sender, reply: Reply) -> None:
        if reply.status >= 300 or not reply.parts:  # nothing of the content is sent
            on_progress = on_end = None
        self._on_progress, self._on_end = on_progress, on_end
        self._meter, self._size = sender.meter, reply.length
        self._sender = sender
        self._speed = ProgressMeter()
        self._task: asyncio.Task[None] | None = None
        self._ended = False

    def begin(self) -> None:
        """Sending begins."""
        if self._on_progress is not None:
            self._task = asyncio.create_task(self._tell(self._on_progress))

    def arrives(self) -> None:
        """Everything was sent; the response ends once it has arrived, or no longer can."""
        if self._on_end is None and self._task is None:
            return
        loop = asyncio.get_running_loop()
        monitor = _monitors.get(loop)
        if monitor is None:
            monitor = _monitors[loop] = AcknowledgementMonitor(_IDLE)
        self._sender.end_on_arrival(monitor, self._arrived)

    def _arrived(self, error: Exception | None) -> None:
        cut = self._meter.arrived < self._meter.sent
        reason = str(error) or type(error).__name__ if error is not None else None
        self.end(reason or ("the client left before it had taken everything" if cut else None))

    def end(self, reason: str | None) -> None:
        """The response has ended; `reason` says why not all of it arrived."""
        if self._ended:
            return
        self._ended = True
        if self._task is not None:
            self._task.cancel()
        if reason is None and self._size is None:
            self._size = self._meter.arrived  # what was made has its length at its end
        if self._on_end is not None:
            task = asyncio.create_task(_called(self._on_end, self._progress(), reason))
            _calls.add(task)  # nobody else keeps it
            task.add_done_callback(_calls.discard)

    def _progress(self) -> Progress:
        now = asyncio.get_running_loop().time()
        self._speed.sample(now, self._meter.arrived)
        return self._speed.progress(now, self._size)

    async def _tell(self, on_progress: Callable[..., Awaitable[None] | None]) -> None:
        while True:
            await _called(on_progress, self._progress())
            await asyncio.sleep(_EVERY)


async def _called(function: Callable[..., Awaitable[None] | None], *given: object) -> None:
    try:
        said = function(*given)
        if inspect.isawaitable(said):
            await said
    except Exception:  # the route's own errors, which must not affect the delivery
        log.exception("callback.failed", extra={"fields": {"callback": getattr(function, "__qualname__", "?")}})

"""A pool of threads of its own for one kind of work: bounded, with deadlines, and in nobody's way when it hangs.

What shares one pool of threads shares its fate: forty reads of a system that does not answer would keep the
service from telling who is asking. So each remote store, each database, identification, planning, and password
hashing have their own threads.

Invariants:
- At most `workers` calls run and at most `waiting` wait; one more is refused at once (`PoolBusy`).
- Of calls that say `whose` they are, one asker's run on half of the threads at most, and wait in half of the places:
  whoever asks for much waits for themselves, and what others ask for meanwhile goes first.
- The system may refuse to start a thread. Then the threads that the pool already has do the work; without any, the
  call is refused at once.
- Callers that wait for room (`run_in_turn`) are told of it in the order in which they asked, one for each call that
  ends, and do not look for it otherwise: thousands may wait. One that is told and gives up tells the next.
- Whoever waits with a deadline is told when it has passed (`DeadlinePassed`). A call that waits for its turn is
  then dropped. One that runs cannot be ended from outside: its thread stays taken until it returns, and the pool
  is that much smaller meanwhile.
- A call that ends in the very moment in which its deadline passes has ended: what it gave is given.
- Of threads that wait, the one that has waited shortest is called: those that are not needed end after a while.
- Threads are daemons: a call that never returns does not keep the process from ending.
"""

from __future__ import annotations

import asyncio
import threading
import time
from collections import Counter, OrderedDict, deque
from collections.abc import Callable, Iterator
from concurrent.futures import CancelledError, Future
from contextlib import contextmanager, suppress
from contextvars import copy_context
from functools import partial
from typing import Any, NamedTuple, TypeVar

T = TypeVar("T")


IDLE = 5.0  # seconds after which a thread that has nothing to do ends
_AGAIN = 0.1  # seconds after which it is tried again to start the first thread


class PoolBusy(Exception):
    """As many calls run and wait as may."""


class DeadlinePassed(Exception):
    """A call did not return in time."""


class PoolsByName:
    """A pool for each of several systems, so that one that hangs keeps nobody waiting who asks another."""

    def __init__(self, kind: str, workers: int, waiting: int = 0, deadline: float | None = None) -> None:
        """`kind` is what the pools do; the others are as of each."""
        self._kind = kind
        self._workers, self._waiting, self._deadline = workers, waiting, deadline
        self._pools: dict[str, Pool] = {}

    def of(self, name: str) -> Pool:
        """The pool for the system of this name."""
        return self._pools.get(name) or self._pools.setdefault(
            name, Pool(f"{self._kind}-{name}", self._workers, self._waiting, self._deadline)
        )


class _Call(NamedTuple):
    """What is to be called, and on whose behalf; None: on nobody's in particular."""

    future: Future[Any]
    work: Callable[[], Any]
    whose: str | None


class Pool:
    """At most `workers` calls at a time, and `waiting` more that wait for them."""

    def __init__(self, name: str, workers: int, waiting: int = 0, deadline: float | None = None) -> None:
        """`deadline` is for how many seconds a call is waited for; None: for as long as it takes."""
        self.name = name
        self._workers = workers
        self._room = workers + waiting
        self._deadline = deadline
        self._taken = 0  # calls that run or wait
        self._run_of_one, self._room_of_one = _half(workers), _half(workers) + _half(waiting)
        self._taken_by: Counter[str] = Counter()  # the same of each asker
        self._running_of: Counter[str] = Counter()
        self._idle: list[threading.Condition] = []  # by which threads wait for a call, the last one at the end
        self._threads = 0
        self._queue: deque[_Call] = deque()
        self._for_room: OrderedDict[Future[None], None] = OrderedDict()  # who waits to be told of room
        self._lock = threading.Lock()

    @property
    def workers(self) -> int:
        """How many calls run at a time."""
        return self._workers

    @property
    def room(self) -> int:
        """How many calls may run or wait."""
        return self._room

    @property
    def taken(self) -> int:
        """How many calls run or wait now."""
        return self._taken

    def submit(self, work: Callable[..., T], *given: Any, whose: str | None = None) -> Future[T]:
        """Has `work` be called by a thread of the pool; `whose` is who asks for it.

        Raises:
            PoolBusy: as many calls run and wait as may, of all or of this asker.
        """
        future: Future[T] = Future()
        with self._lock:
            if self._taken >= self._room:
                raise PoolBusy(f"{self.name}: {self._taken} calls run or wait already")
            if whose is not None and self._taken_by[whose] >= self._room_of_one:
                raise PoolBusy(f"{self.name}: {self._taken_by[whose]} calls of {whose} run or wait already")
            if not self._idle and self._threads < self._workers:
                self._begin_thread()
            self._taken += 1
            if whose is not None:
                self._taken_by[whose] += 1
            future.add_done_callback(partial(self._release, whose))
            self._queue.append(_Call(future, partial(copy_context().run, work, *given), whose))
            if self._idle:
                self._idle.pop().notify()
        return future

    def _begin_thread(self) -> None:
        """Starts another thread, if the system lets it. Call it under the lock.

        Raises:
            PoolBusy: it does not, and the pool has no other thread.
        """
        thread = threading.Thread(target=self._work, name=f"{self.name}-{self._threads + 1}", daemon=True)
        try:
            thread.start()
        except RuntimeError as error:  # the system's limit of threads, or its memory; those that are there go on
            if not self._threads:
                raise PoolBusy(f"{self.name}: no thread could be started: {error}") from None
        else:
            self._threads += 1

    async def run(self, work: Callable[..., T], *given: Any, whose: str | None = None) -> T:
        """Calls `work` and gives what it gave. Raises PoolBusy, DeadlinePassed, or what `work` raises."""
        return await self._returned(self.submit(work, *given, whose=whose))

    async def run_in_turn(self, work: Callable[[], T], within: float) -> T:
        """Like `run`, after waiting for room for at most `within` seconds."""
        end = time.monotonic() + within
        while (future := self._submitted(work, end)) is None:
            if not self._threads:
                await asyncio.sleep(_AGAIN)
                continue
            with suppress(TimeoutError), self._told_of_room() as room:
                async with asyncio.timeout(end - time.monotonic()):
                    await asyncio.wrap_future(room)
        return await self._returned(future)

    def _submitted(self, work: Callable[[], T], end: float) -> Future[T] | None:
        """Submits a call; None when there is no room, and time is left until `end`. Raises PoolBusy when none is."""
        try:
            return self.submit(work)
        except PoolBusy:
            if time.monotonic() >= end:
                raise
            return None

    async def _returned(self, future: Future[T]) -> T:
        try:
            async with asyncio.timeout(self._deadline):
                return await asyncio.wrap_future(future)
        except TimeoutError:
            if future.done() and not future.cancelled():
                return future.result()  # it ended in the same moment, or it is the call's own
            future.cancel()
            raise DeadlinePassed(f"{self.name}: no answer within {self._deadline:g} seconds") from None

    def call(self, work: Callable[..., T], *given: Any, whose: str | None = None) -> T:
        """Like `run`, for a thread, which waits."""
        return self._result(self.submit(work, *given, whose=whose))

    def call_in_turn(self, work: Callable[[], T], within: float) -> T:
        """Like `run_in_turn`, for a thread."""
        end = time.monotonic() + within
        while (future := self._submitted(work, end)) is None:
            if not self._threads:
                time.sleep(_AGAIN)
                continue
            with suppress(TimeoutError), self._told_of_room() as room:
                room.result(max(0.0, end - time.monotonic()))
        return self._result(future)

    def _result(self, future: Future[T]) -> T:
        try:
            return future.result(self._deadline)
        except (TimeoutError, CancelledError):
            if future.done() and not future.cancelled():
                return future.result()  # as above
            future.cancel()
            raise DeadlinePassed(f"{self.name}: no answer within {self._deadline or 0:g} seconds") from None

    def _release(self, whose: str | None, ended: Future[Any]) -> None:
        with self._lock:
            self._taken -= 1
            _count_down(self._taken_by, whose)
            # Else it would lie there for as long as those before it hang.
            waiting = next((call for call in self._queue if call.future is ended), None) if ended.cancelled() else None
            if waiting is not None:
                self._queue.remove(waiting)
        if waiting is not None:
            ended.set_running_or_notify_cancel()  # whoever waits for it with others is told
        self._tell_next()

    @contextmanager
    def _told_of_room(self) -> Iterator[Future[None]]:
        """A future that is done when there may be room for one more call; the caller then tries again."""
        room: Future[None] = Future()
        with self._lock:
            if self._taken < self._room:
                room.set_result(None)
            else:
                self._for_room[room] = None
        try:
            yield room
        except BaseException:
            with self._lock:
                was_told = self._for_room.pop(room, room) is room
            if was_told:
                self._tell_next()
            raise

    def _tell_next(self) -> None:
        """Tells the first caller that waits for room that there may be some."""
        while self._for_room:
            with self._lock:
                if not self._for_room:
                    return
                room, _ = self._for_room.popitem(last=False)
            if room.set_running_or_notify_cancel():
                room.set_result(None)
                return

    def _next(self) -> _Call | None:
        """Takes the first call whose turn it is out of the queue; call it under the lock.

        One that is passed over is called by the thread that ends one of the same asker's.
        """
        for place, call in enumerate(self._queue):
            if call.whose is None or self._running_of[call.whose] < self._run_of_one:
                del self._queue[place]
                if call.whose is not None:
                    self._running_of[call.whose] += 1
                return call
        return None

    def _work(self) -> None:
        wake = threading.Condition(self._lock)
        while True:
            with self._lock:
                while (call := self._next()) is None:
                    self._idle.append(wake)
                    if not wake.wait(IDLE) and wake in self._idle:
                        self._idle.remove(wake)
                        self._threads -= 1
                        return
            self._called(call)
            with self._lock:
                _count_down(self._running_of, call.whose)
            del call

    @staticmethod
    def _called(call: _Call) -> None:
        if not call.future.set_running_or_notify_cancel():
            return
        try:
            result = call.work()
        except BaseException as error:  # handed to whoever asked for the work
            call.future.set_exception(error)
        else:
            call.future.set_result(result)


def _half(count: int) -> int:
    return (count + 1) // 2


def _count_down(counts: Counter[str], whose: str | None) -> None:
    """One less of an asker's; whoever has none is forgotten."""
    if whose is not None:
        counts[whose] -= 1
        if not counts[whose]:
            del counts[whose]

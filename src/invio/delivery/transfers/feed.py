"""The feed: how transfers go, in this process and in the others, for whoever watches.

While somebody watches, one look every `TICK` seconds finds what has changed, and each watcher is handed what is new
to it: the newest state of each transfer, however slowly the watcher reads. While nobody does, the feed does nothing,
and a delivery costs it nothing.

A transfer's requests may be in several processes; its parts are united here (`Parts`). Orders of events that were
considered:
- One process ends its part while another goes on: the transfer runs. What the first has brought is kept until the
  last part has ended, and then tells whether the whole has arrived.
- A process dies: what it was sending is `lost`, and looked up in the records until another process has put it in
  order; nobody who watches waits for ever.
- A transfer begins and ends between two looks: it is among those that ended.
- More end between two looks than are kept: what ran here and was not told as ended is lost, too.
"""

from __future__ import annotations

import asyncio
import json
import logging
from collections.abc import Awaitable, Callable, Collection, Iterable, Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, Protocol

from invio.delivery.transfers.live import LiveTransfers
from invio.delivery.transfers.states import TransferState, united, view
from invio.records.rows import RUNNING, TransferRow

log = logging.getLogger("invio.delivery")

TICK = 0.25  # seconds between two looks, at least
WOKEN_EVERY = 1.0  # seconds after which each watcher is woken, to look whether it may still watch
_ABOUT = 0.75 * WOKEN_EVERY  # a look that comes a little early wakes as well: 2 s are promised
# Notifying many watchers delays downloads, so it is limited to about a thirtieth of the time.
_COSTS = 0.0002  # seconds that telling one watcher costs, about
_SHARE = 0.03
_LOOKED_UP_EVERY = 1.0  # seconds between two looks into the records at what was lost
_LOST_FOR = 60.0  # seconds after which what was lost is given up
HERE = 0  # this process, among those that are numbered


class Change:
    """A transfer's new state, as all who watch are shown it."""

    def __init__(self, state: TransferState) -> None:
        self.state = state
        self.said = state.changes  # as it is now: the row of what runs is brought up to date in its place

    @property
    def row(self) -> TransferRow:
        """The transfer's row."""
        return self.state.row

    @cached_property
    def shown(self) -> dict[str, Any]:
        """What is shown of it."""
        return view(self.state)

    @cached_property
    def text(self) -> str:
        """The same as JSON, made once for all who watch."""
        return json.dumps(self.shown)

    @cached_property
    def text_without_recipient(self) -> str:
        """The same for those who are not told who has it."""
        return json.dumps({**self.shown, "recipient": None})


class Peers(Protocol):
    """The other processes that serve from the same records."""

    async def connect(self) -> None:
        """Connects to the others; returns once those that answer have sent their state."""

    async def disconnect(self) -> None:
        """Disconnects."""

    def running(self) -> Iterable[tuple[int, TransferState]]:
        """What runs in each."""

    def take_ended(self) -> Collection[tuple[int, TransferState]]:
        """What has ended in each since this was last asked."""

    def take_lost(self) -> Collection[tuple[int, str]]:
        """Transfers, by id, of processes that answer no more."""


class Alone:
    """There are no other processes."""

    async def connect(self) -> None:
        """There is nobody."""

    async def disconnect(self) -> None:
        """There is nobody."""

    def running(self) -> Iterable[tuple[int, TransferState]]:
        """Nothing runs elsewhere."""
        return ()

    def take_ended(self) -> Collection[tuple[int, TransferState]]:
        """Nothing ends elsewhere."""
        return ()

    def take_lost(self) -> Collection[tuple[int, str]]:
        """Nobody is lost."""
        return ()


class Parts:
    """What each process has of each transfer; pure."""

    def __init__(self) -> None:
        self._parts: dict[str, dict[int, TransferState]] = {}

    def runs(self, process: int, state: TransferState) -> TransferState:
        """A process sends something of a transfer; gives how the whole of it stands."""
        known = self._parts.get(state.row.id)
        if known is None:
            self._parts[state.row.id] = {process: state}
            return state
        known[process] = state
        return united(list(known.values()))

    def ends(self, process: int, state: TransferState) -> TransferState:
        """A process has ended its part; gives how the whole stands."""
        known = self._parts.get(state.row.id, {})
        known[process] = state
        whole = united(list(known.values()))
        if whole.row.state == RUNNING:
            self._parts[state.row.id] = known
        else:
            self._parts.pop(state.row.id, None)
        return whole

    def loses(self, process: int, transfer_id: str) -> bool:
        """A process that had a part is gone; gives whether no other has one that runs."""
        known = self._parts.get(transfer_id, {})
        known.pop(process, None)
        if any(state.row.state == RUNNING for state in known.values()):
            return False
        self._parts.pop(transfer_id, None)
        return True


@dataclass(slots=True, eq=False)
class Watcher:
    """Somebody who watches; `pending` is what is new to them, by transfer, the newest state of each."""

    pending: dict[str, Change] = field(default_factory=dict)
    woken: asyncio.Event = field(default_factory=asyncio.Event)

    def tell(self, change: Change) -> None:
        """Hands them a change."""
        self.pending[change.row.id] = change
        self.woken.set()

    def take(self) -> list[Change]:
        """What is new since this was last asked."""
        changes, self.pending = list(self.pending.values()), {}
        self.woken.clear()
        return changes

    async def wait(self) -> None:
        """Returns when there is something new, and once in `WOKEN_EVERY` seconds all the same."""
        await self.woken.wait()


LookUp = Callable[[Collection[str]], Awaitable[Collection[TransferRow]]]


class Feed:
    """Tells watchers how transfers go."""

    def __init__(self, board: LiveTransfers, look_up: LookUp) -> None:
        """`look_up` finds transfers in the records by their ids."""
        self._board = board
        self._look_up = look_up
        self.peers: Peers = Alone()
        self._everything: set[Watcher] = set()
        self._tagged: dict[str, set[Watcher]] = {}
        self._task: asyncio.Task[None] | None = None
        self._begun: asyncio.Future[None] | None = None
        self._reset()

    def _reset(self) -> None:
        self._parts = Parts()
        self._running: dict[str, Change] = {}
        self._here: set[str] = set()  # what ran in this process at the last look
        self._lost: dict[str, float] = {}
        self._looked_up = self._woken = 0.0
        self._ended = self._board.count

    @property
    def watched(self) -> int:
        """How many watch."""
        return len(self._everything) + sum(map(len, self._tagged.values()))

    def running(self) -> list[Change]:
        """What runs now, in all processes, as of the last look."""
        return list(self._running.values())

    def runs(self, transfer_id: str) -> bool:
        """Whether a transfer runs in any process, as of the last look."""
        return transfer_id in self._running

    @contextmanager
    def watching(self, tag: str | None = None) -> Iterator[Watcher]:
        """Registers a watcher of all transfers, or of those that links call by a `tag`."""
        watcher = Watcher()
        group = self._everything if tag is None else self._tagged.setdefault(tag, set())
        group.add(watcher)
        if self._task is None:
            watching = ExitStack()
            watching.enter_context(self._board.watching())
            self._reset()
            self._begun = asyncio.get_running_loop().create_future()
            self._task = asyncio.create_task(self._run(self._begun, watching), name="feed")
        try:
            yield watcher
        finally:
            group.discard(watcher)
            if tag is not None and not group:
                self._tagged.pop(tag, None)

    async def begun(self) -> None:
        """Returns after the first look; then `running` covers all processes."""
        if self._begun is not None:
            await asyncio.shield(self._begun)

    async def _run(self, begun: asyncio.Future[None], watching: ExitStack) -> None:
        """Looks, as long as somebody watches; then `watching` ends."""
        try:
            await self.peers.connect()
            while self.watched:
                try:
                    await self._look()
                except Exception:  # whatever it is, watchers must go on being told
                    log.exception("feed.failed")
                if not begun.done():
                    begun.set_result(None)
                await asyncio.sleep(min(WOKEN_EVERY, max(TICK, self.watched * _COSTS / _SHARE)))
        finally:
            if self._begun is begun:
                self._task = None
            if not begun.done():
                begun.set_result(None)
            watching.close()
            await self.peers.disconnect()

    async def _look(self) -> None:
        """Finds what has changed, and tells who watches."""
        changes: dict[str, TransferState] = {}
        count = self._board.count
        ended = [(HERE, state) for state in self._board.ended_since(self._ended)]
        self._ended = count
        for process, state in [*ended, *self.peers.take_ended()]:
            changes[state.row.id] = self._parts.ends(process, state)
        # After those that ended, for some of them may have gone on meanwhile.
        before, self._here = self._here, set()
        for state in self._board.snapshot():
            self._here.add(state.row.id)
            changes[state.row.id] = self._parts.runs(HERE, state)
        gone = before - self._here - {state.row.id for _, state in ended}
        for process, state in self.peers.running():
            changes[state.row.id] = self._parts.runs(process, state)
        now = asyncio.get_running_loop().time()
        for process, transfer_id in [*((HERE, one) for one in gone), *self.peers.take_lost()]:
            if self._parts.loses(process, transfer_id):
                self._running.pop(transfer_id, None)
                self._lost.setdefault(transfer_id, now)
        for state in changes.values():
            self._tell(state)
        if now - self._woken >= _ABOUT:
            self._woken = now
            self._wake()
        if self._lost and now - self._looked_up >= _LOOKED_UP_EVERY:
            self._looked_up = now
            await self._find_lost(now)

    async def _find_lost(self, now: float) -> None:
        for row in await self._look_up(list(self._lost)):
            if row.state != RUNNING:
                self._tell(TransferState(row))
        for transfer_id in [one for one, since in self._lost.items() if now - since > _LOST_FOR]:
            del self._lost[transfer_id]

    def _tell(self, state: TransferState) -> None:
        row = state.row
        before = self._running.get(row.id)
        change = Change(state)
        if row.state == RUNNING:
            if before is not None and before.said == change.said:
                return
            self._running[row.id] = change
            change.shown  # noqa: B018 - as it stands now: the row goes on
        else:
            self._running.pop(row.id, None)
        self._lost.pop(row.id, None)
        followers = self._tagged.get(row.tag, ()) if row.tag is not None else ()
        for watcher in (*self._everything, *followers):
            watcher.tell(change)

    def _wake(self) -> None:
        for watchers in (self._everything, *self._tagged.values()):
            for watcher in watchers:
                watcher.woken.set()

"""Peers: the other processes that serve from the same records, and what they tell of their transfers.

Each process listens on a Unix socket beside its lock (`data/serving/NUMBER.sock`, in a folder that is its owner's).
A process in which somebody watches connects to the others, and is sent what changes there: frames of a length (four
bytes, big-endian) and JSON, the first of them all that runs. Nobody listens to what nobody watches.

Orders of events that were considered:
- A process dies: its connections end with it, and what ran in it is lost (see `invio.delivery.transfers.feed`).
- A process starts while somebody watches: the folder is looked at every second.
- More ended at once than a process keeps, or a frame is late: what is `gone` and was not told as ended is lost, too.
- A process does not read: it is sent less often, and then the newest; nothing piles up.
"""

from __future__ import annotations

import asyncio
import json
import logging
import os
import socket
from collections.abc import AsyncIterator, Collection, Iterable
from contextlib import asynccontextmanager, suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from invio.delivery.transfers.feed import TICK
from invio.delivery.transfers.live import LiveTransfers
from invio.delivery.transfers.states import TransferState
from invio.records.serving_lock import ServingLock
from invio.service.permissions import bind_unix

log = logging.getLogger("invio.service")

_FIRST_WITHIN = 1.0  # seconds within which another process says how things stand, or is not waited for
_LOOKED_EVERY = 1.0  # seconds between two looks for processes that have started
_ALIVE_EVERY = 2.0  # seconds, of one that has nothing to tell
_LONGEST = 256 << 20  # bytes of a frame


@dataclass(slots=True, eq=False)
class _Peer:
    """What another process has told."""

    states: dict[str, TransferState] = field(default_factory=dict)
    first: asyncio.Event = field(default_factory=asyncio.Event)
    task: asyncio.Task[None] | None = None


class SocketPeers:
    """The other processes, by their sockets (`invio.delivery.transfers.feed.Peers`)."""

    def __init__(self, company: ServingLock) -> None:
        self._company = company
        self._peers: dict[int, _Peer] = {}
        self._ended: list[tuple[int, TransferState]] = []
        self._lost: list[tuple[int, str]] = []
        self._looking: asyncio.Task[None] | None = None

    async def connect(self) -> None:
        """Connects to the others; returns once those that answer have sent their state."""
        self._join()
        if self._looking is None:
            self._looking = asyncio.create_task(self._look_for_more(), name="peers")
        waiting = [asyncio.create_task(peer.first.wait()) for peer in self._peers.values()]
        if waiting:
            _, late = await asyncio.wait(waiting, timeout=_FIRST_WITHIN)
            for task in late:
                task.cancel()

    async def disconnect(self) -> None:
        """Disconnects."""
        tasks = [peer.task for peer in self._peers.values() if peer.task is not None]
        if self._looking is not None:
            tasks.append(self._looking)
        self._looking, self._peers = None, {}
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)
        self._ended, self._lost = [], []

    def running(self) -> Iterable[tuple[int, TransferState]]:
        """What runs in each of the others."""
        return [(number, state) for number, peer in self._peers.items() for state in peer.states.values()]

    def take_ended(self) -> Collection[tuple[int, TransferState]]:
        """What has ended in each since this was last asked."""
        ended, self._ended = self._ended, []
        return ended

    def take_lost(self) -> Collection[tuple[int, str]]:
        """Transfers of processes that answer no more, since this was last asked."""
        lost, self._lost = self._lost, []
        return lost

    async def _look_for_more(self) -> None:
        while True:
            await asyncio.sleep(_LOOKED_EVERY)
            self._join()

    def _join(self) -> None:
        for number in self._company.others():
            if number not in self._peers:
                peer = self._peers[number] = _Peer()
                peer.task = asyncio.create_task(self._listen(number, peer), name=f"peer {number}")

    async def _listen(self, number: int, peer: _Peer) -> None:
        """Takes in what another process tells, until it tells no more."""
        try:
            with _Folder(self._company.folder) as folder:
                reader, writer = await asyncio.open_unix_connection(folder.named(number))
            try:
                async for frame in _frames(reader):
                    self._take_in(number, peer, frame)
                    peer.first.set()
            finally:
                writer.close()
        except OSError:
            pass  # it has just begun, or ended; it is looked for again
        except Exception:
            log.exception("peer.failed", extra={"fields": {"number": number}})
        finally:
            self._lost += [(number, transfer_id) for transfer_id in peer.states]
            peer.first.set()
            if self._peers.get(number) is peer:
                del self._peers[number]

    def _take_in(self, number: int, peer: _Peer, frame: dict[str, Any]) -> None:
        for packed in frame.get("ended", ()):
            state = TransferState.unpacked(packed)
            peer.states.pop(state.row.id, None)
            self._ended.append((number, state))
        for packed in frame.get("running", ()):  # some of which may have ended before, and go on
            state = TransferState.unpacked(packed)
            peer.states[state.row.id] = state
        for transfer_id in frame.get("gone", ()):
            if peer.states.pop(transfer_id, None) is not None:
                self._lost.append((number, transfer_id))


async def _frames(reader: asyncio.StreamReader) -> AsyncIterator[dict[str, Any]]:
    """What comes, frame by frame, to the end of the connection."""
    while True:
        try:
            length = int.from_bytes(await reader.readexactly(4))
            if length > _LONGEST:
                raise OSError(f"a frame of {length} bytes")
            yield json.loads(await reader.readexactly(length))
        except asyncio.IncompleteReadError:
            return


class _Folder:
    """A folder, by a path that is short enough for a socket's name however deep it lies."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self.descriptor = os.open(path, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)

    def named(self, number: int) -> str:
        """The socket of a process."""
        if not os.path.isdir("/proc/self/fd"):
            return str(self._path / f"{number}.sock")
        return f"/proc/self/fd/{self.descriptor}/{number}.sock"

    def __enter__(self) -> _Folder:
        return self

    def __exit__(self, *_: object) -> None:
        os.close(self.descriptor)


@asynccontextmanager
async def telling_peers(company: ServingLock, board: LiveTransfers) -> AsyncIterator[None]:
    """Lets the other processes connect, for as long as the `with` lasts."""
    tellers: set[asyncio.Task[None]] = set()

    def connected(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        task = asyncio.create_task(_tell(board, reader, writer), name="peer that listens")
        tellers.add(task)
        task.add_done_callback(tellers.discard)

    path = company.folder / f"{company.number}.sock"
    path.unlink(missing_ok=True)
    with _Folder(company.folder) as folder:
        listener = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
        try:
            bind_unix(listener, folder.named(company.number), 0o600)
            server = await asyncio.start_unix_server(connected, sock=listener)
        except BaseException:
            listener.close()
            raise
    try:
        yield
    finally:
        server.close()
        path.unlink(missing_ok=True)
        for task in tellers:
            task.cancel()
        await asyncio.gather(*tellers, return_exceptions=True)


async def _tell(board: LiveTransfers, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
    """Tells one other process what changes, until it listens no more."""
    try:
        with board.watching():
            await _tell_changes(board, reader, writer)
    except OSError:
        pass  # it has ended
    finally:
        with suppress(OSError):
            writer.close()


async def _tell_changes(board: LiveTransfers, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
    told: dict[str, tuple[object, ...]] = {}
    ended, quiet = board.count, 0.0
    while not reader.at_eof():
        count = board.count
        frame: dict[str, Any] = {"ended": [one.packed() for one in board.ended_since(ended)]}
        ended = count
        snapshot = {one.row.id: one for one in board.snapshot()}
        changed = [one for one in snapshot.values() if told.get(one.row.id) != one.changes]
        frame["running"] = [one.packed() for one in changed]
        frame["gone"] = [transfer_id for transfer_id in told if transfer_id not in snapshot]
        told = {transfer_id: one.changes for transfer_id, one in snapshot.items()}
        if any(frame.values()) or quiet <= 0:
            body = json.dumps(frame).encode()
            writer.write(len(body).to_bytes(4) + body)
            await writer.drain()
            quiet = _ALIVE_EVERY
        quiet -= TICK
        await asyncio.sleep(TICK)

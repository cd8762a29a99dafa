"""Transfer states: how far a transfer is, as one process sees it, as all of them do, and as it is shown.

A transfer's requests may be in several processes at once. Each knows what it has sent; `united` adds that up: ranges
are united, rates are added. What is shown of it is `view`, the same for the API, its streams and the history.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import astuple, dataclass, replace
from typing import Any

from invio.core.meter import percent
from invio.core.moments import timestamp
from invio.core.progress import Coverage
from invio.records.rows import BROKEN_OFF, COMPLETE, HANDED_OFF, PARTIAL, RUNNING, TransferRow

WAITING = "waiting"  # shown of a transfer that is followed before it begins
OVER = (COMPLETE, HANDED_OFF)  # states that do not change any more


@dataclass(frozen=True, slots=True)
class Entries:
    """How much of an archive has arrived: `done` of its `count` entries, and the name of the `following` one."""

    count: int
    done: int
    following: str | None


@dataclass(frozen=True, slots=True)
class TransferState:
    """A transfer at one moment.

    `rate` is of the last seconds, `mean` of a longer while, for the time left; both in bytes a second. `estimate` is
    about how many bytes there are, where nobody knows.
    """

    row: TransferRow
    rate: float | None = None
    mean: float | None = None
    entries: Entries | None = None
    estimate: int | None = None

    @property
    def changes(self) -> tuple[object, ...]:
        """What is the same as long as there is nothing new to be told."""
        return self.row.state, self.row.covered, self.row.requests, self.rate

    def packed(self) -> list[Any]:
        """The state as JSON has it, for another process."""
        entries = None if self.entries is None else astuple(self.entries)
        return [astuple(self.row), self.rate, self.mean, entries, self.estimate]

    @staticmethod
    def unpacked(packed: list[Any]) -> TransferState:
        """What another process has `packed`."""
        row, rate, mean, entries, estimate = packed
        return TransferState(TransferRow(*row), rate, mean, None if entries is None else Entries(*entries), estimate)


def united(states: Sequence[TransferState]) -> TransferState:
    """One transfer, of which each of several processes has sent a part; it runs as long as it does in any."""
    if len(states) == 1:
        return states[0]
    newest = max(states, key=lambda state: state.row.updated)
    coverage = Coverage((start, stop) for state in states for start, stop in state.row.coverage)
    row = replace(
        newest.row,
        covered=max(coverage.total, newest.row.covered),
        coverage=coverage.ranges,
        requests=max(state.row.requests for state in states),
        started=min(state.row.started for state in states),
    )
    if any(state.row.state == RUNNING for state in states):
        row.state, row.reason = RUNNING, None
    elif row.state in (PARTIAL, BROKEN_OFF) and row.size is not None and row.covered >= row.size:
        row.state, row.reason = COMPLETE, None
    entries = [state.entries for state in states if state.entries is not None]
    return TransferState(
        row,
        _sum([state.rate for state in states]),
        _sum([state.mean for state in states]),
        max(entries, key=lambda one: one.done, default=None),
        newest.estimate,
    )


def _sum(rates: Sequence[float | None]) -> float | None:
    known = [rate for rate in rates if rate is not None]
    return sum(known) if known else None


def view(state: TransferState) -> dict[str, Any]:
    """What people and programs are shown of a transfer; sizes in bytes, rate in bytes a second.

    Where only an estimate of the size is known, percentage and time left are by that, and marked as such.
    """
    row = state.row
    runs = row.state == RUNNING
    guessed = state.estimate if row.size is None and runs else None
    size = row.size if guessed is None else max(guessed, row.covered + 1)  # 100 % is shown only at the end
    entries = state.entries
    return {
        "entries": None if entries is None else entries.count,
        "entries_done": None if entries is None else entries.done,
        "entry": None if entries is None else entries.following,
        "id": row.id,
        "address": row.address,
        "version": row.version,
        "rendition": row.rendition,
        "recipient": row.recipient,
        "made_for": row.made_for,
        "link": row.link_id,
        "via": row.via,
        "tag": row.tag,
        "state": row.state,
        "reason": row.reason,
        "bytes": row.covered,
        "size": row.size,
        "percent": _percent(row, size),
        "estimated_size": guessed,
        "rate": None if state.rate is None else round(state.rate),
        "seconds_left": _seconds_left(row.covered, size, state.mean) if runs else None,
        "requests": max(1, row.requests),
        "started": timestamp(row.started),
        "updated": timestamp(row.updated),
    }


def _percent(row: TransferRow, size: int | None) -> int | None:
    if row.state == HANDED_OFF:
        return None  # a front server does not report it
    return 100 if row.state == COMPLETE else percent(row.covered, size)


def _seconds_left(covered: int, size: int | None, mean: float | None) -> float | None:
    if size is None or covered >= size:
        return None if size is None else 0.0
    return round((size - covered) / mean, 1) if mean else None

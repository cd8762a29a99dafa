"""The history in sums: by days, by files, by recipients, and refusals by their reasons. Pure."""

from __future__ import annotations

from collections import Counter, defaultdict
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta

from invio.records.rows import REFUSED, TransferRow

_MOST = 10  # files and recipients that are named


@dataclass(slots=True)
class Day:
    """What began on one day."""

    downloads: int = 0
    bytes: int = 0
    refused: int = 0


@dataclass(frozen=True, slots=True)
class Share:
    """The downloads of a file, or by a recipient."""

    name: str | None
    downloads: int
    bytes: int


@dataclass(slots=True)
class Summary:
    """Sums of transfers; `zone` is how far the days' clock is east of UTC, in minutes."""

    zone: int = 0
    lines: int = 0
    days: defaultdict[str, Day] = field(default_factory=lambda: defaultdict(Day))
    refusals: Counter[str] = field(default_factory=Counter)
    _files: dict[str | None, list[int]] = field(default_factory=dict)
    _recipients: dict[str | None, list[int]] = field(default_factory=dict)

    def add(self, row: TransferRow) -> None:
        """Counts one line."""
        self.lines += 1
        moment = datetime.fromtimestamp(row.started, UTC) + timedelta(minutes=self.zone)
        day = self.days[moment.strftime("%Y-%m-%d")]
        if row.state == REFUSED:
            day.refused += 1
            self.refusals[(row.reason or "").partition(":")[0] or "unknown"] += 1
            return
        day.downloads += 1
        day.bytes += row.covered
        for sums, name in ((self._files, row.address), (self._recipients, row.recipient or row.made_for)):
            counted = sums.setdefault(name, [0, 0])
            counted[0] += 1
            counted[1] += row.covered

    def files(self) -> list[Share]:
        """The files downloaded most often."""
        return _greatest(self._files)

    def recipients(self) -> list[Share]:
        """The recipients with the most downloads."""
        return _greatest(self._recipients)


def _greatest(sums: dict[str | None, list[int]]) -> list[Share]:
    ordered = sorted(sums.items(), key=lambda one: (-one[1][0], -one[1][1], one[0] or ""))
    return [Share(name, count, size) for name, (count, size) in ordered[:_MOST]]

"""The history in sums."""

from __future__ import annotations

from datetime import UTC, datetime

from invio.delivery.transfers.summary import Share, Summary
from invio.records.rows import BROKEN_OFF, COMPLETE, REFUSED, TransferRow


def line(at: str, address: str = "a/x", who: str | None = "ann", state: str = COMPLETE, **more: object) -> TransferRow:
    started = datetime.fromisoformat(at).replace(tzinfo=UTC).timestamp()
    row = TransferRow("0", "", who, None, None, None, None, address, None, None, state, started=started)
    for name, value in more.items():
        setattr(row, name, value)
    return row


def summed(*rows: TransferRow, zone: int = 0) -> Summary:
    summary = Summary(zone)
    for row in rows:
        summary.add(row)
    return summary


def test_days_count_what_began_on_them_by_the_readers_clock() -> None:
    rows = [line("2026-03-01T23:30", covered=5), line("2026-03-02T00:30", covered=7, state=BROKEN_OFF)]
    utc = summed(*rows).days
    assert {day: (one.downloads, one.bytes) for day, one in utc.items()} == {"2026-03-01": (1, 5), "2026-03-02": (1, 7)}
    east = summed(*rows, zone=60).days
    assert {day: (one.downloads, one.bytes) for day, one in east.items()} == {"2026-03-02": (2, 12)}


def test_what_was_refused_is_counted_by_its_reason_and_is_no_download() -> None:
    summary = summed(
        line("2026-03-01T10:00", state=REFUSED, reason="quota: you have had it all"),
        line("2026-03-01T10:00", state=REFUSED, reason="quota: again"),
        line("2026-03-01T10:00", state=REFUSED, reason="expired: the link"),
        line("2026-03-01T10:00", state=REFUSED, reason=None),
    )
    assert summary.refusals == {"quota": 2, "expired": 1, "unknown": 1}
    assert (summary.lines, summary.days["2026-03-01"].refused, summary.days["2026-03-01"].downloads) == (4, 4, 0)
    assert summary.files() == summary.recipients() == []


def test_the_most_had_come_first_and_only_ten_are_named() -> None:
    rows = [line("2026-03-01T10:00", f"a/{number:02}", who=None, covered=number) for number in range(12)]
    rows += [line("2026-03-01T10:00", "a/03", "bob", covered=1), line("2026-03-01T10:00", "a/03", made_for="cleo")]
    summary = summed(*rows)
    assert summary.files()[0] == Share("a/03", 3, 4)
    assert [one.name for one in summary.files()[1:]] == [f"a/{number:02}" for number in (11, 10, 9, 8, 7, 6, 5, 4, 2)]
    assert summary.recipients() == [Share(None, 12, 66), Share("bob", 1, 1), Share("ann", 1, 0)]

"""Which run of a producer a request gets."""

from __future__ import annotations

import asyncio
import gc
import weakref
from collections.abc import Callable, Iterator
from dataclasses import replace
from unittest import mock

import pytest

from invio.core.addresses import Address
from invio.core.files import Caller, FileFacts
from invio.core.http.digests import content_tag
from invio.core.http.request_head import RequestHead
from invio.core.reasons import Refusal
from invio.delivery.representation import made_once as module
from invio.delivery.representation.made_once import RESUMES_FOR, Productions
from invio.producers.room import Room
from invio.producers.spooling import Production
from invio.stores.sources import Made, Recipe, SpooledFile
from invio.stores.store import Found
from invio.workers.pool import Pool
from tests.clocks import SetClock
from tests.producers.test_spooling import ended

ANN, BOB = (Caller(name, frozenset()) for name in ("ann", "bob"))
POOL = Pool("test", 1)


class Clock:
    """A clock that the test sets."""

    now = 100.0

    def __call__(self) -> float:
        return self.now


@pytest.fixture
def clock() -> Clock:
    return Clock()


@pytest.fixture
def productions(clock: Clock) -> Productions:
    return Productions(Room(), clock)


def found(*, keep: float = 10.0, personal: bool = False, path: str = "water.csv") -> Found:
    def pieces() -> Iterator[bytes]:
        yield b"level"

    recipe = Recipe(lambda _: pieces, keep, personal)
    facts = FileFacts(Address("made", path), None, None, None)
    return Found(facts, Made(pieces, POOL, recipe), personal=personal)


def asked(method: str = "GET", **fields: str) -> RequestHead:
    pairs = [(name.replace("_", "-").encode(), value.encode()) for name, value in fields.items()]
    return RequestHead(method, pairs)


def chosen(productions: Productions, head: RequestHead, file: Found, caller: Caller = ANN) -> Found:
    return asyncio.run(productions.choose(head, file, caller))


def run_of(chosen_one: Found) -> Production:
    made = chosen_one.made
    assert made is not None
    assert made.production is not None
    return made.production


def finish(production: Production, clock: Clock) -> None:
    production.start()
    production.reach(0, whole=True)
    production.ended = clock.now


def test_what_is_being_made_is_everybodys_who_asks(productions: Productions, clock: Clock) -> None:
    first = run_of(chosen(productions, asked(), found()))
    clock.now += 30
    first.began = 1.0  # it takes long
    assert run_of(chosen(productions, asked(), found(), BOB)) is first
    assert run_of(chosen(productions, asked("HEAD"), found(), BOB)) is first
    assert run_of(chosen(productions, asked(), found(path="wind.csv"))) is not first
    assert chosen(productions, asked(), found()).passing


def test_what_is_personal_is_one_recipients_own(productions: Productions) -> None:
    anns = run_of(chosen(productions, asked(), found(personal=True)))
    bobs = run_of(chosen(productions, asked(), found(personal=True), BOB))
    assert bobs is not anns
    assert run_of(chosen(productions, asked(), found(personal=True))) is anns


def test_a_head_begins_no_run(productions: Productions) -> None:
    file = found()
    assert chosen(productions, asked("HEAD"), file) is file


def test_what_is_whole_is_kept_for_others_as_long_as_it_says(productions: Productions, clock: Clock) -> None:
    first = run_of(chosen(productions, asked(), found()))
    finish(first, clock)
    clock.now += 9.5
    kept = chosen(productions, asked(), found(), BOB)
    assert isinstance(kept.source, SpooledFile)
    assert (kept.facts.size, kept.facts.tag, kept.facts.sha256) == (5, first.tag, first.sha256)
    assert kept.passing
    clock.now += 0.5
    assert run_of(chosen(productions, asked(), found(), BOB)).tag != first.tag


@pytest.mark.parametrize("field", ["if_range", "if_match"])
@pytest.mark.parametrize("by_digest", [False, True])
def test_a_content_that_is_named_is_the_one_that_comes(
    productions: Productions, clock: Clock, field: str, *, by_digest: bool
) -> None:
    first = run_of(chosen(productions, asked(), found()))
    finish(first, clock)
    clock.now += 11
    second = run_of(chosen(productions, asked(), found()))
    finish(second, clock)
    named = content_tag(first.sha256) if by_digest else first.tag
    again = chosen(productions, part_of(field, f'"{named}"'), found())
    # Both have the same bytes, so by their digest it is the newer one.
    assert again.facts.tag == (second.tag if by_digest else first.tag)


def part_of(field: str, value: str) -> RequestHead:
    return asked(**{field: value, "range": "bytes=2-"})


def test_a_part_without_a_tag_is_of_the_newest_content_until_it_is_over(productions: Productions, clock: Clock) -> None:
    first = run_of(chosen(productions, asked(), found()))
    finish(first, clock)
    clock.now += RESUMES_FOR - 0.1
    assert chosen(productions, asked(range="bytes=2-"), found()).facts.tag == first.tag
    clock.now += 0.2
    assert chosen(productions, asked(range="bytes=2-"), found()).facts.tag != first.tag


def test_a_part_of_what_is_being_made_waits_until_it_is_whole(productions: Productions) -> None:
    part = chosen(productions, asked(range="bytes=2-"), found())
    assert part.facts.size == 5


def test_a_run_that_failed_is_nobodys(productions: Productions) -> None:
    first = run_of(chosen(productions, asked(), found()))
    first.failed = ("it broke", "not-made")
    assert run_of(chosen(productions, asked(), found())) is not first


def test_a_part_of_what_cannot_be_made_is_refused_with_the_reason(productions: Productions) -> None:
    def breaks() -> Iterator[bytes]:
        raise ValueError("no such table")
        yield b""

    file = found()
    broken = file._replace(source=replace(file.made, chunks=breaks) if file.made is not None else file.source)
    with pytest.raises(Refusal) as refused:
        chosen(productions, asked(range="bytes=0-"), broken)
    assert (refused.value.reason.word, refused.value.retry_after) == ("not-made", 5)
    assert "made/water.csv" in refused.value.detail


def test_a_run_that_nobody_began_is_not_kept_for_ever(productions: Productions, clock: Clock) -> None:
    first = run_of(chosen(productions, asked(), found()))
    clock.now += 60
    assert productions.sweep()
    clock.now += 0.1
    assert not productions.sweep()
    assert run_of(chosen(productions, asked(), found())) is not first


def test_one_thread_looks_every_second_for_as_long_as_anything_is_kept(monkeypatch: pytest.MonkeyPatch) -> None:
    clock, threads = SetClock(), list[Callable[[], None]]()

    class Started:
        def __init__(self, target: Callable[[], None], **_: object) -> None:
            self.target = target

        def start(self) -> None:
            threads.append(self.target)

    monkeypatch.setattr("invio.delivery.representation.made_once.threading.Thread", Started)
    productions = Productions(Room(), clock.monotonic, clock.sleep)
    with mock.patch.object(Started, "start", side_effect=RuntimeError("no thread"), create=True):
        chosen(productions, asked(), found(path="wave.csv"))
    for _ in range(2):
        begun = clock.now
        for path in ("water.csv", "wind.csv"):  # whom nobody begins to read
            chosen(productions, asked(), found(path=path))
            assert len(threads) == 1
        threads.pop()()
        assert clock.now - begun == 61


def test_what_is_whole_is_dropped_when_nobody_can_go_on_with_it(productions: Productions, clock: Clock) -> None:
    finish(run_of(chosen(productions, asked(), found(keep=1000.0))), clock)
    clock.now += 1000
    assert productions.sweep()
    clock.now += 0.1
    assert not productions.sweep()


def test_what_is_dropped_is_closed_while_others_ask(productions: Productions, clock: Clock) -> None:
    locked: list[bool] = []
    production = run_of(chosen(productions, asked(), found()))
    finish(production, clock)
    ended(POOL)
    weakref.finalize(production, lambda: locked.append(productions._lock.locked()))
    del production
    clock.now += 1000
    assert not productions.sweep()
    assert locked == [False]


def whole_run(productions: Productions, clock: Clock, path: str, keep: float, caller: Caller) -> Production:
    production = run_of(chosen(productions, asked(), found(path=path, keep=keep), caller))
    finish(production, clock)
    ended(POOL)
    return production


def test_who_obtains_what_was_dropped_holds_its_room_to_the_end(clock: Clock) -> None:
    """Else the disk could be filled by those who read slowly what nobody counts any more."""
    spool = Room()
    productions = Productions(spool, clock)
    whole_run(productions, clock, "a.csv", 1000.0, ANN)
    had = chosen(productions, asked(), found(path="a.csv"))
    assert isinstance(had.source, SpooledFile)
    clock.now += 5000
    assert not productions.sweep()
    gc.collect()
    assert (spool.used, had.source.read(0, 5)) == (5, b"level")
    del had
    gc.collect()
    assert spool.used == 0


def test_room_is_made_by_what_is_kept_for_nobody_new_and_then_by_the_oldest(clock: Clock) -> None:
    productions = Productions(Room(), clock)
    runs = {
        path: whole_run(productions, clock, path, keep, caller)
        for path, keep, caller in (("a.csv", 900.0, ANN), ("b.csv", 1.0, ANN), ("c.csv", 900.0, BOB))
    }
    chosen(productions, asked(), found(path="being-made.csv"))
    clock.now += 10

    def kept() -> list[str]:
        return [path for path, run in runs.items() if productions._kept.get(run.tag) is not None]

    assert productions.give_room(BOB.principal)
    assert kept() == ["a.csv", "b.csv"]
    assert productions.give_room()
    assert kept() == ["a.csv"], "nobody new had got b any more"
    assert not productions.give_room(BOB.principal)
    assert productions.give_room()
    assert not productions.give_room(), "what is being made is not dropped"
    assert len(productions._kept) == 1


def test_a_full_room_is_made_room_in_for_who_asks(clock: Clock) -> None:
    productions = Productions(Room(bytes=5, all_bytes=10), clock)
    for path, caller in (("a", ANN), ("b", BOB), ("c", ANN)):
        whole_run(productions, clock, path, 900.0, caller)  # which raises where it is not made
    assert len(productions._kept) == 2


def test_the_oldest_are_dropped_when_there_are_too_many(
    productions: Productions, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(module, "_KEPT", 2)
    runs = [run_of(chosen(productions, asked(), found(path=f"{number}.csv"))) for number in range(3)]
    assert run_of(chosen(productions, asked(), found(path="2.csv"))) is runs[2]
    assert run_of(chosen(productions, asked(), found(path="1.csv"))) is runs[1]
    assert run_of(chosen(productions, asked(), found(path="0.csv"))) is not runs[0]


def test_what_is_not_shared_is_left_as_it_is(productions: Productions) -> None:
    file = found()
    alone = file._replace(source=Made(lambda: iter([b"x"])))
    assert chosen(productions, asked(), alone) is alone

"""When garbage is looked for."""

from __future__ import annotations

import gc

import pytest

from invio.workers.heap import keep_what_is_loaded, nothing_collected


@pytest.mark.parametrize("collects", [True, False])
def test_nothing_is_collected_meanwhile_and_then_it_is_as_before(collects: bool) -> None:
    before = gc.isenabled()
    (gc.enable if collects else gc.disable)()
    try:
        with nothing_collected():
            assert not gc.isenabled()
        assert gc.isenabled() is collects
    finally:
        (gc.enable if before else gc.disable)()


@pytest.mark.parametrize("spares", [False, True])
def test_what_is_loaded_later_is_spared_where_what_was_loaded_first_is(*, spares: bool) -> None:
    if spares:
        gc.freeze()
    try:
        before = gc.get_freeze_count()
        loaded: list[list[object]] = [[] for _ in range(10_000)]
        keep_what_is_loaded()
        assert gc.get_freeze_count() - before >= (len(loaded) if spares else 0)
        assert (gc.get_freeze_count() > 0) == spares
    finally:
        gc.unfreeze()

"""When garbage is looked for."""

from __future__ import annotations

import gc

import pytest

from invio.workers.heap import nothing_collected


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
